"""Lines that go on through periodic sides: followed again from the other side, and drawn where the next passage would be."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.periodic import Periodic, moved
from tidal_lens.sampling.mesh import Mesh, Stencil, TurnedStencil
from tidal_lens.tracing.streamlines import End, Lines, TraceSettings

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
Trace = Callable[[Vec, TraceSettings], Lines]
MOST = 60  # sides that a line goes through
_STEPS = (1e-7, 1e-6, 1e-5, 1e-4)  # of the flow's size: how far inside of the other side a line is taken up


@dataclass(frozen=True, eq=False)
class _Piece:
    """A part of a line, in the sense of the flow: rows of some lines, and the move that brings it to where it is drawn."""

    lines: Lines
    rows: Ints
    move: Vec
    time: float
    so_far: float

    @property
    def points(self) -> Vec:
        return moved(self.lines.points[self.rows], self.move)


def through_sides(trace: Trace, flow: Flow, mesh: Mesh, periodic: Periodic, seeds: Vec, settings: TraceSettings) -> Lines:
    """Follow lines, through periodic sides too.

    Parameters
    ----------
    trace : callable
        Follows lines within the flow from seeds: :func:`tidal_lens.tracing.streamlines.trace_lines`.
    flow, mesh : Flow, Mesh
        The flow and its packed grids.
    periodic : Periodic
        How it goes on beyond its sides.
    seeds : ndarray, shape (n, 3)
        Where lines begin.
    settings : TraceSettings
        Direction, limits and tolerance; limits of length and time hold for a line and not for its parts.
    """
    first = trace(seeds, settings)
    if not first.n_lines:
        return first
    whole = _Whole(first)
    sides = _Sides(flow, mesh, periodic)
    for column, way in ((0, "backward"), (1, "forward")):
        if settings.direction not in (way, "both"):
            continue
        going = np.flatnonzero(whole.ends[:, column] == End.LEFT)
        own = replace(settings, direction="forward" if column else "backward")
        for _ in range(MOST):
            going = _gone_on(trace, sides, whole, going, column, own)
            if not len(going):
                break
    return whole.joined()


class _Whole:
    """Lines as they grow.

    Attributes
    ----------
    ends, error
        As of :class:`tidal_lens.tracing.streamlines.Lines`, of the whole lines.
    """

    def __init__(self, first: Lines) -> None:
        self._first = first
        self._parts = [[_Piece(first, np.arange(a, b), np.eye(4), 0.0, 0.0)]
                       for a, b in zip(first.offsets[:-1], first.offsets[1:], strict=True)]
        self.ends, self.error = first.ends.copy(), first.error.copy()

    def length(self, line: int) -> float:
        """Of all its parts."""
        return float(sum(np.linalg.norm(np.diff(p.lines.points[p.rows], axis=0), axis=1).sum() for p in self._parts[line]))

    def time_at(self, line: int, column: int) -> float:
        """Time from the seed at its upstream or downstream end."""
        piece = self._parts[line][-column]
        return float(piece.lines.time[piece.rows[-column]]) + piece.time

    def outermost(self, line: int, column: int) -> tuple[Vec, Vec]:
        """Its end, as it lies in the flow, and the unit vector along which it came there."""
        piece = self._parts[line][-column]
        last, before = piece.rows[-column], piece.rows[max(len(piece.rows) - 2, 0) if column else min(1, len(piece.rows) - 1)]
        way = piece.lines.points[last] - piece.lines.points[before]
        return piece.lines.points[last], way / max(float(np.linalg.norm(way)), 1e-300)

    def add(self, line: int, column: int, lines: Lines, number: int, rows: Ints, move: Vec) -> None:
        """Another part at one of its ends: rows of some lines, and the move that brings them to the passage that it came from."""
        piece = self._parts[line][-column]
        so_far = float(piece.lines.so_far[piece.rows[-column]]) + piece.so_far if piece.lines.so_far is not None else 0.0
        new = _Piece(lines, rows, piece.move @ move, self.time_at(line, column), so_far)
        self._parts[line].insert(len(self._parts[line]) if column else 0, new)
        self.ends[line, column] = lines.ends[number, column]
        self.error[line] += lines.error[number]

    def joined(self) -> Lines:
        """All lines as one, their parts one after another."""
        first, pieces = self._first, [p for own in self._parts for p in own]
        if len(pieces) == first.n_lines:
            return first
        time = np.concatenate([p.lines.time[p.rows] + p.time for p in pieces])
        offsets = np.concatenate([[0], np.cumsum([sum(len(p.rows) for p in own) for own in self._parts])]).astype(np.int64)
        so_far = None
        if all(p.lines.so_far is not None for p in pieces):
            so_far = np.concatenate([np.asarray(p.lines.so_far)[p.rows] + p.so_far for p in pieces])

        def placed() -> Stencil:
            own = [p.lines.stencil.take(p.rows) for p in pieces]
            turns = np.concatenate([np.broadcast_to(p.move[:3, :3], (len(p.rows), 3, 3)) for p in pieces])
            return TurnedStencil(np.concatenate([s.ids for s in own]), np.concatenate([s.weights for s in own]), turns)

        return Lines(np.concatenate([p.points for p in pieces]), offsets, time, placed, first.seeds, self.ends, self.error, first.n_seeds,
                     first.more, first.inside, so_far)


class _Sides:
    """Which places are at periodic sides, and where the flow goes on from there."""

    def __init__(self, flow: Flow, mesh: Mesh, periodic: Periodic) -> None:
        from scipy.spatial import cKDTree

        self._flow, self._mesh, self._periodic = flow, mesh, periodic
        others = [b.points[b.faces].mean(axis=1) for b in flow.boundaries if b.kind != "periodic" and len(b.faces)]
        self._own = cKDTree(periodic.places)
        self._others = cKDTree(np.concatenate(others)) if others else None

    def moves(self, number: int) -> Vec:
        """So many passages on."""
        return self._periodic.moves(number)

    def beyond(self, places: Vec, ways: Vec) -> tuple[Vec, Ints]:
        """Where lines are taken up that came to places (n, 3) on ways (n, 3), and by how many passages that is back; 0 where they end."""
        found, back = np.full_like(places, np.nan), np.zeros(len(places), np.int64)
        at_side = np.ones(len(places), bool)
        if self._others is not None:
            at_side = np.asarray(self._own.query(places)[0]) <= 1.5 * np.asarray(self._others.query(places)[0])
        for number in (1, -1):
            move = self._periodic.moves(number)
            there, on = moved(places, move), ways @ move[:3, :3].T
            for step in _STEPS:
                left = np.flatnonzero(at_side & (back == 0))
                if not len(left):
                    return found, back
                tried = there[left] + step * self._flow.size * on[left]
                _, inside = self._mesh.locate(tried, 0.0)
                found[left[inside]], back[left[inside]] = tried[inside], number
        return found, back


def _gone_on(trace: Trace, sides: _Sides, whole: _Whole, going: Ints, column: int, settings: TraceSettings) -> Ints:
    """Take lines up on the other side of the periodic one that they came to; those that came to another."""
    left = [(settings.max_length - whole.length(n), settings.max_time - abs(whole.time_at(n, column))) for n in going]
    going = going[[min(one) > 0.0 for one in left]]
    limits = [one for one in left if min(one) > 0.0]
    if not len(going):
        return going
    places, ways = (np.array(v) for v in zip(*(whole.outermost(n, column) for n in going), strict=True))
    taken, back = sides.beyond(places, ways)
    on = np.flatnonzero(back)
    if not len(on):
        return going[:0]
    lines = trace(taken[on], settings)
    again = []
    for n in range(lines.n_lines):
        at = on[lines.seeds[n]]
        own, rows = lines, np.arange(lines.offsets[n], lines.offsets[n + 1])
        if lines.lengths[n] > limits[at][0] or abs(float(np.ptp(lines.time[rows]))) > limits[at][1]:
            own = trace(taken[at:at + 1], replace(settings, max_length=limits[at][0], max_time=limits[at][1]))
            rows = np.arange(own.offsets[0], own.offsets[1]) if own.n_lines else rows[:0]
        if len(rows) < 2:
            continue
        number = 0 if own is not lines else n
        whole.add(going[at], column, own, number, rows, sides.moves(-int(back[at])))
        if own.ends[number, column] == End.LEFT:
            again.append(going[at])
    return np.array(again, np.int64)
