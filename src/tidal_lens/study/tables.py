"""What a layer tells in rows and columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Self


class Amount(float):
    """A number with its unit, for those who show it: of a quantity, or the change of one. It reckons as any number does.

    Attributes
    ----------
    unit : str
        In SI; empty where it has none or is not known.
    quantity : str
        Name of the quantity that it is a value of.
    change : bool
        Whether it is how much such values differ.
    """

    unit: str
    quantity: str
    change: bool

    def __new__(cls, value: float, unit: str, quantity: str = "", *, change: bool = False) -> Self:
        """A number of a unit."""
        made = super().__new__(cls, value)
        made.unit, made.quantity, made.change = unit, quantity, change
        return made

    def __reduce__(self) -> tuple[Any, ...]:
        return _amount, (float(self), self.unit, self.quantity, self.change)

    def less(self, other: float) -> Amount:
        """By how much another is smaller."""
        return Amount(float(self) - float(other), self.unit, self.quantity, change=True)


def _amount(value: float, unit: str, quantity: str, change: bool) -> Amount:
    return Amount(value, unit, quantity, change=change)


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


def unit_in(words: str) -> str:
    """The unit that stands in brackets in a head or a row's name; empty where there is none."""
    return words.partition(" [")[2].partition("]")[0]


def numbers_of(tables: Sequence[Table]) -> dict[str, float]:
    """Numbers by what they are, of the first table that tells such; of several side by side their sum, or each with its head."""
    table = next((t for t in tables if t.heads[0] == "what"), None)
    if table is None:
        return {}
    if len(table.heads) == 2 or table.heads[-1] == "total":
        return {str(row[0]): row[-1] for row in table.rows if not isinstance(row[-1], str)}
    return {f"{row[0]}, {head}": cell for n, head in enumerate(table.heads[1:], 1)
            for row in table.rows if not isinstance(cell := row[n], str)}
