"""Compiled loops for locating points in cells and for following lines through them.

A mesh is passed as one tuple ``m`` of arrays (see :class:`tidal_lens.sampling.mesh.Mesh`):

    0 points (n, 3)           3 neighbours (c, 6) int32, -1 outside    6 level starts (blocks, 12) int64
    1 blocks (b, 10) int64    4 kinds (c,) uint8, 10 is a tetrahedron  7 level sizes (blocks, 12) int64
    2 corners (c, 8) int32    5 order (all cells,) int32               8 boxes (nodes, 6)

Columns of ``blocks``: 0 structured?, 1 first point, 2-4 points along i, j, k, 5 first cell, 6 cells, 7 first row in the
unstructured tables, 8 levels of the tree, 9 first entry in ``order``.
A place is (block, cell within the block, r, s, t). Scratch of a line: ``st`` int64 (5): block, cell, i, j, k;
``q`` (3): r, s, t; ``cx`` (8, 3): trilinear coefficients of the position; ``cv``: of the velocity; ``ids`` (8).
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel

Array = Any
INSIDE = 1e-9
LEFT, STILL, CLOSED, LENGTH, STEPS, OUTSIDE = 1, 2, 3, 4, 5, 6


@kernel
def cell_nodes(m: Array, block: int, cell: int, ids: Array) -> None:
    """Write the eight corner nodes of a cell."""
    b = m[1][block]
    if b[0] == 1:
        ni, nj = b[2], b[3]
        ci, cj = ni - 1, nj - 1
        i = cell % ci
        j = (cell // ci) % cj
        k = cell // (ci * cj)
        n = b[1] + i + ni * (j + nj * k)
        layer = ni * nj
        ids[0] = n
        ids[1] = n + 1
        ids[2] = n + 1 + ni
        ids[3] = n + ni
        ids[4] = n + layer
        ids[5] = n + layer + 1
        ids[6] = n + layer + 1 + ni
        ids[7] = n + layer + ni
    else:
        row = b[7] + cell
        for c in range(8):
            ids[c] = m[2][row, c] + b[1]


@kernel
def _coefficients(values: Array, ids: Array, out: Array) -> None:
    for d in range(3):
        a = values[ids[0], d]
        b = values[ids[1], d]
        c = values[ids[2], d]
        e = values[ids[3], d]
        f = values[ids[4], d]
        g = values[ids[5], d]
        h = values[ids[6], d]
        p = values[ids[7], d]
        out[0, d] = a
        out[1, d] = b - a
        out[2, d] = e - a
        out[3, d] = f - a
        out[4, d] = a - b + c - e
        out[5, d] = a - e - f + p
        out[6, d] = a - b - f + g
        out[7, d] = b - a - c + e + f - g + h - p


@kernel
def _at(c: Array, r: float, s: float, t: float, out: Array) -> None:
    for d in range(3):
        out[d] = c[0, d] + r * (c[1, d] + s * c[4, d] + t * (c[6, d] + s * c[7, d])) + s * (c[2, d] + t * c[5, d]) + t * c[3, d]


@kernel
def _jacobian(c: Array, r: float, s: float, t: float, jac: Array) -> float:
    """Write d(x)/d(r, s, t) as jac[d, axis]; return the determinant."""
    for d in range(3):
        jac[d, 0] = c[1, d] + s * c[4, d] + t * (c[6, d] + s * c[7, d])
        jac[d, 1] = c[2, d] + r * c[4, d] + t * (c[5, d] + r * c[7, d])
        jac[d, 2] = c[3, d] + s * c[5, d] + r * (c[6, d] + s * c[7, d])
    return (jac[0, 0] * (jac[1, 1] * jac[2, 2] - jac[1, 2] * jac[2, 1])
            - jac[0, 1] * (jac[1, 0] * jac[2, 2] - jac[1, 2] * jac[2, 0])
            + jac[0, 2] * (jac[1, 0] * jac[2, 1] - jac[1, 1] * jac[2, 0]))


@kernel
def _solve(jac: Array, det: float, x: float, y: float, z: float, out: Array) -> None:
    inv = 1.0 / det
    out[0] = inv * (x * (jac[1, 1] * jac[2, 2] - jac[1, 2] * jac[2, 1])
                    - jac[0, 1] * (y * jac[2, 2] - jac[1, 2] * z) + jac[0, 2] * (y * jac[2, 1] - jac[1, 1] * z))
    out[1] = inv * (jac[0, 0] * (y * jac[2, 2] - jac[1, 2] * z) - x * (jac[1, 0] * jac[2, 2] - jac[1, 2] * jac[2, 0])
                    + jac[0, 2] * (jac[1, 0] * z - y * jac[2, 0]))
    out[2] = inv * (jac[0, 0] * (jac[1, 1] * z - y * jac[2, 1]) - jac[0, 1] * (jac[1, 0] * z - y * jac[2, 0])
                    + x * (jac[1, 0] * jac[2, 1] - jac[1, 1] * jac[2, 0]))


@kernel
def _is_tetra(m: Array, st: Array) -> bool:
    b = m[1][st[0]]
    return b[0] == 0 and m[4][b[7] + st[1]] == 10


@kernel
def _load(m: Array, vel: Array, st: Array, ids: Array, cx: Array, cv: Array) -> None:
    b = m[1][st[0]]
    cell_nodes(m, st[0], st[1], ids)
    if b[0] == 1:
        ci, cj = b[2] - 1, b[3] - 1
        st[2] = st[1] % ci
        st[3] = (st[1] // ci) % cj
        st[4] = st[1] // (ci * cj)
    _coefficients(m[0], ids, cx)
    _coefficients(vel, ids, cv)


@kernel
def _invert(p: Array, q: Array, cx: Array, jac: Array, tmp: Array) -> bool:
    """Newton on the trilinear map from the guess in q; False where the map is singular or runs away."""
    for _ in range(12):
        _at(cx, q[0], q[1], q[2], tmp)
        x, y, z = p[0] - tmp[0], p[1] - tmp[1], p[2] - tmp[2]
        det = _jacobian(cx, q[0], q[1], q[2], jac)
        if det == 0.0:
            return False
        _solve(jac, det, x, y, z, tmp)
        step = 0.0
        for d in range(3):
            a = tmp[d]
            if a > 1.0:
                a = 1.0
            elif a < -1.0:
                a = -1.0
            q[d] += a
            if q[d] > 2.5:
                q[d] = 2.5
            elif q[d] < -1.5:
                q[d] = -1.5
            if abs(a) > step:
                step = abs(a)
        if not step < 1e300:
            return False
        if step < 3e-6:  # quadratic: the next step would be below 1e-11
            return True
    return False


@kernel
def _invert_tetra(p: Array, q: Array, cx: Array, jac: Array, tmp: Array) -> bool:
    """Barycentric coordinates of the collapsed corners: la at r=s=t=0, lb at r, lc at s, ld at t, kept as (lb, lc, ld)."""
    det = _tetra_edges(cx, jac)
    if det == 0.0:
        return False
    _solve(jac, det, p[0] - cx[0, 0], p[1] - cx[0, 1], p[2] - cx[0, 2], tmp)
    for d in range(3):
        q[d] = tmp[d]
    return abs(tmp[0]) < 1e300


@kernel
def _tetra_edges(cx: Array, jac: Array) -> float:
    # corners a, b, c, c, d, d, d, d: b - a is c1, c - a is c2 (c[2] = corner 3 - corner 0), d - a is c3
    for d in range(3):
        jac[d, 0] = cx[1, d]
        jac[d, 1] = cx[2, d]
        jac[d, 2] = cx[3, d]
    return (jac[0, 0] * (jac[1, 1] * jac[2, 2] - jac[1, 2] * jac[2, 1])
            - jac[0, 1] * (jac[1, 0] * jac[2, 2] - jac[1, 2] * jac[2, 0])
            + jac[0, 2] * (jac[1, 0] * jac[2, 1] - jac[1, 1] * jac[2, 0]))


@kernel
def _velocity(tetra: bool, q: Array, cv: Array, out: Array) -> None:
    if tetra:
        for d in range(3):
            out[d] = cv[0, d] + q[0] * cv[1, d] + q[1] * cv[2, d] + q[2] * cv[3, d]
    else:
        _at(cv, q[0], q[1], q[2], out)


@kernel
def _clear_of(tetra: bool, q: Array) -> float:
    """How far the place is outside its cell, in cell widths; 0 or less inside."""
    worst = -1.0
    for d in range(3):
        if -q[d] > worst:
            worst = -q[d]
        if not tetra and q[d] - 1.0 > worst:
            worst = q[d] - 1.0
    if tetra and q[0] + q[1] + q[2] - 1.0 > worst:
        worst = q[0] + q[1] + q[2] - 1.0
    return worst


@kernel
def _walk(m: Array, vel: Array, p: Array, st: Array, q: Array, ids: Array, cx: Array, cv: Array, jac: Array,
          tmp: Array) -> bool:
    """Walk from the present cell to the one that holds p; False when it leaves the block or loses its way."""
    for _ in range(64):
        b = m[1][st[0]]
        tetra = _is_tetra(m, st)
        good = _invert_tetra(p, q, cx, jac, tmp) if tetra else _invert(p, q, cx, jac, tmp)
        if not good:
            return False
        if _clear_of(tetra, q) <= INSIDE:
            return True
        if b[0] == 1:
            moved = False
            for d in range(3):
                if q[d] < -INSIDE and st[2 + d] > 0:
                    st[2 + d] -= 1
                    q[d] += 1.0
                    moved = True
                elif q[d] > 1.0 + INSIDE and st[2 + d] < b[2 + d] - 2:
                    st[2 + d] += 1
                    q[d] -= 1.0
                    moved = True
            if not moved:
                return False
            st[1] = st[2] + (b[2] - 1) * (st[3] + (b[3] - 1) * st[4])
        else:
            row = b[7] + st[1]
            best, side = 0.0, -1
            if tetra:
                # faces of the collapsed hexahedron: 0 r=0 (a c d), 1 r=1 (b c d), 2 s=0 (a b d), 4 t=0 (a b c)
                rest = q[0] + q[1] + q[2] - 1.0
                for option in range(4):
                    d = -q[option] if option < 3 else rest
                    face = 2 * option if option < 3 else 1
                    if d > best and m[3][row, face] >= 0:
                        best, side = d, face
            else:
                for d in range(3):
                    if -q[d] > best and m[3][row, 2 * d] >= 0:
                        best, side = -q[d], 2 * d
                    if q[d] - 1.0 > best and m[3][row, 2 * d + 1] >= 0:
                        best, side = q[d] - 1.0, 2 * d + 1
            if side < 0 or best <= INSIDE:
                return False
            st[1] = m[3][row, side]
            q[0] = q[1] = q[2] = 0.4
        _load(m, vel, st, ids, cx, cv)
    return False


@kernel
def _search(m: Array, vel: Array, p: Array, slack: float, st: Array, q: Array, ids: Array, cx: Array, cv: Array,
            jac: Array, tmp: Array, stack: Array) -> bool:
    """Find the cell that holds p by the trees; ``slack`` is how far outside a cell still counts [cell widths]."""
    boxes = m[8]
    for block in range(m[1].shape[0]):
        b = m[1][block]
        top = b[8] - 1
        depth = 0
        for n in range(m[7][block, top]):
            stack[depth, 0] = top
            stack[depth, 1] = n
            depth += 1
        while depth > 0:
            depth -= 1
            level, node = stack[depth, 0], stack[depth, 1]
            box = boxes[m[6][block, level] + node]
            w = slack * max(box[3] - box[0], box[4] - box[1], box[5] - box[2])
            if (p[0] < box[0] - w or p[1] < box[1] - w or p[2] < box[2] - w or p[0] > box[3] + w
                    or p[1] > box[4] + w or p[2] > box[5] + w):
                continue
            if level > 0:
                last = min((node + 1) * 8, m[7][block, level - 1])
                for child in range(node * 8, last):
                    stack[depth, 0] = level - 1
                    stack[depth, 1] = child
                    depth += 1
                continue
            for entry in range(node * 8, min((node + 1) * 8, b[6])):
                st[0] = block
                st[1] = m[5][b[9] + entry]
                cell_nodes(m, block, st[1], ids)
                if not _in_box(m[0], ids, p, slack):
                    continue
                _load(m, vel, st, ids, cx, cv)
                tetra = _is_tetra(m, st)
                q[0] = q[1] = q[2] = 0.5
                good = _invert_tetra(p, q, cx, jac, tmp) if tetra else _invert(p, q, cx, jac, tmp)
                if good and _clear_of(tetra, q) <= max(INSIDE, slack):
                    return True
    return False


@kernel
def _in_box(points: Array, ids: Array, p: Array, slack: float) -> bool:
    w = 0.0
    if slack > 0.0:
        for d in range(3):
            low = high = points[ids[0], d]
            for c in range(1, 8):
                low = min(low, points[ids[c], d])
                high = max(high, points[ids[c], d])
            w = max(w, slack * (high - low))
    for d in range(3):
        low = high = points[ids[0], d]
        for c in range(1, 8):
            low = min(low, points[ids[c], d])
            high = max(high, points[ids[c], d])
        if p[d] < low - w or p[d] > high + w:
            return False
    return True


@kernel
def _find(m: Array, vel: Array, p: Array, st: Array, q: Array, ids: Array, cx: Array, cv: Array, jac: Array,
          tmp: Array, stack: Array) -> bool:
    """Find the cell of p: by walking from the present one, then by the trees, then with a little slack for gaps."""
    if st[0] >= 0 and _walk(m, vel, p, st, q, ids, cx, cv, jac, tmp):
        return True
    if _search(m, vel, p, 0.0, st, q, ids, cx, cv, jac, tmp, stack):
        return True
    return _search(m, vel, p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack)


@kernel
def weights_of(tetra: bool, q: Array, w: Array) -> None:
    """Interpolation weights of the eight (collapsed) corners at a place."""
    if tetra:
        for c in range(8):
            w[c] = 0.0
        w[0] = 1.0 - q[0] - q[1] - q[2]
        w[1] = q[0]
        w[2] = q[1]
        w[4] = q[2]
        return
    r, s, t = q[0], q[1], q[2]
    w[0] = (1 - r) * (1 - s) * (1 - t)
    w[1] = r * (1 - s) * (1 - t)
    w[2] = r * s * (1 - t)
    w[3] = (1 - r) * s * (1 - t)
    w[4] = (1 - r) * (1 - s) * t
    w[5] = r * (1 - s) * t
    w[6] = r * s * t
    w[7] = (1 - r) * s * t


@kernel
def locate(m: Array, targets: Array, slack: float, cells: Array, ids_out: Array, weights: Array, begin: int,
           end: int) -> None:
    """For targets begin..end: block in cells[n, 0] or -1 outside, cell in cells[n, 1], corner nodes and weights."""
    st = np.full(5, -1, np.int64)
    q = np.empty(3)
    ids = np.empty(8, np.int64)
    cx = np.empty((8, 3))
    cv = np.empty((8, 3))
    jac = np.empty((3, 3))
    tmp = np.empty(3)
    w = np.empty(8)
    stack = np.empty((4096, 2), np.int64)
    for n in range(begin, end):
        p = targets[n]
        found = _find(m, m[0], p, st, q, ids, cx, cv, jac, tmp, stack)
        if not found and slack > 1e-3:
            found = _search(m, m[0], p, slack, st, q, ids, cx, cv, jac, tmp, stack)
        if not found:
            st[0] = -1
            cells[n, 0] = -1
            cells[n, 1] = -1
            for c in range(8):
                ids_out[n, c] = 0
                weights[n, c] = np.nan
            continue
        cells[n, 0] = st[0]
        cells[n, 1] = st[1]
        weights_of(_is_tetra(m, st), q, w)
        for c in range(8):
            ids_out[n, c] = ids[c]
            weights[n, c] = w[c]


@kernel
def gather(values: Array, ids: Array, weights: Array, out: Array, begin: int, end: int) -> None:
    """out[n] = sum over c of weights[n, c] values[ids[n, c]]; zero weights never touch a value."""
    for n in range(begin, end):
        total = 0.0
        for c in range(ids.shape[1]):
            if weights[n, c] != 0.0:
                total += weights[n, c] * values[ids[n, c]]
        out[n] = total


@kernel
def leaf_boxes(m: Array, block: int, boxes: Array, begin: int, end: int) -> None:
    """Boxes of the tree's lowest level: eight cells of the order each."""
    ids = np.empty(8, np.int64)
    b = m[1][block]
    for leaf in range(begin, end):
        for d in range(3):
            boxes[leaf, d] = np.inf
            boxes[leaf, 3 + d] = -np.inf
        for entry in range(leaf * 8, min(leaf * 8 + 8, b[6])):
            cell_nodes(m, block, m[5][b[9] + entry], ids)
            for c in range(8):
                for d in range(3):
                    x = m[0][ids[c], d]
                    boxes[leaf, d] = min(boxes[leaf, d], x)
                    boxes[leaf, 3 + d] = max(boxes[leaf, 3 + d], x)


@kernel
def parent_boxes(lower: Array, upper: Array) -> None:
    """Boxes of a level from those of the level below, eight to one."""
    for n in range(upper.shape[0]):
        for d in range(3):
            upper[n, d] = np.inf
            upper[n, 3 + d] = -np.inf
        for c in range(n * 8, min(n * 8 + 8, lower.shape[0])):
            for d in range(3):
                upper[n, d] = min(upper[n, d], lower[c, d])
                upper[n, 3 + d] = max(upper[n, 3 + d], lower[c, 3 + d])


@kernel
def _spread(v: int) -> int:
    v &= 0x1FFFFF
    v = (v | (v << 32)) & 0x1F00000000FFFF
    v = (v | (v << 16)) & 0x1F0000FF0000FF
    v = (v | (v << 8)) & 0x100F00F00F00F00F
    v = (v | (v << 4)) & 0x10C30C30C30C30C3
    return (v | (v << 2)) & 0x1249249249249249


@kernel
def curve_keys(m: Array, block: int, low: Array, scale: Array, keys: Array, begin: int, end: int) -> None:
    """Place of each cell on a space-filling (Morton) curve: by its indices, or by its centre where it has none."""
    ids = np.empty(8, np.int64)
    b = m[1][block]
    for cell in range(begin, end):
        if b[0] == 1:
            ci, cj = b[2] - 1, b[3] - 1
            keys[cell] = (_spread(cell % ci) | (_spread((cell // ci) % cj) << 1) | (_spread(cell // (ci * cj)) << 2))
        else:
            cell_nodes(m, block, cell, ids)
            key = 0
            for d in range(3):
                x = 0.0
                for c in range(8):
                    x += m[0][ids[c], d]
                key |= _spread(int((x / 8.0 - low[d]) * scale[d])) << d
            keys[cell] = key


@kernel
def bucket_faces(corners: Array, faces: Array, starts: Array, entries: Array, fill: bool) -> None:
    """Sort the faces of all cells into buckets by their least corner: count first, then fill.

    A face is entered as cell · 8 + side. ``starts`` has one entry a node more than there are nodes.
    """
    for cell in range(corners.shape[0]):
        for side in range(6):
            a, b = corners[cell, faces[side, 0]], corners[cell, faces[side, 1]]
            c, e = corners[cell, faces[side, 2]], corners[cell, faces[side, 3]]
            if a == c or b == e or (a == b and c == e) or (b == c and e == a):
                continue  # collapsed to an edge or a point
            least = min(min(a, b), min(c, e))
            if fill:
                entries[starts[least]] = cell * 8 + side
                starts[least] += 1
            else:
                starts[least + 1] += 1


@kernel
def match_faces(corners: Array, faces: Array, starts: Array, entries: Array, neighbours: Array, begin: int,
                end: int) -> None:
    """Pair the faces of each bucket begin..end that have the same corners; all of them are compared."""
    for node in range(begin, end):
        first, last = starts[node], starts[node + 1]
        for a in range(first, last):
            cell, side = entries[a] // 8, entries[a] % 8
            if neighbours[cell, side] >= 0:
                continue
            for b in range(a + 1, last):
                other, back = entries[b] // 8, entries[b] % 8
                if other == cell or neighbours[other, back] >= 0:
                    continue
                same = True
                for c in range(4):
                    found = False
                    mine = corners[cell, faces[side, c]]
                    for d in range(4):
                        if corners[other, faces[back, d]] == mine:
                            found = True
                    if not found:
                        same = False
                        break
                if same:
                    for c in range(4):
                        found = False
                        theirs = corners[other, faces[back, c]]
                        for d in range(4):
                            if corners[cell, faces[side, d]] == theirs:
                                found = True
                        if not found:
                            same = False
                            break
                if same:
                    neighbours[cell, side] = other
                    neighbours[other, back] = cell
                    break


@kernel
def trace(m: Array, vel: Array, seeds: Array, sign: float, tol_abs: float, tol_cell: float, max_cells: float,
          max_length: float, still: float, max_points: int, out_p: Array, out_q: Array, out_cell: Array,
          out_time: Array, count: Array, reason: Array, error: Array, begin: int, end: int) -> None:
    """Follow lines from seeds begin..end with the pair 5(4) of Dormand & Prince (1980), local extrapolation.

    Outputs are indexed from 0 at ``begin``: points (n, max_points, 3), place in the cell (..., 3), block and cell
    (..., 2), time (n, max_points), number of points (n,), reason for ending (n,), summed error estimate (n,).
    """
    st = np.full(5, -1, np.int64)
    q = np.empty(3)
    ids = np.empty(8, np.int64)
    cx = np.empty((8, 3))
    cv = np.empty((8, 3))
    jac = np.empty((3, 3))
    tmp = np.empty(3)
    rate = np.empty(3)
    p = np.empty(3)
    x = np.empty(3)
    k = np.empty((7, 3))
    hold = np.empty(3, np.int64)
    back = np.empty(3)
    stack = np.empty((4096, 2), np.int64)
    for n in range(begin, end):
        line = n - begin
        for d in range(3):
            p[d] = seeds[n, d]
        error[line] = 0.0
        count[line] = 0
        st[0] = -1
        if not _find(m, vel, p, st, q, ids, cx, cv, jac, tmp, stack):
            reason[line] = OUTSIDE
            continue
        tetra = _is_tetra(m, st)
        _velocity(tetra, q, cv, k[0])
        for d in range(3):
            k[0, d] *= sign
        det = _tetra_edges(cx, jac) if tetra else _jacobian(cx, q[0], q[1], q[2], jac)
        ring = 0.02 * abs(det) ** (1.0 / 3.0)
        _store(out_p, out_q, out_cell, out_time, line, 0, p, q, st, 0.0)
        count[line] = 1
        length, time, h, away = 0.0, 0.0, -1.0, 0.0
        reason[line] = STEPS
        idle = 0
        while count[line] < max_points:
            speed = np.sqrt(k[0, 0] ** 2 + k[0, 1] ** 2 + k[0, 2] ** 2)
            if not speed > still:
                reason[line] = STILL
                break
            tetra = _is_tetra(m, st)
            det = _tetra_edges(cx, jac) if tetra else _jacobian(cx, q[0], q[1], q[2], jac)
            _solve(jac, det, k[0, 0], k[0, 1], k[0, 2], rate)
            fastest = max(abs(rate[0]), max(abs(rate[1]), abs(rate[2])))
            if not fastest < 1e300:
                fastest = 1e300
            longest = max_cells / max(fastest, 1e-300)
            if h <= 0.0:
                h = 0.25 * longest
            h = min(h, longest)
            last = False
            if length + h * speed >= max_length:
                h = max((max_length - length) / speed, 1e-12 * longest)
                last = True
            done, ratio, worst = False, 0.0, 0.0
            for _attempt in range(60):
                for d in range(3):
                    hold[d] = st[d] if d < 2 else 0
                    back[d] = q[d]
                out = False
                for stage in range(1, 7):
                    for d in range(3):
                        if stage == 1:
                            dx = k[0, d] / 5.0
                        elif stage == 2:
                            dx = 3.0 / 40.0 * k[0, d] + 9.0 / 40.0 * k[1, d]
                        elif stage == 3:
                            dx = 44.0 / 45.0 * k[0, d] - 56.0 / 15.0 * k[1, d] + 32.0 / 9.0 * k[2, d]
                        elif stage == 4:
                            dx = (19372.0 / 6561.0 * k[0, d] - 25360.0 / 2187.0 * k[1, d] + 64448.0 / 6561.0 * k[2, d]
                                  - 212.0 / 729.0 * k[3, d])
                        elif stage == 5:
                            dx = (9017.0 / 3168.0 * k[0, d] - 355.0 / 33.0 * k[1, d] + 46732.0 / 5247.0 * k[2, d]
                                  + 49.0 / 176.0 * k[3, d] - 5103.0 / 18656.0 * k[4, d])
                        else:
                            dx = (35.0 / 384.0 * k[0, d] + 500.0 / 1113.0 * k[2, d] + 125.0 / 192.0 * k[3, d]
                                  - 2187.0 / 6784.0 * k[4, d] + 11.0 / 84.0 * k[5, d])
                        x[d] = p[d] + h * dx
                    if not _find(m, vel, x, st, q, ids, cx, cv, jac, tmp, stack):
                        out = True
                        break
                    _velocity(_is_tetra(m, st), q, cv, k[stage])
                    for d in range(3):
                        k[stage, d] *= sign
                worst = 0.0
                if not out:
                    for d in range(3):
                        tmp[d] = h * (71.0 / 57600.0 * k[0, d] - 71.0 / 16695.0 * k[2, d] + 71.0 / 1920.0 * k[3, d]
                                      - 17253.0 / 339200.0 * k[4, d] + 22.0 / 525.0 * k[5, d] - k[6, d] / 40.0)
                        worst += tmp[d] * tmp[d]
                    worst = np.sqrt(worst)
                    if tol_abs > 0.0:
                        ratio = worst / tol_abs
                    else:
                        det = _tetra_edges(cx, jac) if _is_tetra(m, st) else _jacobian(cx, q[0], q[1], q[2], jac)
                        _solve(jac, det, tmp[0], tmp[1], tmp[2], rate)
                        ratio = max(abs(rate[0]), max(abs(rate[1]), abs(rate[2]))) / tol_cell
                    if ratio <= 1.0:
                        done = True
                        break
                    if not ratio < 1e12:
                        ratio = 1e12
                # Back to the cell of the last good point, and a shorter step.
                last = False
                h *= 0.5 if out else max(0.2, 0.9 * ratio ** -0.2)
                _return_to(m, vel, hold, back, st, q, ids, cx, cv)
                if out and h * fastest < 1e-4 * max_cells:
                    break
            if not done:
                reason[line] = LEFT
                break
            step = 0.0
            for d in range(3):
                step += (x[d] - p[d]) ** 2
            step = np.sqrt(step)
            time += h
            error[line] += worst
            near = -1.0
            if away > 8.0 * ring:
                near = _passes(p, x, k[0], k[6], h, seeds[n], ring, step)
            length += step
            if near >= 0.0:
                _hermite(p, x, k[0], k[6], h, near, tmp)
                x[0], x[1], x[2] = tmp[0], tmp[1], tmp[2]
                if _find(m, vel, x, st, q, ids, cx, cv, jac, tmp, stack):
                    _store(out_p, out_q, out_cell, out_time, line, count[line], x, q, st, time - h + near * h)
                    count[line] += 1
                reason[line] = CLOSED
                break
            # Steps shorter than the error allowed lead nowhere: the line circles a point of rest.
            allowed = tol_cell if tol_abs <= 0.0 else tol_abs * fastest / speed
            if not last and step * fastest / speed < min(30.0 * allowed, 0.02):
                idle += 1
                if idle > 8:
                    reason[line] = STILL
                    break
            else:
                idle = 0
            _round_off(m, vel, p, x, k[0], k[6], h, st, q, ids, cx, cv, jac, tmp, stack, out_p, out_q, out_cell, out_time,
                       line, count, max_points, time - h)
            if count[line] >= max_points:
                break
            gone = 0.0
            for d in range(3):
                p[d] = x[d]
                k[0, d] = k[6, d]
                gone += (p[d] - seeds[n, d]) ** 2
            away = max(away, np.sqrt(gone))
            _store(out_p, out_q, out_cell, out_time, line, count[line], p, q, st, time)
            count[line] += 1
            if last:
                reason[line] = LENGTH
                break
            h *= 5.0 if ratio < 1.9e-4 else min(5.0, 0.9 * ratio ** -0.2)


@kernel
def _round_off(m: Array, vel: Array, p: Array, x: Array, v0: Array, v1: Array, h: float, st: Array, q: Array, ids: Array,
               cx: Array, cv: Array, jac: Array, tmp: Array, stack: Array, out_p: Array, out_q: Array, out_cell: Array,
               out_time: Array, line: int, count: Array, max_points: int, time: float) -> None:
    """Store points on a step that turns, so that the line looks as round as it is; ends in the cell of x again."""
    dot = v0[0] * v1[0] + v0[1] * v1[1] + v0[2] * v1[2]
    size = np.sqrt((v0[0] ** 2 + v0[1] ** 2 + v0[2] ** 2) * (v1[0] ** 2 + v1[1] ** 2 + v1[2] ** 2))
    if not dot < 0.99 * size:
        return
    pieces = min(16, 1 + int(np.arccos(max(-1.0, dot / size)) / 0.14))
    block, cell = st[0], st[1]
    r, s, t = q[0], q[1], q[2]
    for n in range(1, pieces):
        if count[line] >= max_points:
            break
        _hermite(p, x, v0, v1, h, n / pieces, tmp)
        a, b, c = tmp[0], tmp[1], tmp[2]
        place = out_p[line, count[line]]
        place[0], place[1], place[2] = a, b, c
        if _find(m, vel, place, st, q, ids, cx, cv, jac, tmp, stack):
            _store(out_p, out_q, out_cell, out_time, line, count[line], place, q, st, time + h * n / pieces)
            count[line] += 1
        else:
            break
    st[0], st[1] = block, cell
    _load(m, vel, st, ids, cx, cv)
    q[0], q[1], q[2] = r, s, t


@kernel
def _return_to(m: Array, vel: Array, hold: Array, back: Array, st: Array, q: Array, ids: Array, cx: Array,
               cv: Array) -> None:
    # Always loaded anew: a failed search leaves another cell's coefficients behind.
    st[0], st[1] = hold[0], hold[1]
    _load(m, vel, st, ids, cx, cv)
    for d in range(3):
        q[d] = back[d]


@kernel
def _store(out_p: Array, out_q: Array, out_cell: Array, out_time: Array, line: int, at: int, p: Array, q: Array,
           st: Array, time: float) -> None:
    for d in range(3):
        out_p[line, at, d] = p[d]
        out_q[line, at, d] = q[d]
    out_cell[line, at, 0] = st[0]
    out_cell[line, at, 1] = st[1]
    out_time[line, at] = time


@kernel
def _hermite(p: Array, x: Array, v0: Array, v1: Array, h: float, s: float, out: Array) -> None:
    a = (1 + 2 * s) * (1 - s) * (1 - s)
    b = s * (1 - s) * (1 - s) * h
    c = s * s * (3 - 2 * s)
    e = s * s * (s - 1) * h
    for d in range(3):
        out[d] = a * p[d] + b * v0[d] + c * x[d] + e * v1[d]


@kernel
def _passes(p: Array, x: Array, v0: Array, v1: Array, h: float, seed: Array, ring: float, step: float) -> float:
    """Where on the step (0 to 1) the line comes back to its seed in the same direction, or -1."""
    near = 1e300
    for d in range(3):
        if p[d] - seed[d] > step + ring or seed[d] - p[d] > step + ring:
            return -1.0
    at = -1.0
    c = np.empty(3)
    for n in range(17):
        _hermite(p, x, v0, v1, h, n / 16.0, c)
        dist = (c[0] - seed[0]) ** 2 + (c[1] - seed[1]) ** 2 + (c[2] - seed[2]) ** 2
        if dist < near:
            near, at = dist, n / 16.0
    width = 1.0 / 32.0
    for _ in range(20):
        for side in range(2):
            s = min(1.0, max(0.0, at + (width if side else -width)))
            _hermite(p, x, v0, v1, h, s, c)
            dist = (c[0] - seed[0]) ** 2 + (c[1] - seed[1]) ** 2 + (c[2] - seed[2]) ** 2
            if dist < near:
                near, at = dist, s
        width *= 0.6
    return at if near <= ring * ring else -1.0


@kernel
def places_to_weights(m: Array, cells: Array, places: Array, ids_out: Array, weights: Array, begin: int,
                      end: int) -> None:
    """Corner nodes and weights of places (block, cell) and (r, s, t)."""
    st = np.zeros(5, np.int64)
    ids = np.empty(8, np.int64)
    w = np.empty(8)
    for n in range(begin, end):
        st[0], st[1] = cells[n, 0], cells[n, 1]
        cell_nodes(m, st[0], st[1], ids)
        weights_of(_is_tetra(m, st), places[n], w)
        for c in range(8):
            ids_out[n, c] = ids[c]
            weights[n, c] = w[c]
