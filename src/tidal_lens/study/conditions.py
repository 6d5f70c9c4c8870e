"""Conditions on quantities: what masks and regions are made of."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import FiniteFloat

from tidal_lens.study.value import QuantityName, Value
from tidal_lens.study.words import Words

Vec = NDArray[np.float64]
ValuesOf = Callable[[str], Vec]


class Condition(Value):
    """A quantity, and which side of a number or of another quantity is kept.

    Attributes
    ----------
    other : str
        The quantity that it is compared with; with ``value`` where it is empty.
    on : bool
        Whether it counts.
    """

    quantity: QuantityName
    keep: Literal["above", "below"] = "above"
    value: FiniteFloat = 0.0
    other: QuantityName = ""
    on: bool = True

    def over(self, values: ValuesOf) -> Vec:
        """How far on the kept side values are: not negative where it is met."""
        bound = values(self.other) if self.other else self.value
        found = values(self.quantity)
        return np.asarray(found - bound if self.keep == "above" else bound - found, np.float64)

    def tell(self, words: Words) -> str:
        """As one writes it."""
        bound = words.quantity(self.other) if self.other else words.values(self.quantity, (self.value,))
        return f"{words.quantity(self.quantity)} {'≥' if self.keep == 'above' else '≤'} {bound}"


def needs_of(conditions: tuple[Condition, ...]) -> tuple[str, ...]:
    """Quantities that those which count rest on."""
    names = [name for c in conditions if c.on for name in (c.quantity, c.other)]
    return tuple(dict.fromkeys(filter(None, names)))


def levels_of(conditions: tuple[Condition, ...]) -> tuple[tuple[str, float], ...]:
    """Quantities and numbers of those which count: beads on keys."""
    return tuple((c.quantity, c.value) for c in conditions if c.on and not c.other)


def with_level(conditions: tuple[Condition, ...], number: int, value: float) -> tuple[Condition, ...]:
    """With another number in the place of one of :func:`levels_of`."""
    at = [n for n, c in enumerate(conditions) if c.on and not c.other][number]
    return tuple(c.with_(value=value) if n == at else c for n, c in enumerate(conditions))


def told(conditions: tuple[Condition, ...], how: str, words: Words) -> str:
    """All that count, in words."""
    return (" and " if how == "all" else " or ").join(c.tell(words) for c in conditions if c.on) or "no condition"
