"""Tables in CSV files: histories of a solver, points, and what is exported."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.scratch import writing

_LARGEST = 500_000_000
_SEPARATORS = (",", ";", "\t", " ")


@dataclass(frozen=True, eq=False)
class Table:
    """Named columns of numbers, shape (rows,) each; what is no number is NaN."""

    names: tuple[str, ...]
    columns: NDArray[np.float64]

    def column(self, name: str) -> NDArray[np.float64]:
        """Values of a column."""
        return np.asarray(self.columns[:, self.names.index(name)])


def read_table(path: Path) -> Table:
    """Read a table of one row of names and rows of numbers.

    Columns are separated by commas, semicolons, tabs or blanks; there are decimal commas where they do not separate. Lines that begin
    with # or % are remarks, the last of which may name the columns.

    Raises
    ------
    FileError
        It cannot be read, or holds no numbers in columns.
    """
    try:
        if path.stat().st_size > _LARGEST:
            raise FileError("A table of more than 500 MB is not believed.", str(path), "Write every tenth iteration only.")
        text = path.read_text(encoding="utf-8-sig", errors="replace")
    except OSError as exc:
        raise FileError(f"The table cannot be read: {exc.strerror}.", str(path), "Check its name and permissions.") from exc
    lines = [line for line in text.splitlines() if line.strip()]
    body = [line for line in lines if line.lstrip()[0] not in "#%!"]
    remarks = [line.lstrip().lstrip("#%! ") for line in lines if line.lstrip()[0] in "#%!"]
    if not body:
        raise FileError("There are no numbers in it.", str(path), "A table has one row of names and rows of numbers.")
    separator, decimal = _shape(body)
    rows = _split(body, separator)
    numeric = [_number(cell, decimal) for cell in rows[0]]
    if all(v is None for v in numeric):
        names, rows = [c.strip().strip('"') for c in rows[0]], rows[1:]
    else:
        width = len(rows[0])
        head = _split(remarks[-1:], separator)[0] if remarks else []
        names = [c.strip().strip('"') for c in head] if len(head) == width else [f"column {n + 1}" for n in range(width)]
    width = len(names)
    values = np.full((len(rows), width), np.nan)
    for r, row in enumerate(rows):
        for c, cell in enumerate(row[:width]):
            value = _number(cell, decimal)
            if value is not None:
                values[r, c] = value
    # A run that is still writing may end in half a line.
    if len(rows) > 1 and len(rows[-1]) < width:
        values = values[:-1]
    if values.size == 0 or not np.isfinite(values).any():
        raise FileError("There are no numbers in it.", str(path), "A table has one row of names and rows of numbers.")
    keep = [n for n in range(width) if np.isfinite(values[:, n]).any()]
    return Table(_distinct([names[n] or f"column {n + 1}" for n in keep]), values[:, keep])


def _shape(body: list[str]) -> tuple[str, str]:
    """What separates columns, and the decimal sign."""
    sample = body[1:20] or body[:1]
    if 1 < len(sample) == len(body) - 1:
        sample = sample[:-1]  # the last line may be written by half
    for separator in _SEPARATORS:
        counts = {len(_split([line], separator)[0]) for line in sample}
        if len(counts) == 1 and counts != {1}:
            if separator == "," and all(";" in line for line in sample):
                continue
            return separator, "," if separator != "," and any("," in line for line in sample) else "."
    return ",", "."


def _split(lines: list[str], separator: str) -> list[list[str]]:
    if separator == " ":
        return [line.split() for line in lines]
    try:
        return [[c.strip() for c in row] for row in csv.reader(io.StringIO("\n".join(lines)), delimiter=separator)]
    except csv.Error:
        return [[c.strip() for c in line.split(separator)] for line in lines]


def _number(cell: str, decimal: str) -> float | None:
    try:
        value = float(cell.strip().strip('"').replace("D", "e").replace("d", "e") if decimal == "." else cell.strip().replace(",", "."))
    except ValueError:
        return None
    return value


def _distinct(names: list[str]) -> tuple[str, ...]:
    out: list[str] = []
    for name in names:
        one, n = name[:200], 2
        while one in out:
            one, n = f"{name[:190]} {n}", n + 1
        out.append(one)
    return tuple(out)


def write_table(path: Path, rows: Sequence[Sequence[str | float]]) -> None:
    """Write rows to a CSV file; a file that was there stays until the new one is whole.

    Raises
    ------
    FileError
        It cannot be written.
    """
    with writing(path, "table", "Choose another folder.") as scratch, scratch.open("w", encoding="utf-8", newline="") as stream:
        csv.writer(stream).writerows([[f"{c:.9g}" if isinstance(c, float) else c for c in row] for row in rows])
