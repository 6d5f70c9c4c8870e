"""Pathlines, streaklines and timelines through the steps of a series.

Velocity is linear in time between two steps, and interpolated in each on its own mesh where the mesh moves. Only two steps are looked at
at a time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
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
_HALVINGS = 5  # between two releases that come to be far from each other
_TORN = 6.0  # spacings between neighbours: more than that is no line any more


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


@dataclass(frozen=True)
class Releases:
    """How particles of streaklines and timelines are released.

    Attributes
    ----------
    every : float
        Time from one release to the next.
    spacing : float
        Where two neighbours come to be farther from each other, others are released between them; 0 for none.
    max_time : float
        Age of the oldest.
    tolerance : float
        Error allowed a step, in cells.
    """

    every: float
    spacing: float = 0.0
    max_time: float = np.inf
    tolerance: float = 1e-4


class _Cloud:
    """Particles on their way."""

    def __init__(self, places: Vec, times: Vec) -> None:
        self.places, self.times = np.array(places, np.float64), np.array(times, np.float64)
        self.state, self.error = np.zeros(len(places), np.int64), np.zeros(len(places))

    def take(self, rows: Ints) -> _Cloud:
        """Some of them, in an order."""
        other = _Cloud(self.places[rows], self.times[rows])
        other.state, other.error = self.state[rows], self.error[rows]
        return other

    def with_others(self, more: _Cloud) -> _Cloud:
        """These, and others after them."""
        other = _Cloud(np.concatenate([self.places, more.places]), np.concatenate([self.times, more.times]))
        other.state, other.error = np.concatenate([self.state, more.state]), np.concatenate([self.error, more.error])
        return other

    def drift(self, one: Moment, other: Moment, until: float, rows: Ints, tolerance: float, most: Ints) -> tuple[Ints, Vec, Vec, Vec]:
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

        run_chunks(some, len(rows), _CHUNK)
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


def _told(pairs: list[tuple[int, int]], token: Token | None) -> Iterator[tuple[int, int]]:
    """Them one after another, told as progress: each may have to be read."""
    for n, pair in enumerate(pairs):
        if token is not None:
            token.check()
            token.report(n / len(pairs))
        yield pair


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
        for pair in _told(_pairs(steps, now, until), token):
            rows = np.flatnonzero((cloud.state == 0) & (left > 1))
            one, other = steps.at(pair[0]), steps.at(pair[1])
            goal = min(other.time, until) if way > 0 else max(other.time, until)
            part = cloud.drift(one, other, goal, rows, tolerance, left[rows])
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


def _ages(steps: Steps, seeds: Vec, how: Releases) -> tuple[Vec, bool]:
    """How long ago particles were released, now first; whether it goes back to the first step."""
    back = float(steps.times[steps.now] - steps.times[0])
    reach, every = min(back, how.max_time), how.every
    many = int(min(np.floor(reach / every * (1.0 + 1e-12)), MOST / max(len(seeds), 1)))
    return np.asarray(every * np.arange(many + 1), np.float64), many * every > back * (1.0 + 1e-9) - every


def _carried(steps: Steps, places: Vec, ages: Vec, tolerance: float, token: Token | None) -> _Cloud:
    """Particles now that were released at places some time ago."""
    now = float(steps.times[steps.now])
    begun = now - ages
    cloud = _Cloud(places, begun)
    for pair in _told(_pairs(steps, float(begun.min(initial=now)), now), token):
        one, other = steps.at(pair[0]), steps.at(pair[1])
        goal = min(other.time, now)
        rows = np.flatnonzero((cloud.state == 0) & (begun < goal))
        cloud.drift(one, other, goal, rows, tolerance, np.zeros(len(rows), np.int64))
    fresh = np.flatnonzero(ages <= 0.0)  # released this moment: they only have to be inside
    if len(fresh):
        inside = steps.at(steps.now).mesh.locate(cloud.places[fresh], token=token)[1]
        cloud.state[fresh[~inside]] = End.OUTSIDE
    return cloud


@dataclass(frozen=True, eq=False)
class _Strung:
    """Particles strung on lines: which line, how far along it, how long ago and where it was released, and what became of it."""

    line: Ints
    at: Vec
    age: Vec
    cloud: _Cloud


def _strung(steps: Steps, line: Ints, at: Vec, begin: Callable[[Ints, Vec], tuple[Vec, Vec]], how: Releases,
            token: Token | None) -> _Strung:
    """Particles in the order of their lines; between two that come to be far from each other others are released, halfway between them.

    Parameters
    ----------
    line, at : ndarray, shape (n,)
        The line of each particle, and how far along it.
    begin : callable
        Where those are released, and how long ago.
    """
    spacing, tolerance = how.spacing, how.tolerance
    places, ages = begin(line, at)
    cloud = _carried(steps, places, ages, tolerance, token)
    for _ in range(_HALVINGS if spacing > 0.0 else 0):
        order = np.lexsort((at, line))
        first, second = order[:-1], order[1:]
        apart = ((line[first] == line[second]) & (cloud.state[first] == 0) & (cloud.state[second] == 0)
                 & (np.linalg.norm(cloud.places[first] - cloud.places[second], axis=1) > spacing))
        if not apart.any() or len(line) + apart.sum() > MOST:
            break
        more_line, more_at = line[first[apart]], 0.5 * (at[first[apart]] + at[second[apart]])
        places, more_ages = begin(more_line, more_at)
        cloud = cloud.with_others(_carried(steps, places, more_ages, tolerance, token))
        line, at, ages = np.concatenate([line, more_line]), np.concatenate([at, more_at]), np.concatenate([ages, more_ages])
    order = np.lexsort((at, line))
    return _Strung(line[order], at[order], ages[order], cloud.take(order))


def streaklines(steps: Steps, seeds: Vec, how: Releases, token: Token | None = None) -> Lines:
    """Where particles are now that were released at the seeds one after another, as smoke or dye shows it.

    Parameters
    ----------
    steps : Steps
        The series.
    seeds : ndarray, shape (n, 3)
        Where they were released.
    how : Releases
        How often.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    Lines
        From the seed to the oldest particle; ``time`` is how long ago each was released. A line is cut where particles between have left,
        and where it was drawn out too much to be followed.
    """
    seeds = np.ascontiguousarray(seeds, np.float64).reshape(-1, 3)
    ages, whole = _ages(steps, seeds, how)
    strung = _strung(steps, np.repeat(np.arange(len(seeds)), len(ages)), np.tile(ages, len(seeds)), lambda line, at: (seeds[line], at),
                     how, token)
    oldest = float(ages[-1])
    return _lines(steps, strung, np.arange(len(seeds)), how.spacing, len(seeds), (oldest, End.LAST if whole else End.TIME))


def timelines(steps: Steps, seeds: Vec, rows: Ints, how: Releases, token: Token | None = None) -> Lines:
    """Where particles are now that were released together along rows of seeds, again and again.

    Parameters
    ----------
    rows : ndarray, shape (n,), int
        The row of each seed; those of a row stand together.
    steps, seeds, how, token
        As of :func:`streaklines`.

    Returns
    -------
    Lines
        One for each release and row, cut like streaklines; ``time`` is how long ago it was released.
    """
    seeds = np.ascontiguousarray(seeds, np.float64).reshape(-1, 3)
    ages, _ = _ages(steps, seeds, how)
    numbers = np.arange(len(seeds))
    firsts = np.flatnonzero(np.concatenate([[True], np.diff(rows) != 0])[:len(rows)])
    row = np.repeat(np.arange(len(firsts)), np.diff(np.append(firsts, len(seeds))))

    def begin(line: Ints, at: Vec) -> tuple[Vec, Vec]:
        low = np.minimum(np.floor(at).astype(np.int64), len(seeds) - 1)
        high = np.minimum(low + 1, len(seeds) - 1)
        return seeds[low] + (at - low)[:, None] * (seeds[high] - seeds[low]), ages[line // max(len(firsts), 1)]

    line = (np.arange(len(ages))[:, None] * len(firsts) + row).ravel()
    strung = _strung(steps, line, np.tile(numbers.astype(np.float64), len(ages)), begin, how, token)
    found = _lines(steps, strung, np.tile(firsts, len(ages)), how.spacing, len(seeds), (np.inf, 0))
    alive = (strung.at == np.floor(strung.at)) & (strung.cloud.state == 0)
    return replace(found, inside=distinct(strung.at[alive].astype(np.int64)))


def _lines(steps: Steps, strung: _Strung, seeds: Ints, spacing: float, n_seeds: int, oldest: tuple[float, int]) -> Lines:
    """Lines through particles that are still in the flow; the end of one that reaches the oldest age is called so."""
    places, cloud = strung.cloud.places, strung.cloud
    good = cloud.state == 0
    joined = good[:-1] & good[1:] & (strung.line[:-1] == strung.line[1:])
    if spacing > 0.0:
        joined &= np.linalg.norm(np.diff(places, axis=0), axis=1) <= _TORN * spacing
    edges = np.flatnonzero(np.diff(np.concatenate([[False], joined, [False]]).astype(np.int8)))
    begins, ends = edges[::2], edges[1::2] + 1  # of points that follow one another
    sizes = ends - begins
    rows = np.repeat(begins - np.cumsum(sizes) + sizes, sizes) + np.arange(sizes.sum())
    points, age = places[rows], strung.age[rows]
    offsets = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    error = np.maximum.reduceat(cloud.error[rows], offsets[:-1]) if len(rows) else np.empty(0)
    far = np.where(strung.age[ends - 1] >= oldest[0] * (1.0 - 1e-9), oldest[1], End.LEFT) if oldest[1] else np.zeros(len(sizes), np.int64)
    told = np.column_stack([np.zeros(len(sizes), np.int64), far]).astype(np.int64)
    told = tell_walls(steps.flow, points, offsets, told) if len(rows) else told
    return Lines(points, offsets, age, partial(_placed, steps.at(steps.now).mesh, points), seeds[strung.line[begins]], told, error, n_seeds)


def _placed(mesh: Mesh, points: Vec) -> Stencil:
    """Interpolation at places on the mesh of the step on the table; none where its mesh does not reach."""
    return mesh.locate(points)[0]
