"""Hot loops that look through a shock: pressure, density and normal velocity along its normal, and the jump that is fitted to them.

A *field* is (n, 5) at the flow's nodes: pressure, density, and the velocity's three components.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features.vortex_kernels import at
from tidal_lens.jit import kernel, piece
from tidal_lens.sampling.kernels import jacobian, room, solve, tetra_edges

Array = NDArray[Any]
REACH = 14  # cells to each side
PER_CELL = 2  # samples
NEAR = 5  # cells from the surface within which the steepest place is looked for
SEEN = (NEAR + 1) * PER_CELL  # samples to each side that are looked at anyway
EDGE = 0.1  # of the steepest slope: where the jump ends
CARRY = 2  # cells over which the slopes beside the jump are taken
HALF = REACH * PER_CELL
# What a fit tells of a vertex: pressures, densities, normal velocities before and behind, where its middle is and how wide it is in cells,
# the width of a cell along the normal, the Mach number before it and the direction of the flow there, and the Mach number behind it.
P1, P2, R1, R2, U1, U2, SHIFT, WIDTH, CELL, M1, WAY, M2 = 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 13
FITTED = 14


@piece
def _along(st: Array, q: Array, cx: Array, jac: Array, tmp: Array, x: float, y: float, z: float) -> float:
    """Width along a direction of the present cell, or of the hexahedron that one of another kind is a part of."""
    kind = st[5]
    det = tetra_edges(cx, jac) if kind == 2 else jacobian(cx, q[0], q[1], q[2], jac)
    if det == 0.0:
        return 0.0
    solve(jac, det, x, y, z, tmp)
    size = np.sqrt(tmp[0] ** 2 + tmp[1] ** 2 + tmp[2] ** 2)
    part = 1.45 if kind == 2 else 1.35 if kind == 3 else 1.6 if kind == 4 else 1.0
    return float(part / size) if size > 0.0 else 0.0


@piece
def _sampled(m: Any, field: Array, at0: Array, way: Array, step: float, row: int, rows: Array, st: Array, q: Array, ids: Array, cx: Array,
             cv: Array, jac: Array, tmp: Array, stack: Array, w: Array, here: Array, p: Array) -> bool:
    """Write a row of the profile: pressure, density, and the velocity along the way; False outside."""
    s = (row - HALF) * step
    for d in range(3):
        p[d] = at0[d] + s * way[d]
    if not at(m, field, p, st, q, ids, cx, cv, jac, tmp, stack, w, here):
        return False
    rows[row, 0] = here[0]
    rows[row, 1] = here[1]
    rows[row, 2] = here[2] * way[0] + here[3] * way[1] + here[4] * way[2]
    return True


@piece
def _carried(rows: Array, column: int, edge: int, way: int, first: int, last: int, to: float) -> float:
    """A value beside the jump, carried to its middle on its own slope: from an edge, away from it in the direction of ``way``."""
    far = min(max(edge + way * CARRY * PER_CELL, first), last)
    if far == edge:
        return float(rows[edge, column])
    slope = (rows[far, column] - rows[edge, column]) / (far - edge)
    return float(rows[edge, column] + slope * (to - edge))


@kernel
def fit(m: Any, field: Array, points: Array, ways: Array, gamma: float, out: Array, begin: int, end: int) -> None:
    """Fit a jump along ways[n] (towards higher pressure) through points[n]; out[n] is not a number where there is none to fit."""
    st, q, ids, cx, cv, jac, tmp, stack = room()
    w, here, p = np.empty(8), np.empty(5), np.empty(3)
    rows = np.empty((2 * HALF + 1, 3))
    for n in range(begin, end):
        for k in range(FITTED):
            out[n, k] = np.nan
        p[:] = points[n]
        if not at(m, field, p, st, q, ids, cx, cv, jac, tmp, stack, w, here):
            continue
        x, y, z = ways[n, 0], ways[n, 1], ways[n, 2]
        cell = _along(st, q, cx, jac, tmp, x, y, z)
        if not cell > 0.0:
            continue
        step = cell / PER_CELL
        first, last = HALF, HALF - 1
        for row in range(HALF, HALF + SEEN + 1):
            if not _sampled(m, field, points[n], ways[n], step, row, rows, st, q, ids, cx, cv, jac, tmp, stack, w, here, p):
                break
            last = row
        for row in range(HALF - 1, HALF - SEEN - 1, -1):
            if not _sampled(m, field, points[n], ways[n], step, row, rows, st, q, ids, cx, cv, jac, tmp, stack, w, here, p):
                break
            first = row
        if last - first < 4 * PER_CELL:
            continue
        # The steepest place, from differences over a cell.
        steepest, middle = 0.0, -1
        for k in range(max(first + 1, HALF - NEAR * PER_CELL), min(last, HALF + NEAR * PER_CELL + 1)):
            slope = rows[k + 1, 0] - rows[k - 1, 0]
            if slope > steepest:
                steepest, middle = slope, k
        if middle < 0:
            continue
        fine = 0.0
        if first + 1 < middle < last - 1:
            a, b = rows[middle, 0] - rows[middle - 2, 0], rows[middle + 2, 0] - rows[middle, 0]
            bend = a - 2.0 * steepest + b
            if bend < 0.0:
                fine = min(max(0.5 * (a - b) / bend, -0.5), 0.5)
        # Outward from there to the feet of the jump, and half as far again with the slopes beside it; no further than is needed.
        low, high = middle, middle
        need, more = 0, True
        while more and first > 0:
            while low > first + 1 and rows[low, 0] - rows[low - 2, 0] > EDGE * steepest:
                low -= 1
            need = low - 1 - max((middle - low + 1) // 2, 1) - CARRY * PER_CELL
            more = low <= first + 1 or first > need
            if more:
                more = _sampled(m, field, points[n], ways[n], step, first - 1, rows, st, q, ids, cx, cv, jac, tmp, stack, w, here, p)
                if more:
                    first -= 1
        more = True
        while more and last < 2 * HALF:
            while high < last - 1 and rows[high + 2, 0] - rows[high, 0] > EDGE * steepest:
                high += 1
            need = high + 1 + max((high - middle + 1) // 2, 1) + CARRY * PER_CELL
            more = high >= last - 1 or last < need
            if more:
                more = _sampled(m, field, points[n], ways[n], step, last + 1, rows, st, q, ids, cx, cv, jac, tmp, stack, w, here, p)
                if more:
                    last += 1
        low, high = max(low - 1, first), min(high + 1, last)
        wide = high - low
        # The states are those beyond the feet of the jump, which go on for half as far again.
        low, high = max(low - max((middle - low) // 2, 1), first), min(high + max((high - middle) // 2, 1), last)
        to = middle + fine
        out[n, P1], out[n, P2] = _carried(rows, 0, low, -1, first, last, to), _carried(rows, 0, high, 1, first, last, to)
        out[n, R1], out[n, R2] = _carried(rows, 1, low, -1, first, last, to), _carried(rows, 1, high, 1, first, last, to)
        out[n, U1], out[n, U2] = _carried(rows, 2, low, -1, first, last, to), _carried(rows, 2, high, 1, first, last, to)
        if not (out[n, P1] > 0.0 and out[n, R1] > 0.0 and out[n, R2] > 0.0):
            out[n, P1] = np.nan
            continue
        out[n, SHIFT] = (to - HALF) * step
        out[n, WIDTH] = wide / PER_CELL
        out[n, CELL] = cell
        s = (low - HALF) * step
        p[0], p[1], p[2] = points[n, 0] + s * x, points[n, 1] + s * y, points[n, 2] + s * z
        if at(m, field, p, st, q, ids, cx, cv, jac, tmp, stack, w, here):
            speed = np.sqrt(here[2] ** 2 + here[3] ** 2 + here[4] ** 2)
            out[n, M1] = speed / np.sqrt(gamma * here[0] / here[1])
            for d in range(3):
                out[n, WAY + d] = here[2 + d] / speed
        s = (high - HALF) * step
        p[0], p[1], p[2] = points[n, 0] + s * x, points[n, 1] + s * y, points[n, 2] + s * z
        if at(m, field, p, st, q, ids, cx, cv, jac, tmp, stack, w, here):
            out[n, M2] = np.sqrt((here[2] ** 2 + here[3] ** 2 + here[4] ** 2) / (gamma * here[0] / here[1]))
