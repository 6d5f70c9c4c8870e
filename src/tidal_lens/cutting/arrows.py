"""Arrows on a surface: places evenly apart on it, and what is drawn at each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting import arrows_kernels as kernels
from tidal_lens.cutting.surface import Surface
from tidal_lens.flow.extent import extent
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.work import read_only

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

    def of_nodes(self, stencil: Stencil, values: NDArray[Any]) -> Vec:
        """The same of node values (nodes, c): only what the places need is interpolated. ``stencil`` is the surface's."""
        own = stencil.take(self.corners.ravel()).apply_vectors(values)
        return np.asarray(np.einsum("nc,nck->nk", self.weights, own.reshape(len(self.corners), 3, -1)))


def even_places(surface: Surface, spacing: float) -> Places:
    """Places on a surface that are about a spacing apart: of a cubic grid the one nearest to the middle of each cell that it passes.

    Parameters
    ----------
    surface : Surface
        The surface.
    spacing : float
        Length; it is widened where it would give millions of places.
    """
    points, faces = read_only(surface.points), read_only(surface.faces)
    if len(faces) == 0:
        return Places(np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3), np.int64), np.empty((0, 3)))
    most, fine = 64, _FINE / spacing
    while (many := kernels.count_places(points, faces, fine, most)) > _MOST and most > 1:
        most //= 2
    low, high = extent(points)
    wide = high - low
    flat = wide < 1e-9 * max(float(high.max() - low.min()), 1e-300)  # a plane lies in the middle of its cells: rounding decides nothing
    span = np.where(flat, 1, np.floor(wide / spacing) + 1).astype(np.int64)
    room = min(many, int(min(float(np.prod(span.astype(np.float64))), 1e12)))
    size = 1 << max(int(2 * room - 1).bit_length(), 4)
    slots, away = np.empty(size, np.int64), np.empty(size)
    corners, shares = np.empty((size, 3), np.int64), np.empty((size, 3))
    kernels.choose_places(points, faces, fine, most, low, spacing, flat, span, slots, away, corners, shares)
    there = np.flatnonzero(slots >= 0)
    there = there[np.argsort(slots[there])]
    corners, shares = corners[there], shares[there]
    a, b, c = (surface.points[corners[:, k]] for k in range(3))
    across = np.cross(b - a, c - a)
    normals = across / np.linalg.norm(across, axis=1)[:, None]
    return Places(np.einsum("nc,ncd->nd", shares, surface.points[corners]), normals, corners, shares)


def places_at(points: Vec, a: NDArray[np.int64], b: NDArray[np.int64], t: Vec) -> Places:
    """Places between pairs of points, a share t (n,) of the way from each of a to each of b; nothing lies across there."""
    share = t[:, None]
    return Places(points[a] + share * (points[b] - points[a]), np.zeros((len(a), 3)), np.column_stack([a, b, b]),
                  np.column_stack([1.0 - t, t, np.zeros(len(t))]))


def thinned(points: Vec, spacing: float) -> NDArray[np.int64]:
    """Numbers of points (n, 3) of which no two share a cell of a cubic grid of a spacing: the first of each cell."""
    if len(points) == 0:
        return np.empty(0, np.int64)
    cell = np.floor((points - points.min(axis=0)) / spacing).astype(np.int64)
    return np.sort(np.unique(cell, axis=0, return_index=True)[1]).astype(np.int64)


def along_lines(points: Vec, offsets: NDArray[np.int64], spacing: float) -> tuple[NDArray[np.int64], NDArray[np.int64], Vec]:
    """Places evenly apart along lines, from half a spacing on: the point before each, that after it, and the share between."""
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    steps[offsets[1:-1] - 1] = 0.0  # from one line to the next
    far = np.concatenate([[0.0], np.cumsum(steps)])
    first, last = far[offsets[:-1]], far[offsets[1:] - 1]
    many = np.floor((last - first) / spacing + 0.5).astype(np.int64)
    line = np.repeat(np.arange(len(many)), many)
    rank = np.arange(len(line)) - np.repeat(np.cumsum(many) - many, many)
    at = first[line] + (rank + 0.5) * spacing
    b = np.clip(np.searchsorted(far, at, side="left"), offsets[line] + 1, offsets[line + 1] - 1)
    a = b - 1
    gap = far[b] - far[a]
    return a, b, np.clip(np.divide(at - far[a], gap, out=np.zeros(len(at)), where=gap > 0.0), 0.0, 1.0)


def across(vectors: Vec) -> Vec:
    """A unit vector across each of vectors (n, 3)."""
    least = np.eye(3)[np.abs(vectors).argmin(axis=1)] if len(vectors) else np.empty((0, 3))
    out = np.cross(vectors, least)
    size = np.linalg.norm(out, axis=1)[:, None]
    return np.asarray(np.divide(out, size, out=np.zeros_like(out), where=size > 0.0))


def part_of(vectors: Vec, normals: Vec, part: str) -> Vec:
    """Vectors (n, 3) as they are (``true``), or only their part ``along`` or ``across`` a surface; nothing where they are not finite."""
    v = np.where(np.isfinite(vectors).all(axis=1, keepdims=True), vectors, 0.0)
    if part == "true":
        return v
    across = (v * normals).sum(axis=1)[:, None] * normals
    return np.asarray(across if part == "across" else v - across)


def shaft_lengths(vectors: Vec, longest: float, *, even: bool) -> Vec:
    """Length of an arrow for each of vectors (n, 3): all the longest, or by size."""
    size = np.linalg.norm(vectors, axis=1)
    most = float(size.max(initial=0.0))
    there = size > 1e-6 * most
    return np.where(there, longest if even else longest * size / max(most, 1e-300), 0.0)


def arrow_lines(start: Vec, vectors: Vec, normals: Vec, lengths: Vec) -> tuple[Vec, NDArray[np.int64], NDArray[np.int64]]:
    """Arrows as lines: a shaft from each place, and its barbs in the plane of the surface.

    Parameters
    ----------
    start, vectors, normals : ndarray, shape (n, 3)
        Where they begin, their directions, and across what their barbs lie.
    lengths : ndarray, shape (n,)
        How long they are; none is drawn where that is nought.

    Returns
    -------
    points, offsets, owners
        Of lines, as of :class:`tidal_lens.tracing.streamlines.Lines`; and the arrow of each point.
    """
    there = np.flatnonzero(lengths > 0.0)
    if len(there) == 0:
        return np.empty((0, 3)), np.zeros(1, np.int64), np.empty(0, np.int64)
    v, length, start, normals = vectors[there], lengths[there], start[there], normals[there]
    way = v / np.linalg.norm(v, axis=1)[:, None]
    tip = start + length[:, None] * way
    points = np.concatenate([np.stack([start, tip], axis=1), _barbs(tip, way, normals, length)], axis=1).reshape(-1, 3)
    begins = 5 * np.arange(len(v))[:, None] + np.array([0, 2])  # the shaft, and both barbs in one stroke
    return points, np.append(begins.ravel(), len(points)).astype(np.int64), np.repeat(there, 5)


def bent_arrows(paths: Vec, normals: Vec, lengths: Vec) -> tuple[Vec, NDArray[np.int64], NDArray[np.int64]]:
    """The same along paths (n, k, 3) that follow the flow."""
    steps = np.linalg.norm(np.diff(paths, axis=1), axis=2)
    there = np.flatnonzero((lengths > 0.0) & (steps[:, -1] > 0.0))
    if len(there) == 0:
        return np.empty((0, 3)), np.zeros(1, np.int64), np.empty(0, np.int64)
    own, k = paths[there], paths.shape[1]
    way = (own[:, -1] - own[:, -2]) / steps[there, -1][:, None]
    points = np.concatenate([own, _barbs(own[:, -1], way, normals[there], lengths[there])], axis=1)
    begins = (k + 3) * np.arange(len(there))[:, None] + np.array([0, k])
    return (points.reshape(-1, 3), np.append(begins.ravel(), len(there) * (k + 3)).astype(np.int64), np.repeat(there, k + 3))


def _barbs(tip: Vec, way: Vec, normals: Vec, length: Vec) -> Vec:
    """Three points of the stroke of both barbs at each tip, shape (n, 3, 3)."""
    side = np.cross(way, normals)
    off = np.linalg.norm(side, axis=1)
    other = np.cross(way, np.eye(3)[np.abs(way).argmin(axis=1)])  # an arrow that stands on the surface
    side = np.where((off > 0.05)[:, None], side / np.maximum(off, 1e-12)[:, None], other / np.linalg.norm(other, axis=1)[:, None])
    back, aside = (_HEAD * length)[:, None] * way, (_SPREAD * length)[:, None] * side
    return np.stack([tip - back + aside, tip, tip - back - aside], axis=1)


def paths_from(start: Vec, lengths: Vec, direction: Callable[[Vec], Vec], steps: int = 8) -> Vec:
    """Paths (n, steps + 1, 3) of given lengths from places along unit directions, by midpoints; they stand still where there is none."""
    paths = [start]
    for _ in range(steps):
        at, step = paths[-1], (lengths / steps)[:, None]
        half = at + 0.5 * step * direction(at)
        paths.append(at + step * direction(half))
    return np.stack(paths, axis=1)
