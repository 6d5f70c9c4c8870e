"""``tidal-lens run``: a study over many cases and steps, from the command line."""

from __future__ import annotations

import argparse
import signal
import sys
import threading
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from types import FrameType
from typing import Any

from tidal_lens.errors import CancelledError, StudyError, TidalLensError
from tidal_lens.study.files import load_study
from tidal_lens.tell.batch import Plan, Told, run
from tidal_lens.tell.beside import SUMMARY
from tidal_lens.work import WORKERS, Token

_STOPPED = 130  # as shells have it of what was interrupted


def parser() -> argparse.ArgumentParser:
    """Options."""
    out = argparse.ArgumentParser(
        prog="tidal-lens run", description="Make pictures of all plates, tables of all measures, and reports of a study, for many cases "
        "and steps. What was made before, and would come to the same, is not made again. Needs no display.")
    out.add_argument("study", type=Path, help="a study (.tidal)")
    out.add_argument("--cases", nargs="+", type=Path, default=[], metavar="CASE", help="results (the study's own)")
    out.add_argument("--steps", default="", help="of series: all, last, or numbers and ranges such as 0-10:2,15 (the study's own step)")
    out.add_argument("--pictures", action="store_true", help="a picture of each plate, or of what the study shows where it has none")
    out.add_argument("--tables", action="store_true", help="the tables of all measures and findings")
    out.add_argument("--report", action="store_true", help="a report as HTML and DOCX")
    out.add_argument("--out", type=Path, required=True, metavar="DIR", help="where to write: a folder for each case, and summary.csv")
    who = out.add_mutually_exclusive_group()
    who.add_argument("--workers", type=_workers, default=WORKERS, metavar="N",
                     help=f"processes on this machine, one thread each ({WORKERS})")
    who.add_argument("--cluster", default="", metavar="ADDRESS", help="the scheduler of a Dask cluster, such as tcp://host:8786")
    out.add_argument("--theme", choices=("chart", "night"), default="chart", help="of pictures and reports")
    return out


def _workers(text: str) -> int:
    if not (text.isdecimal() and 1 <= int(text) <= 256):
        raise argparse.ArgumentTypeError("1 to 256 processes")
    return int(text)


def plan_of(chosen: argparse.Namespace) -> Plan:
    """What is asked for; pictures and tables where nothing is named.

    Raises
    ------
    TidalLensError
        The study cannot be read, or names no case.
    """
    study = load_study(chosen.study)
    if not study.case and not chosen.cases:
        raise StudyError("The study names no case.", str(chosen.study), "Name one with --cases.")
    none = not (chosen.pictures or chosen.tables or chosen.report)
    return Plan(study, chosen.out, tuple(chosen.cases), chosen.steps, chosen.pictures or none, chosen.tables or none, chosen.report,
                chosen.workers, chosen.cluster, chosen.theme)


def run_command(arguments: list[str]) -> int:
    """Run it; 0 if all came to something, 1 if not all did, 2 if nothing could be begun, 130 if it was interrupted."""
    chosen = parser().parse_args(arguments)
    token = Token()

    def stop(_number: int, _frame: FrameType | None) -> None:
        token.cancel()

    here = threading.current_thread() is threading.main_thread()
    before = signal.signal(signal.SIGINT, stop) if here else None
    try:
        plan = plan_of(chosen)
        with _Progress() as progress:
            lost = run(plan, progress.take, token)
    except CancelledError:
        _say("Stopped. What is made stays; the same command goes on from there.")
        return _STOPPED
    except TidalLensError as error:
        sys.stderr.write(f"{error}\n")
        return 2
    finally:
        if here:
            signal.signal(signal.SIGINT, before)
    _say(f"{plan.out / SUMMARY}" + (f"; {lost} came to nothing." if lost else ""))
    return 1 if lost else 0


def line_of(told: Told) -> str:
    """One line on a task that ended."""
    done = told.done
    what = (done.failed or f"{len(done.files)} file{'s' if len(done.files) != 1 else ''}"
            + (" from before" if told.before else f" in {done.seconds:.1f} s") + "".join(f"; {t}" for t in done.troubles))
    return f"[{told.number}/{told.count}] {told.task.title}: {what}"


def _say(text: str) -> None:
    sys.stdout.write(f"{text}\n")
    sys.stdout.flush()


class _Progress:
    """Lines, with a bar below them where somebody looks."""

    def __init__(self) -> None:
        self._bar: Any = None
        self._task: Any = None
        self._within: AbstractContextManager[Any] = nullcontext()

    def __enter__(self) -> _Progress:
        if sys.stdout.isatty():
            from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

            self._bar = Progress(TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
            self._task = self._bar.add_task("Opening cases", total=None)
            self._within = self._bar
        self._within.__enter__()
        return self

    def __exit__(self, *how: Any) -> None:
        self._within.__exit__(*how)

    def take(self, told: Told) -> None:
        """A task ended."""
        if self._bar is None:
            _say(line_of(told))
            return
        from rich.text import Text

        self._bar.console.print(Text(line_of(told), style="red" if told.done.failed else "yellow" if told.done.troubles else ""))
        self._bar.update(self._task, description=told.task.name, total=told.count, completed=told.number)
