"""Streamlines from a line or a list of seeds."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from tidal_lens.cutting.surface import Surface
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.kinds.first_values import best_name, round_to, rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.looks import LineLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import LayerId, Name, Vector
from tidal_lens.study.words import Words, number_text
from tidal_lens.tracing.seeds import seeds_on_faces, seeds_on_line
from tidal_lens.tracing.streamlines import End, Lines, TraceSettings, trace_lines

_SHOWN = 200  # seeds drawn at most
_ENDS = ("start", "end")


class StreamShape(Shape):
    """A line of seeds, or a list of them or a surface card that takes its place, and how streamlines are followed from it."""

    kind: Literal["streamlines"] = "streamlines"
    geometry: ClassVar[Sort] = "lines"
    start: Vector
    end: Vector
    count: Annotated[int, Field(ge=1, le=5000)] = 30
    listed: Annotated[tuple[Vector, ...], Field(max_length=5000)] = ()
    source: Name = ""
    seeded_on: LayerId = ""
    direction: Literal["forward", "backward", "both"] = "both"
    max_length: Annotated[float, Field(gt=0.0, le=1e12)] = 1e3
    tolerance: Annotated[float, Field(ge=1e-8, le=0.1)] = 1e-4
    quick: Annotated[bool, Field(exclude=True)] = False

    def make(self, see: See) -> Made:
        """The lines."""
        settings = TraceSettings(self.direction, self.max_length, 1e-2 if self.quick else self.tolerance,
                                 max_cells=5.0 if self.quick else 3.5)
        seeds = self._seeds(see)
        lines = trace_lines(see.flow, mesh_of(see.flow, see.token), see.values("velocity"), seeds, settings, see.token)
        _ = lines.census, lines.lengths  # worked out here, where nobody waits
        return Made(lines, seeds, (_table(lines),))

    def _seeds(self, see: See) -> Vec:
        if self.seeded_on:
            surface = see.made(self.seeded_on).geometry
            if not isinstance(surface, Surface):
                raise StudyError("Its seeds lie on a surface, but the card that it names is none.", "", "Choose another card.")
            return seeds_on_faces(surface.points, surface.faces, self.count)
        return np.array(self.listed) if self.listed else seeds_on_line(self.start, self.end, self.count)

    def needs(self) -> tuple[str, ...]:
        """Velocity."""
        return ("velocity",)

    def draft(self) -> Self:
        """With a coarse tolerance."""
        return self.with_(quick=True)

    def tell(self, words: Words) -> str:
        """How many seeds, and on which card."""
        if self.seeded_on:
            return f"whole flow, {self.count} seeds on {words.card(self.seeded_on)}"
        return f"whole flow, {len(self.listed) or self.count} seeds"

    def handles(self, _flow: Flow, made: Made | None) -> Handles | None:
        """Both ends and the middle of the seed line, and its seeds."""
        lines = made.geometry if made is not None else None
        on_line = not (self.listed or self.seeded_on)
        seeds = seeds_on_line(self.start, self.end, self.count) if on_line else made.began if made is not None else None
        if seeds is None:
            return None
        good = np.ones(len(seeds), dtype=bool)
        if isinstance(lines, Lines) and lines.n_seeds == len(seeds):
            good = np.isin(np.arange(len(seeds)), lines.seeds)
        few = slice(None, None, max(1, -(-len(seeds) // _SHOWN)))
        if not on_line:
            return Handles("seeds", (), (), seeds[few], good[few])
        ends = tuple(Handle(name, np.array(place), label=", ".join(number_text(c) for c in place), value=place)
                     for name, place in (("start", self.start), ("end", self.end)))
        middle = Handle("middle", 0.5 * (np.array(self.start) + np.array(self.end)), small=True)
        told = f"{lines.n_lines} of {lines.n_seeds} seeds are inside" if isinstance(lines, Lines) else ""
        return Handles("seed line", (*ends, middle), ((np.array([self.start, self.end]), False),), seeds[few], good[few], told)

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """One end, or the whole line by its middle."""
        target = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap else np.array(rounded(to, 0.0005 * flow.size))
        if handle in _ENDS:
            return self.with_(**{handle: _triple(target)})
        start, end = np.array(self.start), np.array(self.end)
        shift = target - 0.5 * (start + end)
        return self.with_(start=_triple(start + shift, 9), end=_triple(end + shift, 9))

    def typed(self, handle: str, value: Any) -> Self:
        """One end at three coordinates."""
        return self.with_(**{handle: value})


def _table(lines: Lines) -> Table:
    """Of each line its seed, length, time, error and ends."""
    first, last = lines.offsets[:-1], lines.offsets[1:] - 1
    spent = lines.time[last] - lines.time[first] if lines.n_lines else np.empty(0)
    words = [tuple(End(e).words if e else "not followed" for e in ends) for ends in lines.ends.tolist()]
    rows = zip((lines.seeds + 1).tolist(), lines.lengths.tolist(), spent.tolist(), lines.error.tolist(), words, strict=True)
    return Table("Lines", ("seed", "length", "time", "error estimate", "upstream end", "downstream end"),
                 tuple((float(seed), length, time, error, *ends) for seed, length, time, error, ends in rows))


def _triple(point: Vec, digits: int = 17) -> Vector:
    x, y, z = (float(f"{c:.{digits}g}") for c in point)
    return x, y, z


def new_streamlines(store: QuantityStore) -> Begun:
    """A seed line at right angles to the free stream: across the middle of the flow, or close before a body in it."""
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
        upstream = -np.sign(store.reference.velocity[along]) or -1.0
        front = low[along] if upstream < 0 else high[along]
        edge = flow.bounds[0 if upstream < 0 else 1][along]
        start[along] = end[along] = front + 0.5 * np.clip(edge - front, -0.1 * span[along], 0.1 * span[along])
        start, end = np.clip(start, *flow.bounds), np.clip(end, *flow.bounds)  # a half model ends at its plane of symmetry
    step = 0.01 * float(span.max())
    shape = StreamShape(start=rounded(start, step), end=rounded(end, step), count=30, max_length=round_to(2.0 * flow.size, 0.1 * flow.size))
    return Begun("Streamlines", shape, LineLook(colour_by=best_name(store)))


def new_seed_list(store: QuantityStore, points: tuple[Vector, ...], source: str) -> Begun:
    """Streamlines from a list of seeds."""
    like = new_streamlines(store)
    return Begun(like.name, like.shape.with_(listed=points, source=source[:200]), like.look)


KIND = Kind(StreamShape, "Streamlines from a line or a list of seeds.", "trace", "seedline",
            (Tile("add-streamlines", "Seed line", "Trace streamlines from a line of seeds."),),
            lambda store, _argument: new_streamlines(store), lacks=lambda flow: "" if flow.roles.has_velocity else "velocity")
