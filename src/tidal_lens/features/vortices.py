"""Vortex cores: lines of least λ2 across the vorticity, and what circles round them tell.

References
----------
.. [1] Banks & Singer 1995, A predictor-corrector technique for visualizing unsteady flow, IEEE Trans. Vis. Comput. Graph. 1.
.. [2] Jeong & Hussain 1995, On the identification of a vortex, J. Fluid Mech. 285.
.. [3] Sahner, Weinkauf & Hege 2005, Galilean invariant extraction and iconic representation of vortex core lines, EuroVis.
"""

from __future__ import annotations

import heapq
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features import vortex_kernels as kernels
from tidal_lens.features.scales import FREE, Scales, Values, bins, cell_widths, has_walls, least_of_each, scales_of
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.smoothing import smoothed
from tidal_lens.quantities.walls import distances
from tidal_lens.sampling.mesh import Mesh, mesh_of
from tidal_lens.work import Token, read_only, run_chunks, stage

Vec = NDArray[np.float64]
STRONG = 0.25  # of the speed by the length: √−λ2 of a seed
MOST = 3000  # points each way
SEEDS_AT_ONCE = 32
COVERED = 1.5  # cell widths from a line that is there
SAME = 2.0  # cell widths within which lines are one
TURN = 0.6  # cosine between ends that are joined, and within an end that goes on as its line does
HOOK = 8  # points: half a cell each
MOST_CUT = 0.12  # of a line, at each end
EVEN, TO_AND_FRO = 10, (0.5, -0.53)
_CHUNK = 4


@dataclass(frozen=True, eq=False)
class Core:
    """A line along a vortex's core.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        In the sense of the vorticity.
    widths : ndarray, shape (n,)
        Of the cells there.
    missed : ndarray, shape (n,), bool
        Where no clear minimum was found and the line goes on along the vorticity.
    ends : tuple of int
        Why it ended at its first and at its last point: see :mod:`tidal_lens.features.vortex_kernels`.
    """

    points: Vec
    widths: Vec
    missed: NDArray[np.bool_]
    ends: tuple[int, int]

    @cached_property
    def length(self) -> float:
        """Arc length."""
        return float(np.linalg.norm(np.diff(self.points, axis=0), axis=1).sum())

    def part(self, rows: slice) -> Core:
        """Of some points; where it is cut it ends for want of a clear core."""
        first, last = rows.start <= 0, rows.stop >= len(self.points)
        return Core(self.points[rows], self.widths[rows], self.missed[rows],
                    (self.ends[0] if first else kernels.LOST, self.ends[1] if last else kernels.LOST))

    @property
    def closed(self) -> bool:
        """Whether it is a ring."""
        return kernels.CLOSED in self.ends


@dataclass(frozen=True, eq=False)
class Tank:
    """What cores are looked for in: the mesh, the field of the kernels, and scales."""

    flow: Flow
    mesh: Mesh
    field: NDArray[np.float32]
    scales: Scales

    @staticmethod
    def of(flow: Flow, values: Values, speed: float, token: Token | None = None) -> Tank:
        """Of a flow with velocity; ``speed`` is its free stream's."""
        velocity = values("velocity")
        field = np.empty((flow.n_points, 6), np.float32)
        scales = scales_of(flow, velocity, speed)
        with np.errstate(over="ignore", invalid="ignore"):
            # Between nodes values are straight, and each node a corner: once with its neighbours, and least values stand between nodes too.
            field[:, 0] = smoothed(flow, values("lambda2") / scales.rate**2, 1, token)  # whatever the units, within single precision
            field[:, 1:4] = values("vorticity") / scales.rate
        field[:, 4] = cell_widths(flow, token)
        field[:, 5] = FREE
        if has_walls(flow):
            near = np.flatnonzero(field[:, 0] < -kernels.FLOOR)
            field[near, 5] = distances(flow, token, flow.points[near])
        return Tank(flow, mesh_of(flow, token), field, scales)

    def widths_at(self, points: Vec) -> Vec:
        """Width of cells at places, shape (n,)."""
        stencil, _ = self.mesh.locate(points)
        return stencil.apply(cell_widths(self.flow))


def seeds_of(tank: Tank, token: Token | None = None) -> Vec:
    """Places on cores, shape (n, 3), the strongest first: about one for every three cells along them."""
    field = tank.field
    with np.errstate(invalid="ignore"):
        strong = np.flatnonzero((field[:, 0] < -(STRONG**2)) & (field[:, 5] > field[:, 4]))
    if not len(strong):
        return np.empty((0, 3))
    points, width = tank.flow.points[strong], field[strong, 4].astype(np.float64)
    if tank.flow.normal is not None:  # half way through the layer
        normal = np.asarray(tank.flow.normal)
        high = points @ normal
        points = points - (high - high.mean())[:, None] * normal
    chosen = least_of_each(bins(points, width, 2.0), field[strong, 0])
    seeds, good = np.ascontiguousarray(points[chosen]), np.zeros(len(chosen), np.bool_)
    own = read_only(field)
    run_chunks(lambda a, b: kernels.settle(tank.mesh.arrays, own, seeds, good, a, b), len(seeds), 256, token)
    seeds, depth, width = seeds[good], field[strong[chosen[good]], 0], width[chosen[good]]
    thin = least_of_each(bins(seeds, width, 3.0), depth)
    return np.ascontiguousarray(seeds[thin])


def _followed(tank: Tank, seeds: Vec, token: Token | None) -> list[Core]:
    """The line through each seed, both ways."""
    own, at = read_only(tank.field), read_only(seeds)
    halves: dict[tuple[int, int], tuple[Vec, NDArray[np.bool_], int]] = {}

    def one(begin: int, end: int) -> None:
        count, reason = np.zeros(len(seeds), np.int64), np.zeros(len(seeds), np.int64)
        points, missed = np.empty(((end - begin) * MOST, 3)), np.empty((end - begin) * MOST, np.int8)
        for way, sign in enumerate((-1.0, 1.0)):
            kernels.follow(tank.mesh.arrays, own, at, sign, MOST, points, missed, count, reason, begin, end)
            for n in range(begin, end):
                rows = slice((n - begin) * MOST, (n - begin) * MOST + count[n])
                halves[n, way] = points[rows].copy(), missed[rows].astype(bool), int(reason[n])

    run_chunks(one, len(seeds), _CHUNK, token)
    found = []
    for n in range(len(seeds)):
        back, on = halves[n, 0], halves[n, 1]
        if on[2] == kernels.CLOSED:
            found.append((np.vstack([on[0], on[0][:1]]), np.append(on[1], False), (kernels.CLOSED, kernels.CLOSED)))
        else:
            found.append((np.vstack([back[0][::-1], on[0][1:]]), np.concatenate([back[1][::-1], on[1][1:]]), (back[2], on[2])))
    stops = np.cumsum([len(points) for points, _, _ in found])
    widths = np.split(tank.widths_at(np.concatenate([points for points, _, _ in found])), stops[:-1])
    return [Core(points, own_widths, missed, ends) for (points, missed, ends), own_widths in zip(found, widths, strict=True)]


def core_lines(tank: Tank, token: Token | None = None) -> list[Core]:
    """All lines along cores, whether of vortices or not, the longest first.

    Notes
    -----
    Seeds are followed some at a time, always as many and the strongest first, and those that a line has come by are left out: what is found
    does not depend on the number of threads.
    """
    from scipy.spatial import cKDTree

    seeds = seeds_of(tank, stage(token, 0.0, 0.1))
    count = max(len(seeds), 1)
    widths = tank.widths_at(seeds)
    if tank.flow.normal is not None:
        return _through_plane(tank.flow, seeds, widths)
    lines: list[Core] = []
    while len(seeds):
        done = 1.0 - len(seeds) / count
        new = [c for c in _followed(tank, seeds[:SEEDS_AT_ONCE], stage(token, 0.1 + 0.9 * done, 0.1 + 0.9 * done)) if len(c.points) > 2]
        seeds, widths = seeds[SEEDS_AT_ONCE:], widths[SEEDS_AT_ONCE:]
        if new and len(seeds):
            near, _ = cKDTree(np.concatenate([c.points for c in new])).query(seeds)
            seeds, widths = seeds[near > COVERED * widths], widths[near > COVERED * widths]
        lines += new
    return joined(_without_doubles(lines))


def _through_plane(flow: Flow, seeds: Vec, widths: Vec) -> list[Core]:
    """In a plane flow cores are places: each a line through the layer, the strongest of those within a cell or two of one another."""
    half = 0.5 * flow.depth * np.asarray(flow.normal)
    out: list[Core] = []
    for place, width in zip(seeds, widths, strict=True):
        if all(np.linalg.norm(c.points.mean(axis=0) - place) > SAME * width for c in out):
            ends = np.stack([place - half, place, place + half])
            out.append(Core(ends, np.full(3, width), np.zeros(3, bool), (kernels.LEFT, kernels.LEFT)))
    return out


def _without_doubles(lines: list[Core]) -> list[Core]:
    """The longest first, without what lies beside a longer one; of one that leaves it, the part that does."""
    from scipy.spatial import cKDTree

    kept: list[Core] = []
    places = np.empty((0, 3))
    waiting = [(-c.length, n, c) for n, c in enumerate(lines)]
    heapq.heapify(waiting)
    while waiting:
        _, number, core = heapq.heappop(waiting)
        if kept:
            near, _ = cKDTree(places).query(core.points, distance_upper_bound=SAME * float(core.widths.max()))
            free = near > SAME * core.widths
            if not free.all():
                part = _longest_run(free)
                if part.stop - part.start > max(4, 0.1 * len(core.points)):
                    rest = core.part(part)
                    heapq.heappush(waiting, (-rest.length, number, rest))
                continue
        kept.append(core)
        places = np.concatenate([places, core.points])
    return kept


def _longest_run(free: NDArray[np.bool_]) -> slice:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], free, [False]]).astype(np.int8)))
    starts, stops = edges[::2], edges[1::2]
    if not len(starts):
        return slice(0, 0)
    at = int((stops - starts).argmax())
    return slice(int(starts[at]), int(stops[at]))


def joined(lines: list[Core], radii: Vec | None = None) -> list[Core]:
    """Lines whose ends meet within two cells, or the lesser radius of the two (0 where unknown), and go on the same way, as one."""
    open_ones = [n for n, c in enumerate(lines) if not c.closed and len(c.points) > 2]
    if len(open_ones) < 2:
        return lines
    reach = np.zeros(len(lines)) if radii is None else np.nan_to_num(radii)
    firsts, lasts = (np.array([lines[n].points[at] for n in open_ones]) for at in (0, -1))
    begins, goes = (np.array([_way(lines[n].points[part]) for n in open_ones]) for part in (slice(None, 4), slice(-4, None)))
    far = np.linalg.norm(lasts[:, None] - firsts[None], axis=2)
    own = reach[open_ones]
    width = np.array([lines[n].widths[-1] for n in open_ones])
    limit = np.maximum(SAME * width[:, None], np.minimum(own[:, None], own[None]))
    able = (far < limit) & (goes @ begins.T > TURN)
    np.fill_diagonal(able, False)
    after: dict[int, int] = {}
    for a, b in sorted(zip(*np.nonzero(able), strict=True), key=lambda pair: far[pair]):
        if a not in after and b not in after.values():
            after[int(a)] = int(b)
    out = [c for n, c in enumerate(lines) if n not in set(open_ones)]
    heads = [n for n in range(len(open_ones)) if n not in after.values()]
    rings = set(range(len(open_ones)))
    for head in heads:
        core, at = lines[open_ones[head]], head
        rings.discard(head)
        while at in after:
            at = after[at]
            rings.discard(at)
            core = _end_to_end(core, lines[open_ones[at]])
        out.append(core)
    while rings:  # each goes on in another, and the last in the first
        head = at = min(rings)
        rings.discard(head)
        core = lines[open_ones[head]]
        while after[at] != head:
            at = after[at]
            rings.discard(at)
            core = _end_to_end(core, lines[open_ones[at]])
        out.append(Core(core.points, core.widths, core.missed, (kernels.CLOSED, kernels.CLOSED)))
    return sorted(out, key=lambda c: -c.length)


def evened(core: Core) -> Core:
    """The core without the teeth that the nodes of the mesh put on it, and without ends that turn away from it, as they do in shocks.

    Points move towards their neighbours and, nearly as far, back: after Taubin 1995, A signal processing approach to fair surface design.
    """
    points, n = core.points.copy(), len(core.points)
    if n < 2 * HOOK:
        return core
    for share in TO_AND_FRO * EVEN:
        points[1:-1] += share * (0.5 * (points[:-2] + points[2:]) - points[1:-1])
        if core.closed:
            points[0] = points[-1] = points[0] + share * (0.5 * (points[-2] + points[1]) - points[0])
    even = Core(points, core.widths, core.missed, core.ends)
    if core.closed:
        return even
    way = points[HOOK:] - points[:-HOOK]
    way /= np.maximum(np.linalg.norm(way, axis=1), 1e-300)[:, None]
    most = int(MOST_CUT * n)
    first, last = 0, len(way) - 1
    while first < most and way[first] @ way[min(first + HOOK, len(way) - 1)] < TURN:
        first += 1
    while len(way) - 1 - last < most and way[last] @ way[max(last - HOOK, 0)] < TURN:
        last -= 1
    return even.part(slice(first, last + HOOK + 1)) if last > first else even


def _end_to_end(one: Core, two: Core) -> Core:
    """Two lines as one; where they overlap, the second begins beyond the end of the first."""
    ahead = (two.points - one.points[-1]) @ _way(one.points[-4:]) > 0.0
    start = int(ahead.argmax()) if ahead.any() else 0
    return Core(np.vstack([one.points, two.points[start:]]), np.concatenate([one.widths, two.widths[start:]]),
                np.concatenate([one.missed, two.missed[start:]]), (one.ends[0], two.ends[1]))


def _way(points: Vec) -> Vec:
    way = points[-1] - points[0]
    return np.asarray(way / max(float(np.linalg.norm(way)), 1e-300))
