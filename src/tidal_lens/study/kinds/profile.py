"""Quantities along a straight line."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import values_at
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.charts import Chart, Curve, summary_of, table_of
from tidal_lens.study.experiment import Rows, differences, on_a_line
from tidal_lens.study.kinds.first_values import rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Tile, Vec
from tidal_lens.study.kinds.line_between import HAIR, LineBetween
from tidal_lens.study.kinds.measured import Quantities, first_quantity, measured_lines
from tidal_lens.study.looks import LineLook
from tidal_lens.study.value import Name, StudyPath, Vector
from tidal_lens.study.words import Words, number_text


class ProfileShape(LineBetween):
    """From one place to another, and over further lines beside it.

    Attributes
    ----------
    quantities : tuple of str
        What is measured: a chart each.
    lines : int
        Lines side by side, ``step`` apart: stations one over another.
    step : tuple
        From each line to the next.
    shift : float
        That each line's curve stands from the one before, in the quantity: none may hide another.
    taps : str
        A table of an experiment, laid over the first line.
    taps_across, taps_up : str
        Its columns for where its points are and for their values; empty to find them by their names.
    """

    kind: Literal["profile"] = "profile"
    reckoned: ClassVar[str] = "Values at the places are interpolated in their cells: trilinear in hexahedra, linear in tetrahedra."
    quantities: Quantities
    lines: Annotated[int, Field(ge=1, le=50)] = 1
    step: Vector = (0.0, 0.0, 0.0)
    takes_taps: ClassVar[bool] = True
    taps: StudyPath = ""
    taps_across: Name = ""
    taps_up: Name = ""
    shift: Annotated[float, Field(ge=-1e12, le=1e12)] = 0.0

    def make(self, see: See) -> Made:
        """The lines, a chart for each quantity."""
        one, along = self.places()
        points = np.concatenate([one + n * np.array(self.step) for n in range(self.lines)])
        stencil = values_at(see.flow, points, see.token, HAIR)
        names = [self._called(n) for n in range(self.lines)]
        charts, plain, compared = [], [], Rows()
        across = f"length along it{' [m]' if see.flow.si_units else ''}"
        for quantity in self.quantities:
            values = stencil.apply(see.values(quantity)).reshape(self.lines, self.count)
            own = [Curve(names[n], along, values[n], places=points[n * self.count:(n + 1) * self.count]) for n in range(self.lines)]
            if self.taps and quantity == self.quantities[0]:
                points_of = on_a_line(self.taps, self.taps_across, self.taps_up, quantity, see.called(quantity), one[0], one[-1])
                compared = differences(tuple(own[:1]), points_of)
                measured = [points_of]
            else:
                measured = []
            plain.append(Chart(across, see.called(quantity), (*own, *measured)))
            if self.shift:
                own = [Curve(f"{c.name}, + {number_text(n * self.shift)}", c.at, c.values + n * self.shift, places=c.places)
                       for n, c in enumerate(own)]
            charts.append(Chart(across, see.called(quantity), (*own, *measured)))
        inside = float(np.isfinite(stencil.weights[:, 0]).mean())
        offsets = np.arange(self.lines + 1, dtype=np.int64) * self.count
        told = f"{self.lines} lines" if self.lines > 1 else f"{number_text(along[-1])} long"
        tables = (table_of("Profile", tuple(plain)), summary_of(tuple(plain), compared))
        return Made(measured_lines(points, offsets, stencil, np.tile(along, self.lines)), tables=tables,
                    charts=tuple(charts), told=told if inside == 1.0 else f"{told}, {100 * inside:.0f} % of it in the flow")

    def _called(self, line: int) -> str:
        """By the coordinate in which lines differ most."""
        axis = int(np.abs(self.step).argmax())
        if self.lines == 1 or not any(self.step):
            return "profile"
        return f"{'xyz'[axis]} = {number_text(self.start[axis] + line * self.step[axis])}"

    def tell(self, words: Words) -> str:
        """From where to where, and what."""
        return f"{', '.join(words.quantity(q) for q in self.quantities)} {self.told_between(words)}"

    def handles(self, flow: Flow, made: Made | None) -> Handles:
        """Both ends, the middle that shifts it, and the last of lines side by side."""
        own = super().handles(flow, made)
        if self.lines == 1:
            return own
        last = 0.5 * (np.array(self.start) + np.array(self.end)) + (self.lines - 1) * np.array(self.step)
        return Handles(own.what, (*own.beads, Handle("last", last, label=f"{self.lines} lines", small=True, turns=True)), own.lines)

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """An end there, or all of it by its middle, or the last of lines."""
        if handle != "last":
            return super().moved(handle, to, flow, snap=snap)
        middle = 0.5 * (np.array(self.start) + np.array(self.end))
        return self.with_(step=rounded((to - middle) / max(self.lines - 1, 1), 1e-4 * flow.size))


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
