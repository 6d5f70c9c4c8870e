"""What shapes along a line between two beads have in common."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Self

import numpy as np
from pydantic import Field, model_validator

from tidal_lens.flow.case import Flow
from tidal_lens.study.kinds.first_values import rounded
from tidal_lens.study.kinds.kind import Handle, Handles, Made, Shape, Sort, Vec
from tidal_lens.study.value import Vector
from tidal_lens.study.words import Words, number_text

HAIR = 1e-3  # cell widths off the flow: a profile ends at walls


class LineBetween(Shape):
    """A straight line.

    Attributes
    ----------
    start, end : tuple
        Both ends.
    count : int
        Points along it.
    """

    geometry: ClassVar[Sort] = "lines"
    measures: ClassVar[bool] = True
    what: ClassVar[str] = "profile"
    start: Vector
    end: Vector
    count: Annotated[int, Field(ge=2, le=20_000)] = 300

    @model_validator(mode="after")
    def _has_length(self) -> Self:
        if self.start == self.end:
            raise ValueError("a line needs two places")
        return self

    def places(self) -> tuple[Vec, Vec]:
        """Points (n, 3) along it, and how far along each is (n,)."""
        start, end = np.array(self.start), np.array(self.end)
        share = np.linspace(0.0, 1.0, self.count)
        return start + share[:, None] * (end - start), share * float(np.linalg.norm(end - start))

    def told_between(self, words: Words) -> str:
        """From where to where."""
        return "from " + " to ".join("(" + ", ".join(words.number(c, 3) for c in place) + ")" for place in (self.start, self.end))

    def handles(self, _flow: Flow, _made: Made | None) -> Handles:
        """Both ends, and the middle that shifts it."""
        ends = [Handle(name, np.array(place), label=", ".join(number_text(c, 4) for c in place), value=place)
                for name, place in (("start", self.start), ("end", self.end))]
        middle = 0.5 * (np.array(self.start) + np.array(self.end))
        return Handles(self.what, (*ends, Handle("middle", middle, small=True)), ((np.array([self.start, self.end]), False),))

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """An end there, or all of it by its middle."""
        to = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap else to
        grain = 0.0 if snap else 1e-4 * flow.size
        start, end = np.array(self.start), np.array(self.end)
        if handle == "middle":
            by = to - 0.5 * (start + end)
            return self.with_(start=rounded(start + by, grain), end=rounded(end + by, grain))
        place = rounded(to, grain)
        other = self.end if handle == "start" else self.start
        return self if place == other else self.with_(**{handle: place})

    def typed(self, handle: str, value: Any) -> Self:
        """An end at a place."""
        return self.with_(**{handle: value})
