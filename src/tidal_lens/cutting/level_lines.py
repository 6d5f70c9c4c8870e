"""Where the values on a surface take a level: contour lines, and places for their labels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import Surface

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
    f = surface.faces
    corners = np.concatenate([f[:, [0, 1, 2]], f[f[:, 2] != f[:, 3]][:, [0, 2, 3]]])
    own = values[corners]
    low, high = own.min(axis=1), own.max(axis=1)  # not finite where a corner is not
    points: list[Vec] = []
    edges: list[NDArray[np.int64]] = []
    level: list[NDArray[np.int64]] = []
    for number, value in enumerate(levels):
        hit = np.flatnonzero((low < value) & (high >= value))
        if len(hit) == 0:
            continue
        c, v = corners[hit], own[hit]
        over = v >= value
        # The corner that is alone on its side: the line crosses both edges that meet there.
        lone = np.where(over.sum(axis=1) == 1, over.argmax(axis=1), (~over).argmax(axis=1))
        row = np.arange(len(hit))
        at, there = c[row, lone], v[row, lone]
        ends = [_crossing(surface.points, at, there, c[row, (lone + k) % 3], v[row, (lone + k) % 3], value) for k in (1, 2)]
        points.append(np.stack([p for p, _ in ends], axis=1))
        edges.append(np.stack([key for _, key in ends], axis=1))
        level.append(np.full(len(hit), number))
    if not points:
        return np.empty((0, 2, 3)), np.empty((0, 2), np.int64), np.empty(0, np.int64)
    return np.concatenate(points), np.concatenate(edges), np.concatenate(level)


def _crossing(points: Vec, a: NDArray[np.int64], va: Vec, b: NDArray[np.int64], vb: Vec, value: float) -> tuple[Vec, NDArray[np.int64]]:
    # From the lesser vertex on, whichever triangle asks: both get the same numbers, and strokes meet without a gap.
    turned = a > b
    a, b, va, vb = np.where(turned, b, a), np.where(turned, a, b), np.where(turned, vb, va), np.where(turned, va, vb)
    share = ((value - va) / (vb - va))[:, None]
    return points[a] + share * (points[b] - points[a]), a * np.int64(len(points)) + b


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
    from scipy.sparse import coo_array  # loaded when first needed, not before the window is up
    from scipy.sparse.csgraph import connected_components

    if len(points) == 0:
        return np.empty((0, 3)), np.empty(0, np.int64)
    _, edge = np.unique(edges, return_inverse=True)
    _, node = np.unique(edge.reshape(-1, 2) * (int(level.max()) + 1) + level[:, None], return_inverse=True)
    node = node.reshape(-1, 2)
    count = int(node.max()) + 1
    _, part = connected_components(coo_array((np.ones(len(node)), (node[:, 0], node[:, 1])), shape=(count, count)), directed=False)
    piece = part[node[:, 0]]
    length = np.linalg.norm(points[:, 1] - points[:, 0], axis=1)
    whole = np.bincount(piece, length)
    middle = points.mean(axis=1)
    weight = np.maximum(whole, 1e-300)
    centre = np.column_stack([np.bincount(piece, length * middle[:, k]) / weight for k in range(3)])
    away = np.linalg.norm(middle - centre[piece], axis=1)
    order = np.lexsort((away, piece))
    first = order[np.append(True, piece[order][1:] != piece[order][:-1])]
    first = first[whole[piece[first]] > _LONG * size]
    first = first[np.argsort(-whole[piece[first]], kind="stable")][:_MOST_LABELS]
    return middle[first], level[first]
