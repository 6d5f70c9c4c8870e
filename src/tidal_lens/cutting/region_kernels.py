"""Compiled loops that measure the part of cells where node values are not negative."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.cutting.marching_kernels import structured_corners
from tidal_lens.jit import kernel, piece

Array = Any
U = np.uint64
# Six tetrahedra round the diagonal from corner 0 to corner 6; of collapsed cells some have no volume.
_WAYS = ((0, 1, 2, 6), (0, 2, 3, 6), (0, 3, 7, 6), (0, 7, 4, 6), (0, 4, 5, 6), (0, 5, 1, 6))
_ROOM = 128


@piece
def _volume(t: Array, n: int) -> float:
    ax, ay, az = t[n, 1, 0] - t[n, 0, 0], t[n, 1, 1] - t[n, 0, 1], t[n, 1, 2] - t[n, 0, 2]
    bx, by, bz = t[n, 2, 0] - t[n, 0, 0], t[n, 2, 1] - t[n, 0, 1], t[n, 2, 2] - t[n, 0, 2]
    cx, cy, cz = t[n, 3, 0] - t[n, 0, 0], t[n, 3, 1] - t[n, 0, 1], t[n, 3, 2] - t[n, 0, 2]
    return float(abs(ax * (by * cz - bz * cy) - ay * (bx * cz - bz * cx) + az * (bx * cy - by * cx)) / 6.0)


@piece
def _between(t: Array, n: int, a: int, b: int, column: int, out: Array, to: int, at: int) -> None:
    """Corner ``at`` of tetrahedron ``to`` where a column is nought between corners a and b of tetrahedron n."""
    va, vb = t[n, a, column], t[n, b, column]
    s = va / (va - vb)
    for c in range(t.shape[2]):
        out[to, at, c] = t[n, a, c] + s * (t[n, b, c] - t[n, a, c])
    out[to, at, column] = 0.0


@piece
def _prism(p: Array, out: Array, to: int) -> None:
    """Three tetrahedra of a prism whose triangles are corners 0 1 2 and 3 4 5 of p (1, 6, columns)."""
    for n in range(3):
        for k in range(4):
            # (0 1 2 5), (0 1 4 5), (0 3 4 5)
            corner = k if k + n < 3 else k + 2
            for c in range(p.shape[2]):
                out[to + n, k, c] = p[0, corner, c]


@piece
def _clip(t: Array, levels: Array, prism: Array, order: Array, sums: Array) -> None:
    """Add volume and mass of the part of tetrahedron 0 of t (room, 4, 4 + k) in which no column from 4 on is negative.

    Columns are x, y, z, density, and the k values.
    """
    top, columns = 1, t.shape[2]
    levels[0] = 4
    while top > 0:
        top -= 1
        column = levels[top]
        inside = 0
        while column < columns:
            inside = 0
            for v in range(4):
                inside += t[top, v, column] >= 0.0
            if inside < 4:
                break
            column += 1
        if column == columns:
            volume = _volume(t, top)
            sums[0] += volume
            sums[1] += volume * 0.25 * (t[top, 0, 3] + t[top, 1, 3] + t[top, 2, 3] + t[top, 3, 3])
            continue
        if inside == 0:
            continue
        first, last = 0, 3
        for v in range(4):  # those inside first
            if t[top, v, column] >= 0.0:
                order[first] = v
                first += 1
            else:
                order[last] = v
                last -= 1
        if inside == 1:
            for v in range(1, 4):
                _between(t, top, order[0], order[v], column, prism, 0, v)
            for c in range(columns):
                prism[0, 0, c] = t[top, order[0], c]
            for v in range(4):
                for c in range(columns):
                    t[top, v, c] = prism[0, v, c]
            levels[top] = column + 1
            top += 1
            continue
        if inside == 3:
            for v in range(3):
                for c in range(columns):
                    prism[0, v, c] = t[top, order[v], c]
                _between(t, top, order[v], order[3], column, prism, 0, v + 3)
        else:
            for v in range(2):
                for c in range(columns):
                    prism[0, 3 * v, c] = t[top, order[v], c]
                _between(t, top, order[v], order[2], column, prism, 0, 3 * v + 1)
                _between(t, top, order[v], order[3], column, prism, 0, 3 * v + 2)
        _prism(prism, t, top)
        for n in range(3):
            levels[top + n] = column + 1
        top += 3


@kernel
def measure(g: Array, over: Array, density: Array, whole: bool, sums: Array, begin: int, end: int) -> None:
    """Add to sums (4,): volume of cells begin … end; volume, mass of the part where no value is negative; cells that have such a part.

    Parameters
    ----------
    g : tuple
        The block, as of :func:`tidal_lens.cutting.marching_kernels.crossed`, cells as they stand in the file.
    over : (k, nodes) float64
        Values at nodes; cells with one that is no number are outside.
    density : (nodes,) float64, or (0,)
    whole : bool
        Whether cells count whole if no value at their corners is negative, and not at all else.
    """
    points, block, rows, _types, _order = g
    k = over.shape[0]
    t, levels, prism = np.empty((_ROOM, 4, 4 + k)), np.empty(_ROOM, np.int64), np.empty((1, 6, 4 + k))
    order, part, own = np.empty(4, np.int64), np.empty(2), np.empty((1, 8), np.int32)
    for entry in range(begin, end):
        if block[0] == 1:
            structured_corners(entry, block[1], block[2], block[3], own, U(0))
        else:
            for c in range(8):
                own[0, c] = rows[U(block[7] + entry), c] + block[1]
        some = every = True
        for n in range(k):
            least, most = np.inf, -np.inf
            for c in range(8):
                v = over[n, own[0, c]]
                if not np.isfinite(v):
                    least = most = -np.inf
                    break
                least, most = min(least, v), max(most, v)
            some &= most >= 0.0
            every &= least >= 0.0
        volume = 0.0
        part[0] = part[1] = 0.0
        for way in _WAYS:
            for v in range(4):
                node = own[0, way[v]]
                for c in range(3):
                    t[0, v, c] = points[node, c]
                t[0, v, 3] = density[node] if len(density) > 0 else 0.0
                for n in range(k):
                    t[0, v, 4 + n] = over[n, node]
            size = _volume(t, 0)
            if size == 0.0:
                continue
            volume += size
            if every:
                part[0] += size
                part[1] += size * 0.25 * (t[0, 0, 3] + t[0, 1, 3] + t[0, 2, 3] + t[0, 3, 3])
            elif some and not whole:
                _clip(t, levels, prism, order, part)
        sums[0] += volume
        sums[1] += part[0]
        sums[2] += part[1]
        sums[3] += part[0] > 0.0
