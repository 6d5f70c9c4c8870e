"""Arrows on a surface: places evenly apart on it, and what is drawn at each."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import Surface

_MOST = 4_000_000  # places looked at
_FINE = 2.0  # of them, to a spacing along an edge
_HEAD, _SPREAD = 0.32, 0.14  # of an arrow's length: how far back its barbs reach, and how far aside
Vec = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Places:
    """Places on the faces of a surface.

    Attributes
    ----------
    points, normals : ndarray, shape (n, 3)
        Where, and the unit normal of the face there.
    corners : ndarray, shape (n, 3), int64
        Vertices of the triangle that each lies in.
    weights : ndarray, shape (n, 3)
        Share of each of them.
    """

    points: Vec
    normals: Vec
    corners: NDArray[np.int64]
    weights: Vec

    def values(self, at_vertices: Vec) -> Vec:
        """Values (vertices, ...) at the places."""
        return np.asarray(np.einsum("nc,nc...->n...", self.weights, at_vertices[self.corners]))


def even_places(surface: Surface, spacing: float) -> Places:
    """Places on a surface that are about a spacing apart: of a cubic grid the one nearest to the middle of each cell that it passes.

    Parameters
    ----------
    surface : Surface
        The surface.
    spacing : float
        Length; it is widened where it would give millions of places.
    """
    f = surface.faces
    corners = np.concatenate([f[:, [0, 1, 2]], f[f[:, 2] != f[:, 3]][:, [0, 2, 3]]])
    a, b, c = (surface.points[corners[:, k]] for k in range(3))
    across = np.cross(b - a, c - a)
    size = np.linalg.norm(across, axis=1)
    good = size > 0
    corners, a, b, c, across, size = corners[good], a[good], b[good], c[good], across[good], size[good]
    longest = np.sqrt(np.maximum.reduce([((p - q) ** 2).sum(axis=1) for p, q in ((a, b), (b, c), (c, a))]))
    parts = np.clip(np.ceil(_FINE * longest / spacing), 1, 64).astype(np.int64)
    while float((parts**2).sum()) > _MOST and parts.max() > 1:
        parts = np.maximum(parts // 2, 1)
    triangle: list[NDArray[np.int64]] = []
    weights: list[Vec] = []
    for n in np.unique(parts):
        own = np.flatnonzero(parts == n)
        shares = _lattice(int(n))
        triangle.append(np.repeat(own, len(shares)))
        weights.append(np.tile(shares, (len(own), 1)))
    if not triangle:
        return Places(np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3), np.int64), np.empty((0, 3)))
    which, share = np.concatenate(triangle), np.concatenate(weights)
    points = share[:, :1] * a[which] + share[:, 1:2] * b[which] + share[:, 2:] * c[which]
    chosen = _nearest_to_middles(points, spacing)
    which, share = which[chosen], share[chosen]
    return Places(points[chosen], across[which] / size[which, None], corners[which], share)


def _lattice(n: int) -> Vec:
    """Middles of the n² triangles that a triangle falls into, as shares of its corners."""
    i, j = (g.ravel() for g in np.meshgrid(np.arange(n), np.arange(n), indexing="ij"))
    up, down = i + j < n, i + j < n - 1
    first = np.concatenate([(i[up] + 1 / 3), (i[down] + 2 / 3)]) / n
    second = np.concatenate([(j[up] + 1 / 3), (j[down] + 2 / 3)]) / n
    return np.column_stack([1.0 - first - second, first, second])


def _nearest_to_middles(points: Vec, spacing: float) -> NDArray[np.int64]:
    """Of the points in each cell of a cubic grid, the one nearest to its middle."""
    low = points.min(axis=0)
    flat = np.ptp(points, axis=0) < 1e-9 * max(float(np.ptp(points)), 1e-300)
    # A plane lies in the middle of its cells: rounding decides nothing.
    scaled = np.where(flat, 0.5, (points - low) / spacing)
    cell = np.floor(scaled).astype(np.int64)
    away = ((scaled - cell - 0.5) ** 2).sum(axis=1)
    span = cell.max(axis=0) + 1
    key = (cell[:, 0] * span[1] + cell[:, 1]) * span[2] + cell[:, 2]
    order = np.lexsort((away, key))
    first = np.append(True, key[order][1:] != key[order][:-1])
    return np.sort(order[first])


def arrow_lines(places: Places, vectors: Vec, longest: float, *, even: bool, along: bool) -> tuple[Vec, NDArray[np.int64]]:
    """Arrows as lines: a shaft from each place, and its barbs in the plane of the surface.

    Parameters
    ----------
    places : Places
        Where they begin.
    vectors : ndarray, shape (n, 3)
        What they show; none is drawn where it is not finite or nothing.
    longest : float
        Length of the longest.
    even : bool
        All as long as that; else by size.
    along : bool
        Only the part along the surface.

    Returns
    -------
    points, offsets
        Of lines, as of :class:`tidal_lens.tracing.streamlines.Lines`.
    """
    v = np.where(np.isfinite(vectors), vectors, 0.0)
    if along:
        v = v - (v * places.normals).sum(axis=1)[:, None] * places.normals
    size = np.linalg.norm(v, axis=1)
    there = size > 1e-6 * size.max(initial=0.0)
    v, size, start, normals = v[there], size[there], places.points[there], places.normals[there]
    if len(v) == 0:
        return np.empty((0, 3)), np.zeros(1, np.int64)
    way = v / size[:, None]
    length = np.full(len(v), longest) if even else longest * size / size.max()
    tip = start + length[:, None] * way
    side = np.cross(way, normals)
    off = np.linalg.norm(side, axis=1)
    other = np.cross(way, np.eye(3)[np.abs(way).argmin(axis=1)])  # an arrow that stands on the surface
    side = np.where((off > 0.05)[:, None], side / np.maximum(off, 1e-12)[:, None], other / np.linalg.norm(other, axis=1)[:, None])
    back, aside = (_HEAD * length)[:, None] * way, (_SPREAD * length)[:, None] * side
    points = np.stack([start, tip, tip - back + aside, tip, tip - back - aside], axis=1).reshape(-1, 3)
    begins = 5 * np.arange(len(v))[:, None] + np.array([0, 2])  # the shaft, and both barbs in one stroke
    return points, np.append(begins.ravel(), len(points)).astype(np.int64)
