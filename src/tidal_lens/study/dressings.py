"""What is drawn on a surface besides its paint. Each is a part of the look, worked out only where it is on, and kept by its own basis.

To add one: a value here with ``make``, a field of :class:`tidal_lens.study.looks.SurfaceLook`, its controls, and how its lines are drawn.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.cutting.arrows import arrow_lines, even_places
from tidal_lens.cutting.surface import Surface
from tidal_lens.flow.case import Flow
from tidal_lens.study.value import Colour, QuantityName, Value

_LENGTH = 1.6  # of the longest arrow, in spacings


@dataclass(frozen=True, eq=False)
class Dressed:
    """Lines that a dressing came to: points (n, 3), and where each begins."""

    points: NDArray[np.float64]
    offsets: NDArray[np.int64]

    @staticmethod
    def none() -> Dressed:
        """Nothing."""
        return Dressed(np.empty((0, 3)), np.zeros(1, np.int64))

    @property
    def nbytes(self) -> int:
        """Memory that it takes."""
        return self.points.nbytes + self.offsets.nbytes


class Arrows(Value):
    """Arrows of a vector on an even grid; ``spacing`` is a share of the flow's size."""

    kind: Literal["arrows"] = "arrows"
    of: QuantityName = "velocity"
    spacing: Annotated[float, Field(ge=0.004, le=0.5)] = 0.03
    even: bool = False
    along: bool = False
    colour: Colour = "#1F2A33"
    width: Annotated[float, Field(ge=0.5, le=6.0)] = 1.4

    def needs(self) -> tuple[str, ...]:
        """The vector."""
        return (self.of,)

    def shaped(self) -> Value:
        """What its lines rest on: not how they are drawn."""
        return self.with_(colour="#1F2A33", width=1.4)

    def make(self, flow: Flow, surface: Surface, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The arrows on a surface."""
        apart = self.spacing * flow.size
        places = even_places(surface, apart)
        vectors = values(self.of)
        found = np.column_stack([surface.stencil.apply(np.ascontiguousarray(vectors[:, c])) for c in range(3)])
        return Dressed(*arrow_lines(places, places.values(found), _LENGTH * apart, even=self.even, along=self.along))
