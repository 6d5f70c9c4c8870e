"""Points of a list, such as those of an experiment."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import points_in_flow
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort
from tidal_lens.study.looks import BallLook
from tidal_lens.study.value import Name, Vector
from tidal_lens.study.words import Words


class PointsShape(Shape):
    """Points in space, such as those of an experiment."""

    kind: Literal["points"] = "points"
    geometry: ClassVar[Sort] = "points"
    points: Annotated[tuple[Vector, ...], Field(min_length=1, max_length=20000)]
    source: Name = ""

    def make(self, see: See) -> Made:
        """The points, with the flow's values."""
        return Made(points_in_flow(see.flow, np.array(self.points), {}, see.token))

    def tell(self, _words: Words) -> str:
        """How many, and where they came from."""
        return f"{len(self.points)} points{' from ' + self.source if self.source else ''}"


def new_points(points: tuple[Vector, ...], source: str) -> Begun:
    """Points of a list, plain."""
    return Begun("Points", PointsShape(points=points, source=source[:200]), BallLook(colour="#B0246B"))


KIND = Kind(PointsShape, "Points of a table, drawn as small balls.")
