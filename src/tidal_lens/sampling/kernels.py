"""Compiled loops for locating points in cells and for interpolating there.

A mesh is passed as one tuple ``m`` of arrays (see :class:`tidal_lens.sampling.mesh.Mesh`):

    0 points (n, 3)           3 order (all cells,) int32           6 boxes (nodes, 6)
    1 blocks (b, 10) int64    4 level starts (blocks, 12) int64
    2 cells (c, 16) int32     5 level sizes (blocks, 12) int64

A row of ``cells`` is one line of the processor's cache: 0-7 corners, 8-13 neighbours across the sides (-1 outside), 14 kind
as in ``st`` below, 15 number in the file. Rows stand in the order of the tree, and cells are numbered by them. Structured blocks have none.
Columns of ``blocks``: 0 structured?, 1 first point, 2-4 points along i, j, k, 5 first cell, 6 cells, 7 first row in the
unstructured tables, 8 levels of the tree, 9 first entry in ``order``.
A place is (block, cell within the block, r, s, t). Scratch: ``st`` int64 (6): block, cell, i, j, k, kind of the
cell (0 structured, 1 hexahedron, 2 tetrahedron, 3 wedge, 4 pyramid);
``q`` (4): r, s, t, and after a failed walk how far outside it ended [cells];
``cx`` (8, 3): trilinear coefficients of the position; ``cv``: of the velocity; ``ids`` (8).
Rows of mesh arrays are never taken as views: each would count a reference, and two threads would fight for the counter.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import folded, kernel, making, piece

Array = Any
INSIDE = 1e-9


@piece
def cell_nodes(blocks: Array, cells: Array, block: int, cell: int, ids: Array) -> None:
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
        row = np.uintp(blocks[block, 7] + cell)
        for c in range(8):
            ids[c] = cells[row, c] + first


@folded
def coefficients(values: Array, i0: int, i1: int, i2: int, i3: int, i4: int, i5: int, i6: int, i7: int, out: Array) -> None:
    """Write the coefficients of the trilinear map of three components from eight corner nodes."""
    for d in range(3):
        # Unsigned: no test for an index from the end.
        a = values[np.uintp(i0), d]
        b = values[np.uintp(i1), d]
        c = values[np.uintp(i2), d]
        e = values[np.uintp(i3), d]
        f = values[np.uintp(i4), d]
        g = values[np.uintp(i5), d]
        h = values[np.uintp(i6), d]
        p = values[np.uintp(i7), d]
        out[0, d] = a
        out[1, d] = b - a
        out[2, d] = e - a
        out[3, d] = f - a
        out[4, d] = a - b + c - e
        out[5, d] = a - e - f + p
        out[6, d] = a - b - f + g
        out[7, d] = b - a - c + e + f - g + h - p


@piece
def _at(c: Array, r: float, s: float, t: float, out: Array) -> None:
    for d in range(3):
        out[d] = c[0, d] + r * (c[1, d] + s * c[4, d] + t * (c[6, d] + s * c[7, d])) + s * (c[2, d] + t * c[5, d]) + t * c[3, d]


@folded
def jacobian(c: Array, r: float, s: float, t: float, jac: Array) -> float:
    """Write d(x)/d(r, s, t) as jac[d, axis]; return the determinant."""
    for d in range(3):
        jac[d, 0] = c[1, d] + s * c[4, d] + t * (c[6, d] + s * c[7, d])
        jac[d, 1] = c[2, d] + r * c[4, d] + t * (c[5, d] + r * c[7, d])
        jac[d, 2] = c[3, d] + s * c[5, d] + r * (c[6, d] + s * c[7, d])
    return (jac[0, 0] * (jac[1, 1] * jac[2, 2] - jac[1, 2] * jac[2, 1])
            - jac[0, 1] * (jac[1, 0] * jac[2, 2] - jac[1, 2] * jac[2, 0])
            + jac[0, 2] * (jac[1, 0] * jac[2, 1] - jac[1, 1] * jac[2, 0]))


@folded
def solve(jac: Array, det: float, x: float, y: float, z: float, out: Array) -> None:
    """Write the solution of jac · out = (x, y, z); det is the determinant of jac."""
    inv = 1.0 / det
    out[0] = inv * (x * (jac[1, 1] * jac[2, 2] - jac[1, 2] * jac[2, 1])
                    - jac[0, 1] * (y * jac[2, 2] - jac[1, 2] * z) + jac[0, 2] * (y * jac[2, 1] - jac[1, 1] * z))
    out[1] = inv * (jac[0, 0] * (y * jac[2, 2] - jac[1, 2] * z) - x * (jac[1, 0] * jac[2, 2] - jac[1, 2] * jac[2, 0])
                    + jac[0, 2] * (jac[1, 0] * z - y * jac[2, 0]))
    out[2] = inv * (jac[0, 0] * (jac[1, 1] * z - y * jac[2, 1]) - jac[0, 1] * (jac[1, 0] * z - y * jac[2, 0])
                    + x * (jac[1, 0] * jac[2, 1] - jac[1, 1] * jac[2, 0]))


@piece
def load(points: Array, blocks: Array, cells: Array, vel: Array, st: Array, ids: Array, cx: Array,
          cv: Array) -> None:
    """Take up the cell st[0], st[1]: its nodes and the coefficients of position and velocity."""
    block, cell = st[0], st[1]
    cell_nodes(blocks, cells, block, cell, ids)
    if blocks[block, 0] == 1:
        ci, cj = blocks[block, 2] - 1, blocks[block, 3] - 1
        st[2] = cell % ci
        st[3] = (cell // ci) % cj
        st[4] = cell // (ci * cj)
        st[5] = 0
    else:
        st[5] = cells[np.uintp(blocks[block, 7] + cell), 14]
    if st[5] == 2:
        _tetra_coefficients(points, ids, cx)
        _tetra_coefficients(vel, ids, cv)
        return
    i0, i1, i2, i3, i4, i5, i6, i7 = ids[0], ids[1], ids[2], ids[3], ids[4], ids[5], ids[6], ids[7]
    coefficients(points, i0, i1, i2, i3, i4, i5, i6, i7, cx)
    coefficients(vel, i0, i1, i2, i3, i4, i5, i6, i7, cv)


@folded
def _tetra_coefficients(values: Array, ids: Array, out: Array) -> None:
    """The four of a tetrahedron: its first corner and the edges from there."""
    a, b, c, e = np.uintp(ids[0]), np.uintp(ids[1]), np.uintp(ids[2]), np.uintp(ids[4])
    for d in range(3):
        v = values[a, d]
        out[0, d] = v
        out[1, d] = values[b, d] - v
        out[2, d] = values[c, d] - v
        out[3, d] = values[e, d] - v


@piece
def _walk_tetra(points: Array, blocks: Array, cells: Array, vel: Array, p: Array, st: Array, q: Array, ids: Array, cx: Array,
                cv: Array) -> int:
    """:func:`walk` from tetrahedron to tetrahedron, all in registers: 1 when it found the cell, 0 when not, 2 at a cell of another kind.

    Velocities are taken up in the last cell only; a cell of another kind is not taken up.
    """
    block, cell = st[0], st[1]
    base, first = blocks[block, 7], blocks[block, 1]
    x, y, z = p[0] - cx[0, 0], p[1] - cx[0, 1], p[2] - cx[0, 2]
    a0, a1, a2 = cx[1, 0], cx[1, 1], cx[1, 2]
    b0, b1, b2 = cx[2, 0], cx[2, 1], cx[2, 2]
    c0, c1, c2 = cx[3, 0], cx[3, 1], cx[3, 2]
    found = 0
    for _ in range(64):
        m0, m1, m2 = b1 * c2 - b2 * c1, b2 * c0 - b0 * c2, b0 * c1 - b1 * c0
        det = a0 * m0 + a1 * m1 + a2 * m2
        if det == 0.0:
            break
        inv = 1.0 / det
        r = (x * m0 + y * m1 + z * m2) * inv
        s = (x * (c1 * a2 - c2 * a1) + y * (c2 * a0 - c0 * a2) + z * (c0 * a1 - c1 * a0)) * inv
        t = (x * (a1 * b2 - a2 * b1) + y * (a2 * b0 - a0 * b2) + z * (a0 * b1 - a1 * b0)) * inv
        rest = r + s + t - 1.0
        beyond = max(max(-r, -s), max(-t, rest))
        q[0], q[1], q[2] = r, s, t
        if not beyond < 1e300:
            break
        if beyond <= INSIDE:
            found = 1
            break
        # faces of the collapsed hexahedron: 0 r=0 (a c d), 1 r=1 (b c d), 2 s=0 (a b d), 4 t=0 (a b c)
        row = np.uintp(base + cell)
        best = INSIDE
        to: Any = -1
        if -r > best and cells[row, 8] >= 0:
            best, to = -r, np.int64(cells[row, 8])
        if -s > best and cells[row, 10] >= 0:
            best, to = -s, np.int64(cells[row, 10])
        if -t > best and cells[row, 12] >= 0:
            best, to = -t, np.int64(cells[row, 12])
        if rest > best and cells[row, 9] >= 0:
            best, to = rest, np.int64(cells[row, 9])
        if to < 0:
            q[3] = beyond
            break
        cell = to
        row = np.uintp(base + cell)
        if cells[row, 14] != 2:
            st[1] = cell
            return 2
        i = np.uintp(first + cells[row, 0])
        j, k, n = np.uintp(first + cells[row, 1]), np.uintp(first + cells[row, 2]), np.uintp(first + cells[row, 4])
        x0, y0, z0 = points[i, 0], points[i, 1], points[i, 2]
        x, y, z = p[0] - x0, p[1] - y0, p[2] - z0
        a0, a1, a2 = points[j, 0] - x0, points[j, 1] - y0, points[j, 2] - z0
        b0, b1, b2 = points[k, 0] - x0, points[k, 1] - y0, points[k, 2] - z0
        c0, c1, c2 = points[n, 0] - x0, points[n, 1] - y0, points[n, 2] - z0
    if cell != st[1]:
        st[1] = cell
        load(points, blocks, cells, vel, st, ids, cx, cv)
    return found


@piece
def newton(c: Array, x: float, y: float, z: float, r: float, s: float, t: float, keep: bool) -> tuple[bool, float, float, float]:
    """Invert the trilinear map from a guess, all in registers; False where it is singular or runs away.

    With ``keep`` the matrix of the first step is kept while it serves (its inverse costs more than the residual does):
    not for cells that shrink to an edge or a point, where such steps can be short far from the answer.
    """
    scale = 0.0
    for d in range(3):
        scale += c[1, d] * c[1, d] + c[2, d] * c[2, d] + c[3, d] * c[3, d]
    gap = 1e300
    last = -1.0
    fresh = True
    m00 = m01 = m02 = m10 = m11 = m12 = m20 = m21 = m22 = 0.0
    for _ in range(20):
        g0 = c[1, 0] + s * c[4, 0] + t * (c[6, 0] + s * c[7, 0])
        g1 = c[1, 1] + s * c[4, 1] + t * (c[6, 1] + s * c[7, 1])
        g2 = c[1, 2] + s * c[4, 2] + t * (c[6, 2] + s * c[7, 2])
        e0 = c[2, 0] + t * c[5, 0]
        e1 = c[2, 1] + t * c[5, 1]
        e2 = c[2, 2] + t * c[5, 2]
        dx = x - (c[0, 0] + r * g0 + s * e0 + t * c[3, 0])
        dy = y - (c[0, 1] + r * g1 + s * e1 + t * c[3, 1])
        dz = z - (c[0, 2] + r * g2 + s * e2 + t * c[3, 2])
        gap = dx * dx + dy * dy + dz * dz
        if fresh:
            e0 += r * (c[4, 0] + t * c[7, 0])
            e1 += r * (c[4, 1] + t * c[7, 1])
            e2 += r * (c[4, 2] + t * c[7, 2])
            f0 = c[3, 0] + s * c[5, 0] + r * (c[6, 0] + s * c[7, 0])
            f1 = c[3, 1] + s * c[5, 1] + r * (c[6, 1] + s * c[7, 1])
            f2 = c[3, 2] + s * c[5, 2] + r * (c[6, 2] + s * c[7, 2])
            m00, m01, m02 = e1 * f2 - e2 * f1, e2 * f0 - e0 * f2, e0 * f1 - e1 * f0
            det = g0 * m00 + g1 * m01 + g2 * m02
            if det == 0.0:
                break
            inv = 1.0 / det
            m00, m01, m02 = inv * m00, inv * m01, inv * m02
            m10, m11, m12 = inv * (f1 * g2 - f2 * g1), inv * (f2 * g0 - f0 * g2), inv * (f0 * g1 - f1 * g0)
            m20, m21, m22 = inv * (g1 * e2 - g2 * e1), inv * (g2 * e0 - g0 * e2), inv * (g0 * e1 - g1 * e0)
        dr = dx * m00 + dy * m01 + dz * m02
        ds = dx * m10 + dy * m11 + dz * m12
        dt = dx * m20 + dy * m21 + dz * m22
        step = max(abs(dr), max(abs(ds), abs(dt)))
        if not step < 1e300:
            return False, r, s, t
        if step > 4.0:
            dr, ds, dt = 4.0 * dr / step, 4.0 * ds / step, 4.0 * dt / step
        r = min(max(r + dr, -5.0), 6.0)
        s = min(max(s + ds, -5.0), 6.0)
        t = min(max(t + dt, -5.0), 6.0)
        # Far outside, the extrapolated map is only good for telling which way to go.
        if fresh and step < 0.1 and max(max(r, max(s, t)) - 1.0, -min(r, min(s, t))) > 0.5:
            return True, r, s, t
        if fresh and step < 1e-3:  # quadratic: the next step would be below 1e-6 times the cell's skewness
            return True, r, s, t
        if not fresh and step < 1e-3 and step * step < 1e-7 * last:  # linear: the next step would be as much shorter as this one was
            return True, r, s, t
        fresh = not keep or step > 0.1 or (last >= 0.0 and step > 0.1 * last)
        last = step
    # On a collapsed edge or corner one coordinate is anything: the place is found where the point is met.
    if gap < 1e-12 * scale:
        return True, min(max(r, 0.0), 1.0), min(max(s, 0.0), 1.0), min(max(t, 0.0), 1.0)
    return False, r, s, t


@piece
def _invert(p: Array, q: Array, cx: Array, keep: bool) -> bool:
    good, q[0], q[1], q[2] = newton(cx, p[0], p[1], p[2], q[0], q[1], q[2], keep)
    return good


@piece
def _invert_tetra(p: Array, q: Array, cx: Array, jac: Array, tmp: Array) -> bool:
    """Barycentric coordinates of the collapsed corners: la at r=s=t=0, lb at r, lc at s, ld at t, kept as (lb, lc, ld)."""
    det = tetra_edges(cx, jac)
    if det == 0.0:
        return False
    solve(jac, det, p[0] - cx[0, 0], p[1] - cx[0, 1], p[2] - cx[0, 2], tmp)
    for d in range(3):
        q[d] = tmp[d]
    return abs(tmp[0]) < 1e300


@folded
def tetra_edges(cx: Array, jac: Array) -> float:
    """Write the edges of a tetrahedron from its first corner as columns of jac; return the determinant."""
    # corners a, b, c, c, d, d, d, d: b - a is c1, c - a is c2 (c[2] = corner 3 - corner 0), d - a is c3
    for d in range(3):
        jac[d, 0] = cx[1, d]
        jac[d, 1] = cx[2, d]
        jac[d, 2] = cx[3, d]
    return (jac[0, 0] * (jac[1, 1] * jac[2, 2] - jac[1, 2] * jac[2, 1])
            - jac[0, 1] * (jac[1, 0] * jac[2, 2] - jac[1, 2] * jac[2, 0])
            + jac[0, 2] * (jac[1, 0] * jac[2, 1] - jac[1, 1] * jac[2, 0]))


@kernel
def velocity(tetra: bool, q: Array, cv: Array, out: Array) -> None:
    """Write the velocity at a place of the present cell."""
    if tetra:
        for d in range(3):
            out[d] = cv[0, d] + q[0] * cv[1, d] + q[1] * cv[2, d] + q[2] * cv[3, d]
    else:
        _at(cv, q[0], q[1], q[2], out)


@piece
def side_of(kind: int, q: Array) -> int:
    """By which side of its cell a place is furthest outside."""
    if kind == 2:
        most, side = q[0] + q[1] + q[2] - 1.0, 6
    else:
        most, side = -1e300, 0
    for d in range(3):
        if -q[d] > most:
            most, side = -q[d], 2 * d
        if kind != 2 and q[d] - 1.0 > most:
            most, side = q[d] - 1.0, 2 * d + 1
    return side


@piece
def clear_of(kind: int, q: Array) -> float:
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
def walk(points: Array, blocks: Array, cells: Array, vel: Array, p: Array, st: Array,
         q: Array, ids: Array, cx: Array, cv: Array, jac: Array, tmp: Array, known: bool) -> bool:
    """Walk from the present cell to the one that holds p; False when it leaves the block or loses its way.

    With ``known``, q is already the place of p in the present cell's map. (A plain False would have it compiled for that alone.) After
    a failure the present cell is the last one met, and q[3] says how far outside it p is in its map [cell widths], or 1e300 when the
    way was lost.
    """
    q[3] = 1e300
    for round_ in range(64):
        if st[5] == 2:
            found = _walk_tetra(points, blocks, cells, vel, p, st, q, ids, cx, cv)
            if found < 2:
                return found == 1
            q[0], q[1], q[2] = 0.4, 0.4, 0.4
            load(points, blocks, cells, vel, st, ids, cx, cv)
            continue
        if (round_ > 0 or not known) and not _invert(p, q, cx, st[5] <= 1):
            return False
        beyond = clear_of(st[5], q)
        if beyond <= INSIDE:
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
                q[3] = beyond
                return False
            st[1] = st[2] + (blocks[block, 2] - 1) * (st[3] + (blocks[block, 3] - 1) * st[4])
        else:
            row = np.uintp(blocks[block, 7] + st[1])
            best, side = 0.0, -1
            for d in range(3):
                if -q[d] > best and cells[row, 8 + 2 * d] >= 0:
                    best, side = -q[d], 2 * d
                if q[d] - 1.0 > best and cells[row, 9 + 2 * d] >= 0:
                    best, side = q[d] - 1.0, 2 * d + 1
            if side < 0 or best <= INSIDE:
                q[3] = beyond
                return False
            q[0], q[1], q[2] = 0.4, 0.4, 0.4
            st[1] = cells[row, 8 + side]
        load(points, blocks, cells, vel, st, ids, cx, cv)
    return False


@piece
def search(m: Array, vel: Array, p: Array, slack: float, st: Array, q: Array, ids: Array, cx: Array, cv: Array,
           jac: Array, tmp: Array, stack: Array) -> bool:
    """Find the cell that holds p by the trees, else the nearest of those that it is no more than ``slack`` outside of [cell widths].

    After a failure the block st[0] is -1: the place is unknown.
    """
    blocks, order, starts, sizes, boxes = m[1], m[3], m[4], m[5], m[6]
    x, y, z = p[0], p[1], p[2]
    walks = 0
    nearest, near_block, near_cell = 1e300, np.int64(-1), np.int64(-1)
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
            if walks < 4:  # mostly a cell or two away: cheaper than looking at all cells of the box
                walks += 1
                st[0] = block
                st[1] = order[blocks[block, 9] + min(node * 8 + 3, blocks[block, 6] - 1)]
                load(m[0], m[1], m[2], vel, st, ids, cx, cv)
                q[0] = q[1] = q[2] = 0.5
                if walk(m[0], m[1], m[2], vel, p, st, q, ids, cx, cv, jac, tmp, len(p) < 0):
                    return True
            for entry in range(node * 8, min((node + 1) * 8, blocks[block, 6])):
                st[0] = block
                st[1] = order[blocks[block, 9] + entry]
                cell_nodes(m[1], m[2], block, st[1], ids)
                if not _in_box(m[0], ids, p, slack):
                    continue
                load(m[0], m[1], m[2], vel, st, ids, cx, cv)
                tetra = st[5] == 2
                q[0] = q[1] = q[2] = 0.5
                good = _invert_tetra(p, q, cx, jac, tmp) if tetra else _invert(p, q, cx, st[5] <= 1)
                far = clear_of(st[5], q) if good else 1e300
                if far <= INSIDE:
                    return True
                if far <= slack and far < nearest:
                    nearest, near_block, near_cell = far, st[0], st[1]
    st[0] = near_block
    if near_block < 0:
        return False
    st[1] = near_cell
    load(m[0], m[1], m[2], vel, st, ids, cx, cv)
    q[0] = q[1] = q[2] = 0.5
    return _invert_tetra(p, q, cx, jac, tmp) if st[5] == 2 else _invert(p, q, cx, st[5] <= 1)


@piece
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


@piece
def find(m: Array, vel: Array, p: Array, slack: float, st: Array, q: Array, ids: Array, cx: Array, cv: Array, jac: Array,
          tmp: Array, stack: Array) -> bool:
    """Find the cell of p: by walking from the present one, then by the trees, with slack for gaps."""
    if st[0] >= 0 and walk(m[0], m[1], m[2], vel, p, st, q, ids, cx, cv, jac, tmp, len(p) < 0):
        return True
    return search(m, vel, p, slack, st, q, ids, cx, cv, jac, tmp, stack)


@piece
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


@making
def room() -> Any:
    """What a search works in.

    Block and cell with what belongs to them, the place in the cell, its nodes, the coefficients of its map and of the velocity, two
    scratches, and what of a tree is still to be looked at.
    """
    st, ids = np.empty(6, np.int64), np.empty(8, np.int64)
    st[:] = -1
    return st, np.zeros(4), ids, np.empty((8, 3)), np.empty((8, 3)), np.empty((3, 3)), np.empty(3), np.empty((4096, 2), np.int64)


@kernel
def locate(m: Array, targets: Array, slack: float, where: Array, ids_out: Array, weights: Array, begin: int,
           end: int) -> None:
    """For targets begin..end: block in where[n, 0] or -1 outside, cell in where[n, 1], corner nodes and weights."""
    st, q, ids, cx, cv, jac, tmp, stack = room()
    w = np.empty(8)
    p = np.empty(3)
    for n in range(begin, end):
        for d in range(3):
            p[d] = targets[n, d]
        found = find(m, m[0], p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack)
        if not found and slack > 1e-3:
            found = search(m, m[0], p, slack, st, q, ids, cx, cv, jac, tmp, stack)
        if not found:
            st[0] = -1
            where[n, 0] = -1
            where[n, 1] = -1
            for c in range(8):
                ids_out[n, c] = 0
                weights[n, c] = np.nan
            continue
        where[n, 0] = st[0]
        where[n, 1] = st[1]
        weights_of(st[5] == 2, q, w)
        for c in range(8):
            ids_out[n, c] = ids[c]
            weights[n, c] = w[c]


@kernel
def locate_places(m: Array, targets: Array, where: Array, places: Array, begin: int, end: int) -> None:
    """For targets begin..end: block and cell (-1 outside) in ``where`` (n, 2), and the place in the cell in ``places`` (n, 3)."""
    st, q, ids, cx, cv, jac, tmp, stack = room()
    p = np.empty(3)
    for n in range(begin, end):
        for d in range(3):
            p[d] = targets[n, d]
        if not find(m, m[0], p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack):
            st[0] = -1
            where[n, 0] = where[n, 1] = -1
            continue
        where[n, 0], where[n, 1] = st[0], st[1]
        for d in range(3):
            places[n, d] = q[d]


@kernel
def gather_places(m: Array, where: Array, places: Array, values: Array, out: Array, begin: int, end: int) -> None:
    """Values (nodes, c) at places (block, cell) and (r, s, t), in out (n, c); NaN where the block is -1."""
    ids = np.empty(8, np.int64)
    q, w = np.empty(3), np.empty(8)
    blocks, cells = m[1], m[2]
    for n in range(begin, end):
        block, cell = int(where[n, 0]), int(where[n, 1])
        if block < 0:
            for k in range(values.shape[1]):
                out[n, k] = np.nan
            continue
        cell_nodes(blocks, cells, block, cell, ids)
        tetra = blocks[block, 0] == 0 and cells[blocks[block, 7] + cell, 14] == 2
        for d in range(3):
            q[d] = places[n, d]
        weights_of(tetra, q, w)
        for k in range(values.shape[1]):
            total = 0.0
            for c in range(8):
                if w[c] != 0.0:
                    total += w[c] * values[ids[c], k]
            out[n, k] = total


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
    points, rows, order = m[0], m[2], m[3]
    structured, first, ni, nj = m[1][block, 0] == 1, m[1][block, 1], m[1][block, 2], m[1][block, 3]
    many, base, place = m[1][block, 6], m[1][block, 7], m[1][block, 9]
    ci, cj, layer = ni - 1, nj - 1, ni * nj
    for leaf in range(begin, end):
        x0 = y0 = z0 = np.inf
        x1 = y1 = z1 = -np.inf
        for entry in range(leaf * 8, min(leaf * 8 + 8, many)):
            n = np.int64(order[np.uintp(place + entry)])
            if structured:
                k = n // (ci * cj)
                j = (n - k * ci * cj) // ci
                n = first + n - (k * cj + j) * ci + ni * (j + nj * k)
            for c in range(8):
                if structured:
                    node = n + (c & 1) + ni * (c >> 1 & 1) + layer * (c >> 2)
                else:
                    node = np.int64(rows[np.uintp(base + n), np.uintp(c)]) + first
                at = np.uintp(node)
                x, y, z = points[at, 0], points[at, 1], points[at, 2]
                x0, y0, z0 = x if x < x0 else x0, y if y < y0 else y0, z if z < z0 else z0
                x1, y1, z1 = x if x > x1 else x1, y if y > y1 else y1, z if z > z1 else z1
        boxes[leaf, 0], boxes[leaf, 1], boxes[leaf, 2] = x0, y0, z0
        boxes[leaf, 3], boxes[leaf, 4], boxes[leaf, 5] = x1, y1, z1


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
def spread(v: int) -> int:
    """Lower 21 bits of a number with two zeros between any two: a third of a place on a Morton curve."""
    v &= 0x1FFFFF
    v = (v | (v << 32)) & 0x1F00000000FFFF
    v = (v | (v << 16)) & 0x1F0000FF0000FF
    v = (v | (v << 8)) & 0x100F00F00F00F00F
    v = (v | (v << 4)) & 0x10C30C30C30C30C3
    return (v | (v << 2)) & 0x1249249249249249


@kernel
def curve_keys(points: Array, block: Array, corners: Array, low: Array, scale: Array, keys: Array, begin: int, end: int) -> None:
    """Place of each cell of a block on a space-filling (Morton) curve: by its indices, or by its centre where it has none."""
    for cell in range(begin, end):
        if block[0] == 1:
            ci, cj = block[2] - 1, block[3] - 1
            keys[cell] = (spread(cell % ci) | (spread((cell // ci) % cj) << 1) | (spread(cell // (ci * cj)) << 2))
        else:
            x = y = z = 0.0
            for c in range(8):
                node = np.uintp(corners[np.uintp(cell), np.uintp(c)] + block[1])
                x, y, z = x + points[node, 0], y + points[node, 1], z + points[node, 2]
            keys[cell] = (spread(int((x / 8.0 - low[0]) * scale[0])) | (spread(int((y / 8.0 - low[1]) * scale[1])) << 1)
                          | (spread(int((z / 8.0 - low[2]) * scale[2])) << 2))


@folded
def _share_of(limits: Array, key: Any) -> Any:
    """How many of ascending limits are not above a key."""
    low, high = 0, len(limits)
    while low < high:
        middle = (low + high) // 2
        if limits[np.uintp(middle)] <= key:
            low = middle + 1
        else:
            high = middle
    return low


@kernel
def count_between(keys: Array, limits: Array, counts: Array, begin: int, end: int) -> None:
    """How many of keys[begin:end] lie between ascending limits: below the first, …, from the last on; added to ``counts``."""
    for n in range(begin, end):
        counts[np.uintp(_share_of(limits, keys[np.uintp(n)]))] += 1


@kernel
def spread_between(keys: Array, limits: Array, fill: Array, to_keys: Array, to_places: Array, begin: int, end: int) -> None:
    """Write keys[begin:end] and their places to where what lies between those limits is filled next."""
    for n in range(begin, end):
        key = keys[np.uintp(n)]
        share = np.uintp(_share_of(limits, key))
        to = np.uintp(fill[share])
        to_keys[to] = key
        to_places[to] = n
        fill[share] += 1


@kernel
def lay_rows(corners: Array, neighbours: Array, kinds: Array, order: Array, place: Array, out: Array, begin: int, end: int) -> None:
    """Write rows begin … end of a block's cells: row n is that of cell ``order[n]`` of the file, and ``place`` the other way round."""
    for n in range(begin, end):
        row, cell = np.uintp(n), np.uintp(order[n])
        for c in range(8):
            out[row, c] = corners[cell, c]
        for c in range(6):
            other = neighbours[cell, c]
            out[row, 8 + c] = place[other] if other >= 0 else -1
        out[row, 14], out[row, 15] = kinds[cell], cell


@kernel
def places_to_weights(m: Array, where: Array, places: Array, ids_out: Array, weights: Array, begin: int,
                      end: int) -> None:
    """Corner nodes and weights of places (block, cell) and (r, s, t)."""
    ids = np.empty(8, np.int64)
    q = np.empty(3)
    w = np.empty(8)
    blocks, cells = m[1], m[2]
    for n in range(begin, end):
        block, cell = where[n, 0], where[n, 1]
        cell_nodes(blocks, cells, block, cell, ids)
        tetra = blocks[block, 0] == 0 and cells[blocks[block, 7] + cell, 14] == 2
        for d in range(3):
            q[d] = places[n, d]
        weights_of(tetra, q, w)
        for c in range(8):
            ids_out[n, c] = ids[c]
            weights[n, c] = w[c]
