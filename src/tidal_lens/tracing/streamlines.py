"""Streamlines through all blocks of a flow, with error control and a reason for each end."""

from __future__ import annotations

import weakref
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import IntEnum
from functools import cached_property, partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.errors import CancelledError
from tidal_lens.flow.case import Flow
from tidal_lens.kept import Kept
from tidal_lens.sampling import kernels as sampling_kernels
from tidal_lens.sampling.mesh import Mesh, Stencil
from tidal_lens.tracing import kernels
from tidal_lens.tracing.inner_walls import stopped
from tidal_lens.tracing.solids import lengths_from_seeds
from tidal_lens.work import Token, read_only, run_chunks

Direction = Literal["forward", "backward", "both"]
DOUBT = 0.01  # of a line's length: an error estimate above that makes it doubtful


class End(IntEnum):
    """Why a line ended; numbers as kernels write them, which are not loaded before a line is followed."""

    LEFT = 1
    STILL = 2
    CLOSED = 3
    LENGTH = 4
    STEPS = 5
    OUTSIDE = 6
    WALL = 7
    TIME = 8
    LAST = 9
    GONE = 10

    @property
    def words(self) -> str:
        """The reason in words."""
        return {End.LEFT: "left the domain", End.STILL: "came to rest", End.CLOSED: "closed on itself",
                End.LENGTH: "reached the length limit", End.STEPS: "reached the step limit",
                End.OUTSIDE: "seed is outside", End.WALL: "met a wall", End.TIME: "reached the time limit",
                End.LAST: "came to the end of the series", End.GONE: "lost its mass"}[self]


@dataclass(frozen=True)
class TraceSettings:
    """How lines are followed.

    Attributes
    ----------
    direction : str
        ``forward``, ``backward`` or ``both``.
    max_length : float
        Greatest arc length each way.
    cell_tolerance : float
        Error allowed a step, in cell widths; used where ``tolerance`` is 0.
    tolerance : float
        Error allowed a step, as a length.
    max_cells : float
        Longest step, in cells; more is quicker and rougher.
    max_points : int
        Greatest number of points each way.
    max_time : float
        Greatest time each way.
    """

    direction: Direction = "forward"
    max_length: float = np.inf
    cell_tolerance: float = 1e-4
    tolerance: float = 0.0
    max_cells: float = 3.5
    max_points: int = 4000
    max_time: float = np.inf


@dataclass(frozen=True, eq=False)
class Lines:
    """Traced lines.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        Points of all lines, one after another, each in the sense of the flow.
    offsets : ndarray, shape (lines + 1,)
        First point of each line.
    time : ndarray, shape (n,)
        Time from the seed, negative upstream of it.
    places : callable
        Makes the interpolation of node values to the points, when it is first asked for.
    seeds : ndarray, shape (lines,), int
        Number of the seed of each line.
    ends : ndarray, shape (lines, 2), int
        :class:`End` upstream and downstream; 0 where a line was not followed that way.
    error : ndarray, shape (lines,)
        Sum of the error estimates of all steps [length].
    n_seeds : int
        Seeds asked for, inside or not.
    more : mapping
        Values of their own at the points besides, shape (n,).
    inside : ndarray of int, or None
        Numbers of the seeds that are inside, where they are not those of the lines.
    so_far : ndarray, shape (n,), or None
        Sum of the error estimates from the seed to each point, where it is known.
    """

    points: NDArray[np.float64]
    offsets: NDArray[np.int64]
    time: NDArray[np.float64]
    places: Callable[[], Stencil]
    seeds: NDArray[np.int64]
    ends: NDArray[np.int64]
    error: NDArray[np.float64]
    n_seeds: int
    more: Mapping[str, NDArray[np.float64]] = field(default_factory=dict)
    inside: NDArray[np.int64] | None = None
    so_far: NDArray[np.float64] | None = None

    @cached_property
    def begun(self) -> NDArray[np.int64]:
        """Numbers of the seeds that are inside."""
        return distinct(self.seeds) if self.inside is None else self.inside

    @property
    def n_lines(self) -> int:
        """Number of lines."""
        return len(self.offsets) - 1

    @cached_property
    def stencil(self) -> Stencil:
        """Interpolation of node values to the points."""
        return self.places()

    @cached_property
    def lengths(self) -> NDArray[np.float64]:
        """Arc length of each line, shape (lines,)."""
        steps = np.linalg.norm(np.diff(self.points, axis=0), axis=1)
        total = np.concatenate([[0.0], np.cumsum(steps)])
        first, last = self.offsets[:-1], self.offsets[1:] - 1
        return np.asarray(total[last] - total[first])

    @cached_property
    def doubtful(self) -> NDArray[np.int64]:
        """Lines whose error estimate is more than a hundredth of their length."""
        return np.flatnonzero(self.error > DOUBT * self.lengths)

    def dashed(self, dash: float) -> NDArray[np.bool_] | None:
        """Whether the way from each point (n,) to the next is left out, so that what is doubtful is dashed; None where nothing is.

        That is what of a doubtful line comes after half of the error that it may have was made; all of it where that is not known.
        """
        if len(self.doubtful) == 0:
            return None
        line = np.repeat(np.arange(self.n_lines), np.diff(self.offsets))
        doubt = np.isin(line, self.doubtful)
        if self.so_far is not None:
            doubt &= self.so_far > 0.5 * DOUBT * self.lengths[line]
        return np.asarray(doubt & (np.floor(self.along / dash).astype(np.int64) % 2 == 1))

    def with_lines(self, which: NDArray[np.int64], others: Lines) -> Lines:
        """With other lines (k) from the same seeds in the place of some of its own (k); both have the same values of their own."""
        sizes, own = np.diff(self.offsets), np.ones(self.n_lines, bool)
        own[which] = False
        at = {int(line): n for n, line in enumerate(which)}
        shift = len(self.points)
        rows = np.concatenate([np.arange(self.offsets[n], self.offsets[n + 1]) if own[n] else
                               shift + np.arange(others.offsets[at[n]], others.offsets[at[n] + 1]) for n in range(self.n_lines)])
        sizes[which] = np.diff(others.offsets)

        def both(name: str) -> NDArray[Any]:
            return np.asarray(np.concatenate([getattr(self, name), getattr(others, name)])[rows])

        def placed() -> Stencil:
            return self.stencil.extended(others.stencil).take(rows)

        ends, error = self.ends.copy(), self.error.copy()
        ends[which], error[which] = others.ends, others.error
        more = {name: np.concatenate([values, others.more[name]])[rows] for name, values in self.more.items()}
        so_far = both("so_far") if self.so_far is not None and others.so_far is not None else None
        return Lines(both("points"), np.concatenate([[0], np.cumsum(sizes)]), both("time"), placed, self.seeds, ends, error, self.n_seeds,
                     more, self.inside, so_far)

    @cached_property
    def along(self) -> NDArray[np.float64]:
        """Arc length from the seed, negative upstream of it, shape (n,)."""
        return lengths_from_seeds(self.points, self.offsets, self.time)

    @cached_property
    def seed_rows(self) -> NDArray[np.int64]:
        """Points at which lines began."""
        return np.flatnonzero(self.time == 0.0)

    def told_at(self, point: int) -> str:
        """The story of the line that a point is on."""
        return self.describe(int(np.searchsorted(self.offsets, point, side="right")) - 1)

    def describe(self, line: int) -> str:
        """One line's story: length, error and how it ended."""
        up, down = (int(e) for e in self.ends[line])
        told = [f"{where} it {End(e).words}" for where, e in (("upstream", up), ("downstream", down)) if e]
        if End.CLOSED in (up, down):
            told = ["it closed on itself"]
        return (f"Line {int(self.seeds[line]) + 1}: {', '.join(told)}; length {self.lengths[line]:.4g}, "
                f"error estimate {self.error[line]:.1e}")

    @cached_property
    def census(self) -> tuple[tuple[str, int], ...]:
        """How many ends there are of each kind, the most common first; a closed line has one."""
        closed = (self.ends == End.CLOSED).any(axis=1)
        counts = np.bincount(self.ends[~closed].ravel(), minlength=len(End) + 1)
        counts[End.CLOSED] = closed.sum()
        order = sorted((k for k in End if counts[k]), key=lambda k: -counts[k])
        return tuple((k.words, int(counts[k])) for k in order)


def trace_lines(flow: Flow, mesh: Mesh, velocity: NDArray[Any], seeds: NDArray[np.float64], settings: TraceSettings,
                token: Token | None = None) -> Lines:
    """Follow streamlines.

    Parameters
    ----------
    flow, mesh : Flow, Mesh
        The flow and its packed grids.
    velocity : ndarray, shape (nodes, 3)
        Velocity at the nodes; interpolated (tri)linearly in each cell.
    seeds : ndarray, shape (n, 3)
        Where lines start; those outside give none.
    settings : TraceSettings
        Direction, limits and tolerance.
    token : Token, optional
        Progress and cancel.

    Raises
    ------
    ValueError
        Shapes do not fit.
    CancelledError
        The token was cancelled.

    Notes
    -----
    Pair 5(4) of Dormand & Prince 1980 (J. Comput. Appl. Math. 6) with step control; the cell of each stage is found by
    walking from the last one and Newton's method on its trilinear map. Tetrahedra, in which the velocity is linear, are crossed by
    its series in time instead (after Nielson & Jung 1999, IEEE Trans. Vis. Comput. Graphics 5). A line counts as closed when it
    passes its seed within a fiftieth of the cell's width.
    """
    if velocity.shape != flow.points.shape:
        raise ValueError(f"velocity {velocity.shape} does not fit {flow.points.shape} points")
    seeds = np.ascontiguousarray(seeds, dtype=np.float64).reshape(-1, 3)
    nodes = _as_followed(velocity)
    sample = nodes[::len(nodes) // 65536 | 1]  # a scale is all that is wanted
    still = 1e-7 * float(np.nanmax(np.abs(sample), initial=0.0))
    halves = {"forward": (1.0,), "backward": (-1.0,), "both": (-1.0, 1.0)}[settings.direction]
    tol, tol_cell, max_cells, max_length, max_time = (
        float(v) for v in (settings.tolerance, settings.cell_tolerance, settings.max_cells, settings.max_length, settings.max_time))
    chunk = int(np.clip(len(seeds) // 8, 1, 12))
    parts: dict[int, _Part] = {}
    rooms: list[dict[float, _Half]] = []

    def one(begin: int, end: int) -> None:
        room = rooms.pop() if rooms else {sign: _Half.room(chunk, settings.max_points) for sign in halves}
        for sign, half in room.items():
            kernels.trace(mesh.arrays, nodes, seeds, sign, tol, tol_cell, max_cells, max_length, max_time, still, int(settings.max_points),
                          *half.rows, half.count, half.reason, half.error, begin, end)
        parts[begin] = _join(room.get(-1.0), room.get(1.0), end - begin)
        rooms.append(room)

    run_chunks(one, len(seeds), chunk, token)
    if sum(len(p.total) for p in parts.values()) != len(seeds):
        raise CancelledError
    joined = [parts[b] for b in sorted(parts)] or [_Part(_empty_rows(0), none := np.zeros(0, np.int64), none.reshape(0, 2), np.zeros(0))]
    total, ends, error = (np.concatenate([getattr(p, name) for p in joined]) for name in ("total", "ends", "error"))
    rows = tuple(np.concatenate(column) for column in zip(*(p.rows for p in joined), strict=True))
    (points, places, cells, time), total = stopped(flow, mesh, (rows[0], rows[1], rows[2], rows[3]), total, End.WALL, ends)
    kept = np.flatnonzero(total)
    offsets = np.concatenate([[0], np.cumsum(total[kept])])
    told = tell_walls(flow, points, offsets, ends[kept])
    return Lines(points, offsets, np.ascontiguousarray(time[:, 0]), partial(stencil_of, mesh, cells, places), kept, told, error[kept],
                 len(seeds), so_far=np.ascontiguousarray(time[:, 1]))


_followed: Kept[int, tuple[NDArray[np.float64], weakref.ref[NDArray[Any]]]] = Kept("quantities", lambda held: held[0].nbytes)


def _as_followed(velocity: NDArray[Any]) -> NDArray[np.float64]:
    """A velocity as the kernels want it; a copy is kept while seeds are dragged, and forgotten in its turn when the velocity is gone."""
    if velocity.dtype == np.float64 and velocity.flags.c_contiguous:
        return read_only(velocity)
    found = _followed.ready(id(velocity))
    if found is not None and found[1]() is velocity:
        return found[0]
    nodes = read_only(np.ascontiguousarray(velocity, dtype=np.float64))
    _followed.put(id(velocity), (nodes, weakref.ref(velocity)))
    return nodes


_Rows = tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.int64], NDArray[np.float64]]


def _empty_rows(count: int) -> _Rows:
    """Room for points, places in their cells, block and cell, and time with the error estimate so far."""
    return np.empty((count, 3)), np.empty((count, 3)), np.empty((count, 2), np.int64), np.empty((count, 2))


@dataclass(frozen=True, eq=False)
class _Half:
    """Room in which the lines of a chunk are followed one way; used again for the next chunk."""

    rows: _Rows
    count: NDArray[np.int64]
    reason: NDArray[np.int64]
    error: NDArray[np.float64]

    @staticmethod
    def room(lines: int, max_points: int) -> _Half:
        return _Half(_empty_rows(lines * max_points), np.zeros(lines, np.int64), np.zeros(lines, np.int64), np.zeros(lines))


@dataclass(frozen=True, eq=False)
class _Part:
    """The whole lines of a chunk: rows one line after another, points of each line (0 outside), ends, errors."""

    rows: _Rows
    total: NDArray[np.int64]
    ends: NDArray[np.int64]
    error: NDArray[np.float64]


def _join(back: _Half | None, ahead: _Half | None, lines: int) -> _Part:
    """Backward halves reversed, then forward halves, line by line; those of seeds outside have no points."""
    nothing = _Half.room(lines, 0)
    one, two = back or nothing, ahead or nothing
    behind, before = one.count[:lines].copy(), two.count[:lines]
    ends = np.column_stack([one.reason[:lines], two.reason[:lines]])
    if back is not None and ahead is not None:
        closed = ends[:, 1] == End.CLOSED  # such a line is whole already
        behind = np.where(closed, 0, np.maximum(behind - 1, 0))
        ends[closed, 0] = 0
    total = behind + before
    rows = _empty_rows(int(total.sum()))
    kernels.lay_out(behind, before, *one.rows, one.count, *two.rows, two.count, *rows)
    return _Part(rows, total, ends, one.error[:lines] + two.error[:lines])


def stencil_of(mesh: Mesh, cells: NDArray[np.int64], places: NDArray[np.float64]) -> Stencil:
    """Interpolation to places (n, 3) in cells, of which block and number are given (n, 2)."""
    ids, weights = np.empty((len(cells), 8), np.int64), np.empty((len(cells), 8))
    run_chunks(lambda a, b: sampling_kernels.places_to_weights(mesh.arrays, cells, places, ids, weights, a, b), len(cells), 65536)
    return Stencil(ids, weights)


def tell_walls(flow: Flow, points: NDArray[np.float64], offsets: NDArray[np.int64],
               ends: NDArray[np.int64]) -> NDArray[np.int64]:
    """Where a line left the grid beside a wall, say so."""
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    trees = flow.__dict__.get("_boundary_trees")
    if trees is None:
        trees = [(b.solid, cKDTree(_middles(b.points, b.faces))) for b in flow.boundaries if len(b.faces)]
        flow.__dict__["_boundary_trees"] = trees
    if not any(wall for wall, _ in trees):
        return ends
    for column, at in ((0, offsets[:-1]), (1, offsets[1:] - 1)):
        lines = np.flatnonzero(ends[:, column] == End.LEFT)
        if len(lines) == 0:
            continue
        where = points[at[lines]]
        distance = np.array([tree.query(where)[0] for _, tree in trees])
        walls = np.array([wall for wall, _ in trees])
        ends[lines[walls[distance.argmin(axis=0)]], column] = End.WALL
    return ends


def _middles(points: NDArray[np.float64], faces: NDArray[np.int64]) -> NDArray[np.float64]:
    return np.asarray(points[faces].mean(axis=1))
