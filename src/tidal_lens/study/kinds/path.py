"""Quantities along the lines of another card."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tidal_lens.errors import StudyError
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.charts import Chart, Curve, summary_of, table_of
from tidal_lens.study.kinds.first_values import AXES
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import Quantities, first_quantity, measured_lines
from tidal_lens.study.looks import LineLook
from tidal_lens.study.value import LayerId
from tidal_lens.study.words import Words
from tidal_lens.tracing.streamlines import Lines


class PathShape(Shape):
    """Of which lines, what over what.

    Attributes
    ----------
    card : str
        One of lines.
    line : int
        The first of them that counts, from 1; 0 takes the longest.
    count : int
        How many, in the order of the card, or the longest ones.
    quantities : tuple of str
        A chart each.
    against : str
        Length along it, time, or a coordinate.
    """

    kind: Literal["path"] = "path"
    reckoned: ClassVar[str] = "Values at the lines’ points are interpolated in their cells; lengths are those of the chords between points."
    geometry: ClassVar[Sort] = "lines"
    measures: ClassVar[bool] = True
    card: LayerId = ""
    line: Annotated[int, Field(ge=0, le=1_000_000)] = 0
    count: Annotated[int, Field(ge=1, le=12)] = 1
    quantities: Quantities
    against: Literal["length", "time", "x", "y", "z"] = "length"

    @classmethod
    def takes(cls, shape: Shape) -> bool:
        """Lines."""
        return shape.geometry == "lines" and not shape.measures

    def make(self, see: See) -> Made:
        """Those lines, a chart for each quantity."""
        lines = see.made(self.card).geometry if self.card else None
        if not isinstance(lines, Lines) or not lines.n_lines:
            raise StudyError("It is measured along the lines of another card, and there are none.", "",
                             "Choose a card of lines, such as streamlines or vortices.")
        order = np.argsort(-lines.lengths, kind="stable") if self.line == 0 else np.arange(self.line - 1, lines.n_lines)
        chosen = order[: self.count]
        if not len(chosen):
            raise StudyError(f"The card has {lines.n_lines} lines only.", "", "Choose another line.")
        rows = np.concatenate([np.arange(lines.offsets[n], lines.offsets[n + 1]) for n in chosen])
        offsets = np.concatenate([[0], np.cumsum(np.diff(lines.offsets)[chosen])]).astype(np.int64)
        points, stencil = lines.points[rows], lines.stencil.take(rows)
        steps = np.concatenate([[0.0], np.linalg.norm(np.diff(points, axis=0), axis=1)])
        steps[offsets[:-1]] = 0.0
        run = np.cumsum(steps)
        along = run - np.repeat(run[offsets[:-1]], np.diff(offsets))
        over = self._over(points, along, lines.time[rows])
        charts = []
        for quantity in self.quantities:
            values = stencil.apply(see.values(quantity))
            curves = tuple(Curve(f"line {int(n) + 1}", over[a:b], values[a:b], places=points[a:b])
                           for n, a, b in zip(chosen, offsets[:-1], offsets[1:], strict=True))
            charts.append(Chart(self._across(see), see.called(quantity), curves))
        tables = (table_of("Path", tuple(charts)), summary_of(tuple(charts)))
        return Made(measured_lines(points, offsets, stencil, along), tables=tables, charts=tuple(charts),
                    told=f"{len(chosen)} of {lines.n_lines} lines" if lines.n_lines > 1 else "")

    def _over(self, points: Vec, along: Vec, time: Vec) -> Vec:
        return {"length": along, "time": time}.get(self.against, points[:, AXES.index(self.against) if self.against in AXES else 0])

    def _across(self, see: See) -> str:
        unit = {"length": " [m]", "time": " [s]"}.get(self.against, " [m]") if see.flow.si_units else ""
        return {"length": "length along it", "time": "time from the seed"}.get(self.against, self.against) + unit

    def tell(self, words: Words) -> str:
        """What along what."""
        return f"{', '.join(words.quantity(q) for q in self.quantities)} along {words.card(self.card) if self.card else 'a card'}"


def new_path(store: QuantityStore, card: str) -> Begun:
    """Along the longest line of the chosen card."""
    return Begun("Path", PathShape(card=card, quantities=(first_quantity(store) or "",)), LineLook(width=4.0, colour="#B0246B"))


KIND = Kind(PathShape, "Quantities along the lines of another card, over length, time or a coordinate.", "measure", "path",
            (Tile("add-path", "Path", "Draw quantities along lines of the chosen card."),), new_path, slow=True, group="Here")
