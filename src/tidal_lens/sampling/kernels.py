"""Compiled loops for locating points in cells and for following lines through them.

A mesh is passed as one tuple ``m`` of arrays (see :class:`tidal_lens.sampling.mesh.Mesh`):

    0 points (n, 3)           3 neighbours (c, 6) int32, -1 outside    6 level starts (blocks, 12) int64
    1 blocks (b, 10) int64    4 kinds (c,) uint8, 10 is a tetrahedron  7 level sizes (blocks, 12) int64
    2 corners (c, 8) int32    5 order (all cells,) int32               8 boxes (nodes, 6)

Columns of ``blocks``: 0 structured?, 1 first point, 2-4 points along i, j, k, 5 first cell, 6 cells, 7 first row in the
unstructured tables, 8 levels of the tree, 9 first entry in ``order``.
A place is (block, cell within the block, r, s, t). Scratch of a line: ``st`` int64 (6): block, cell, i, j, k, kind of the
cell (0 structured, 1 hexahedron, 2 tetrahedron, 3 wedge, 4 pyramid);
``q`` (4): r, s, t, and after a failed walk how far outside it ended [cells];
``cx`` (8, 3): trilinear coefficients of the position; ``cv``: of the velocity; ``ids`` (8).
Rows of mesh arrays are never taken as views: each would count a reference, and two threads would fight for the counter.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel

Array = Any
INSIDE = 1e-9
LEFT, STILL, CLOSED, LENGTH, STEPS, OUTSIDE = 1, 2, 3, 4, 5, 6


@kernel
def cell_nodes(blocks: Array, corners: Array, block: int, cell: int, ids: Array) -> None:
    """Write the eight corner nodes of a cell."""
    first = blocks[block, 1]
    if blocks[block, 0] == 1:
        ni, nj = blocks[block, 2], blocks[block, 3]
        ci, cj = ni - 1, nj - 1
        i = cell % ci
        j = (cell // ci) % cj
        k = cell // (ci * cj)
        n = first + i + ni * (j + nj * k)
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
        row = blocks[block, 7] + cell
        for c in range(8):
            ids[c] = corners[row, c] + first


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
def _load(points: Array, blocks: Array, corners: Array, kinds: Array, vel: Array, st: Array, ids: Array, cx: Array,
          cv: Array) -> None:
    block, cell = st[0], st[1]
    cell_nodes(blocks, corners, block, cell, ids)
    if blocks[block, 0] == 1:
        ci, cj = blocks[block, 2] - 1, blocks[block, 3] - 1
        st[2] = cell % ci
        st[3] = (cell // ci) % cj
        st[4] = cell // (ci * cj)
        st[5] = 0
    else:
        kind = kinds[blocks[block, 7] + cell]
        st[5] = 2 if kind == 10 else (3 if kind == 13 else (4 if kind == 14 else 1))
    _coefficients(points, ids, cx)
    _coefficients(vel, ids, cv)


@kernel
def _newton(c: Array, x: float, y: float, z: float, r: float, s: float, t: float) -> tuple[bool, float, float, float]:
    """Invert the trilinear map from a guess, all in registers; False where it is singular or runs away."""
    scale = 0.0
    for d in range(3):
        scale += c[1, d] * c[1, d] + c[2, d] * c[2, d] + c[3, d] * c[3, d]
    gap = 1e300
    for _ in range(12):
        g0 = c[1, 0] + s * c[4, 0] + t * (c[6, 0] + s * c[7, 0])
        g1 = c[1, 1] + s * c[4, 1] + t * (c[6, 1] + s * c[7, 1])
        g2 = c[1, 2] + s * c[4, 2] + t * (c[6, 2] + s * c[7, 2])
        e0 = c[2, 0] + t * c[5, 0]
        e1 = c[2, 1] + t * c[5, 1]
        e2 = c[2, 2] + t * c[5, 2]
        dx = x - (c[0, 0] + r * g0 + s * e0 + t * c[3, 0])
        dy = y - (c[0, 1] + r * g1 + s * e1 + t * c[3, 1])
        dz = z - (c[0, 2] + r * g2 + s * e2 + t * c[3, 2])
        e0 += r * (c[4, 0] + t * c[7, 0])
        e1 += r * (c[4, 1] + t * c[7, 1])
        e2 += r * (c[4, 2] + t * c[7, 2])
        f0 = c[3, 0] + s * c[5, 0] + r * (c[6, 0] + s * c[7, 0])
        f1 = c[3, 1] + s * c[5, 1] + r * (c[6, 1] + s * c[7, 1])
        f2 = c[3, 2] + s * c[5, 2] + r * (c[6, 2] + s * c[7, 2])
        u0, u1, u2 = e1 * f2 - e2 * f1, e2 * f0 - e0 * f2, e0 * f1 - e1 * f0
        det = g0 * u0 + g1 * u1 + g2 * u2
        gap = dx * dx + dy * dy + dz * dz
        if det == 0.0:
            break
        inv = 1.0 / det
        dr = inv * (dx * u0 + dy * u1 + dz * u2)
        ds = inv * (dx * (f1 * g2 - f2 * g1) + dy * (f2 * g0 - f0 * g2) + dz * (f0 * g1 - f1 * g0))
        dt = inv * (dx * (g1 * e2 - g2 * e1) + dy * (g2 * e0 - g0 * e2) + dz * (g0 * e1 - g1 * e0))
        step = max(abs(dr), max(abs(ds), abs(dt)))
        if not step < 1e300:
            return False, r, s, t
        if step > 4.0:
            dr, ds, dt = 4.0 * dr / step, 4.0 * ds / step, 4.0 * dt / step
        r = min(max(r + dr, -5.0), 6.0)
        s = min(max(s + ds, -5.0), 6.0)
        t = min(max(t + dt, -5.0), 6.0)
        # Far outside, the extrapolated map is only good for telling which way to go.
        if step < 0.1 and max(max(r, max(s, t)) - 1.0, -min(r, min(s, t))) > 0.5:
            return True, r, s, t
        if step < 1e-3:  # quadratic: the next step would be below 1e-6 times the cell's skewness
            return True, r, s, t
    # On a collapsed edge or corner one coordinate is anything: the place is found where the point is met.
    if gap < 1e-12 * scale:
        return True, min(max(r, 0.0), 1.0), min(max(s, 0.0), 1.0), min(max(t, 0.0), 1.0)
    return False, r, s, t


@kernel
def _invert(p: Array, q: Array, cx: Array, jac: Array, tmp: Array) -> bool:
    good, q[0], q[1], q[2] = _newton(cx, p[0], p[1], p[2], q[0], q[1], q[2])
    return good


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
def _clear_of(kind: int, q: Array) -> float:
    """How far the place is outside its cell, in cell widths; 0 or less inside."""
    if kind == 2:
        return max(max(-q[0], -q[1]), max(-q[2], q[0] + q[1] + q[2] - 1.0))
    r = max(-q[0], q[0] - 1.0)
    s = max(-q[1], q[1] - 1.0)
    t = max(-q[2], q[2] - 1.0)
    if kind == 3:  # a wedge shrinks to an edge at s = 1, a pyramid to a point at t = 1: widths shrink with it
        r *= abs(1.0 - q[1])
    elif kind == 4:
        r *= abs(1.0 - q[2])
        s *= abs(1.0 - q[2])
    return max(r, max(s, t))


@kernel
def _walk(points: Array, blocks: Array, corners: Array, near: Array, kinds: Array, vel: Array, p: Array, st: Array,
          q: Array, ids: Array, cx: Array, cv: Array, jac: Array, tmp: Array, known: bool) -> bool:
    """Walk from the present cell to the one that holds p; False when it leaves the block or loses its way.

    With ``known``, q is already the place of p in the present cell's map.
    """
    for round_ in range(64):
        tetra = st[5] == 2
        if round_ > 0 or not known:
            good = _invert_tetra(p, q, cx, jac, tmp) if tetra else _invert(p, q, cx, jac, tmp)
            if not good:
                return False
        if _clear_of(st[5], q) <= INSIDE:
            return True
        block = st[0]
        if st[5] == 0:
            moved = False
            for d in range(3):
                if q[d] < -INSIDE and st[2 + d] > 0:
                    hop = min(-int(np.floor(q[d])), st[2 + d])
                    st[2 + d] -= hop
                    q[d] += hop
                    moved = True
                elif q[d] > 1.0 + INSIDE and st[2 + d] < blocks[block, 2 + d] - 2:
                    hop = min(int(q[d]), blocks[block, 2 + d] - 2 - st[2 + d])
                    st[2 + d] += hop
                    q[d] -= hop
                    moved = True
            if not moved:
                return False
            st[1] = st[2] + (blocks[block, 2] - 1) * (st[3] + (blocks[block, 3] - 1) * st[4])
        else:
            row = blocks[block, 7] + st[1]
            best, side = 0.0, -1
            if tetra:
                # faces of the collapsed hexahedron: 0 r=0 (a c d), 1 r=1 (b c d), 2 s=0 (a b d), 4 t=0 (a b c)
                rest = q[0] + q[1] + q[2] - 1.0
                for option in range(4):
                    d = -q[option] if option < 3 else rest
                    face = 2 * option if option < 3 else 1
                    if d > best and near[row, face] >= 0:
                        best, side = d, face
            else:
                for d in range(3):
                    if -q[d] > best and near[row, 2 * d] >= 0:
                        best, side = -q[d], 2 * d
                    if q[d] - 1.0 > best and near[row, 2 * d + 1] >= 0:
                        best, side = q[d] - 1.0, 2 * d + 1
            if side < 0 or best <= INSIDE:
                return False
            st[1] = near[row, side]
            q[0] = q[1] = q[2] = 0.4
        _load(points, blocks, corners, kinds, vel, st, ids, cx, cv)
    return False


@kernel
def _search(m: Array, vel: Array, p: Array, slack: float, st: Array, q: Array, ids: Array, cx: Array, cv: Array,
            jac: Array, tmp: Array, stack: Array) -> bool:
    """Find the cell that holds p by the trees; ``slack`` is how far outside a cell still counts [cell widths]."""
    blocks, order, starts, sizes, boxes = m[1], m[5], m[6], m[7], m[8]
    x, y, z = p[0], p[1], p[2]
    for block in range(blocks.shape[0]):
        top = blocks[block, 8] - 1
        depth = 0
        for n in range(sizes[block, top]):
            stack[depth, 0] = top
            stack[depth, 1] = n
            depth += 1
        while depth > 0:
            depth -= 1
            level, node = stack[depth, 0], stack[depth, 1]
            row = starts[block, level] + node
            w = 0.0
            if slack > 0.0:
                w = slack * max(boxes[row, 3] - boxes[row, 0], max(boxes[row, 4] - boxes[row, 1], boxes[row, 5] - boxes[row, 2]))
            if (x < boxes[row, 0] - w or y < boxes[row, 1] - w or z < boxes[row, 2] - w or x > boxes[row, 3] + w
                    or y > boxes[row, 4] + w or z > boxes[row, 5] + w):
                continue
            if level > 0:
                last = min((node + 1) * 8, sizes[block, level - 1])
                for child in range(node * 8, last):
                    stack[depth, 0] = level - 1
                    stack[depth, 1] = child
                    depth += 1
                continue
            for entry in range(node * 8, min((node + 1) * 8, blocks[block, 6])):
                st[0] = block
                st[1] = order[blocks[block, 9] + entry]
                cell_nodes(m[1], m[2], block, st[1], ids)
                if not _in_box(m[0], ids, p, slack):
                    continue
                _load(m[0], m[1], m[2], m[4], vel, st, ids, cx, cv)
                tetra = st[5] == 2
                q[0] = q[1] = q[2] = 0.5
                good = _invert_tetra(p, q, cx, jac, tmp) if tetra else _invert(p, q, cx, jac, tmp)
                if good and _clear_of(st[5], q) <= max(INSIDE, slack):
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
def _find(m: Array, vel: Array, p: Array, slack: float, st: Array, q: Array, ids: Array, cx: Array, cv: Array, jac: Array,
          tmp: Array, stack: Array) -> bool:
    """Find the cell of p: by walking from the present one, then by the trees, then with slack for gaps."""
    if st[0] >= 0 and _walk(m[0], m[1], m[2], m[3], m[4], vel, p, st, q, ids, cx, cv, jac, tmp, False):
        return True
    q[3] = _clear_of(st[5], q)
    if _search(m, vel, p, 0.0, st, q, ids, cx, cv, jac, tmp, stack):
        return True
    return slack > 0.0 and _search(m, vel, p, slack, st, q, ids, cx, cv, jac, tmp, stack)


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
    st = np.full(6, -1, np.int64)
    q = np.zeros(4)
    ids = np.empty(8, np.int64)
    cx = np.empty((8, 3))
    cv = np.empty((8, 3))
    jac = np.empty((3, 3))
    tmp = np.empty(3)
    w = np.empty(8)
    stack = np.empty((4096, 2), np.int64)
    p = np.empty(3)
    for n in range(begin, end):
        for d in range(3):
            p[d] = targets[n, d]
        found = _find(m, m[0], p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack)
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
        weights_of(st[5] == 2, q, w)
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
            cell_nodes(m[1], m[2], block, m[5][b[9] + entry], ids)
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
            cell_nodes(m[1], m[2], block, cell, ids)
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
    st = np.full(6, -1, np.int64)
    q = np.zeros(4)
    ids = np.empty(8, np.int64)
    cx = np.empty((8, 3))
    cv = np.empty((8, 3))
    jac = np.empty((3, 3))
    tmp = np.empty(3)
    rate = np.empty(3)
    p = np.empty(3)
    origin = np.empty(3)
    x = np.empty(3)
    k = np.empty((7, 3))
    hold = np.empty(3, np.int64)
    guess = np.empty((3, 3))
    index = np.empty(3)
    points, blocks, corners, near, kinds = m[0], m[1], m[2], m[3], m[4]
    back = np.empty(3)
    stack = np.empty((4096, 2), np.int64)
    for n in range(begin, end):
        line = n - begin
        for d in range(3):
            p[d] = origin[d] = seeds[n, d]
        error[line] = 0.0
        count[line] = 0
        st[0] = -1
        if not _find(m, vel, p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack):
            reason[line] = OUTSIDE
            continue
        tetra = st[5] == 2
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
            tetra = st[5] == 2
            det = _tetra_edges(cx, jac) if tetra else _jacobian(cx, q[0], q[1], q[2], jac)
            _solve(jac, det, k[0, 0], k[0, 1], k[0, 2], rate)
            fastest = max(abs(rate[0]), max(abs(rate[1]), abs(rate[2])))
            box = st[5] == 0
            if box:  # where the stages will be, in grid indices, by the map's linear part
                for d in range(3):
                    d1, d2 = (d + 1) % 3, (d + 2) % 3
                    for g in range(3):
                        g1, g2 = (g + 1) % 3, (g + 2) % 3
                        guess[d, g] = (jac[g1, d1] * jac[g2, d2] - jac[g1, d2] * jac[g2, d1]) / det
                    index[d] = st[2 + d] + q[d]
            if not fastest < 1e300:
                fastest = 1e300
            longest = max_cells / max(fastest, 1e-300)
            if h <= 0.0:
                h = 0.25 * longest
            h = min(h, longest)
            done, ratio, worst, leaving = False, 0.0, 0.0, False
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
                    inside = good = False
                    if box and st[0] == hold[0]:
                        dx, dy, dz = x[0] - p[0], x[1] - p[1], x[2] - p[2]
                        ahead_r = index[0] + guess[0, 0] * dx + guess[0, 1] * dy + guess[0, 2] * dz
                        ahead_s = index[1] + guess[1, 0] * dx + guess[1, 1] * dy + guess[1, 2] * dz
                        ahead_t = index[2] + guess[2, 0] * dx + guess[2, 1] * dy + guess[2, 2] * dz
                        ci, cj, ck = blocks[st[0], 2] - 1, blocks[st[0], 3] - 1, blocks[st[0], 4] - 1
                        i = min(max(int(min(max(ahead_r, 0.0), 1e9)), 0), ci - 1)
                        j = min(max(int(min(max(ahead_s, 0.0), 1e9)), 0), cj - 1)
                        n_k = min(max(int(min(max(ahead_t, 0.0), 1e9)), 0), ck - 1)
                        if i != st[2] or j != st[3] or n_k != st[4]:
                            st[1] = i + ci * (j + cj * n_k)
                            _load(points, blocks, corners, kinds, vel, st, ids, cx, cv)
                        q[0], q[1], q[2] = ahead_r - i, ahead_s - j, ahead_t - n_k
                    if st[5] != 2:  # most stages stay in their cell: no call with all of the mesh for them
                        good, a, b, c = _newton(cx, x[0], x[1], x[2], q[0], q[1], q[2])
                        q[0], q[1], q[2] = a, b, c
                        inside = good and (min(a, min(b, c)) >= -INSIDE and max(a, max(b, c)) <= 1.0 + INSIDE)
                    if not inside:
                        inside = _walk(points, blocks, corners, near, kinds, vel, x, st, q, ids, cx, cv, jac, tmp, good)
                        if not inside:
                            q[3] = _clear_of(st[5], q)
                            inside = _search(m, vel, x, 0.0, st, q, ids, cx, cv, jac, tmp, stack)
                            if not inside and h * fastest < 0.01:  # a gap between blocks, or the end
                                inside = _search(m, vel, x, 1e-3, st, q, ids, cx, cv, jac, tmp, stack)
                        if not inside:
                            out = True
                            break
                    if st[5] == 2:
                        a, b, c = q[0], q[1], q[2]
                        for d in range(3):
                            k[stage, d] = sign * (cv[0, d] + a * cv[1, d] + b * cv[2, d] + c * cv[3, d])
                    else:
                        a, b, c = q[0], q[1], q[2]
                        for d in range(3):
                            k[stage, d] = sign * (cv[0, d] + a * (cv[1, d] + b * cv[4, d] + c * (cv[6, d] + b * cv[7, d]))
                                                  + b * (cv[2, d] + c * cv[5, d]) + c * cv[3, d])
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
                        det = _tetra_edges(cx, jac) if st[5] == 2 else _jacobian(cx, q[0], q[1], q[2], jac)
                        _solve(jac, det, tmp[0], tmp[1], tmp[2], rate)
                        ratio = max(abs(rate[0]), max(abs(rate[1]), abs(rate[2]))) / tol_cell
                    if ratio <= 1.0:
                        done = True
                        break
                    if not ratio < 1e12:
                        ratio = 1e12
                # Back to the cell of the last good point, and a shorter step.
                if not out:
                    h *= max(0.2, 0.9 * ratio ** -0.2)
                elif leaving or stage == 1:
                    h *= 0.5
                else:  # the first time: by how far it went out
                    gone = h * fastest * (0.3 if stage == 2 else 0.85)
                    h *= min(0.8, max(0.02, 0.98 * (1.0 - q[3] / max(gone, 1e-300))))
                _return_to(points, blocks, corners, kinds, vel, hold, back, st, q, ids, cx, cv)
                leaving = leaving or out
                if out and h * fastest < 1e-3:
                    break
            if not done:
                reason[line] = LEFT
                break
            # Arc length of the step by Simpson's rule, the middle velocity from the cubic through both ends.
            middle = ahead = 0.0
            for d in range(3):
                middle += (1.5 * (x[d] - p[d]) / h - 0.25 * (k[0, d] + k[6, d])) ** 2
                ahead += k[6, d] ** 2
            step = h / 6.0 * (speed + 4.0 * np.sqrt(middle) + np.sqrt(ahead))
            time += h
            error[line] += worst
            passing = -1.0
            if away > 8.0 * ring:
                passing = _passes(p, x, k[0], k[6], h, origin, ring, step)
            last = passing < 0.0 and length + step >= max_length
            if last:  # cut the step where the length is reached
                share = (max_length - length) / max(step, 1e-300)
                _hermite(p, x, k[0], k[6], h, share, tmp)
                x[0], x[1], x[2] = tmp[0], tmp[1], tmp[2]
                time -= h
                h *= share
                time += h
                if not _find(m, vel, x, 1e-3, st, q, ids, cx, cv, jac, tmp, stack):
                    reason[line] = LEFT
                    break
            length += step
            if passing >= 0.0:
                _hermite(p, x, k[0], k[6], h, passing, tmp)
                x[0], x[1], x[2] = tmp[0], tmp[1], tmp[2]
                if _find(m, vel, x, 1e-3, st, q, ids, cx, cv, jac, tmp, stack):
                    _store(out_p, out_q, out_cell, out_time, line, count[line], x, q, st, time - h + passing * h)
                    count[line] += 1
                reason[line] = CLOSED
                break
            # Steps shorter than the error allowed lead nowhere: the line circles a point of rest.
            allowed = tol_cell if tol_abs <= 0.0 else tol_abs * fastest / speed
            if step * fastest / speed < min(30.0 * allowed, 0.02):
                idle += 1
                if idle > 8:
                    reason[line] = STILL
                    break
            else:
                idle = 0
            if k[0, 0] * k[6, 0] + k[0, 1] * k[6, 1] + k[0, 2] * k[6, 2] < 0.985 * speed * np.sqrt(
                    k[6, 0] ** 2 + k[6, 1] ** 2 + k[6, 2] ** 2):
                _round_off(m, vel, p, x, k[0], k[6], h, st, q, ids, cx, cv, jac, tmp, stack, out_p, out_q, out_cell,
                           out_time, line, count, max_points, time - h)
            if count[line] >= max_points:
                break
            gone = 0.0
            for d in range(3):
                p[d] = x[d]
                k[0, d] = k[6, d]
                gone += (p[d] - origin[d]) ** 2
            away = max(away, np.sqrt(gone))
            _store(out_p, out_q, out_cell, out_time, line, count[line], p, q, st, time)
            count[line] += 1
            if last:
                reason[line] = LENGTH
                break
            if not leaving:  # else the border is near: the next step is not longer
                h *= 5.0 if ratio < 1.9e-4 else min(5.0, 0.9 * ratio ** -0.2)


@kernel
def _round_off(m: Array, vel: Array, p: Array, x: Array, v0: Array, v1: Array, h: float, st: Array, q: Array, ids: Array,
               cx: Array, cv: Array, jac: Array, tmp: Array, stack: Array, out_p: Array, out_q: Array, out_cell: Array,
               out_time: Array, line: int, count: Array, max_points: int, time: float) -> None:
    """Store points on a step that turns, so that the line looks as round as it is; ends in the cell of x again."""
    dot = v0[0] * v1[0] + v0[1] * v1[1] + v0[2] * v1[2]
    size = np.sqrt((v0[0] ** 2 + v0[1] ** 2 + v0[2] ** 2) * (v1[0] ** 2 + v1[1] ** 2 + v1[2] ** 2))
    pieces = min(16, 1 + int(np.arccos(max(-1.0, dot / size)) / 0.14))
    block, cell = st[0], st[1]
    r, s, t = q[0], q[1], q[2]
    place = np.empty(3)
    for n in range(1, pieces):
        if count[line] >= max_points:
            break
        _hermite(p, x, v0, v1, h, n / pieces, tmp)
        a, b, c = tmp[0], tmp[1], tmp[2]
        place[0], place[1], place[2] = a, b, c
        if _find(m, vel, place, 0.0, st, q, ids, cx, cv, jac, tmp, stack):
            _store(out_p, out_q, out_cell, out_time, line, count[line], place, q, st, time + h * n / pieces)
            count[line] += 1
        else:
            break
    st[0], st[1] = block, cell
    _load(m[0], m[1], m[2], m[4], vel, st, ids, cx, cv)
    q[0], q[1], q[2] = r, s, t


@kernel
def _return_to(points: Array, blocks: Array, corners: Array, kinds: Array, vel: Array, hold: Array, back: Array, st: Array,
               q: Array, ids: Array, cx: Array, cv: Array) -> None:
    # Always loaded anew: a failed search leaves another cell's coefficients behind.
    st[0], st[1] = hold[0], hold[1]
    _load(points, blocks, corners, kinds, vel, st, ids, cx, cv)
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
    ids = np.empty(8, np.int64)
    q = np.empty(3)
    w = np.empty(8)
    blocks, kinds = m[1], m[4]
    for n in range(begin, end):
        block, cell = cells[n, 0], cells[n, 1]
        cell_nodes(m[1], m[2], block, cell, ids)
        tetra = blocks[block, 0] == 0 and kinds[blocks[block, 7] + cell] == 10
        for d in range(3):
            q[d] = places[n, d]
        weights_of(tetra, q, w)
        for c in range(8):
            ids_out[n, c] = ids[c]
            weights[n, c] = w[c]
