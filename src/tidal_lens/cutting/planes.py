"""Planes: their own axes, where they meet a box, and what lies within a disc or a rectangle on them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.masking import kept_surface, refined
from tidal_lens.cutting.surface import Surface

Vec = NDArray[np.float64]
_REFINED, _ROUND = 3, 0.15  # how often at most, and down to which share of the radius, faces on a circle are refined
_CORNERS = np.array([[i, j, k] for k in (0, 1) for j in (0, 1) for i in (0, 1)])
_EDGES = [(a, b) for a in range(8) for b in range(a + 1, 8) if int(np.abs(_CORNERS[a] - _CORNERS[b]).sum()) == 1]


def unit(direction: Sequence[float] | Vec) -> Vec:
    """A direction of length one; x where it has no length."""
    d = np.asarray(direction, np.float64)
    size = float(np.linalg.norm(d))
    return d / size if size > 0.0 and np.isfinite(size) else np.array([1.0, 0.0, 0.0])


def crossed(a: Vec, b: Vec) -> Vec:
    """The cross product of two vectors (3,): of many at a time NumPy's own is sooner there."""
    (ax, ay, az), (bx, by, bz) = a.tolist(), b.tolist()
    return np.array([ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx])


def plane_axes(normal: Vec) -> tuple[Vec, Vec]:
    """Unit vectors to the right and up in a plane: up is as near to z as can be, else to y."""
    up = np.array([0.0, 0.0, 1.0]) if abs(normal[2]) < 0.9 else np.array([0.0, 1.0, 0.0])
    right = unit(crossed(up, normal))
    return right, crossed(normal, right)


def reach(bounds: tuple[Vec, Vec], direction: Vec) -> tuple[float, float]:
    """Least and greatest product of a direction with the places of a box."""
    low, high = bounds
    return float(np.minimum(direction * low, direction * high).sum()), float(np.maximum(direction * low, direction * high).sum())


def box_section(bounds: tuple[Vec, Vec], normal: Vec, position: float) -> Vec:
    """Corners round the polygon in which a plane meets a box, shape (n, 3); empty where it does not."""
    corners = np.asarray(bounds[0] + _CORNERS * (bounds[1] - bounds[0]), np.float64)
    gap = corners @ normal - position
    slack = 1e-9 * (float(np.abs(gap).max()) + abs(position))
    found = [corners[n] for n in range(8) if abs(gap[n]) <= slack]
    for a, b in _EDGES:
        if min(abs(gap[a]), abs(gap[b])) > slack and gap[a] * gap[b] < 0.0:
            found.append(corners[a] + gap[a] / (gap[a] - gap[b]) * (corners[b] - corners[a]))
    if not found:
        return np.empty((0, 3))
    points = np.array(found)
    right, up = plane_axes(normal)
    off = points - points.mean(axis=0)
    return points[np.argsort(np.arctan2(off @ up, off @ right))]


def line_in_box(bounds: tuple[Vec, Vec], point: Vec, way: Vec) -> tuple[float, float]:
    """Shares of ``way`` from a point between which a straight line is inside a box; (0, 0) where it misses it."""
    low, high = -np.inf, np.inf
    for axis in range(3):
        if abs(way[axis]) < 1e-12:
            continue
        a, b = sorted(((bounds[0][axis] - point[axis]) / way[axis], (bounds[1][axis] - point[axis]) / way[axis]))
        low, high = max(low, float(a)), min(high, float(b))
    return (low, high) if np.isfinite(low) and low <= high else (0.0, 0.0)


def within_disc(surface: Surface, centre: Vec, radius: float) -> Surface:
    """What of a plane cut lies within a radius of a place on it. Faces that the circle goes through are refined until it is round."""
    for _ in range(_REFINED):
        off = np.linalg.norm(surface.points - centre, axis=1)[surface.faces]
        corners = surface.points[surface.faces]
        size = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
        rough = (off.min(axis=1) < radius) & (off.max(axis=1) + size > radius) & (size > _ROUND * radius)
        if not rough.any():
            break
        surface = refined(surface, rough)
    return kept_surface(surface, radius - np.linalg.norm(surface.points - centre, axis=1))


def within_rectangle(surface: Surface, centre: Vec, axes: tuple[Vec, Vec], width: float, height: float) -> Surface:
    """What of a plane cut lies within a rectangle about a place on it."""
    for axis, size in zip(axes, (width, height), strict=True):
        for sign in (1.0, -1.0):
            surface = kept_surface(surface, 0.5 * size - sign * ((surface.points - centre) @ axis))
    return surface
