"""Quantities along a straight line."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from tidal_lens.cutting.points import values_at
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.charts import Chart, Curve, table_of
from tidal_lens.study.kinds.first_values import rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import Quantities, first_quantity, measured_lines
from tidal_lens.study.looks import LineLook
from tidal_lens.study.value import Vector
from tidal_lens.study.words import Words, number_text

_HAIR = 1e-3  # cell widths off the flow: a profile ends at walls


class ProfileShape(Shape):
    """From one place to another, and over further lines beside it.

    Attributes
    ----------
    start, end : tuple
        Both ends.
    quantities : tuple of str
        What is measured: a chart each.
    count : int
        Points along it.
    lines : int
        Lines side by side, ``step`` apart: stations one over another.
    step : tuple
        From each line to the next.
    """

    kind: Literal["profile"] = "profile"
    geometry: ClassVar[Sort] = "lines"
    measures: ClassVar[bool] = True
    start: Vector
    end: Vector
    quantities: Quantities
    count: Annotated[int, Field(ge=2, le=20_000)] = 300
    lines: Annotated[int, Field(ge=1, le=50)] = 1
    step: Vector = (0.0, 0.0, 0.0)

    @model_validator(mode="after")
    def _has_length(self) -> Self:
        if self.start == self.end:
            raise ValueError("a profile needs two places")
        return self

    def make(self, see: See) -> Made:
        """The lines, a chart for each quantity."""
        start, end, step = (np.array(v) for v in (self.start, self.end, self.step))
        share = np.linspace(0.0, 1.0, self.count)
        one = start + share[:, None] * (end - start)
        points = np.concatenate([one + n * step for n in range(self.lines)])
        stencil = values_at(see.flow, points, see.token, _HAIR)
        along = share * float(np.linalg.norm(end - start))
        names = [self._called(n) for n in range(self.lines)]
        charts = []
        for quantity in self.quantities:
            values = stencil.apply(see.values(quantity)).reshape(self.lines, self.count)
            curves = tuple(Curve(names[n], along, values[n], places=points[n * self.count:(n + 1) * self.count]) for n in range(self.lines))
            charts.append(Chart("length along it", see.called(quantity), curves))
        inside = float(np.isfinite(stencil.weights[:, 0]).mean())
        offsets = np.arange(self.lines + 1, dtype=np.int64) * self.count
        told = f"{self.lines} lines" if self.lines > 1 else f"{number_text(along[-1])} long"
        return Made(measured_lines(points, offsets, stencil, np.tile(along, self.lines)), tables=(table_of("Profile", tuple(charts)),),
                    charts=tuple(charts), told=told if inside == 1.0 else f"{told}, {100 * inside:.0f} % of it in the flow")

    def _called(self, line: int) -> str:
        """By the coordinate in which lines differ most."""
        axis = int(np.abs(self.step).argmax())
        if self.lines == 1 or not any(self.step):
            return "profile"
        return f"{'xyz'[axis]} = {number_text(self.start[axis] + line * self.step[axis])}"

    def tell(self, words: Words) -> str:
        """From where to where, and what."""
        places = " to ".join("(" + ", ".join(words.number(c, 3) for c in place) + ")" for place in (self.start, self.end))
        return f"{', '.join(words.quantity(q) for q in self.quantities)} from {places}"

    def handles(self, flow: Flow, _made: Made | None) -> Handles:
        """Both ends, the middle that shifts it, and the last of lines side by side."""
        ends = [Handle(name, np.array(place), label=", ".join(number_text(c, 4) for c in place), value=place)
                for name, place in (("start", self.start), ("end", self.end))]
        middle = 0.5 * (np.array(self.start) + np.array(self.end))
        ends.append(Handle("middle", middle, small=True))
        if self.lines > 1:
            last = (self.lines - 1) * np.array(self.step)
            ends.append(Handle("last", middle + last, label=f"{self.lines} lines", small=True, turns=True))
        return Handles("profile", tuple(ends), ((np.array([self.start, self.end]), False),))

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """An end there, or all of it by its middle."""
        to = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap else to
        grain = 0.0 if snap else 1e-4 * flow.size
        start, end = np.array(self.start), np.array(self.end)
        middle = 0.5 * (start + end)
        if handle == "middle":
            return self.with_(start=rounded(start + to - middle, grain), end=rounded(end + to - middle, grain))
        if handle == "last":
            return self.with_(step=rounded((to - middle) / max(self.lines - 1, 1), grain))
        place = rounded(to, grain)
        other = self.end if handle == "start" else self.start
        return self if place == other else self.with_(**{handle: place})

    def typed(self, handle: str, value: Any) -> Self:
        """An end at a place."""
        return self.with_(**{handle: value})


def new_profile(store: QuantityStore) -> Begun:
    """Across the flow behind the body, or through its middle."""
    flow = store.flow
    low, high = flow.stage
    middle, size = 0.5 * (low + high), high - low
    stream = np.abs(np.array(store.reference.velocity))
    along = int(stream.argmax()) if stream.any() else int(size.argmax())
    across = [a for a in range(3) if a != along and (flow.normal is None or abs(flow.normal[a]) < 0.5)]
    up = across[-1]
    start, end = middle.copy(), middle.copy()
    if flow.body is not None:
        behind = flow.body[1][along] + 0.1 * flow.length
        start[along] = end[along] = behind if behind < high[along] else middle[along]
    start[up], end[up] = low[up] + 0.02 * size[up], high[up] - 0.02 * size[up]
    quantity = first_quantity(store) or ""
    grain = 1e-3 * flow.size
    shape = ProfileShape(start=rounded(start, grain), end=rounded(end, grain), quantities=(quantity,))
    return Begun("Profile", shape, LineLook(width=2.5))


KIND = Kind(ProfileShape, "Quantities along straight lines between two beads, as charts and a table.", "measure", "profile",
            (Tile("add-profile", "Profile", "Draw quantities along a line between two beads."),),
            lambda store, _argument: new_profile(store), slow=True, group="Here")
