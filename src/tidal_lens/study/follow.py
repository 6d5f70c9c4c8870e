"""A folder into which a solver writes: its history and its steps."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from tidal_lens.errors import FileError
from tidal_lens.formats.numbered import siblings
from tidal_lens.formats.registry import FORMATS
from tidal_lens.formats.vtk_xml import times_of

_NUMBER = re.compile(r"\d+(?=\D*$)")


@dataclass(frozen=True)
class Run:
    """What a folder holds at a moment.

    Attributes
    ----------
    result : Path or None
        A file of the largest family of numbered results, or the newest result.
    steps : tuple of (int, Path)
        All of that family, in order.
    times : tuple of float
        Times of the steps.
    history : Path or None
        The newest table.
    mark : tuple
        Changes when anything of it does.
    """

    result: Path | None
    steps: tuple[tuple[int, Path], ...]
    times: tuple[float, ...]
    history: Path | None
    mark: tuple[object, ...]


def look_into(folder: Path) -> Run:
    """Look what a run has written so far.

    Raises
    ------
    FileError
        The folder cannot be read.
    """
    endings = {s for f in FORMATS for s in f.suffixes}
    try:
        files = [p for p in folder.iterdir() if p.is_file() and not p.name.startswith(".")]
        stats = {p: p.stat() for p in files}
    except OSError as exc:
        raise FileError(f"The folder cannot be read: {exc.strerror}.", str(folder), "Check its name and permissions.") from exc
    tables = [p for p in files if p.suffix.lower() in (".csv", ".dat", ".txt")]
    results = [p for p in files if p.suffix.lower() in endings and stats[p].st_size > 0]
    families: dict[str, list[Path]] = {}
    for p in results:
        families.setdefault(_NUMBER.sub("#", p.stem) + p.suffix, []).append(p)
    # Indexes of whole series come before the files that they list.
    largest = max(families.values(), key=lambda own: (any(p.suffix == ".pvd" for p in own), len(own), max(stats[p].st_mtime for p in own)),
                  default=[])
    result = max(largest, key=lambda p: stats[p].st_mtime, default=None)
    steps = tuple(siblings(result)) if result is not None and result.suffix.lower() != ".pvd" else ()
    history = max(tables, key=lambda p: stats[p].st_mtime, default=None)
    seen = tuple(sorted((str(p), stats[p].st_size, stats[p].st_mtime_ns) for p in (*largest, *([history] if history else []))))
    return Run(result, steps, _times(result, steps), history, seen)


def _times(result: Path | None, steps: tuple[tuple[int, Path], ...]) -> tuple[float, ...]:
    if result is None or result.suffix.lower() != ".pvd":
        return tuple(float(n) for n, _ in steps)
    try:
        return times_of(result)
    except FileError:  # it is being written
        return ()
