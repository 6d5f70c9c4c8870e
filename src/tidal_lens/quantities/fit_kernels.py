"""Compiled loops: the quadratic that fits the values round a node best."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel, summing

Array = Any


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


@kernel
def gather_ring(node: int, starts: Array, links: Array, ring: Array, slots: Array) -> int:
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
def _normal_matrix(rows: Array, count: int, a: Array) -> None:
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
    a[0, 0], a[0, 1], a[0, 2], a[0, 3], a[0, 4], a[0, 5], a[0, 6], a[0, 7], a[0, 8] = xx, xy, xz, xxx, xyy, xzz, xxy, xyz, xxz
    a[1, 1], a[1, 2], a[1, 3], a[1, 4], a[1, 5], a[1, 6], a[1, 7], a[1, 8] = yy, yz, xxy, yyy, yzz, xyy, yyz, xyz
    a[2, 2], a[2, 3], a[2, 4], a[2, 5], a[2, 6], a[2, 7], a[2, 8] = zz, xxz, yyz, zzz, xyz, yzz, xzz
    a[3, 3], a[3, 4], a[3, 5], a[3, 6], a[3, 7], a[3, 8] = xxxx, xxyy, xxzz, xxxy, xxyz, xxxz
    a[4, 4], a[4, 5], a[4, 6], a[4, 7], a[4, 8] = yyyy, yyzz, xyyy, yyyz, xyyz
    a[5, 5], a[5, 6], a[5, 7], a[5, 8] = zzzz, xyzz, yzzz, xzzz
    a[6, 6], a[6, 7], a[6, 8] = xxyy, xyyz, xxyz
    a[7, 7], a[7, 8], a[8, 8] = yyzz, xyzz, xxzz


@summing
def _right_side(rows: Array, count: int, c: int, a: Array) -> None:
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
    a[0, 9 + c], a[1, 9 + c], a[2, 9 + c], a[3, 9 + c], a[4, 9 + c], a[5, 9 + c] = x1, y1, z1, x2, y2, z2
    a[6, 9 + c], a[7, 9 + c], a[8, 9 + c] = xy, yz, xz


@kernel
def _take_off(a: Array, o: int, r: int, c: int) -> None:
    """Subtract from the three by three numbers at (r, c) what the rows o … o + 2, eliminated and their pivots inverted, hold of them."""
    f, g, h = a[o, o], a[o + 1, o + 1], a[o + 2, o + 2]
    f0, f1, f2 = a[o, r] * f, a[o, r + 1] * f, a[o, r + 2] * f
    g0, g1, g2 = a[o + 1, r] * g, a[o + 1, r + 1] * g, a[o + 1, r + 2] * g
    h0, h1, h2 = a[o + 2, r] * h, a[o + 2, r + 1] * h, a[o + 2, r + 2] * h
    for j in range(c, c + 3):
        x, y, z = a[o, j], a[o + 1, j], a[o + 2, j]
        a[r, j] -= f0 * x + g0 * y + h0 * z
        a[r + 1, j] -= f1 * x + g1 * y + h1 * z
        a[r + 2, j] -= f2 * x + g2 * y + h2 * z


@kernel
def _invert_pivot(a: Array, i: int, least: float) -> bool:
    """Put one over the pivot in its place; zero, and False, where nothing to speak of is left of it."""
    s = a[i, i]
    sound = bool(s > least)
    a[i, i] = 1.0 / s if sound else 0.0
    return sound


@kernel
def _solve(a: Array, least: Array) -> bool:
    """Solve the normal equations (9, 12), upper half given, for three right-hand sides from column 9 on; False where they are of no use.

    Elimination by threes: straight pieces of code cost half of what loops of all lengths do. The first three unknowns are the
    gradient. A later one that the others leave undetermined is taken to be zero: in a mesh of one layer, the second derivative across it.
    """
    for i in range(9):
        least[i] = 1e-9 * a[i, i]
    sound = 0
    for o in range(0, 9, 3):
        sound += _invert_pivot(a, o, least[o])
        f, g = a[o, o + 1] * a[o, o], a[o, o + 2] * a[o, o]
        for c in range(o + 1, 12):
            head = a[o, c]
            a[o + 1, c] -= head * f
            a[o + 2, c] -= head * g
        sound += _invert_pivot(a, o + 1, least[o + 1])
        f = a[o + 1, o + 2] * a[o + 1, o + 1]
        for c in range(o + 2, 12):
            a[o + 2, c] -= f * a[o + 1, c]
        sound += _invert_pivot(a, o + 2, least[o + 2])
        if sound < 3 or not np.isfinite(a[o + 2, o + 2]):
            return False
        for r in range(o + 3, 9, 3):
            for c in range(r, 12, 3):
                _take_off(a, o, r, c)
    for i in range(8, -1, -1):
        p, q, r = a[i, 9], a[i, 10], a[i, 11]
        for k in range(i + 1, 9):
            f = a[i, k]
            p -= f * a[k, 9]
            q -= f * a[k, 10]
            r -= f * a[k, 11]
        a[i, 9], a[i, 10], a[i, 11] = p * a[i, i], q * a[i, i], r * a[i, i]
    return sound >= 6


@kernel
def fit_quadratic(points: Array, values: Array, n: Any, ring: Array, count: int, a: Array, rows: Array, least: Array) -> bool:
    """Fit of a quadratic through the node's own value; gradients end up in a[0:3, 9 + component].

    a (9, 12) must be zero in columns of components that are not there. rows (7, ring's length): coordinates, values, weights.
    """
    nc = values.shape[1]
    x0, y0, z0 = points[n, 0], points[n, 1], points[n, 2]
    for m in range(count):
        o = np.uint64(ring[m])
        rows[0, m], rows[1, m], rows[2, m] = points[o, 0] - x0, points[o, 1] - y0, points[o, 2] - z0
        for c in range(nc):
            rows[3 + c, m] = values[o, c] - values[n, c]
    _normal_matrix(rows, count, a)
    for c in range(nc):
        _right_side(rows, count, c, a)
    return _solve(a, least)
