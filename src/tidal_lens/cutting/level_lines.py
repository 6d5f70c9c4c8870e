"""Where the values on a surface take a level: contour lines, and places for their labels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting import level_kernels as kernels
from tidal_lens.cutting.surface import Surface
from tidal_lens.work import read_only, run_chunks

_CHUNK = 4096  # faces
_LONG = 0.08  # of the surface's size: shorter pieces of a line get no label
_MOST_LABELS = 120
Vec = NDArray[np.float64]


def level_lines(surface: Surface, values: Vec, levels: Sequence[float]) -> tuple[Vec, NDArray[np.int64], NDArray[np.int64]]:
    """Strokes along which values, linear in each triangle, take a level.

    Parameters
    ----------
    surface : Surface
        The surface; quadrilaterals count as two triangles.
    values : ndarray, shape (vertices,)
        Where they are not finite there is no line.
    levels : sequence of float
        The levels.

    Returns
    -------
    points : ndarray, shape (strokes, 2, 3)
        Both ends of each.
    edges : ndarray, shape (strokes, 2), int64
        A number of the edge that each end lies on: strokes of one level that share it meet there.
    level : ndarray, shape (strokes,), int64
        Number of the level.
    """
    points, faces = read_only(surface.points), read_only(surface.faces)
    own, order = read_only(np.ascontiguousarray(values, np.float64)), np.argsort(np.asarray(levels, np.float64), kind="stable")
    wanted = np.asarray(levels, np.float64)[order]
    counts = np.zeros(-(-len(faces) // _CHUNK) + 1, np.int64)

    def count(begin: int, end: int) -> None:
        counts[begin // _CHUNK + 1] = kernels.count_strokes(faces, own, wanted, begin, end)

    run_chunks(count, len(faces), _CHUNK)
    rows = counts.cumsum()
    n = int(rows[-1])
    places, edges, level = np.empty((n, 2, 3)), np.empty((n, 2), np.int64), np.empty(n, np.int64)
    run_chunks(lambda begin, end: kernels.fill_strokes(points, faces, own, wanted, places, edges, level, rows[begin // _CHUNK], begin, end),
               len(faces), _CHUNK)
    return places, edges, order[level]


def label_places(points: Vec, edges: NDArray[np.int64], level: NDArray[np.int64], size: float) -> tuple[Vec, NDArray[np.int64]]:
    """A place on each long piece of each line, the longest first, and its level.

    Parameters
    ----------
    points, edges, level
        As of :func:`level_lines`.
    size : float
        Of the surface.

    Returns
    -------
    ndarray, shape (n, 3)
        On the line, as near as may be to the middle of the piece.
    ndarray, shape (n,)
        Number of the level.
    """
    if len(points) == 0:
        return np.empty((0, 3)), np.empty(0, np.int64)
    slots = np.full(1 << max(int(4 * len(points)).bit_length(), 4), -1, np.int64)
    parent, sums, nearest = np.empty(len(points), np.int64), np.empty((len(points), 5)), np.empty(len(points), np.int64)
    kernels.pieces_of(points, edges, level, slots, parent, sums, nearest)
    first = np.flatnonzero(parent == np.arange(len(points)))
    first = first[sums[first, 0] > _LONG * size]
    chosen = nearest[first[np.argsort(-sums[first, 0], kind="stable")][:_MOST_LABELS]]
    return points[chosen].mean(axis=1), level[chosen]
