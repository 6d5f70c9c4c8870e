"""The nearest places of surfaces of triangles."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
_NEAR = 12  # triangles looked at for the one that is nearest


def nearest_on(corners: Vec, seeds: Vec) -> tuple[Ints, Vec]:
    """The triangle (n,) of ``corners`` (m, 3, 3) nearest to each seed (n, 3), and the shares (n, 3) of its corners at its nearest place.

    Looked for among those whose middles are nearest.
    """
    from scipy.spatial import cKDTree

    many = min(_NEAR, len(corners))
    _, near = cKDTree(corners.mean(axis=1)).query(seeds, k=many)
    near = np.asarray(near).reshape(len(seeds), many)
    best, shares, least = near[:, 0].astype(np.int64), np.full((len(seeds), 3), 1.0 / 3.0), np.full(len(seeds), np.inf)
    for k in range(many):
        own = corners[near[:, k]]
        b = closest_shares(own, seeds)
        gap = np.linalg.norm(np.einsum("nk,nkd->nd", b, own) - seeds, axis=1)
        nearer = gap < least
        best[nearer], shares[nearer], least[nearer] = near[nearer, k], b[nearer], gap[nearer]
    return best, shares


def closest_shares(corners: Vec, p: Vec) -> Vec:
    """Shares (n, 3) of the corners (n, 3, 3) of the place of each triangle that is nearest to a point (n, 3)."""
    a, ab, ac = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    off = p - a
    d00, d01, d11 = (ab * ab).sum(axis=1), (ab * ac).sum(axis=1), (ac * ac).sum(axis=1)
    d20, d21 = (off * ab).sum(axis=1), (off * ac).sum(axis=1)
    det = d00 * d11 - d01 * d01
    v, w = (d11 * d20 - d01 * d21) / det, (d00 * d21 - d01 * d20) / det
    best = np.column_stack([1.0 - v - w, v, w])
    outside = (best < 0.0).any(axis=1)
    gap = np.full(len(p), np.inf)
    for k in range(3):  # then it is on an edge
        one, two = (k + 1) % 3, (k + 2) % 3
        way = corners[:, two] - corners[:, one]
        t = np.clip(((p - corners[:, one]) * way).sum(axis=1) / (way * way).sum(axis=1), 0.0, 1.0)
        far = np.linalg.norm(corners[:, one] + t[:, None] * way - p, axis=1)
        use = outside & (far < gap)
        best[use] = 0.0
        best[use, one], best[use, two] = 1.0 - t[use], t[use]
        gap[use] = far[use]
    return best
