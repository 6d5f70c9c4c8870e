"""What is drawn on a surface besides its paint. Each is a part of the look, worked out only where it is on, and kept by its own basis.

To add one: a :class:`Dressing` here, a field of :class:`tidal_lens.study.looks.SurfaceLook`, its controls, and how its lines are drawn.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, FiniteFloat

from tidal_lens.cutting.arrows import arrow_lines, even_places
from tidal_lens.cutting.level_lines import label_places, level_lines
from tidal_lens.cutting.surface import Surface
from tidal_lens.errors import TooManyError
from tidal_lens.flow.case import Flow
from tidal_lens.study.value import Colour, QuantityName, Value, walk
from tidal_lens.study.words import number_text

_LENGTH = 1.6  # of the longest arrow, in spacings
_MOST_LEVELS = 200


@dataclass(frozen=True, eq=False)
class Dressed:
    """Lines that a dressing came to: points (n, 3), and where each begins; and texts at places (k, 3) beside them."""

    points: NDArray[np.float64]
    offsets: NDArray[np.int64]
    places: NDArray[np.float64] = field(default_factory=lambda: np.empty((0, 3)))
    texts: tuple[str, ...] = ()

    @staticmethod
    def none() -> Dressed:
        """Nothing."""
        return Dressed(np.empty((0, 3)), np.zeros(1, np.int64))

    @property
    def nbytes(self) -> int:
        """Memory that it takes."""
        return self.points.nbytes + self.offsets.nbytes + self.places.nbytes


class Dressing(Value):
    """What is drawn on a surface: ``colour`` and ``width`` [pixels] say how, all else what.

    ``make`` is called on job threads.
    """

    colour: Colour = "#1F2A33"
    width: Annotated[float, Field(ge=0.5, le=6.0)] = 1.4

    def needs(self) -> tuple[str, ...]:
        """Quantities that it shows."""
        return tuple(dict.fromkeys(walk(self, "quantity")))

    def shaped(self) -> Value:
        """What its lines rest on: not how they are drawn."""
        plain = type(self).model_fields
        return self.with_(colour=plain["colour"].default, width=plain["width"].default)

    def make(self, flow: Flow, surface: Surface, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """Its lines on a surface.

        Raises
        ------
        TidalLensError
            It cannot be had.
        """
        raise NotImplementedError


class Arrows(Dressing):
    """Arrows of a vector on an even grid; ``spacing`` is a share of the flow's size."""

    kind: Literal["arrows"] = "arrows"
    of: QuantityName = "velocity"
    spacing: Annotated[float, Field(ge=0.004, le=0.5)] = 0.03
    even: bool = False
    along: bool = False

    def make(self, flow: Flow, surface: Surface, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The arrows on a surface."""
        apart = self.spacing * flow.size
        places = even_places(surface, apart)
        vectors = values(self.of)
        found = np.column_stack([surface.stencil.apply(np.ascontiguousarray(vectors[:, c])) for c in range(3)])
        return Dressed(*arrow_lines(places, places.values(found), _LENGTH * apart, even=self.even, along=self.along))


class Contours(Dressing):
    """Contour lines of a scalar between two values: a number of them evenly apart, a step, or the ones listed."""

    kind: Literal["contours"] = "contours"
    width: Annotated[float, Field(ge=0.5, le=6.0)] = 1.0
    of: QuantityName
    by: Literal["number", "step", "list"] = "step"
    number: Annotated[int, Field(ge=1, le=200)] = 12
    step: Annotated[float, Field(gt=0.0, le=1e300)] = 1.0
    listed: Annotated[tuple[FiniteFloat, ...], Field(max_length=200)] = ()
    low: FiniteFloat
    high: FiniteFloat
    labels: bool = True

    def levels(self) -> tuple[float, ...]:
        """The values that have a line."""
        low, high = min(self.low, self.high), max(self.low, self.high)
        if self.by == "list":
            return tuple(sorted(set(self.listed)))
        if self.by == "number":
            return tuple(np.linspace(low, high, self.number + 2)[1:-1].tolist())
        first, last = np.ceil(low / self.step - 1e-9), np.floor(high / self.step + 1e-9)
        if not last - first < _MOST_LEVELS:
            raise TooManyError(f"A step of {self.step:g} from {low:g} to {high:g} gives more than {_MOST_LEVELS} lines.", "",
                                    "Choose a larger step or a smaller range.")
        return tuple(float(f"{n * self.step:.12g}") for n in np.arange(first, last + 1))

    def make(self, flow: Flow, surface: Surface, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The lines on a surface, and their labels."""
        levels = self.levels()
        points, edges, level = level_lines(surface, surface.stencil.apply(values(self.of)), levels)
        # There and back: the last pixel of a stroke is not drawn, and where two strokes end there would be a gap.
        strokes = points[:, [0, 1, 0]].reshape(-1, 3)
        offsets = np.arange(0, 3 * len(points) + 1, 3, dtype=np.int64)
        if not self.labels:
            return Dressed(strokes, offsets)
        size = float(np.linalg.norm(np.ptp(surface.points, axis=0))) if len(surface.points) else 0.0
        places, of = label_places(points, edges, level, size)
        return Dressed(strokes, offsets, places, tuple(number_text(levels[n]) for n in of))
