"""Where lines start."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_BITS = 10  # of each coordinate, in the order in which triangles are gone through
_SHARES = np.array([0.7548776662466927, 0.5698402909980532])  # of the plastic number: M. Roberts' additive sequence in two dimensions


def seeds_on_line(start: tuple[float, float, float], end: tuple[float, float, float], count: int) -> NDArray[np.float64]:
    """Evenly spaced seeds from start to end, both included; shape (count, 3)."""
    return np.linspace(np.array(start, float), np.array(end, float), count) if count > 1 else np.array([start], float)


def seeds_on_faces(points: NDArray[np.float64], faces: NDArray[np.int64], count: int) -> NDArray[np.float64]:
    """Seeds evenly by area over a surface, the same each time.

    Triangles are gone through along a curve that keeps near ones together (Morton 1966), and a seed is put where each equal part of
    the area is half spent.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Vertices.
    faces : ndarray, shape (m, 4)
        Corners; a triangle repeats its last one.
    count : int
        How many.

    Returns
    -------
    ndarray, shape (count, 3)
        None on a surface without area.
    """
    triangles = np.concatenate([faces[:, [0, 1, 2]], faces[faces[:, 2] != faces[:, 3]][:, [0, 2, 3]]])
    corners = points[triangles]
    areas = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    some = areas > 0.0
    if not some.any():
        return np.empty((0, 3))
    corners, areas = corners[some], areas[some]
    order = np.argsort(_along_curve(corners.mean(axis=1)), kind="stable")
    spent = np.cumsum(areas[order])
    at = order[np.searchsorted(spent, (np.arange(count) + 0.5) / count * spent[-1]).clip(max=len(order) - 1)]
    share = (0.5 + np.arange(1, count + 1)[:, None] * _SHARES) % 1.0
    share = np.where(share.sum(axis=1, keepdims=True) > 1.0, 1.0 - share, share)
    a, b, c = corners[at, 0], corners[at, 1], corners[at, 2]
    return np.asarray(a + share[:, :1] * (b - a) + share[:, 1:] * (c - a))


def _along_curve(places: NDArray[np.float64]) -> NDArray[np.int64]:
    low = places.min(axis=0)
    size = float((places.max(axis=0) - low).max())
    cells = ((places - low) / (size or 1.0) * ((1 << _BITS) - 1)).astype(np.int64)
    key = np.zeros(len(places), np.int64)
    for bit in range(_BITS):
        for axis in range(3):
            key |= ((cells[:, axis] >> bit) & 1) << (3 * bit + axis)
    return key
