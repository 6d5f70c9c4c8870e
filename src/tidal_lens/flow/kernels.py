"""Compiled loops over cells: volumes, which way round cells run, and which of them share faces."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.jit import inlined, kernel

U = np.uint64  # of unsigned numbers none needs to be tested for a negative sign
Array = NDArray[Any]


@inlined
def _det(a0: float, a1: float, a2: float, b0: float, b1: float, b2: float, c0: float, c1: float, c2: float) -> float:
    return a0 * (b1 * c2 - b2 * c1) - a1 * (b0 * c2 - b2 * c0) + a2 * (b0 * c1 - b1 * c0)


@kernel
def cell_volumes(points: Array, corners: Array, out: Array, begin: int, end: int) -> None:
    """Signed volumes of (collapsed) hexahedra with bilinear sides.

    points (n, 3), corners (m, 8), out (m,). Grandy 1997, Efficient computation of volume of hexahedral cells, UCRL-ID-128886.
    """
    p = np.empty((8, 3))
    for n in range(begin, end):
        for c in range(8):
            # His corners count i fastest, then j, then k.
            own = corners[n, (0, 1, 3, 2, 4, 5, 7, 6)[c]]
            for a in range(3):
                p[c, a] = points[own, a]
        u0, u1, u2 = p[7, 0] - p[1, 0], p[7, 1] - p[1, 1], p[7, 2] - p[1, 2]
        v0, v1, v2 = p[6, 0] - p[0, 0], p[6, 1] - p[0, 1], p[6, 2] - p[0, 2]
        r0, r1, r2 = p[7, 0] - p[2, 0], p[7, 1] - p[2, 1], p[7, 2] - p[2, 2]
        s0, s1, s2 = p[3, 0] - p[0, 0], p[3, 1] - p[0, 1], p[3, 2] - p[0, 2]
        t0, t1, t2 = p[5, 0] - p[0, 0], p[5, 1] - p[0, 1], p[5, 2] - p[0, 2]
        w0, w1, w2 = p[7, 0] - p[4, 0], p[7, 1] - p[4, 1], p[7, 2] - p[4, 2]
        out[n] = (_det(u0 + v0, u1 + v1, u2 + v2, r0, r1, r2, s0, s1, s2)
                  + _det(v0, v1, v2, r0 + t0, r1 + t1, r2 + t2, w0, w1, w2)
                  + _det(u0, u1, u2, t0, t1, t2, w0 + s0, w1 + s1, w2 + s2)) / 12.0


_S = 0.5 - 0.5 / np.sqrt(3.0)  # Gauss's two points between 0 and 1: _S and 1 - _S
# Weights of four edges side by side at four pairs of such points, both counted with the first of a pair fastest.
_EDGES = np.array([[(1 - s) * (1 - t), s * (1 - t), (1 - s) * t, s * t] for t in (_S, 1 - _S) for s in (_S, 1 - _S)])
_ALONG = np.array([[[0, 1], [3, 2], [4, 5], [7, 6]], [[0, 3], [1, 2], [4, 7], [5, 6]], [[0, 4], [1, 5], [3, 7], [2, 6]]])
# Weights of the corners at the eight points, over eight.
_CORNERS = np.array([[(s if c in (1, 2, 5, 6) else 1 - s) * (t if c in (2, 3, 6, 7) else 1 - t) * (r if c > 3 else 1 - r) / 8.0
                      for c in range(8)] for r in (_S, 1 - _S) for t in (_S, 1 - _S) for s in (_S, 1 - _S)])


@inlined
def _share(points: Array, own: Array, ways: Array, shares: Array, out: Array) -> None:
    """Give each corner of a cell the integral of its trilinear weight; the cell counts as positive whichever way round it runs.

    Two points each way are exact: neither the weights nor the volume's scale are of more than the third degree in any of the three.
    """
    for d in range(3):
        for g in range(4):
            for a in range(3):
                ways[d, g, a] = 0.0
        for e in range(4):
            near, far = own[_ALONG[d, e, 0]], own[_ALONG[d, e, 1]]
            for a in range(3):
                step = points[far, a] - points[near, a]
                for g in range(4):
                    ways[d, g, a] += _EDGES[g, e] * step
    total = 0.0
    for c in range(8):
        shares[c] = 0.0
    for g in range(8):
        i, j, k = g & 1, (g >> 1) & 1, g >> 2
        f, h, m = j + 2 * k, i + 2 * k, i + 2 * j
        scale = _det(ways[0, f, 0], ways[0, f, 1], ways[0, f, 2], ways[1, h, 0], ways[1, h, 1], ways[1, h, 2],
                     ways[2, m, 0], ways[2, m, 1], ways[2, m, 2])
        total += scale
        for c in range(8):
            shares[c] += scale * _CORNERS[g, c]
    hand = 1.0 if total >= 0.0 else -1.0
    for c in range(8):
        out[own[c]] += hand * shares[c]


@kernel
def share_cells(points: Array, corners: Array, out: Array, begin: int, end: int) -> None:
    """Add to each node (n,) its share of the cells begin … end, corners (m, 8): what values are weighted by in their integral."""
    own, ways, shares = np.empty(8, np.int64), np.empty((3, 4, 3)), np.empty(8)
    for cell in range(begin, end):
        for c in range(8):
            own[c] = corners[cell, c]
        _share(points, own, ways, shares, out)


@kernel
def share_lattice(points: Array, ni: int, nj: int, out: Array, begin: int, end: int) -> None:
    """The same of the cells of a structured block in its layers begin … end."""
    own, ways, shares = np.empty(8, np.int64), np.empty((3, 4, 3)), np.empty(8)
    for k in range(begin, end):
        for j in range(nj - 1):
            for i in range(ni - 1):
                n = i + ni * (j + nj * k)
                own[0], own[1], own[2], own[3] = n, n + 1, n + 1 + ni, n + ni
                n += ni * nj
                own[4], own[5], own[6], own[7] = n, n + 1, n + 1 + ni, n + ni
                _share(points, own, ways, shares, out)


@kernel
def turn_round(corners: Array, types: Array, volumes: Array, begin: int, end: int) -> int:
    """Turn cells of negative volume the other way round, in place; their number."""
    turned = 0
    old = np.empty(8, corners.dtype)
    for n in range(begin, end):
        if not volumes[n] < 0.0:
            continue
        turned += 1
        for c in range(8):
            old[c] = corners[n, c]
        if types[n] == 10:
            corners[n, 0], corners[n, 1] = old[1], old[0]
        elif types[n] == 14:
            corners[n, 1], corners[n, 3] = old[3], old[1]
        else:
            for c in range(4):
                corners[n, c], corners[n, c + 4] = old[c + 4], old[c]
    return turned


@inlined
def _is_tetra(corners: Array, row: Any) -> bool:
    """Whether a cell is a collapsed hexahedron of four corners, 0, 1, 2 and 4, all of them different."""
    a, b, c, e = corners[row, U(0)], corners[row, U(1)], corners[row, U(2)], corners[row, U(4)]
    return (corners[row, U(3)] == c and corners[row, U(5)] == e and corners[row, U(6)] == e and corners[row, U(7)] == e
            and a not in (b, c, e) and b not in (c, e) and c != e)


@inlined
def _pair(a: Any, b: Any, c: Any, least: Any) -> Any:
    """The two corners of a triangle that are not the least, as one number."""
    most = max(a, max(b, c))
    return most << 31 | (a + b + c - most - least)


@kernel
def bucket_faces(corners: Array, faces: Array, starts: Array, entries: Array, names: Array, neighbours: Array, fill: bool, begin: int,
                 end: int) -> None:
    """Sort the faces of cells begin … end into buckets by their least corner: count first, then fill.

    A face is entered as cell · 8 + side. In a bucket the name of a triangle is the pair of its other corners; a quadrilateral is called by
    their sum, less than 0. ``starts`` has one entry a node more than there are nodes.
    With that the sides of the cells have no neighbours.
    """
    for cell in range(begin, end):
        row = U(cell)
        if fill:
            for side in range(6):
                neighbours[row, U(side)] = -1
        if _is_tetra(corners, row):
            for side in (0, 1, 2, 4):
                a, b = corners[row, U(1 if side == 1 else 0)], corners[row, U(2 if side < 2 else 1)]
                c = corners[row, U(2 if side == 4 else 4)]
                least = U(min(a, min(b, c)))
                if fill:
                    at = U(starts[least])
                    entries[at] = cell * 8 + side
                    names[at] = _pair(np.int64(a), np.int64(b), np.int64(c), np.int64(least))
                    starts[least] += 1
                else:
                    starts[least + U(1)] += 1
            continue
        for side in range(6):
            n = U(side)
            a, b = corners[row, U(faces[n, 0])], corners[row, U(faces[n, 1])]
            c, e = corners[row, U(faces[n, 2])], corners[row, U(faces[n, 3])]
            if a == c or b == e or (a == b and c == e) or (b == c and e == a):
                continue  # collapsed to an edge or a point
            least = U(min(min(a, b), min(c, e)))
            if fill:
                at = U(starts[least])
                entries[at] = cell * 8 + side
                if a in (b, e):
                    names[at] = _pair(np.int64(a), np.int64(c), np.int64(e if a == b else b), np.int64(least))
                elif c in (b, e):
                    names[at] = _pair(np.int64(a), np.int64(c), np.int64(e if c == b else b), np.int64(least))
                else:
                    names[at] = -(np.int64(a) + b + c + e)
                starts[least] += 1
            else:
                starts[least + U(1)] += 1


@inlined
def _among(one: int, a: int, b: int, c: int, d: int) -> bool:
    return one in (a, b, c, d)


@kernel
def match_faces(corners: Array, faces: Array, starts: Array, entries: Array, names: Array, neighbours: Array, begin: int,
                end: int) -> None:
    """Pair the faces of each bucket begin..end that have the same corners; names of those that are paired become 0."""
    for node in range(begin, end):
        first, last = starts[U(node)], starts[U(node) + U(1)]
        for a in range(first, last):
            name = names[U(a)]
            if name == 0:
                continue
            for b in range(a + 1, last):
                if names[U(b)] != name:
                    continue
                cell, side = U(entries[U(a)] >> 3), U(entries[U(a)] & 7)
                other, back = U(entries[U(b)] >> 3), U(entries[U(b)] & 7)
                if other == cell:
                    continue
                if name > 0:
                    neighbours[cell, side] = other
                    neighbours[other, back] = cell
                    names[U(b)] = 0
                    break
                a0, a1 = corners[cell, U(faces[side, 0])], corners[cell, U(faces[side, 1])]
                a2, a3 = corners[cell, U(faces[side, 2])], corners[cell, U(faces[side, 3])]
                b0, b1 = corners[other, U(faces[back, 0])], corners[other, U(faces[back, 1])]
                b2, b3 = corners[other, U(faces[back, 2])], corners[other, U(faces[back, 3])]
                same = (_among(a0, b0, b1, b2, b3) and _among(a1, b0, b1, b2, b3) and _among(a2, b0, b1, b2, b3)
                        and _among(a3, b0, b1, b2, b3) and _among(b0, a0, a1, a2, a3) and _among(b1, a0, a1, a2, a3)
                        and _among(b2, a0, a1, a2, a3) and _among(b3, a0, a1, a2, a3))
                if same:
                    neighbours[cell, side] = other
                    neighbours[other, back] = cell
                    names[U(b)] = 0
                    break
