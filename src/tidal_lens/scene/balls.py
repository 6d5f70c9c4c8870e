"""Balls as surfaces: the more there are, the plainer each is."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_GOLDEN = 0.5 * (1.0 + 5.0 ** 0.5)
_OCTAHEDRON = (np.array([(1, 0, 0), (-1, 0, 0), (0, 1, 0), (0, -1, 0), (0, 0, 1), (0, 0, -1)], float),
               np.array([(0, 2, 4), (2, 1, 4), (1, 3, 4), (3, 0, 4), (2, 0, 5), (1, 2, 5), (3, 1, 5), (0, 3, 5)]))
_TWELVE = np.array([np.roll((0.0, s, t), n) for n in range(3) for s in (-1.0, 1.0) for t in (-_GOLDEN, _GOLDEN)])
# Up to so many points each ball has so many faces; more points than the last are drawn as dots.
FINE, PLAIN, MOST = 4_000, 30_000, 150_000


def _icosahedron() -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Twelve corners on the unit sphere, and twenty faces seen from outside anticlockwise."""
    from scipy.spatial import ConvexHull

    corners = _TWELVE / np.linalg.norm(_TWELVE[0])
    return corners, _outward(corners, ConvexHull(corners).simplices)


def _outward(corners: NDArray[np.float64], faces: NDArray[np.integer]) -> NDArray[np.int64]:
    a, b, c = (corners[faces[:, k]] for k in range(3))
    inward = (np.cross(b - a, c - a) * a).sum(axis=1) < 0.0
    return np.where(inward[:, None], faces[:, ::-1], faces).astype(np.int64)


def _halved(corners: NDArray[np.float64], faces: NDArray[np.int64]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Each face in four, new corners on the unit sphere."""
    ends = np.sort(np.concatenate([faces[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    edges, which = np.unique(ends, axis=0, return_inverse=True)
    p, q, r = (len(corners) + part for part in which.ravel().reshape(3, -1))
    middle = corners[edges].sum(axis=1)
    a, b, c = faces.T
    parts = [np.column_stack(t) for t in ((a, p, r), (p, b, q), (r, q, c), (p, q, r))]
    return np.concatenate([corners, middle / np.linalg.norm(middle, axis=1)[:, None]]), np.concatenate(parts)


def ball(count: int) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Corners (k, 3) on the unit sphere and faces (m, 3) of a ball, where so many are drawn."""
    if count > PLAIN:
        return _OCTAHEDRON
    return _halved(*_icosahedron()) if count <= FINE else _icosahedron()


def balls(points: NDArray[np.float64], radii: NDArray[np.float64]) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.int64]]:
    """Corners, normals and faces (m, 3) of balls at points (n, 3) with radii (n,), ball by ball."""
    corners, faces = ball(len(points))
    count = len(corners)
    places = points[:, None, :] + radii[:, None, None] * corners
    normals = np.broadcast_to(corners, (len(points), *corners.shape))
    numbers = (count * np.arange(len(points)))[:, None, None] + faces
    return (places.reshape(-1, 3).astype(np.float32), normals.reshape(-1, 3).astype(np.float32), numbers.reshape(-1, 3))
