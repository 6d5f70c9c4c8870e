"""What is drawn on a surface, on lines or at points besides their paint.

Each is a part of the look, worked out only where it is on, and kept by its own basis.

To add one: a :class:`Dressing` here, a field of :class:`tidal_lens.study.looks.SurfaceLook`, its controls, and how its lines are drawn.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, FiniteFloat, model_validator

from tidal_lens.cutting.arrows import (
    Places,
    across,
    along_lines,
    arrow_lines,
    bent_arrows,
    even_places,
    part_of,
    paths_from,
    places_at,
    shaft_lengths,
    thinned,
)
from tidal_lens.cutting.level_lines import label_places, level_lines
from tidal_lens.cutting.points import Points
from tidal_lens.cutting.surface import Surface, point_normals
from tidal_lens.errors import MissingQuantityError, TooManyError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.extent import extent
from tidal_lens.quantities.gradients import flow_gradient
from tidal_lens.quantities.names import OWN
from tidal_lens.sampling.mesh import TurnedStencil, mesh_of
from tidal_lens.study.geometry import Geometry, own_values, own_vectors
from tidal_lens.study.value import Colour, QuantityName, Value, walk
from tidal_lens.tracing.solids import even_marks, frames, refined, ribbons, tubes, turning
from tidal_lens.tracing.streamlines import Lines

_LENGTH = 1.6  # of the longest arrow, in spacings
_MOST_LEVELS = 200
_MOST_MARKS = 200_000


@dataclass(frozen=True, eq=False)
class Dressed:
    """Lines that a dressing came to: points (n, 3), where each begins, and values (n,) that colour them; numbers at places (k, 3)."""

    points: NDArray[np.float64]
    offsets: NDArray[np.int64]
    values: NDArray[np.float64] | None = None
    places: NDArray[np.float64] = field(default_factory=lambda: np.empty((0, 3)))
    numbers: tuple[float, ...] = ()
    of: str = ""  # the quantity that they are values of
    vectors: NDArray[np.float64] | None = None  # at the surface's points, of a texture
    faces: NDArray[np.int64] | None = None  # of a solid that takes the place of lines: (m, 4)
    owners: NDArray[np.int64] | None = None  # the point of its line that each of its points is about
    mixed: tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float64]] | None = None  # of marks: between which points of lines

    @staticmethod
    def none() -> Dressed:
        """Nothing."""
        return Dressed(np.empty((0, 3)), np.zeros(1, np.int64))

    @property
    def nbytes(self) -> int:
        """Memory that it takes."""
        arrays = (self.points, self.offsets, self.places, self.values, self.vectors, self.faces, self.owners)
        return sum(a.nbytes for a in arrays if a is not None)


class Dressing(Value):
    """What is drawn on a surface: ``colour`` and ``width`` [pixels] say how, all else what.

    ``make`` is called on job threads.
    """

    colour: Colour = "#1F2A33"
    width: Annotated[float, Field(ge=0.5, le=6.0)] = 1.4

    def needs(self) -> tuple[str, ...]:
        """Quantities that it shows."""
        return tuple(dict.fromkeys(walk(self, "quantity")))

    def coloured_by(self) -> str:
        """The quantity that colours its lines; nothing where they are plain."""
        return ""

    def shaped(self) -> Value:
        """What its lines rest on: not how they are drawn."""
        plain = type(self).model_fields
        return self.with_(colour=plain["colour"].default, width=plain["width"].default)

    def make(self, flow: Flow, on: Geometry, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """Its lines on a surface, along lines or at points.

        Raises
        ------
        TidalLensError
            It cannot be had.
        """
        raise NotImplementedError


class Arrows(Dressing):
    """Arrows of a vector on an even grid.

    Attributes
    ----------
    spacing : float
        Share of the flow's size.
    part : str
        The whole vector, or only what lies along the surface or across it.
    bent : bool
        Whether they follow the flow rather than stand straight.
    scale : float
        By which they are longer than they would be.
    colour_by : str
        The quantity that colours them; plain for none.
    only, low, high, slope
        Drawn only where a quantity, or with ``slope`` the size of its gradient, is between two values.
    at : str
        Evenly apart, or at all points, and at the seeds of lines.
    """

    kind: Literal["arrows"] = "arrows"
    of: QuantityName = "velocity"
    spacing: Annotated[float, Field(ge=0.004, le=0.5)] = 0.03
    even: bool = False
    part: Literal["true", "along", "across"] = "true"
    bent: bool = False
    scale: Annotated[float, Field(ge=0.1, le=10.0)] = 1.0
    colour_by: QuantityName = ""
    only: QuantityName = ""
    low: FiniteFloat = 0.0
    high: FiniteFloat = 1.0
    slope: bool = False
    at: Literal["even", "all"] = "even"

    def coloured_by(self) -> str:
        """What colours the arrows."""
        return self.colour_by

    @model_validator(mode="before")
    @classmethod
    def _of_along(cls, raw: Any) -> Any:
        """Earlier studies say whether only the part along the surface is drawn."""
        if isinstance(raw, dict) and "along" in raw and "part" not in raw:
            return {**{k: v for k, v in raw.items() if k != "along"}, "part": "along" if raw["along"] is True else "true"}
        return raw

    def make(self, flow: Flow, on: Geometry, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The arrows on a surface, along lines or at points."""
        apart = self.spacing * flow.size
        places = self._places(on, apart)
        if len(places.points) == 0:
            return Dressed.none()
        own = own_vectors(on).get(self.of[len(OWN):]) if self.of.startswith(OWN) else None
        if own is None and self.of.startswith(OWN):
            raise MissingQuantityError(f"There is no {self.of[len(OWN):]} to draw arrows of.", "", "Choose another vector.")
        vectors = values(self.of) if own is None else own

        def at_vertices(name: str) -> NDArray[np.float64]:
            if name.startswith(OWN):
                there = own_values(on).get(name[len(OWN):])
                return np.full(len(places.points), np.nan) if there is None else places.values(np.asarray(there, np.float64))
            return places.values(on.stencil.apply(values(name)))

        found = places.of_nodes(on.stencil, vectors) if own is None else places.values(own.astype(np.float64))
        if not isinstance(on, Surface):
            places = replace(places, normals=across(found))
        shown = part_of(found, places.normals, self.part if isinstance(on, Surface) else "true")
        lengths = shaft_lengths(shown, self.scale * _LENGTH * apart, even=self.even)
        if self.only:
            measured = self._measured(flow, on, places, values)
            lengths = np.where((measured >= self.low) & (measured <= self.high), lengths, 0.0)
        if self.bent and own is None and not isinstance(on.stencil, TurnedStencil):  # what lies elsewhere has nothing to follow there
            paths = paths_from(places.points, lengths, self._followed(flow, vectors, places))
            points, offsets, owners = bent_arrows(paths, places.normals, lengths)
        else:
            points, offsets, owners = arrow_lines(places.points, shown, places.normals, lengths)
        colours = at_vertices(self.colour_by)[owners] if self.colour_by else None
        return Dressed(points, offsets, colours)

    def _places(self, on: Geometry, apart: float) -> Places:
        if isinstance(on, Surface):
            return even_places(on, apart)
        if isinstance(on, Lines) and self.at == "even":
            return places_at(on.points, *along_lines(on.points, on.offsets, apart))
        rows = thinned(on.points, apart) if isinstance(on, Points) and self.at == "even" else np.arange(len(on.points))
        if isinstance(on, Lines):
            rows = on.seed_rows
        return places_at(on.points, rows, rows, np.zeros(len(rows)))

    def _measured(self, flow: Flow, on: Geometry, places: Places, values: Callable[[str], NDArray[Any]]) -> NDArray[np.float64]:
        if not self.slope:
            return places.values(on.stencil.apply(values(self.only)))
        grad = flow_gradient(flow, np.ascontiguousarray(values(self.only))[:, None])[:, 0]
        return places.values(on.stencil.apply(np.linalg.norm(grad, axis=1)))

    def _followed(self, flow: Flow, vectors: NDArray[Any], places: Places) -> Callable[[NDArray[np.float64]], NDArray[np.float64]]:
        mesh = mesh_of(flow)
        def direction(at: NDArray[np.float64]) -> NDArray[np.float64]:
            stencil, _ = mesh.locate(at)
            v = part_of(stencil.apply_vectors(vectors), places.normals, self.part)
            size = np.linalg.norm(v, axis=1)[:, None]
            return np.asarray(np.divide(v, size, out=np.zeros_like(v), where=size > 0.0))

        return direction


def _lines(on: Geometry) -> Lines:
    assert isinstance(on, Lines)  # the looks of all else have no such dressing
    return on


def _surface(on: Geometry) -> Surface:
    assert isinstance(on, Surface)  # the looks of all else have no such dressing
    return on


class Texture(Dressing):
    """Streaks along a vector: ``length`` and ``grain`` in pixels, ``contrast`` and whether they run say how they are drawn."""

    kind: Literal["texture"] = "texture"
    of: QuantityName = "velocity"
    length: Annotated[int, Field(ge=4, le=80)] = 18
    grain: Annotated[float, Field(ge=1.0, le=8.0)] = 1.0
    contrast: Annotated[float, Field(ge=0.05, le=1.0)] = 0.45
    running: bool = False

    def shaped(self) -> Value:
        """The vector alone: all else is drawn anew from it."""
        return Texture(of=self.of)

    def make(self, flow: Flow, on: Geometry, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The part of the vector along the surface, at its points."""
        surface = _surface(on)
        own = surface.stencil.apply_vectors(values(self.of))
        return replace(Dressed.none(), vectors=part_of(own, point_normals(surface), "along"))


class Tubes(Dressing):
    """Tubes about lines: ``radius`` as a share of the flow's size, of the greatest where a quantity makes them thick."""

    kind: Literal["tubes"] = "tubes"
    radius: Annotated[float, Field(ge=1e-4, le=0.05)] = 0.002
    radius_by: QuantityName = ""

    def make(self, flow: Flow, on: Geometry, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The tubes."""
        lines = _lines(on)
        if not lines.n_lines:
            return replace(Dressed.none(), faces=np.empty((0, 4), np.int64), owners=np.empty(0, np.int64))
        radii = np.full(len(lines.points), self.radius * flow.size)
        if self.radius_by:
            own = own_values(on).get(self.radius_by[len(OWN):]) if self.radius_by.startswith(OWN) else None
            size = np.abs(lines.stencil.apply(values(self.radius_by)) if own is None else np.asarray(own, np.float64))
            top = float(np.quantile(size[np.isfinite(size)], 0.99)) if np.isfinite(size).any() else 0.0
            radii *= np.clip(np.nan_to_num(size / top if top > 0.0 else size), 0.1, 1.5)
        points, faces, owners = tubes(lines.points, lines.offsets, radii)
        return replace(Dressed.none(), points=points, faces=faces, owners=owners)


class Ribbons(Dressing):
    """Ribbons along lines, which turn as the flow does: at half the streamwise vorticity; ``wide`` as a share of the flow's size."""

    kind: Literal["ribbons"] = "ribbons"
    wide: Annotated[float, Field(ge=1e-4, le=0.1)] = 0.006
    turning: bool = True

    def needs(self) -> tuple[str, ...]:
        """Vorticity, where they turn."""
        return ("vorticity",) if self.turning else ()

    def make(self, flow: Flow, on: Geometry, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The ribbons."""
        lines = _lines(on)
        if not lines.n_lines:
            return replace(Dressed.none(), faces=np.empty((0, 4), np.int64), owners=np.empty(0, np.int64))
        tangents, *_ = frames(lines.points, lines.offsets)
        turned = np.zeros(len(lines.points))
        if self.turning:
            turned = turning(tangents, lines.offsets, lines.time, lines.stencil.apply_vectors(values("vorticity")))
        middle, offsets, turned, of = refined(lines.points, lines.offsets, turned)
        _, normals, beside = frames(middle, offsets)
        points, faces, owners = ribbons(middle, offsets, self.wide * flow.size, turned, (normals, beside))
        return replace(Dressed.none(), points=points, faces=faces, owners=of[owners])


class Marks(Dressing):
    """Balls along lines, evenly apart in time or length from the seed, still or ``running``; ``size`` is a share of the flow's size."""

    kind: Literal["marks"] = "marks"
    by: Literal["time", "length"] = "time"
    every: Annotated[float, Field(gt=0.0, le=1e12)]
    size: Annotated[float, Field(ge=1e-4, le=0.05)] = 0.003
    running: bool = False

    def shaped(self) -> Value:
        """Where they are, not how large."""
        return Marks(by=self.by, every=self.every)

    def make(self, flow: Flow, on: Geometry, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The marks."""
        lines = _lines(on)
        along = lines.time if self.by == "time" else lines.along
        reach = float(np.nanmax(np.abs(along), initial=0.0))
        if reach / self.every * max(lines.n_lines, 1) > _MOST_MARKS:
            raise TooManyError(f"Every {self.every:g} there would be more than {_MOST_MARKS:,} marks.", "", "Choose a larger distance.")
        a, b, t = even_marks(along, lines.offsets, self.every)
        points = lines.points[a] + t[:, None] * (lines.points[b] - lines.points[a])
        return replace(Dressed.none(), points=points, mixed=(a, b, t))


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

    def make(self, flow: Flow, on: Geometry, values: Callable[[str], NDArray[Any]]) -> Dressed:
        """The lines on a surface, and their labels."""
        levels, surface = self.levels(), _surface(on)
        own = own_values(on).get(self.of[len(OWN):]) if self.of.startswith(OWN) else None
        if own is None and self.of.startswith(OWN):
            raise MissingQuantityError(f"There is no {self.of[len(OWN):]} to draw lines of.", "", "Choose another quantity.")
        points, edges, level = level_lines(surface, surface.stencil.apply(values(self.of)) if own is None else np.asarray(own), levels)
        # There and back: the last pixel of a stroke is not drawn, and where two strokes end there would be a gap.
        strokes = points[:, [0, 1, 0]].reshape(-1, 3)
        offsets = np.arange(0, 3 * len(points) + 1, 3, dtype=np.int64)
        if not self.labels:
            return Dressed(strokes, offsets)
        low, high = extent(surface.points) if len(surface.points) else (0.0, 0.0)
        size = float(np.linalg.norm(high - low))
        places, of = label_places(points, edges, level, size)
        return Dressed(strokes, offsets, None, places, tuple(levels[n] for n in of), self.of)
