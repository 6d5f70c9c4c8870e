"""Compiled loops: the quadratics that fit the values round nodes best, solved for several nodes side by side.

What belongs to number q of the ``LANES`` nodes that are worked on stands at q of each row of so many numbers: so the processor takes
several nodes in one step.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel, piece, summing

Array = Any
U = np.uint64  # of unsigned numbers none needs to be tested for a negative sign
LANES = 16
_RING = 160  # neighbours that a fit rests on at the most
_COLUMN, _ROW = LANES, 12 * LANES  # of the normal equations: nine unknowns, and right-hand sides in the columns from 9 on


@inlined
def _enter(other: int, slots: Array, ring: Array, count: int) -> int:
    """Add a node to the ring unless it is there already: ``slots`` is a table of places by the node's number."""
    at = (np.int64(other) * 0x9E3779B1) & 511
    while slots[at] >= 0:
        if ring[slots[at]] == other:
            return count
        at = (at + 1) & 511
    if count < len(ring):
        slots[at] = count
        ring[count] = other
        return count + 1
    return count


@piece
def _gather_ring(node: int, starts: Array, links: Array, ring: Array, slots: Array) -> int:
    """Two rings of neighbours, a third where they are few; at most as many as ``ring`` holds (fewer than half the slots)."""
    for k in range(512):
        slots[k] = -1
    count = 0
    for e in range(starts[node], starts[node + 1]):
        count = _enter(links[e], slots, ring, count)
    begin, level = 0, 1
    while level < 2 or (level < 3 and count < 14):
        end = count
        for f in range(begin, end):
            for e in range(starts[ring[f]], starts[ring[f] + 1]):
                if links[e] != node:
                    count = _enter(links[e], slots, ring, count)
        begin = end
        level += 1
    return count


@summing
def _normal_matrix(rows: Array, count: int, a: Array, lane: int) -> None:
    """Σ w tᵢ tⱼ for j ≥ i of the terms x y z x² y² z² xy yz xz: of its 45 entries 31 differ, the moments of order two to four."""
    xx = xy = xz = yy = yz = zz = 0.0
    xxx = xxy = xxz = xyy = xyz = xzz = yyy = yyz = yzz = zzz = 0.0
    xxxx = xxxy = xxxz = xxyy = xxyz = xxzz = xyyy = xyyz = xyzz = xzzz = 0.0
    yyyy = yyyz = yyzz = yzzz = zzzz = 0.0
    for m in range(count):
        x, y, z = rows[0, m], rows[1, m], rows[2, m]
        x2, y2, z2 = x * x, y * y, z * z
        # By true distances: in flat cells the near nodes across must not suffer from what the far ones along do to the fit.
        d2 = x2 + y2 + z2
        w = 1.0 / d2 if d2 > 0.0 else 0.0
        rows[6, m] = w
        p, q, r = w * x2, w * y2, w * z2
        s, t, u = w * x * y, w * y * z, w * x * z
        xx += p
        yy += q
        zz += r
        xy += s
        yz += t
        xz += u
        xxx += p * x
        xxy += p * y
        xxz += p * z
        xyy += q * x
        yyy += q * y
        yyz += q * z
        xzz += r * x
        yzz += r * y
        zzz += r * z
        xyz += s * z
        xxxx += p * x2
        xxyy += p * y2
        xxzz += p * z2
        yyyy += q * y2
        yyzz += q * z2
        zzzz += r * z2
        xxxy += s * x2
        xyyy += s * y2
        xyzz += s * z2
        xxyz += t * x2
        yyyz += t * y2
        yzzz += t * z2
        xxxz += u * x2
        xyyz += u * y2
        xzzz += u * z2
    a[0, 0, lane], a[0, 1, lane], a[0, 2, lane], a[0, 3, lane], a[0, 4, lane] = xx, xy, xz, xxx, xyy
    a[0, 5, lane], a[0, 6, lane], a[0, 7, lane], a[0, 8, lane] = xzz, xxy, xyz, xxz
    a[1, 1, lane], a[1, 2, lane], a[1, 3, lane], a[1, 4, lane], a[1, 5, lane] = yy, yz, xxy, yyy, yzz
    a[1, 6, lane], a[1, 7, lane], a[1, 8, lane] = xyy, yyz, xyz
    a[2, 2, lane], a[2, 3, lane], a[2, 4, lane], a[2, 5, lane] = zz, xxz, yyz, zzz
    a[2, 6, lane], a[2, 7, lane], a[2, 8, lane] = xyz, yzz, xzz
    a[3, 3, lane], a[3, 4, lane], a[3, 5, lane], a[3, 6, lane], a[3, 7, lane], a[3, 8, lane] = xxxx, xxyy, xxzz, xxxy, xxyz, xxxz
    a[4, 4, lane], a[4, 5, lane], a[4, 6, lane], a[4, 7, lane], a[4, 8, lane] = yyyy, yyzz, xyyy, yyyz, xyyz
    a[5, 5, lane], a[5, 6, lane], a[5, 7, lane], a[5, 8, lane] = zzzz, xyzz, yzzz, xzzz
    a[6, 6, lane], a[6, 7, lane], a[6, 8, lane] = xxyy, xyyz, xxyz
    a[7, 7, lane], a[7, 8, lane], a[8, 8, lane] = yyzz, xyzz, xxzz


@summing
def _right_side(rows: Array, count: int, c: int, a: Array, lane: int) -> None:
    """Σ w tᵢ f of the value in rows[3 + c], as column 9 + c."""
    x1 = y1 = z1 = x2 = y2 = z2 = xy = yz = xz = 0.0
    for m in range(count):
        x, y, z, f = rows[0, m], rows[1, m], rows[2, m], rows[6, m] * rows[3 + c, m]
        p, q, r = f * x, f * y, f * z
        x1 += p
        y1 += q
        z1 += r
        x2 += p * x
        y2 += q * y
        z2 += r * z
        xy += p * y
        yz += q * z
        xz += r * x
    a[0, 9 + c, lane], a[1, 9 + c, lane], a[2, 9 + c, lane] = x1, y1, z1
    a[3, 9 + c, lane], a[4, 9 + c, lane], a[5, 9 + c, lane] = x2, y2, z2
    a[6, 9 + c, lane], a[7, 9 + c, lane], a[8, 9 + c, lane] = xy, yz, xz


@inlined
def _inverse(pivot: float, least: float) -> float:
    """One over a pivot; zero where nothing to speak of is left of it."""
    return 1.0 / pivot if pivot > least else 0.0


@piece
def _invert_three(a: Array, o: int, least: Array, sound: Array) -> None:
    """Eliminate within the block of the rows and columns o, o + 1 and o + 2; the pivots end up inverted, those that count in ``sound``."""
    at, floor = U(o * (_ROW + _COLUMN)), U(o * LANES)
    for lane in range(LANES):
        q = U(lane)
        i, k, m = at + q, at + U(_ROW) + q, at + U(2 * _ROW) + q
        y, z = a[i + U(_COLUMN)], a[i + U(2 * _COLUMN)]
        first = _inverse(a[i], least[floor + q])
        second = _inverse(a[k + U(_COLUMN)] - y * y * first, least[floor + U(LANES) + q])
        across = a[k + U(2 * _COLUMN)] - y * z * first
        third = _inverse(a[m + U(2 * _COLUMN)] - z * z * first - across * across * second, least[floor + U(2 * LANES) + q])
        a[i], a[k + U(_COLUMN)], a[m + U(2 * _COLUMN)] = first, second, third
        a[k + U(2 * _COLUMN)] = across
        sound[q] += (1.0 if first > 0.0 else 0.0) + (1.0 if second > 0.0 else 0.0) + (1.0 if third > 0.0 else 0.0)


@piece
def _clear_three(a: Array, o: int, c: int) -> None:
    """What that elimination does to the columns c … c + 2 of these rows."""
    pivot, to = U(o * (_ROW + _COLUMN)), U(o * _ROW + c * _COLUMN)
    for lane in range(LANES):
        q = U(lane)
        i = pivot + q
        f, g = a[i + U(_COLUMN)] * a[i], a[i + U(2 * _COLUMN)] * a[i]
        h = a[i + U(_ROW + 2 * _COLUMN)] * a[i + U(_ROW + _COLUMN)]
        for j in range(3):
            k = to + U(j * _COLUMN) + q
            x = a[k]
            y = a[k + U(_ROW)] - f * x
            a[k + U(_ROW)] = y
            a[k + U(2 * _ROW)] -= g * x + h * y


@piece
def _take_off(a: Array, o: int, r: int, c: int) -> None:
    """Subtract from the three by three numbers at (r, c) what the rows o … o + 2, eliminated and their pivots inverted, hold of them."""
    pivot, left, top, to = U(o * (_ROW + _COLUMN)), U(o * _ROW + r * _COLUMN), U(o * _ROW + c * _COLUMN), U(r * _ROW + c * _COLUMN)
    for lane in range(LANES):
        q = U(lane)
        f, g, h = a[pivot + q], a[pivot + U(_ROW + _COLUMN) + q], a[pivot + U(2 * (_ROW + _COLUMN)) + q]
        i = left + q
        f0, f1, f2 = a[i] * f, a[i + U(_COLUMN)] * f, a[i + U(2 * _COLUMN)] * f
        i += U(_ROW)
        g0, g1, g2 = a[i] * g, a[i + U(_COLUMN)] * g, a[i + U(2 * _COLUMN)] * g
        i += U(_ROW)
        h0, h1, h2 = a[i] * h, a[i + U(_COLUMN)] * h, a[i + U(2 * _COLUMN)] * h
        for j in range(3):
            i, k = top + U(j * _COLUMN) + q, to + U(j * _COLUMN) + q
            x, y, z = a[i], a[i + U(_ROW)], a[i + U(2 * _ROW)]
            a[k] -= f0 * x + g0 * y + h0 * z
            a[k + U(_ROW)] -= f1 * x + g1 * y + h1 * z
            a[k + U(2 * _ROW)] -= f2 * x + g2 * y + h2 * z


@piece
def _put_in(a: Array, o: int, k: int) -> None:
    """Subtract from the right-hand sides of the rows o … o + 2 what the unknowns k … k + 2, already found, make of them."""
    left, of, to = U(o * _ROW + k * _COLUMN), U(k * _ROW + 9 * _COLUMN), U(o * _ROW + 9 * _COLUMN)
    for lane in range(LANES):
        q = U(lane)
        for c in range(3):
            i = of + U(c * _COLUMN) + q
            x, y, z = a[i], a[i + U(_ROW)], a[i + U(2 * _ROW)]
            for r in range(3):
                m, n = left + U(r * _ROW) + q, to + U(r * _ROW + c * _COLUMN) + q
                a[n] -= a[m] * x + a[m + U(_COLUMN)] * y + a[m + U(2 * _COLUMN)] * z


@piece
def _find_three(a: Array, o: int) -> None:
    """The unknowns o … o + 2 in place of their right-hand sides."""
    pivot, to = U(o * (_ROW + _COLUMN)), U(o * _ROW + 9 * _COLUMN)
    for lane in range(LANES):
        q = U(lane)
        i = pivot + q
        f, g, h = a[i + U(_COLUMN)], a[i + U(2 * _COLUMN)], a[i + U(_ROW + 2 * _COLUMN)]
        for c in range(3):
            n = to + U(c * _COLUMN) + q
            z = a[n + U(2 * _ROW)] * a[i + U(2 * (_ROW + _COLUMN))]
            y = (a[n + U(_ROW)] - h * z) * a[i + U(_ROW + _COLUMN)]
            a[n + U(2 * _ROW)], a[n + U(_ROW)] = z, y
            a[n] = (a[n] - f * y - g * z) * a[i]


@piece
def _solve(a: Array, least: Array, sound: Array, leading: Array) -> None:
    """Solve the normal equations by blocks of three, without loops of all lengths.

    The first three unknowns are the gradient: ``leading`` counts their sound pivots, ``sound`` all of them. A later unknown that the
    others leave undetermined is taken to be zero: in a mesh of one layer, the second derivative across it.
    """
    for i in range(9):
        at, of = U(i * LANES), U(i * (_ROW + _COLUMN))
        for q in range(LANES):
            least[at + U(q)] = 1e-9 * a[of + U(q)]
    for q in range(LANES):
        sound[q] = 0.0
    for o in range(0, 9, 3):
        _invert_three(a, o, least, sound)
        if o == 0:
            for q in range(LANES):
                leading[q] = sound[q]
        for c in range(o + 3, 12, 3):
            _clear_three(a, o, c)
        for r in range(o + 3, 9, 3):
            for c in range(r, 12, 3):
                _take_off(a, o, r, c)
    for o in range(6, -1, -3):
        for k in range(o + 3, 9, 3):
            _put_in(a, o, k)
        _find_three(a, o)


@kernel
def fit_quadratics(points: Array, values: Array, starts: Array, links: Array, nodes: Array, count: int, out: Array, first: int) -> None:
    """Gradients of the quadratics through the values of the first ``count`` of some nodes and nearest to those of two rings about them.

    points (n, 3), values (n, c <= 3); row 0 of out (m, c, 3) is node ``first``. Where there are too few neighbours, or they lie badly,
    out is left as it is.
    """
    nc = values.shape[1]
    ring, slots = np.empty(_RING, np.int64), np.empty(512, np.int16)
    rows = np.zeros((7, _RING + 3))  # coordinates, values, weights
    a, least = np.zeros((9, 12, LANES)), np.empty(9 * LANES)
    flat = a.reshape(-1)
    sound, leading, counts = np.empty(LANES), np.empty(LANES), np.zeros(LANES, np.int64)
    for begin in range(0, count, LANES):
        lanes = min(LANES, count - begin)
        for lane in range(lanes):
            n = U(nodes[begin + lane])
            near = counts[lane] = _gather_ring(nodes[begin + lane], starts, links, ring, slots)
            x, y, z = points[n, 0], points[n, 1], points[n, 2]
            for m in range(near):
                o = U(ring[m])
                rows[0, m], rows[1, m], rows[2, m] = points[o, 0] - x, points[o, 1] - y, points[o, 2] - z
                for c in range(nc):
                    rows[3 + c, m] = values[o, c] - values[n, c]
            whole = -(-near // 4) * 4  # so that no neighbours are left over where four are taken at a time
            for m in range(near, whole):
                rows[:, m] = 0.0
            _normal_matrix(rows, whole, a, lane)
            for c in range(nc):
                _right_side(rows, whole, c, a, lane)
        _solve(flat, least, sound, leading)
        for lane in range(lanes):
            if counts[lane] < 12 or leading[lane] < 3.0 or sound[lane] < 6.0 or not np.isfinite(a[2, 2, lane]):
                continue
            row = nodes[begin + lane] - first
            for c in range(nc):
                for d in range(3):
                    out[row, c, d] = a[d, 9 + c, lane]
