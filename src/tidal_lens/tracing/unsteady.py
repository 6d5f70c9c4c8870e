"""Pathlines, streaklines and timelines through the steps of a series.

Velocity is linear in time between two steps, and interpolated in each on its own mesh where the mesh moves. Only two steps are looked at
at a time.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.sampling.mesh import Mesh, Stencil
from tidal_lens.tracing import unsteady_kernels as kernels
from tidal_lens.tracing.inner_walls import stopped
from tidal_lens.tracing.streamlines import Direction, End, Lines, tell_walls
from tidal_lens.work import Token, read_only, run_chunks

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
_CHUNK = 32
MOST = 200_000  # particles of streaklines and timelines


@dataclass(frozen=True, eq=False)
class Moment:
    """A step of a series: its time, mesh and the velocity at its nodes (n, 3)."""

    time: float
    mesh: Mesh
    velocity: NDArray[np.float64]

    @staticmethod
    def of(time: float, mesh: Mesh, velocity: NDArray[Any]) -> Moment:
        """With the velocity as kernels take it."""
        return Moment(time, mesh, read_only(np.ascontiguousarray(velocity, np.float64)))


@dataclass(frozen=True, eq=False)
class Steps:
    """A series as lines through its time see it.

    Attributes
    ----------
    flow : Flow
        The step on the table.
    times : sequence of float
        Of all steps, rising.
    now : int
        Which step that is.
    at : callable
        Gives a step; it may have to be read.
    """

    flow: Flow
    times: Sequence[float]
    now: int
    at: Callable[[int], Moment]


class _Cloud:
    """Particles on their way."""

    def __init__(self, places: Vec, times: Vec) -> None:
        self.places, self.times = np.array(places, np.float64), np.array(times, np.float64)
        self.state, self.error = np.zeros(len(places), np.int64), np.zeros(len(places))

    def drift(self, one: Moment, other: Moment, until: float, rows: Ints, tolerance: float, most: Ints,
              token: Token | None) -> tuple[Ints, Vec, Vec, Vec]:
        """Carry some of them between two steps: particle, place, time and velocity of their ways, of each ``most`` points."""
        places, times, state, error = self.places[rows], self.times[rows], self.state[rows], self.error[rows]
        same, keep, parts = one.mesh is other.mesh, int(most.max(initial=0)), {}

        def some(begin: int, end: int) -> None:
            own, n = slice(begin, end), end - begin
            p, t, u, made = np.empty((n * keep, 3)), np.empty(n * keep), np.empty((n * keep, 3)), np.zeros(n, np.int64)
            kernels.drift(one.mesh.arrays, other.mesh.arrays, same, one.velocity, other.velocity, one.time, other.time, places[own],
                          times[own], until, tolerance, keep, most[own], state[own], error[own], p, t, u, made, 0, n)
            kept = np.concatenate([np.arange(k * keep, k * keep + m) for k, m in enumerate(made)]).astype(np.int64)
            parts[begin] = np.repeat(rows[own], made), p[kept], t[kept], u[kept]

        run_chunks(some, len(rows), _CHUNK, token)
        if token is not None:
            token.check()
        self.places[rows], self.times[rows], self.state[rows], self.error[rows] = places, times, state, error
        nothing = (np.empty(0, np.int64), np.empty((0, 3)), np.empty(0), np.empty((0, 3)))
        who, p, t, u = (np.concatenate(column) for column in zip(nothing, *(parts[b] for b in sorted(parts)), strict=True))
        return who, p, t, u


def _pairs(steps: Steps, begin: float, end: float) -> list[tuple[int, int]]:
    """Pairs of steps between which a time runs from one to another, in its sense."""
    times = np.asarray(steps.times)
    low, high = min(begin, end), max(begin, end)
    own = [(k, k + 1) for k in range(len(times) - 1) if times[k + 1] > max(low, times[k]) and times[k] < high]
    return own if end >= begin else [(b, a) for a, b in reversed(own)]


def pathlines(steps: Steps, seeds: Vec, *, direction: Direction = "forward", max_time: float = np.inf, max_points: int = 4000,
              tolerance: float = 1e-4, token: Token | None = None) -> Lines:
    """Ways of particles that are at the seeds now.

    Parameters
    ----------
    steps : Steps
        The series.
    seeds : ndarray, shape (n, 3)
        Where they are now.
    direction : str
        Where they go, where they came from, or both.
    max_time, max_points : float, int
        Limits each way.
    tolerance : float
        Error allowed a step, in cells.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    Lines
        ``more`` holds the speed on the way, each point's at its own time. Values of quantities at the points are those of the step
        on the table.
    """
    seeds = np.ascontiguousarray(seeds, np.float64).reshape(-1, 3)
    now = float(steps.times[steps.now])
    ways = {"forward": (1,), "backward": (-1,), "both": (-1, 1)}[direction]
    ends, error = np.zeros((len(seeds), 2), np.int64), np.zeros(len(seeds))
    found = [(np.empty(0, np.int64), np.empty((0, 3)), np.empty(0), np.empty((0, 3)))]
    for way in ways:
        last = float(steps.times[-1 if way > 0 else 0])
        until = min(last, now + max_time) if way > 0 else max(last, now - max_time)
        cloud = _Cloud(seeds, np.full(len(seeds), now))
        left = np.full(len(seeds), max_points)
        for pair in _pairs(steps, now, until):
            rows = np.flatnonzero((cloud.state == 0) & (left > 1))
            one, other = steps.at(pair[0]), steps.at(pair[1])
            goal = min(other.time, until) if way > 0 else max(other.time, until)
            part = cloud.drift(one, other, goal, rows, tolerance, left[rows], token)
            left[rows] -= np.bincount(part[0], minlength=len(seeds))[rows] - 1  # the last one is where the next step begins
            found.append(part)
        ran = End.TIME if abs(until - last) > 1e-12 * abs(last - now) else End.LAST
        ends[:, (way + 1) // 2] = np.where(cloud.state != 0, cloud.state, np.where(left <= 1, End.STEPS, ran))
        error += cloud.error
    who, points, times, speeds = (np.concatenate(column) for column in zip(*found, strict=True))
    order = np.lexsort((times, who))
    who, points, times, speeds = who[order], points[order], times[order] - now, speeds[order]
    once = np.concatenate([[True], (np.diff(times) != 0.0) | (np.diff(who) != 0)])[:len(who)]  # each step ends where the next begins
    who, points, times, speeds = who[once], points[once], times[once], speeds[once]
    total = np.bincount(who, minlength=len(seeds))
    mesh = steps.at(steps.now).mesh
    nothing = np.empty((len(points), 2), np.int64)
    (points, _, _, kept), total = stopped(steps.flow, mesh, (points, np.empty_like(points), nothing, times), total, End.WALL, ends)
    speed = _again(times, who, np.linalg.norm(speeds, axis=1), kept, np.repeat(np.arange(len(seeds)), total))
    alive = np.flatnonzero(total > 1)
    rows = np.repeat(total > 1, total)
    points, kept, speed = points[rows], kept[rows], speed[rows]
    offsets = np.concatenate([[0], np.cumsum(total[alive])])
    told = tell_walls(steps.flow, points, offsets, ends[alive])
    return Lines(points, offsets, kept, partial(_placed, mesh, points), alive, told, error[alive], len(seeds),
                 {"speed on the way": speed})


def _again(times: Vec, who: Ints, values: Vec, wanted: Vec, of: Ints) -> Vec:
    """Values along lines at other times of the same lines: where an inner wall cut them."""
    if len(wanted) == len(times):
        return values
    reach = 1.0 + (float(np.ptp(times)) if len(times) else 0.0)
    return np.interp(wanted + 2.0 * reach * of, times + 2.0 * reach * who, values)


def _released(steps: Steps, seeds: Vec, every: float, max_time: float, most: int) -> tuple[Vec, bool]:
    """Times at which particles are released, the last one first; whether they go back to the first step."""
    now, first = float(steps.times[steps.now]), float(steps.times[0])
    back = min(now - first, max_time)
    many = int(min(np.floor(back / every * (1.0 + 1e-12)), most / max(len(seeds), 1))) if back > 0.0 else 0
    return np.asarray(now - every * np.arange(many + 1), np.float64), many * every >= (now - first) * (1.0 - 1e-9) - every


def _carried(steps: Steps, seeds: Vec, releases: Vec, tolerance: float, token: Token | None) -> _Cloud:
    """Particles of all releases now: those of a release one after another."""
    now = float(steps.times[steps.now])
    cloud = _Cloud(np.tile(seeds, (len(releases), 1)), np.repeat(releases, len(seeds)))
    begun = cloud.times.copy()
    for pair in _pairs(steps, float(releases.min(initial=now)), now):
        one, other = steps.at(pair[0]), steps.at(pair[1])
        goal = min(other.time, now)
        rows = np.flatnonzero((cloud.state == 0) & (begun < goal))
        cloud.drift(one, other, goal, rows, tolerance, np.zeros(len(rows), np.int64), token)
    mesh = steps.at(steps.now).mesh
    fresh = np.flatnonzero(begun >= now)  # released this moment: they only have to be inside
    if len(fresh):
        inside = mesh.locate(cloud.places[fresh], token=token)[1]
        cloud.state[fresh[~inside]] = End.OUTSIDE
    return cloud


def streaklines(steps: Steps, seeds: Vec, *, every: float, max_time: float = np.inf, tolerance: float = 1e-4,
                token: Token | None = None) -> Lines:
    """Where particles are now that were released at the seeds one after another, as smoke or dye shows it.

    Parameters
    ----------
    every : float
        Time from one release to the next.
    max_time : float
        The oldest.
    steps, seeds, tolerance, token
        As of :func:`pathlines`.

    Returns
    -------
    Lines
        From the seed to the oldest particle; ``time`` is how long ago each was released. A line is cut where particles between have left.
    """
    seeds = np.ascontiguousarray(seeds, np.float64).reshape(-1, 3)
    releases, whole = _released(steps, seeds, every, max_time, MOST)
    cloud = _carried(steps, seeds, releases, tolerance, token)
    grid = np.arange(len(releases) * len(seeds)).reshape(len(releases), len(seeds)).T
    age = np.tile(steps.times[steps.now] - releases, (len(seeds), 1))
    last = End.LAST if whole else End.TIME
    return _lines(steps, cloud, grid, age, np.arange(len(seeds)), last, len(seeds))


def timelines(steps: Steps, seeds: Vec, rows: Ints, *, every: float, max_time: float = np.inf, tolerance: float = 1e-4,
              token: Token | None = None) -> Lines:
    """Where particles are now that were released together along rows of seeds, again and again.

    Parameters
    ----------
    rows : ndarray, shape (n,), int
        The row of each seed; those of a row stand together.
    every, max_time
        As of :func:`streaklines`.
    steps, seeds, tolerance, token
        As of :func:`pathlines`.

    Returns
    -------
    Lines
        One for each release and row; ``time`` is how long ago it was released.
    """
    seeds = np.ascontiguousarray(seeds, np.float64).reshape(-1, 3)
    releases, _ = _released(steps, seeds, every, max_time, MOST)
    cloud = _carried(steps, seeds, releases, tolerance, token)
    grid, age, first = [], [], []
    for row in np.unique(rows):
        own = np.flatnonzero(rows == row)
        for n, released in enumerate(releases):
            grid.append(n * len(seeds) + own)
            age.append(np.full(len(own), steps.times[steps.now] - released))
            first.append(int(own[0]))
    found = _lines(steps, cloud, grid, age, np.array(first, np.int64), 0, len(seeds))
    inside = np.flatnonzero((cloud.state.reshape(len(releases), len(seeds)) == 0).any(axis=0)) if len(seeds) else None
    return replace(found, inside=inside)


def _lines(steps: Steps, cloud: _Cloud, grid: Sequence[Ints] | Ints, age: Sequence[Vec] | Vec, seeds: Ints, last: int,
           n_seeds: int) -> Lines:
    """Lines through particles that are still in the flow, cut where some between are not."""
    points, ages, who, ends, error, sizes = [], [], [], [], [], []
    for seed, own, old in zip(seeds, grid, age, strict=True):
        good = cloud.state[own] == 0
        edges = np.flatnonzero(np.diff(np.concatenate([[False], good, [False]]).astype(np.int8)))
        for begin, end in zip(edges[::2], edges[1::2], strict=True):
            if end - begin < 2:
                continue
            points.append(cloud.places[own[begin:end]])
            ages.append(old[begin:end])
            who.append(int(seed))
            sizes.append(end - begin)
            error.append(float(cloud.error[own[begin:end]].max()))
            ends.append((0, 0 if last == 0 else last if end == len(own) else int(End.LEFT)))
    at = np.concatenate(points) if points else np.empty((0, 3))
    offsets = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    mesh = steps.at(steps.now).mesh
    told = tell_walls(steps.flow, at, offsets, np.array(ends, np.int64).reshape(-1, 2)) if len(at) else np.empty((0, 2), np.int64)
    return Lines(at, offsets, np.concatenate(ages) if ages else np.empty(0), partial(_placed, mesh, at), np.array(who, np.int64), told,
                 np.array(error), n_seeds)


def _placed(mesh: Mesh, points: Vec) -> Stencil:
    """Interpolation at places on the mesh of the step on the table; none where its mesh does not reach."""
    stencil, inside = mesh.locate(points)
    weights = np.where(inside[:, None], stencil.weights, np.nan)
    return Stencil(np.where(inside[:, None], stencil.ids, 0), weights)
