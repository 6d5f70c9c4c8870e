"""Streamlines from sets of seeds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from tidal_lens.cutting.planes import line_in_box, unit
from tidal_lens.cutting.surface import Surface
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities.names import OWN
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import mesh_of, ready_mesh
from tidal_lens.study.dressings import Marks
from tidal_lens.study.kinds.fates import fate_tables, lines_table
from tidal_lens.study.kinds.first_values import best_name, round_to, rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.seeds import (
    AnySeeds,
    BallSeeds,
    BoundarySeeds,
    CardSeeds,
    DiscSeeds,
    FillSeeds,
    GridSeeds,
    LineSeeds,
    PlaneSeeds,
    PointSeeds,
)
from tidal_lens.study.looks import LineLook
from tidal_lens.study.value import LayerId, QuantityName, Value, Vector
from tidal_lens.study.words import Words
from tidal_lens.tracing import seeds as laid
from tidal_lens.tracing.fill import fill
from tidal_lens.tracing.particles import AtWalls, Heat, Law, Particle, fly
from tidal_lens.tracing.streamlines import Lines, TraceSettings, trace_lines
from tidal_lens.tracing.surface_lines import lines_on
from tidal_lens.tracing.through_sides import through_sides
from tidal_lens.tracing.unsteady import Moment, Releases, Steps, pathlines, streaklines, timelines
from tidal_lens.work import Token

_TRIED = 201  # places looked at along a first line
_SHARES = (1.0, 0.8, 0.6, 0.5, 0.4, 0.3, 0.2, 0.1)  # of a first size, until all of it is inside
MOST_TIGHTER = 4
_SHEAR, _OIL = "wall-shear", 700  # how many lines an oil film is of at first
_LISTED = 10_000  # seeds that may be listed
_RELEASES, _ROWS = 60, 8  # of a streakline, and rows of timelines, where nothing is said
_THIN = 0.02  # of the flow's size: so thick at most is a planar one
_SPACED = 0.01  # of the flow's size: how near particles of a streakline or timeline are to each other
_SHOWN = 200  # seeds drawn at most
_SPACE, _OVER, _OTHER = "Seeds in space", "Seeds over things", "Other lines"  # captions over its tiles


class HeatSetting(Value):
    """Heat of particles: see :class:`tidal_lens.tracing.particles.Heat`; no mass is lost where ``boils`` is 0."""

    capacity: Annotated[float, Field(gt=0.0, le=1e9)] = 4186.0
    temperature: Annotated[float, Field(gt=0.0, le=1e6)] = 288.15
    boils: Annotated[float, Field(ge=0.0, le=1e6)] = 0.0
    latent: Annotated[float, Field(gt=0.0, le=1e12)] = 2.257e6


class ParticleSetting(Value):
    """Particles with mass: see :class:`tidal_lens.tracing.particles.Particle`; they begin with the flow, or at a typed velocity."""

    law: Law = "schiller-naumann"
    diameter: Annotated[float, Field(gt=0.0, le=1e6)] = 5e-5
    density: Annotated[float, Field(gt=0.0, le=1e9)] = 1000.0
    ballistic: Annotated[float, Field(gt=0.0, le=1e12)] = 1.0
    gravity: Vector = (0.0, 0.0, -9.80665)
    start: Literal["flow", "typed"] = "flow"
    velocity: Vector = (0.0, 0.0, 0.0)
    walls: AtWalls = "stop"
    restitution: Annotated[float, Field(ge=0.0, le=1.0)] = 0.8
    heat: HeatSetting | None = None

    def needs(self) -> tuple[str, ...]:
        """What it feels of the gas."""
        if self.law == "ballistic":
            return "velocity", "density"
        return "velocity", "density", "viscosity", *(("static-temperature", "heat-conductivity") if self.heat is not None else ())


class StreamShape(Shape):
    """Sets of seeds, and how lines are followed from them.

    Attributes
    ----------
    seeds : tuple
        See :mod:`tidal_lens.study.kinds.seeds`.
    of : str
        The vector that is followed.
    particle : ParticleSetting or None
        Particles with mass, in the place of lines of the vector.
    follow, on_card
        Through space, along all walls of the flow, or along the surface of another card.
    in_time
        Lines of the moment on the table, or pathlines, streaklines or timelines through the steps of a series; these go through space.
    every
        From one release of particles to the next, for streaklines and timelines; chosen for the series where it is 0.
    tighter
        How many times lines that are doubtful are followed again, each time with a tenth of the tolerance.
    direction, max_length, max_time, max_steps, tolerance
        As of :class:`tidal_lens.tracing.streamlines.TraceSettings`; no limit of time where it is 0.
    """

    kind: Literal["streamlines"] = "streamlines"
    geometry: ClassVar[Sort] = "lines"
    of_sides: ClassVar[Literal["", "lines", "cuts"]] = "lines"
    seeds: Annotated[tuple[AnySeeds, ...], Field(min_length=1, max_length=20)]
    of: QuantityName = "velocity"
    particle: ParticleSetting | None = None
    follow: Literal["space", "walls", "card"] = "space"
    on_card: LayerId = ""
    in_time: Literal["moment", "pathlines", "streaklines", "timelines"] = "moment"
    every: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0
    direction: Literal["forward", "backward", "both"] = "both"
    max_length: Annotated[float, Field(gt=0.0, le=1e12)] = 1e3
    max_time: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0
    max_steps: Annotated[int, Field(ge=10, le=100_000)] = 4000
    tolerance: Annotated[float, Field(ge=1e-8, le=0.1)] = 1e-4
    tighter: Annotated[int, Field(ge=0, le=MOST_TIGHTER)] = 0
    quick: Annotated[bool, Field(exclude=True)] = False

    @model_validator(mode="before")
    @classmethod
    def _of_one_line(cls, raw: Any) -> Any:
        """Earlier studies know one line of seeds, in whose place a list or a card could stand."""
        if not isinstance(raw, dict) or "start" not in raw or "seeds" in raw:
            return raw
        own = {k: raw[k] for k in ("start", "end", "count", "listed", "source", "seeded_on") if k in raw}
        count = {"count": own["count"]} if "count" in own else {}
        first: dict[str, Any] = {"form": "line", "start": own["start"], "end": own.get("end", own["start"]), **count}
        if own.get("seeded_on"):
            first = {"form": "card", "card": own["seeded_on"], **count}
        elif own.get("listed"):
            first = {"form": "points", "points": own["listed"], "source": own.get("source", "")}
        return {**{k: v for k, v in raw.items() if k not in own}, "seeds": (first,)}

    @property
    def lying(self) -> bool:
        """Whether its lines lie on a surface."""
        return self.follow != "space" and self.particle is None

    @property
    def unsteady(self) -> bool:
        """Whether its lines go through the steps of a series."""
        return self.in_time != "moment" and self.follow == "space" and self.particle is None

    def needs(self) -> tuple[str, ...]:
        """The vector, or what particles feel; what a fill goes by."""
        own: tuple[str, ...] = (self.of,)
        if self.particle is not None:
            own = self.particle.needs()
        return tuple(dict.fromkeys([*own, *(part.quantity for part in self.seeds if isinstance(part, FillSeeds) and part.quantity)]))

    def _surface(self, see: See) -> Surface:
        if self.follow == "walls":
            surface: object = boundary_surface(see.flow, tuple(b.name for b in see.flow.boundaries if b.solid), see.token)
        else:
            if not self.on_card:
                raise StudyError("No card is chosen along which its lines go.", "", "Choose one.")
            surface = see.made(self.on_card).geometry
        if not isinstance(surface, Surface):
            raise StudyError("Its lines lie on a surface, but the card that it names is none.", "", "Choose another card.")
        return surface

    def make(self, see: See) -> Made:
        """The lines."""
        surface = self._surface(see) if self.lying else None
        seeds = np.concatenate([part.places(see) for part in self.seeds])
        for part in self.seeds if not self.quick else ():
            if isinstance(part, FillSeeds):
                more = self._follower(see, surface, quick=True)
                taken = more(seeds) if len(seeds) else None
                places, spacing = part.candidates(see, surface)
                seeds = np.concatenate([seeds, fill(places, spacing, more, taken, part.count, see.token)])
        lines = (self._through_time(see, seeds) if self.unsteady
                 else self._follower(see, surface, quick=self.quick, token=see.token)(seeds))
        lines = self._tightened(see, lines, seeds)
        _ = lines.census, lines.lengths, lines.doubtful  # worked out here, where nobody waits
        return Made(lines, seeds, fate_tables(see.flow, lines) if self.particle is not None else (lines_table(lines),))

    @property
    def may_be_tighter(self) -> bool:
        """Whether doubtful ones among its lines can be followed more exactly than the rest."""
        return self._in_space and self.tighter < MOST_TIGHTER

    @property
    def _in_space(self) -> bool:
        """Whether its lines are those of the moment, through space."""
        return not (self.unsteady or self.lying or self.particle is not None)

    def _tightened(self, see: See, lines: Lines, seeds: Vec) -> Lines:
        for times in range(1, self.tighter + 1 if self._in_space and not self.quick else 1):
            which = lines.doubtful
            if len(which) == 0:
                break
            finer = self.model_copy(update={"tolerance": self.tolerance * 0.1**times, "max_steps": min(self.max_steps * 4, 100_000)})
            again = finer._follower(see, None, quick=False, token=see.token)(seeds[lines.seeds[which]])
            lines = lines.with_lines(which[again.seeds], again)
        return lines

    def _follower(self, see: See, surface: Surface | None, *, quick: bool, token: Token | None = None) -> Callable[[Vec], Lines]:
        """What follows lines from seeds."""
        if self.particle is not None:
            return self._flying(see, self.particle, quick=quick, token=token)
        values = see.values(self.of)
        if surface is not None:
            vectors = surface.stencil.apply_vectors(values)
            return lambda seeds: lines_on(surface, vectors, seeds, direction=self.direction, max_length=self.max_length,
                                          max_points=self.max_steps, token=token)
        settings = TraceSettings(self.direction, self.max_length, 1e-2 if quick else self.tolerance, max_cells=5.0 if quick else 3.5,
                                 max_points=self.max_steps, max_time=self.max_time or np.inf)
        mesh, periodic = mesh_of(see.flow, see.token), see.periodic

        def follow(seeds: Vec, how: TraceSettings = settings) -> Lines:
            return trace_lines(see.flow, mesh, values, seeds, how, token)

        if periodic is None:
            return follow
        return lambda seeds: through_sides(follow, see.flow, mesh, periodic, seeds, settings)

    def _through_time(self, see: See, seeds: Vec) -> Lines:
        times = see.flow.times
        if len(times) < 2:
            raise StudyError(f"{self.in_time.capitalize()} go through the steps of a series, but this result is a single moment.",
                             str(see.flow.path), "Open all its steps together, or choose lines of this moment.")
        own, tolerance, max_time = mesh_of(see.flow, see.token), 1e-2 if self.quick else self.tolerance, self.max_time or np.inf
        kept: dict[int, Moment] = {}

        def at(step: int) -> Moment:
            if step not in kept:
                see.token.check()
                there = see.at_step(step)
                mesh = own if there.flow.mesh_number == see.flow.mesh_number else mesh_of(there.flow, see.token)
                for old in [n for n in kept if n != see.flow.step][:-1]:  # no more than three at a time
                    del kept[old]
                kept[step] = Moment.of(times[step], mesh, there.values(self.of))
            return kept[step]

        steps = Steps(see.flow, times, see.flow.step, at)
        if self.in_time == "pathlines":
            return pathlines(steps, seeds, direction=self.direction, max_time=max_time, max_points=self.max_steps,
                             tolerance=tolerance, token=see.token)
        back = min(times[see.flow.step] - times[0], max_time)
        every = self.every or max(back, times[1] - times[0]) / (_RELEASES if self.in_time == "streaklines" else _ROWS)
        how = Releases(every, 0.0 if self.quick else see.flow.size * _SPACED, max_time, tolerance)
        if self.in_time == "streaklines":
            return streaklines(steps, seeds, how, see.token)
        sets = np.concatenate([np.full(n, k) for k, n in enumerate(self._sizes(len(seeds)))])
        return timelines(steps, seeds, laid.rows_of(seeds, sets), how, see.token)

    def _sizes(self, total: int) -> list[int]:
        """How many seeds each set is of; all in the first where that cannot be told."""
        sizes = [len(part.free()) if part.is_free else -1 for part in self.seeds]
        if sizes.count(-1) == 1:
            sizes[sizes.index(-1)] = total - sum(n for n in sizes if n >= 0)
        return sizes if -1 not in sizes and sum(sizes) == total else [total]

    def _flying(self, see: See, own: ParticleSetting, *, quick: bool, token: Token | None) -> Callable[[Vec], Lines]:
        fluid = [see.values(name) for name in own.needs()]
        if own.law == "ballistic":
            fluid.append(0.0 * fluid[1])
        said = own.heat if own.law != "ballistic" else None
        heat = None if said is None else Heat(said.capacity, said.temperature, said.boils or np.inf, said.latent, see.reference.prandtl)
        particle = Particle(own.law, own.diameter, own.density, own.ballistic, own.gravity, None if own.start == "flow" else own.velocity,
                            self.max_time or np.inf, self.max_length, self.max_steps, 1e-2 if quick else max(self.tolerance, 1e-6),
                            own.walls, own.restitution, heat)
        mesh = mesh_of(see.flow, see.token)
        return lambda seeds: fly(see.flow, mesh, tuple(fluid), seeds, particle, token)

    def draft(self) -> Self:
        """With a coarse tolerance."""
        return self.model_copy(update={"quick": True})

    def tell(self, words: Words) -> str:
        """How many seeds, on what; of what, if not of the velocity."""
        told = " and ".join(part.tell(words) for part in self.seeds)
        if self.particle is not None:
            kind = f"m/(C_d A) {words.number(self.particle.ballistic)}"
            if self.particle.law != "ballistic":
                kind = f"{words.number(1e6 * self.particle.diameter)} µm"
            return f"particles, {kind}, {told}"
        if self.lying:
            where = "walls" if self.follow == "walls" else words.card(self.on_card) if self.on_card else "no card yet"
            return f"{words.quantity(self.of)} along {where}, {told}"
        if self.unsteady:
            return f"{self.in_time}, {told}"
        return f"{told}, along {words.quantity(self.of)}" if self.of != "velocity" else f"whole flow, {told}"

    def handles(self, flow: Flow, made: Made | None) -> Handles | None:
        """Beads of all sets, and their seeds."""
        lines = made.geometry if made is not None else None
        seeds = np.concatenate([part.free() for part in self.seeds])
        if not all(part.is_free for part in self.seeds):
            if made is None or made.began is None:
                return None
            seeds = made.began
        good = np.ones(len(seeds), dtype=bool)
        if isinstance(lines, Lines) and lines.n_seeds == len(seeds):
            good = np.isin(np.arange(len(seeds)), lines.begun)
        few = slice(None, None, max(1, -(-len(seeds) // _SHOWN)))
        beads: list[Handle] = []
        beside: list[tuple[Vec, bool]] = []
        for number, part in enumerate(self.seeds):
            own, drawn = part.beads(flow)
            beads += [replace(bead, id=f"{bead.id}:{number}" if number else bead.id) for bead in own]
            beside += drawn
        if self.lying and not beads:
            return None
        told = f"{len(lines.begun)} of {lines.n_seeds} seeds are inside" if isinstance(lines, Lines) else ""
        what = f"seed {self.seeds[0].form}" if len(self.seeds) == 1 else "seeds"
        return Handles(what, tuple(beads), tuple(beside), seeds[few], good[few], told if beads else "")

    def without_seed(self, number: int, began: Vec) -> Self | None:
        """Without one of its seeds: the set that it is of becomes a list; all of them, where it cannot be told which that is."""
        if not 0 <= number < len(began) or len(began) > _LISTED:
            return None
        sizes = self._sizes(len(began))
        if len(sizes) != len(self.seeds):
            return self.with_(seeds=(PointSeeds(points=_triples(np.delete(began, number, axis=0))),))
        firsts = np.concatenate([[0], np.cumsum(sizes)])
        at = int(np.searchsorted(firsts, number, side="right")) - 1
        left = PointSeeds(points=_triples(np.delete(began[firsts[at]:firsts[at + 1]], number - firsts[at], axis=0)))
        kept = [left if n == at else part for n, part in enumerate(self.seeds)]
        return self.with_(seeds=tuple(part for part in kept if not (isinstance(part, PointSeeds) and not part.points)) or (left,))

    def _with_set(self, handle: str, how: Callable[[AnySeeds, str], AnySeeds]) -> Self:
        name, _, number = handle.partition(":")
        at = int(number or 0)
        return self.with_(seeds=tuple(how(part, name) if n == at else part for n, part in enumerate(self.seeds)))

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """A bead of one of the sets there."""
        target = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap else np.array(rounded(to, 0.0005 * flow.size))
        low, high = flow.bounds
        thin = high - low < _THIN * flow.size  # a planar flow: by no accident does a seed drift off it
        target = np.where(thin, np.clip(target, low, high), target)
        return self._with_set(handle, lambda part, name: part.moved(name, target, flow))

    def typed(self, handle: str, value: Any) -> Self:
        """A bead of one of the sets at what was typed."""
        return self._with_set(handle, lambda part, name: part.typed(name, value))


def _triples(places: Vec) -> tuple[Vector, ...]:
    return tuple((float(x), float(y), float(z)) for x, y, z in places)


def _first_line(store: QuantityStore) -> LineSeeds:
    """A line at right angles to the free stream: across the middle of the flow, or a body's length before one in it."""
    flow = store.flow
    low, high = flow.body or flow.bounds
    middle, span = 0.5 * (low + high), high - low
    wind = np.abs(np.array(store.reference.velocity))
    along = int(np.argmax(wind)) if wind.any() else int(np.argmax(span))
    across = max((a for a in range(3) if a != along), key=lambda a: float(span[a]))
    start, end = middle.copy(), middle.copy()
    reach = 0.35 if flow.body is None else 0.6
    start[across] -= reach * span[across]
    end[across] += reach * span[across]
    if flow.body is not None:
        # A body's length before it, against the wind, or half of the way to the border: lines from there come to the body.
        towards = np.array(store.reference.velocity) / np.linalg.norm(store.reference.velocity) if wind.any() else np.eye(3)[along]
        reached = float(np.abs(towards) @ span)
        room = -line_in_box(flow.bounds, middle, towards)[0] - 0.5 * reached
        back = 0.5 * reached + min(reached, 0.5 * max(room, 0.0))
        # A half model ends at its plane of symmetry.
        start, end = np.clip(start - back * towards, *flow.bounds), np.clip(end - back * towards, *flow.bounds)
    step = 0.01 * float(span.max())
    return LineSeeds(start=rounded(start, step), end=rounded(end, step), count=30)


def _inside(flow: Flow, places: Vec) -> NDArray[np.bool_]:
    return mesh_of(flow).locate(places)[1]


def _within(flow: Flow, line: LineSeeds) -> LineSeeds:
    """The longest part of a line that is in the flow; all of it where none is."""
    start, end = np.array(line.start), np.array(line.end)
    inside = np.concatenate([[False], _inside(flow, laid.seeds_on_line(line.start, line.end, _TRIED)), [False]])
    edges = np.flatnonzero(np.diff(inside.astype(np.int8)))
    begins, ends = edges[::2], edges[1::2] - 1
    if len(begins) == 0 or inside[1:-1].all():
        return line
    longest = int((ends - begins).argmax())
    a, b = (float(n[longest]) / (_TRIED - 1) for n in (begins, ends))
    return line.with_(start=rounded(start + a * (end - start), 1e-4 * flow.size), end=rounded(start + b * (end - start), 1e-4 * flow.size))


def _fitted(flow: Flow, sized: Callable[[float], AnySeeds]) -> AnySeeds:
    """The largest of some sizes of which all seeds are in the flow; the smallest where none fits."""
    return next((one for share in _SHARES[:-1] if _inside(flow, (one := sized(share)).free()).all()), sized(_SHARES[-1]))


def first_set(store: QuantityStore, argument: str) -> AnySeeds:
    """A set of seeds of a form, wholly in the flow, about where a line of them would be.

    Of a card its id follows the form, and ``walls`` if it lies on such.
    """
    flow, line = store.flow, _within(store.flow, _first_line(store))
    form, *more = argument.split()
    near = round_to(0.002 * flow.size, 1e-4 * flow.size)
    if form == "line":
        return line
    centre = rounded(0.5 * (np.array(line.start) + np.array(line.end)), 0.001 * flow.size)
    step = 0.001 * flow.size
    reach = max(round_to(0.5 * float(np.linalg.norm(np.array(line.end) - np.array(line.start))), step), 0.02 * flow.size)
    wind = np.array(store.reference.velocity)
    direction = rounded(unit(wind), 1e-3) if wind.any() else (1.0, 0.0, 0.0)
    walls = tuple(b.name for b in flow.boundaries if b.solid) or tuple(b.name for b in flow.boundaries[:1])
    block, dims = next(((b.name, b.grid.dims) for b in flow.blocks if isinstance(b.grid, StructuredGrid)), ("", (1, 1, 1)))
    made: dict[str, Callable[[], AnySeeds]] = {
        "plane": lambda: _fitted(flow, lambda share: PlaneSeeds(
            centre=centre, direction=direction, width=round_to(2.0 * share * reach, step), height=round_to(2.0 * share * reach, step))),
        "disc": lambda: _fitted(flow, lambda share: DiscSeeds(centre=centre, direction=direction, radius=round_to(share * reach, step))),
        "ball": lambda: _fitted(flow, lambda share: BallSeeds(centre=centre, radius=round_to(0.5 * share * reach, step))),
        "points": lambda: PointSeeds(points=(centre,)),
        "card": lambda: CardSeeds(card=more[0] if more else "", off=-near if "walls" in more else 0.0),
        "fill": FillSeeds,
        "boundary": lambda: BoundarySeeds(boundaries=walls, off=near),
        "grid": lambda: GridSeeds(block=block, last=(0, dims[1] - 1, dims[2] - 1), every=4)}
    return made[form]()


def new_streamlines(store: QuantityStore, form: str = "line") -> Begun:
    """Streamlines from a set of seeds of a form, as long as the flow is twice."""
    flow = store.flow
    if form == "walls":
        return _new_wall_lines(store)
    if form == "particles":
        return _new_particles(store)
    shape = StreamShape(seeds=(first_set(store, form or "line"),), max_length=round_to(2.0 * flow.size, 0.1 * flow.size))
    return Begun("Streamlines", shape, LineLook(colour_by=best_name(store)))


def _new_wall_lines(store: QuantityStore) -> Begun:
    """Lines of the wall shear over all walls, as an oil film shows them; of the velocity where there is no shear."""
    offered = {q.name for q in store.quantities() if not q.missing}
    of = _SHEAR if _SHEAR in offered else "velocity"
    seeds = first_set(store, "boundary").with_(off=0.0, count=_OIL)
    length = round_to(0.05 * store.flow.size, 0.01 * store.flow.size)
    shape = StreamShape(seeds=(seeds,), of=of, follow="walls", max_length=length, max_steps=1000)
    return Begun("Wall streamlines", shape, LineLook(colour="#1F2A33", width=1.0))


def _new_particles(store: QuantityStore) -> Begun:
    """Drops of water of 50 µm under gravity, let go from a plane above the body, or above the middle of the flow."""
    flow = store.flow
    low, high = flow.body or flow.bounds
    middle, span, step = 0.5 * (low + high), high - low, 0.001 * flow.size
    for lift in (0.3, 0.2, 0.1, 0.0):
        centre = rounded(np.clip(middle + np.array([0.0, 0.0, lift * float(np.linalg.norm(span[:2]))]), *flow.bounds), step)
        if _inside(flow, np.array([centre]))[0]:
            break
    wide, deep = (max(round_to(0.8 * float(s), step), 0.02 * flow.size) for s in span[:2])
    seeds = _fitted(flow, lambda share: PlaneSeeds(centre=centre, direction=(0.0, 0.0, 1.0), width=round_to(share * wide, step),
                                                   height=round_to(share * deep, step)))
    speed = store.reference.speed or 1.0
    far = round_to(3.0 * flow.size, 0.1 * flow.size)
    shape = StreamShape(seeds=(seeds,), particle=ParticleSetting(), direction="forward", max_length=far,
                        max_time=float(f"{20.0 * flow.size / speed:.1g}"))
    every = float(f"{flow.size / speed / 8.0:.1g}")
    return Begun("Particles", shape, LineLook(colour_by=f"{OWN}speed of the particle", width=1.0, marks=Marks(every=every, size=0.0025)))


def new_seed_list(store: QuantityStore, points: tuple[Vector, ...], source: str) -> Begun:
    """Streamlines from a list of seeds."""
    like = new_streamlines(store)
    return Begun(like.name, like.shape.with_(seeds=(PointSeeds(points=points, source=source[:200]),)), like.look)


KIND = Kind(StreamShape, "Streamlines from sets of seeds: points, lines, planes, discs, balls, on boundaries, cards and grids.", "trace",
            "seedline",
            (Tile("add-streamlines", "Seed line", "Trace streamlines from a line of seeds.", "line", group=_SPACE),
             Tile("add-seed-plane", "Seed plane", "Trace streamlines from an even grid of seeds on a plane.", "plane",
                  "seed-plane", _SPACE),
             Tile("add-seed-disc", "Seed disc", "Trace streamlines from a disc or a ring of seeds.", "disc", "seed-disc", _SPACE),
             Tile("add-seed-ball", "Seed ball", "Trace streamlines from a ball of seeds.", "ball", "seed-ball", _SPACE),
             Tile("add-seed-points", "Seed points", "Trace streamlines from points that are clicked or typed.", "points", "seed-points",
                  _SPACE),
             Tile("add-seed-grid", "Grid nodes", "Trace streamlines from nodes of a structured block.", "grid", "seed-grid", _SPACE),
             Tile("add-seed-boundary", "On walls", "Trace streamlines from seeds a little off boundaries.", "boundary", "seed-boundary",
                  _OVER),
             Tile("add-seed-card", "On a card", "Trace streamlines from seeds over another card.", "card", "seed-card", _OVER),
             Tile("add-seed-fill", "Fill", "Trace streamlines until they come by everywhere, or where a quantity is in a range.", "fill",
                  "seed-fill", _OVER),
             Tile("add-wall-lines", "Wall lines", "Trace lines of the wall shear over all walls, as an oil film shows them.", "walls",
                  "wall-lines", _OTHER),
             Tile("add-particles", "Particles", "Follow particles with mass: drops of 50 µm under gravity.", "particles", "particles",
                  _OTHER)),
            new_streamlines, slow=lambda flow: ready_mesh(flow) is None, lacks=lambda flow: "" if flow.roles.has_velocity else "velocity")
