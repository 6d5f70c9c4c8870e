"""What a layer tells in rows and columns."""

from __future__ import annotations

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
