"""A run in a process of its own, that ends with whoever asked for it."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path
from queue import Empty, Queue
from threading import Thread

from tidal_lens.errors import StudyError
from tidal_lens.study.files import SUFFIX, save_study
from tidal_lens.study.model import Study
from tidal_lens.work import Token

SUMMARY = "summary.csv"
_LINE = re.compile(r"\[(\d+)/(\d+)\] (.*)")
_BEAT = 0.2  # seconds between two looks at whether it is still wanted
_PATIENCE = 10.0  # seconds that it may take to stop


def run_beside(study: Study, folder: Path, workers: int, theme: str, token: Token) -> list[str]:
    """Run a study over its own case and those that it names.

    Returns
    -------
    list of str
        What could not be had, and why.

    Raises
    ------
    StudyError
        It could not be begun.
    CancelledError
        The token was cancelled; what was made stays.
    """
    said = study.run
    file = folder / f"study{SUFFIX}"
    save_study(study, file)
    made = [f"--{name}" for name in ("pictures", "tables", "report") if getattr(said, name)]
    if not made:
        raise StudyError("Nothing is to be made.", "", "Choose pictures, tables or reports.")
    command = [sys.executable, "-m", "tidal_lens", "run", str(file), "--cases", study.case, *said.cases, "--steps", said.steps, *made,
               "--out", str(folder), "--workers", str(workers), "--theme", theme]
    lost: list[str] = []
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, text=True,
                          encoding="utf-8", errors="replace") as process:
        lines: Queue[str | None] = Queue()
        reader = Thread(target=_read, args=(process, lines), name="run", daemon=True)
        reader.start()
        last = ""
        while True:
            try:
                line = lines.get(timeout=_BEAT)
            except Empty:
                line = ""
            if line is None:
                break
            if token.cancelled:
                _stop(process)
                token.check()
            last = line or last
            found = _LINE.match(line)
            if found is not None:
                token.report(int(found[1]) / max(int(found[2]), 1))
                title, _, what = found[3].partition(": ")
                parts = what.split("; ")
                lost += [f"{title}: {p}" for p in (parts[1:] if re.match(r"\d+ files?", parts[0]) else parts)]
        code = process.wait()
    if code not in (0, 1):
        raise StudyError(f"The run could not be begun: {last.strip() or 'it ended at once'}", str(folder), "Choose another folder.")
    return lost


def _read(process: subprocess.Popen[str], lines: Queue[str | None]) -> None:
    assert process.stdout is not None
    for line in process.stdout:
        lines.put(line)
    lines.put(None)


def _stop(process: subprocess.Popen[str]) -> None:
    process.send_signal(2)
    try:
        process.wait(_PATIENCE)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
