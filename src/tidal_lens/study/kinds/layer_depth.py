"""The height of an interface between two layers along a line."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from tidal_lens.cutting.points import values_at
from tidal_lens.errors import StudyError
from tidal_lens.measures.layer_depth import two_layers
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.charts import Chart, Curve, table_of
from tidal_lens.study.kinds.first_values import rounded
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Tile
from tidal_lens.study.kinds.line_between import HAIR, LineBetween
from tidal_lens.study.kinds.measured import first_quantity, measured_lines
from tidal_lens.study.looks import LineLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import Words, number_text


class LayerDepthShape(LineBetween):
    """From the floor to the ceiling, by which quantity."""

    kind: Literal["layer-depth"] = "layer-depth"
    reckoned: ClassVar[str] = "Both integrals by the trapezoid over the points of the line; values are interpolated in their cells."
    what: ClassVar[str] = "layer depth"
    quantity: QuantityName

    def make(self, see: See) -> Made:
        """The line, its profile, and the two layers that have its integrals."""
        points, along = self.places()
        stencil = values_at(see.flow, points, see.token, HAIR)
        values = stencil.apply(see.values(self.quantity))
        try:
            found = two_layers(along, values)
        except ValueError as why:
            raise StudyError(f"No depth follows from {see.called(self.quantity)}: {why}.", "",
                             "Take an absolute temperature, a density or a share that is nowhere zero, on a line within the flow.") from why
        known = np.flatnonzero(np.isfinite(values))
        bottom, top = float(along[known[0]]), float(along[known[-1]])
        height = bottom + found.height
        place = points[0] + height / max(float(along[-1]), 1e-300) * (points[-1] - points[0])
        unit = " [m]" if see.flow.si_units else ""
        rows: list[tuple[str | float, ...]] = [(f"height of the interface above the line's beginning{unit}", height),
                                               (f"depth of the upper layer{unit}", top - height)]
        rows += [(f"interface {axis}", float(c)) for axis, c in zip("xyz", place, strict=True)]
        rows += [("mean of the lower layer", found.lower), ("mean of the upper layer", found.upper)]
        curves = [Curve("profile", along, values, places=points)]
        if np.isfinite(height):
            curves.append(Curve("two layers", np.array([bottom, height, height, top]),
                                np.array([found.lower, found.lower, found.upper, found.upper]), dashed=True))
        charts = (Chart(f"length along it{unit}", see.called(self.quantity), tuple(curves)),)
        tables = (table_of("Layer depth", charts), Table("Two layers", ("what", "value"), tuple(rows)))
        told = f"interface at {number_text(height)}" if np.isfinite(height) else "one layer only"
        return Made(measured_lines(points, np.array([0, len(points)]), stencil, along), tables=tables, charts=charts, told=told)

    def tell(self, words: Words) -> str:
        """By what, and where."""
        return f"by {words.quantity(self.quantity)} {self.told_between(words)}; two integrals, Janssens and Tran 1992"


def new_layer_depth(store: QuantityStore) -> Begun:
    """From the floor up through the middle of the flow, by temperature if there is one."""
    flow = store.flow
    low, high = flow.stage
    middle = 0.5 * (low + high)
    up = 2 if flow.normal is None or abs(flow.normal[2]) < 0.5 else 1
    start, end = middle.copy(), middle.copy()
    start[up], end[up] = low[up], high[up]
    quantity = first_quantity(store, "static-temperature", "temperature", "density") or ""
    grain = 1e-3 * flow.size
    shape = LayerDepthShape(start=rounded(start, grain), end=rounded(end, grain), quantity=quantity)
    return Begun("Layer depth", shape, LineLook(width=2.5))


KIND = Kind(LayerDepthShape, "The height of an interface between two layers along a line, by two integrals of its profile.", "measure",
            "layer-depth", (Tile("add-layer-depth", "Layer depth", "Find the interface of two layers along a line."),),
            lambda store, _argument: new_layer_depth(store), slow=True, group="Here")
