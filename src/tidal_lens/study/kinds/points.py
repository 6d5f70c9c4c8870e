"""Points of a list, such as those of an experiment."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from tidal_lens.cutting.bodies import beads
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import Name, Vector
from tidal_lens.study.words import Words


class PointsShape(Shape):
    """Points in space, such as those of an experiment; their size is a part of the flow's."""

    kind: Literal["points"] = "points"
    points: Annotated[tuple[Vector, ...], Field(min_length=1, max_length=20000)]
    source: Name = ""
    size: Annotated[float, Field(ge=0.0005, le=0.05)] = 0.006

    def make(self, see: See) -> Made:
        """A small ball at each."""
        return Made(beads(see.flow, np.array(self.points), self.size * see.flow.size, see.token))

    def tell(self, _words: Words) -> str:
        """How many, and where they came from."""
        return f"{len(self.points)} points{' from ' + self.source if self.source else ''}"


def new_points(points: tuple[Vector, ...], source: str) -> Begun:
    """Points of a list, plain."""
    return Begun("Points", PointsShape(points=points, source=source[:200]), SurfaceLook(colour="#B0246B"))


KIND = Kind(PointsShape, "Points of a table, drawn as small balls.")
