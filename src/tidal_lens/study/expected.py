"""Numbers that are expected of a measure, and whether what was found agrees."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated

from pydantic import Field, FiniteFloat

from tidal_lens.study.value import Name, Value

_UNIT = re.compile(r"\s*\[[^\]]*\]\s*$")


class Expected(Value):
    """A number from elsewhere.

    Attributes
    ----------
    number : str
        Which of the card's numbers.
    value : float
        What it should be.
    tolerance : float
        How far off it may be, as a share of the value; of one that is zero, as it is.
    source : str
        Where the value comes from.
    """

    number: Name
    value: FiniteFloat
    tolerance: Annotated[float, Field(gt=0.0, le=1e6)] = 0.02
    source: Name = ""


@dataclass(frozen=True)
class Judged:
    """What was found beside what was expected; not a number where the card does not tell it."""

    expected: Expected
    found: float

    @property
    def difference(self) -> float:
        """Found less expected."""
        return self.found - self.expected.value

    @property
    def share(self) -> float:
        """The difference as a share of the expected value; of one that is zero, the difference."""
        return self.difference / abs(self.expected.value) if self.expected.value else self.difference

    @property
    def verdict(self) -> str:
        """``within``, ``outside`` or ``not told``."""
        if self.found != self.found:
            return "not told"
        return "within" if abs(self.share) <= self.expected.tolerance else "outside"


def judged(expected: tuple[Expected, ...], numbers: Mapping[str, float]) -> tuple[Judged, ...]:
    """Each against what a card tells."""
    return tuple(Judged(e, numbers.get(e.number, float("nan"))) for e in expected)


def same_number(one: str, other: str) -> bool:
    """Whether two names are the same number's, units and case aside: a solver's column, and a card's."""
    return _UNIT.sub("", one).strip().casefold() == _UNIT.sub("", other).strip().casefold()
