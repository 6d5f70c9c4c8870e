"""Periodic sides: how the flow goes on beyond them, turned by a pitch or shifted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.annulus import Triple, passages_of
from tidal_lens.flow.case import Boundary, Flow

Vec = NDArray[np.float64]
_SAMPLE, _MET = 2000, 0.4  # places looked at, and how many of them have to meet another: those of one side
_NEAR = 0.6  # of the distance between neighbouring places


@dataclass(frozen=True, eq=False)
class Periodic:
    """The way from one periodic side to the other.

    Attributes
    ----------
    move : ndarray, shape (4, 4)
        To where the flow next to this one stands.
    places : ndarray, shape (n, 3)
        Middles of the faces of all periodic sides.
    """

    move: Vec
    places: Vec

    def moves(self, number: int) -> Vec:
        """So many passages on; back for negative numbers."""
        return np.asarray(np.linalg.matrix_power(self.move if number >= 0 else np.linalg.inv(self.move), abs(number)))


def moved(points: Vec, move: Vec) -> Vec:
    """Points (n, 3) moved."""
    return np.asarray(points @ move[:3, :3].T + move[:3, 3])


def turn_about(point: Triple, axis: Triple, angle: float) -> Vec:
    """A turn about an axis, right-handed, shape (4, 4) (Rodrigues' formula)."""
    way = np.array(axis, np.float64)
    x, y, z = way / max(float(np.linalg.norm(way)), 1e-300)
    cross = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])
    turn = np.eye(3) + np.sin(angle) * cross + (1.0 - np.cos(angle)) * cross @ cross
    out = np.eye(4)
    out[:3, :3], out[:3, 3] = turn, np.array(point) - turn @ np.array(point)
    return out


def periodic_of(flow: Flow, point: Triple, axis: Triple, number: int = 0) -> Periodic | None:
    """How the flow goes on beyond its periodic sides; None where it has none, or neither a pitch nor a shift brings one onto the other.

    Parameters
    ----------
    flow : Flow
        The flow; boundaries of the kind ``periodic`` count.
    point, axis : tuple of float
        Axis of the machine, if it is one.
    number : int
        Passages round it; as recognised for 0.

    Notes
    -----
    Kept with the flow: it is asked for by every line that is followed.
    """
    key = point, axis, number
    ready: tuple[object, Periodic | None] | None = flow.__dict__.get("_periodic")
    if ready is None or ready[0] != key:
        ready = flow.__dict__["_periodic"] = key, _found(flow, point, axis, number)
    return ready[1]


def _found(flow: Flow, point: Triple, axis: Triple, number: int) -> Periodic | None:
    from scipy.spatial import cKDTree

    sides = [b for b in flow.boundaries if b.kind == "periodic" and len(b.faces)]
    if not sides:
        return None
    places = np.concatenate([b.points[b.faces].mean(axis=1) for b in sides])
    tree = cKDTree(places)
    some = places[:: max(1, len(places) // _SAMPLE)]
    if len(places) < 2:
        return None
    spacing = np.asarray(tree.query(some, k=2)[0])[:, 1]
    for move in _candidates(flow, sides, point, axis, number):
        gap, _ = tree.query(moved(some, move))
        if (gap <= _NEAR * spacing + 1e-9 * flow.size).mean() >= _MET:
            return Periodic(move, places)
    return None


def _candidates(flow: Flow, sides: list[Boundary], point: Triple, axis: Triple, number: int) -> list[Vec]:
    """Moves that may bring one side onto the other, the likeliest first."""
    out = []
    count = number if number > 1 else passages_of(flow, point, axis)
    if count > 1:
        out.append(turn_about(point, axis, 2.0 * np.pi / count))
    if len(sides) == 2:
        first, second = (_middle(b) for b in sides)
        shift = np.eye(4)
        shift[:3, 3] = second - first
        out += [shift, np.asarray(np.linalg.inv(shift))]
    return out


def _middle(boundary: Boundary) -> Vec:
    """Of its area."""
    a, b, c, d = (boundary.points[boundary.faces[:, k]] for k in range(4))
    area = np.linalg.norm(np.cross(c - a, np.where((boundary.faces[:, 2] == boundary.faces[:, 3])[:, None], c - b, d - b)), axis=1)
    middles = boundary.points[boundary.faces].mean(axis=1)
    return np.asarray((area[:, None] * middles).sum(axis=0) / max(float(area.sum()), 1e-300))
