"""What a layer tells in rows and columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

Cell = str | float


@dataclass(frozen=True)
class Table:
    """A table.

    Attributes
    ----------
    title : str
        What it is of.
    heads : tuple of str
        Name of each column, with its unit if it has one.
    rows : tuple of tuple
        Texts and numbers, one a column.
    """

    title: str
    heads: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]

    @property
    def whole(self) -> list[tuple[Cell, ...]]:
        """Heads and rows, as they are written to a file."""
        return [self.heads, *self.rows]


def numbers_of(tables: Sequence[Table]) -> dict[str, float]:
    """Numbers by what they are, of the first table that tells such; of several side by side their sum, or each with its head."""
    table = next((t for t in tables if t.heads[0] == "what"), None)
    if table is None:
        return {}
    if len(table.heads) == 2 or table.heads[-1] == "total":
        return {str(row[0]): float(row[-1]) for row in table.rows if not isinstance(row[-1], str)}
    return {f"{row[0]}, {head}": float(cell) for n, head in enumerate(table.heads[1:], 1)
            for row in table.rows if not isinstance(cell := row[n], str)}
