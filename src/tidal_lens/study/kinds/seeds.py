"""Sets of seeds: where lines begin. Each is a value of its own form; a card of lines has one or several."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, FiniteFloat, model_validator

from tidal_lens.cutting.planes import plane_axes, unit
from tidal_lens.cutting.surface import Surface
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities.smoothing import node_volumes
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.kinds.first_values import round_to, rounded
from tidal_lens.study.kinds.kind import Handle, See, Vec
from tidal_lens.study.value import LayerId, Name, QuantityName, Value, Vector
from tidal_lens.study.words import Words, number_text
from tidal_lens.tracing import seeds as laid
from tidal_lens.tracing.fill import MOST_CELLS, lattice

Count = Annotated[int, Field(ge=1, le=10_000)]
Length = Annotated[float, Field(gt=0.0, le=1e12)]
Line = tuple[Vec, bool]
_ARM = 0.12  # of the flow's size, from the middle of a plane or disc to the bead that turns it


class SeedSet(Value):
    """Some places, and how they are moved.

    ``title`` is what its form is called; ``fields`` are its settings in the order in which controls show them.
    """

    form: str
    title: ClassVar[str] = ""
    fields: ClassVar[tuple[str, ...]] = ()

    def places(self, see: See) -> Vec:
        """Where lines begin, shape (n, 3); on a job's thread.

        Raises
        ------
        TidalLensError
            There is nothing to lay them on.
        """
        del see
        return self.free()

    def free(self) -> Vec:
        """The same where they rest on nothing else; none where they do."""
        return np.empty((0, 3))

    @property
    def is_free(self) -> bool:
        """Whether they rest on nothing else."""
        return type(self).free is not SeedSet.free

    def tell(self, words: Words) -> str:
        """How many, and on what."""
        raise NotImplementedError

    def beads(self, flow: Flow) -> tuple[tuple[Handle, ...], tuple[Line, ...]]:
        """Beads that move it, and lines beside them."""
        del flow
        return (), ()

    def moved(self, handle: str, to: Vec, flow: Flow) -> Self:
        """With a bead at a place."""
        del handle, to, flow
        return self

    def typed(self, handle: str, value: Any) -> Self:
        """With a bead at what was typed."""
        return self.with_(**{handle: value})


class LineSeeds(SeedSet):
    """Evenly along a straight line, both ends included."""

    form: Literal["line"] = "line"
    title: ClassVar[str] = "Line"
    fields: ClassVar[tuple[str, ...]] = ("start", "end", "count")
    start: Vector
    end: Vector
    count: Count = 30

    def free(self) -> Vec:
        """Along the line."""
        return laid.seeds_on_line(self.start, self.end, self.count)

    def tell(self, _words: Words) -> str:
        """How many."""
        return f"{self.count} seeds"

    def beads(self, _flow: Flow) -> tuple[tuple[Handle, ...], tuple[Line, ...]]:
        """Both ends, and the middle."""
        ends = tuple(Handle(name, np.array(place), label=_told(place), value=place)
                     for name, place in (("start", self.start), ("end", self.end)))
        middle = Handle("middle", 0.5 * (np.array(self.start) + np.array(self.end)), small=True)
        return (*ends, middle), ((np.array([self.start, self.end]), False),)

    def moved(self, handle: str, to: Vec, _flow: Flow) -> Self:
        """One end, or the whole line by its middle."""
        if handle != "middle":
            return self.with_(**{handle: triple(to)})
        start, end = np.array(self.start), np.array(self.end)
        shift = to - 0.5 * (start + end)
        return self.with_(start=triple(start + shift, 9), end=triple(end + shift, 9))


class _Flat(SeedSet):
    """What lies about a centre across a direction."""

    centre: Vector
    direction: Vector = (1.0, 0.0, 0.0)
    count: Count = 60

    @model_validator(mode="after")
    def _has_direction(self) -> Self:
        if not 1e-150 < float(np.linalg.norm(self.direction)) < 1e150:
            raise ValueError("the direction needs a length")
        return self

    def axes(self) -> tuple[Vec, Vec, Vec, Vec]:
        """Its centre, its normal, and two directions in it."""
        normal = unit(self.direction)
        return np.array(self.centre), normal, *plane_axes(normal)

    def _beads(self, flow: Flow) -> tuple[Handle, Handle]:
        centre, normal, _right, _up = self.axes()
        return (Handle("centre", centre, label=_told(self.centre), value=self.centre),
                Handle("direction", centre + _ARM * flow.size * normal, small=True, turns=True))

    def moved(self, handle: str, to: Vec, flow: Flow) -> Self:
        """Its centre there, or turned or sized so that it goes there."""
        centre, normal, _right, _up = self.axes()
        if handle == "centre":
            return self.with_(centre=triple(to))
        if handle == "direction":
            off = to - centre
            gone = float(np.linalg.norm(off - _ARM * flow.size * normal)) < 1e-9 * flow.size
            return self if gone or not off.any() else self.with_(direction=rounded(unit(off), 1e-3))
        return self._sized(handle, to - centre, flow)

    def _sized(self, handle: str, off: Vec, flow: Flow) -> Self:
        raise NotImplementedError


class PlaneSeeds(_Flat):
    """An even grid on a rectangle."""

    form: Literal["plane"] = "plane"
    title: ClassVar[str] = "Plane"
    fields: ClassVar[tuple[str, ...]] = ("centre", "direction", "width", "height", "count")
    width: Length
    height: Length

    def free(self) -> Vec:
        """On the rectangle."""
        centre, _normal, right, up = self.axes()
        return laid.seeds_on_rectangle(centre, self.width * right, self.height * up, self.count)

    def tell(self, _words: Words) -> str:
        """How many."""
        return f"{len(self.free())} seeds on a plane"

    def beads(self, flow: Flow) -> tuple[tuple[Handle, ...], tuple[Line, ...]]:
        """Its middle, its normal, and a corner."""
        centre, normal, right, up = self.axes()
        sides = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)])[:, :, None] * np.array([self.width * right, self.height * up])
        corners = centre + 0.5 * sides.sum(axis=1)
        size = Handle("size", corners[2], label=f"{number_text(self.width)} × {number_text(self.height)}", turns=True)
        return (*self._beads(flow), size), ((corners, True), (np.array([centre, centre + _ARM * flow.size * normal]), False))

    def _sized(self, _handle: str, off: Vec, flow: Flow) -> Self:
        _centre, _normal, right, up = self.axes()
        least, step = 1e-4 * flow.size, 0.001 * flow.size
        return self.with_(width=max(round_to(2.0 * abs(float(off @ right)), step), least),
                          height=max(round_to(2.0 * abs(float(off @ up)), step), least))


class DiscSeeds(_Flat):
    """Evenly over a disc, or a ring of it: ``inner`` is the share of the radius where it begins, 1 for a circle."""

    form: Literal["disc"] = "disc"
    title: ClassVar[str] = "Disc, ring"
    fields: ClassVar[tuple[str, ...]] = ("centre", "direction", "radius", "inner", "count")
    radius: Length
    inner: Annotated[float, Field(ge=0.0, le=1.0)] = 0.0

    def free(self) -> Vec:
        """On the disc."""
        centre, _normal, right, up = self.axes()
        return laid.seeds_on_disc(centre, self.radius * right, self.radius * up, self.inner, self.count)

    def tell(self, _words: Words) -> str:
        """How many."""
        return f"{self.count} seeds on a {'circle' if self.inner == 1.0 else 'ring' if self.inner > 0.0 else 'disc'}"

    def beads(self, flow: Flow) -> tuple[tuple[Handle, ...], tuple[Line, ...]]:
        """Its middle, its normal, and its rim."""
        centre, normal, right, up = self.axes()
        turn = np.linspace(0.0, 2.0 * np.pi, 65)[:-1, None]
        circle = np.cos(turn) * right + np.sin(turn) * up
        rims = tuple((centre + r * self.radius * circle, True) for r in ((1.0, self.inner) if 0.0 < self.inner < 1.0 else (1.0,)))
        size = Handle("radius", centre + self.radius * up, label=f"radius {number_text(self.radius)}", value=self.radius, turns=True)
        return (*self._beads(flow), size), (*rims, (np.array([centre, centre + _ARM * flow.size * normal]), False))

    def _sized(self, _handle: str, off: Vec, flow: Flow) -> Self:
        _centre, normal, _right, _up = self.axes()
        radius = float(np.linalg.norm(off - (off @ normal) * normal))
        return self.with_(radius=max(round_to(radius, 0.0005 * flow.size), 1e-4 * flow.size))


class BallSeeds(SeedSet):
    """Evenly in a ball."""

    form: Literal["ball"] = "ball"
    title: ClassVar[str] = "Ball"
    fields: ClassVar[tuple[str, ...]] = ("centre", "radius", "count")
    centre: Vector
    radius: Length
    count: Count = 60

    def free(self) -> Vec:
        """In the ball."""
        return laid.seeds_in_ball(np.array(self.centre), self.radius, self.count)

    def tell(self, _words: Words) -> str:
        """How many."""
        return f"{self.count} seeds in a ball"

    def beads(self, _flow: Flow) -> tuple[tuple[Handle, ...], tuple[Line, ...]]:
        """Its middle and its size."""
        centre, turn = np.array(self.centre), np.linspace(0.0, 2.0 * np.pi, 65)[:-1]
        circles = [np.roll(np.column_stack([np.cos(turn), np.sin(turn), 0.0 * turn]), n, axis=1) for n in range(3)]
        up = np.array([0.0, 0.0, 1.0])
        return ((Handle("centre", centre, label=_told(self.centre), value=self.centre),
                 Handle("radius", centre + self.radius * up, up, None, f"radius {number_text(self.radius)}", self.radius)),
                tuple((centre + self.radius * circle, True) for circle in circles))

    def moved(self, handle: str, to: Vec, flow: Flow) -> Self:
        """Its middle there, or as large as goes there."""
        if handle == "centre":
            return self.with_(centre=triple(to))
        return self.with_(radius=max(round_to(abs(float(to[2] - self.centre[2])), 0.0005 * flow.size), 1e-4 * flow.size))


class PointSeeds(SeedSet):
    """Listed places: of a file, clicked or typed."""

    form: Literal["points"] = "points"
    title: ClassVar[str] = "Points"
    fields: ClassVar[tuple[str, ...]] = ("points",)
    points: Annotated[tuple[Vector, ...], Field(max_length=10_000)] = ()
    source: Name = ""

    def free(self) -> Vec:
        """The list."""
        return np.array(self.points, np.float64).reshape(-1, 3)

    def tell(self, _words: Words) -> str:
        """How many."""
        return f"{len(self.points)} seeds{' from ' + self.source if self.source else ''}"

    def beads(self, _flow: Flow) -> tuple[tuple[Handle, ...], tuple[Line, ...]]:
        """Each of a few."""
        if len(self.points) > _FEW or self.source:
            return (), ()
        return tuple(Handle(f"points {n}", np.array(p), label=_told(p) if n == len(self.points) - 1 else "", value=p, small=True)
                     for n, p in enumerate(self.points)), ()

    def moved(self, handle: str, to: Vec, _flow: Flow) -> Self:
        """One of them there."""
        return self.typed(handle, triple(to))

    def typed(self, handle: str, value: Any) -> Self:
        """One of them at three coordinates."""
        number = int(handle.split()[-1])
        return self.with_(points=tuple(value if n == number else p for n, p in enumerate(self.points)))


class CardSeeds(SeedSet):
    """Evenly by area over another card, ``off`` it by a length along its normals."""

    form: Literal["card"] = "card"
    title: ClassVar[str] = "On a card"
    fields: ClassVar[tuple[str, ...]] = ("card", "off", "count")
    card: LayerId = ""
    off: FiniteFloat = 0.0
    count: Count = 100

    def places(self, see: See) -> Vec:
        """Over the card."""
        if not self.card:
            raise StudyError("No card is chosen for the seeds.", "", "Choose one.")
        surface = see.made(self.card).geometry
        if not isinstance(surface, Surface):
            raise StudyError("Its seeds lie on a surface, but the card that it names is none.", "", "Choose another card.")
        return _beside(see, surface, self.count, self.off)

    def tell(self, words: Words) -> str:
        """How many, on which card."""
        return f"{self.count} seeds on {words.card(self.card) if self.card else 'no card yet'}"


class BoundarySeeds(SeedSet):
    """Evenly by area over boundaries, ``off`` them by a length into the flow; on the ``rear`` share of their length along the wind."""

    form: Literal["boundary"] = "boundary"
    title: ClassVar[str] = "On boundaries"
    fields: ClassVar[tuple[str, ...]] = ("boundaries", "rear", "off", "count")
    boundaries: tuple[Name, ...]
    rear: Annotated[float, Field(gt=0.0, le=1.0)] = 1.0
    off: FiniteFloat = 0.0
    count: Count = 200

    def places(self, see: See) -> Vec:
        """Over the boundaries."""
        surface = boundary_surface(see.flow, self.boundaries, see.token)
        if len(surface.faces) == 0:
            raise StudyError("There are no faces of the boundaries on which its seeds lie.", "", "Tick others.")
        if self.rear < 1.0:
            along = surface.points[surface.faces].mean(axis=1) @ unit(see.flow.reference.velocity)
            surface = replace(surface, faces=surface.faces[along >= along.max() - self.rear * np.ptp(along)])
        return _beside(see, surface, self.count, self.off)

    def tell(self, _words: Words) -> str:
        """How many, on which boundaries."""
        return f"{self.count} seeds on {', '.join(self.boundaries[:2]) or 'no boundary'}{' …' if len(self.boundaries) > 2 else ''}"


class GridSeeds(SeedSet):
    """Nodes of a structured block: of each index from first to last every so many."""

    form: Literal["grid"] = "grid"
    title: ClassVar[str] = "By grid index"
    fields: ClassVar[tuple[str, ...]] = ("block", "first", "last", "every")
    block: Name
    first: tuple[int, int, int] = (0, 0, 0)
    last: tuple[int, int, int] = (0, 10**6, 10**6)
    every: Annotated[int, Field(ge=1, le=10**6)] = 1

    def places(self, see: See) -> Vec:
        """Places of the nodes."""
        block = next((b for b in see.flow.blocks if b.name == self.block), None)
        if block is None or not isinstance(block.grid, StructuredGrid):
            raise StudyError(f"There is no structured block {self.block!r}.", see.flow.title, "Choose another block.")
        ranges = zip(self.first, self.last, block.grid.dims, strict=True)
        i, j, k = (np.arange(max(a, 0), min(b, n - 1) + 1, self.every) for a, b, n in ranges)
        ni, nj, _nk = block.grid.dims
        nodes = (i[None, None, :] + ni * (j[None, :, None] + nj * k[:, None, None])).ravel()
        if len(nodes) > _MOST:
            raise StudyError(f"These are {len(nodes):,} nodes.", "", f"Take fewer than {_MOST:,}: narrow the indices, or every so many.")
        return np.asarray(see.flow.points[block.points][nodes], np.float64)

    def tell(self, _words: Words) -> str:
        """Which nodes."""
        return f"seeds at nodes of {self.block}"


def _beside(see: See, surface: Surface, count: int, off: float) -> Vec:
    """Seeds over a surface, off it along its normals; the other way where that leads out of the flow and the other way does not."""
    there = laid.seeds_on_faces(surface.points, surface.faces, count, off)
    if off == 0.0 or len(there) == 0:
        return there
    other = laid.seeds_on_faces(surface.points, surface.faces, count, -off)
    mesh = mesh_of(see.flow, see.token)
    turned = ~mesh.locate(there)[1] & mesh.locate(other)[1]
    return np.where(turned[:, None], other, there)


class FillSeeds(SeedSet):
    """As many as it takes that a line comes by everywhere, or where a quantity is in a range, a ``spacing`` apart; 0 lets the data choose.

    They are chosen while lines are followed, those of the other sets first: see :func:`tidal_lens.tracing.fill.fill`.
    """

    form: Literal["fill"] = "fill"
    title: ClassVar[str] = "Fill"
    fields: ClassVar[tuple[str, ...]] = ("spacing", "count", "where")
    spacing: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0
    count: Count = 400
    quantity: QuantityName = ""
    keep: Literal["above", "below"] = "below"
    value: FiniteFloat = 0.0

    def candidates(self, see: See, surface: Surface | None) -> tuple[Vec, float]:
        """Where lines may begin, and the spacing: middles of cells in the flow, or places evenly over a surface."""
        if surface is not None:
            return self._over(see, surface)
        points, wanted = see.flow.points, np.ones(see.flow.n_points, dtype=bool)
        if self.quantity:
            wanted = self._meets(see.values(self.quantity))
        if not wanted.any():
            return np.empty((0, 3)), self.spacing or 1.0
        volume = float(node_volumes(see.flow, see.token)[wanted].sum())
        spacing = self.spacing or (volume / _CELLS) ** (1.0 / 3.0)
        low, high = points[wanted].min(axis=0), points[wanted].max(axis=0)
        if float(np.prod(np.maximum((high - low) / spacing, 1.0))) > MOST_CELLS:
            raise StudyError(f"A spacing of {spacing:g} is too small to fill the flow with.", "", "Choose a larger one.")
        places = lattice(low, high, spacing)
        stencil, inside = mesh_of(see.flow, see.token).locate(places, token=see.token)
        if self.quantity:
            inside = inside & self._meets(stencil.apply(see.values(self.quantity)))
        return np.asarray(places[inside]), spacing

    def _over(self, see: See, surface: Surface) -> tuple[Vec, float]:
        spacing = self.spacing or (surface.area / _PATCHES) ** 0.5
        many = surface.area / spacing**2
        if many > MOST_CELLS:
            raise StudyError(f"A spacing of {spacing:g} is too small to fill the surface with.", "", "Choose a larger one.")
        places = laid.seeds_on_faces(surface.points, surface.faces, max(int(2.0 * many), 1))
        if self.quantity:
            stencil, inside = mesh_of(see.flow, see.token).locate(places, slack=0.5, token=see.token)
            places = places[inside & self._meets(stencil.apply(see.values(self.quantity)))]
        return places, spacing

    def _meets(self, values: NDArray[Any]) -> NDArray[np.bool_]:
        with np.errstate(invalid="ignore"):
            return np.asarray(values >= self.value if self.keep == "above" else values <= self.value)

    def tell(self, words: Words) -> str:
        """How close, and where."""
        bound = words.values(self.quantity, (self.value,))
        where = f" where {words.quantity(self.quantity)} {'≥' if self.keep == 'above' else '≤'} {bound}"
        return f"filled{' every ' + words.number(self.spacing) if self.spacing else ''}{where if self.quantity else ''}"


_FEW, _MOST = 60, 20_000
_CELLS, _PATCHES = 400, 900  # that a flow or a surface is filled in, where no spacing is said
SETS: tuple[type[SeedSet], ...] = (LineSeeds, PointSeeds, PlaneSeeds, DiscSeeds, BallSeeds, CardSeeds, BoundarySeeds, GridSeeds,
                                   FillSeeds)
AnySeeds = Annotated[LineSeeds | PointSeeds | PlaneSeeds | DiscSeeds | BallSeeds | CardSeeds | BoundarySeeds | GridSeeds | FillSeeds,
                     Field(discriminator="form")]


def _told(place: Vector) -> str:
    return ", ".join(number_text(c) for c in place)


def triple(point: Vec, digits: int = 17) -> Vector:
    """Three coordinates of so many digits."""
    x, y, z = (float(f"{c:.{digits}g}") for c in point)
    return x, y, z
