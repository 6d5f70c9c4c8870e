"""Hot loops that follow vortex cores: along the vorticity, back to the least λ2 across it at every step.

A *field* is (n, 6) at the flow's nodes: λ2, the vorticity's three components, the width of cells, and the distance to the nearest wall.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.jit import kernel, piece
from tidal_lens.sampling.kernels import find, room, weights_of

Array = NDArray[Any]
LEFT, FADED, LOST, WALL, CLOSED, LONG = 1, 2, 3, 4, 5, 6
FADE = 0.02  # of the deepest λ2 of a line lately: where it ends
FLOOR = 0.0025  # (0.05)²: it ends at a shallower −λ2 too, in squares of the flow's speed by its length
FORGOTTEN = 0.97  # of the deepest λ2, a step: a shock on the way is deeper than what follows, which is a vortex yet
MISSES = 4  # steps in a row without a clear minimum
NEAR_WALL = 0.7  # of the distance to the wall: the radius of the ring that is looked at
ALONG = 0.35  # least cosine between a step and the vorticity
FAR = 0.7  # cell widths: a minimum further off is another one
TURNS = 3  # corrections a step


@piece
def at(m: Any, field: Array, p: Array, st: Array, q: Array, ids: Array, cx: Array, cv: Array, jac: Array, tmp: Array, stack: Array,
       w: Array, out: Array) -> bool:
    """Write what a field is at a place; False outside, or where it is not a number."""
    if not find(m, m[0], p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack):
        return False
    weights_of(st[5] == 2, q, w)
    for k in range(out.shape[0]):
        out[k] = 0.0
    for c in range(8):
        if w[c] != 0.0:
            for k in range(out.shape[0]):
                out[k] += w[c] * field[ids[c], k]
    total = 0.0
    for k in range(out.shape[0]):
        total += out[k]
    return total - total == 0.0


@piece
def across(x: float, y: float, z: float, e: Array) -> bool:
    """Write two unit vectors across a direction; False where it has no length."""
    size = np.sqrt(x * x + y * y + z * z)
    if not size > 0.0:
        return False
    x, y, z = x / size, y / size, z / size
    ax, ay, az = abs(x), abs(y), abs(z)
    # Across the axis to which the direction is least.
    if ax <= ay and ax <= az:
        ux, uy, uz = 0.0, z, -y
    elif ay <= az:
        ux, uy, uz = -z, 0.0, x
    else:
        ux, uy, uz = y, -x, 0.0
    size = np.sqrt(ux * ux + uy * uy + uz * uz)
    e[0, 0], e[0, 1], e[0, 2] = ux / size, uy / size, uz / size
    e[1, 0] = y * e[0, 2] - z * e[0, 1]
    e[1, 1] = z * e[0, 0] - x * e[0, 2]
    e[1, 2] = x * e[0, 1] - y * e[0, 0]
    return True


@piece
def deepest(m: Any, field: Array, p: Array, here: Array, st: Array, q: Array, ids: Array, cx: Array, cv: Array, jac: Array, tmp: Array,
            stack: Array, w: Array, e: Array, ring: Array, there: Array) -> bool:
    """Move a place to the least λ2 across the vorticity, by a quadratic through it and a ring of eight; False if there is none near by.

    ``here`` holds the field at the place, before and after.
    """
    x0, y0, z0 = p[0], p[1], p[2]
    for _ in range(TURNS):
        if not across(here[1], here[2], here[3], e):
            return False
        r = min(here[4], NEAR_WALL * here[5])
        if not r > 0.0:
            return False
        bx = by = mean = two_c = two_s = 0.0
        x, y, z = p[0], p[1], p[2]
        for k in range(8):
            angle = 0.25 * np.pi * k
            c, s = np.cos(angle), np.sin(angle)
            there[0] = x + r * (c * e[0, 0] + s * e[1, 0])
            there[1] = y + r * (c * e[0, 1] + s * e[1, 1])
            there[2] = z + r * (c * e[0, 2] + s * e[1, 2])
            if not at(m, field, there, st, q, ids, cx, cv, jac, tmp, stack, w, ring):
                return False
            v = ring[0]
            mean += 0.125 * v
            bx += v * c
            by += v * s
            two_c += v * (c * c - s * s)
            two_s += v * 2.0 * c * s
        bx, by = bx / (4.0 * r), by / (4.0 * r)
        both, apart, mixed = 2.0 * (mean - here[0]) / (r * r), two_c / (2.0 * r * r), two_s / (2.0 * r * r)
        xx, yy = both + apart, both - apart  # second derivatives
        det = xx * yy - mixed * mixed
        if not (both > 0.0 and det > 0.0):
            return False
        dx, dy = -(yy * bx - mixed * by) / det, -(xx * by - mixed * bx) / det
        size = np.sqrt(dx * dx + dy * dy)
        if size > r:  # a quadratic is trusted within its ring
            dx, dy, size = dx * r / size, dy * r / size, r
        for d in range(3):
            p[d] += dx * e[0, d] + dy * e[1, d]
        if (p[0] - x0) ** 2 + (p[1] - y0) ** 2 + (p[2] - z0) ** 2 > (FAR * here[4]) ** 2:
            return False
        if not at(m, field, p, st, q, ids, cx, cv, jac, tmp, stack, w, here):
            return False
        if size < 0.02 * r:
            break
    return True


@kernel
def settle(m: Any, field: Array, seeds: Array, good: Array, begin: int, end: int) -> None:
    """Move seeds to the core near them; good[n] says whether there is one."""
    st, q, ids, cx, cv, jac, tmp, stack = room()
    w, e, here, ring, there, p = np.empty(8), np.empty((2, 3)), np.empty(6), np.empty(6), np.empty(3), np.empty(3)
    for n in range(begin, end):
        p[:] = seeds[n]
        good[n] = (at(m, field, p, st, q, ids, cx, cv, jac, tmp, stack, w, here) and here[0] < 0.0
                   and deepest(m, field, p, here, st, q, ids, cx, cv, jac, tmp, stack, w, e, ring, there) and here[0] < 0.0)
        seeds[n] = p


@kernel
def follow(m: Any, field: Array, seeds: Array, sign: float, most: int, points: Array, missed: Array, count: Array, reason: Array,
           begin: int, end: int) -> None:
    """Follow cores from seeds that lie on them, downstream of the vorticity (sign 1) or upstream (−1).

    points[(n − begin) most ...] and missed (whether each was reached without a clear minimum) are written, count[n] of them, the seed
    first.
    """
    st, q, ids, cx, cv, jac, tmp, stack = room()
    w, e, here, ring, there = np.empty(8), np.empty((2, 3)), np.empty(6), np.empty(6), np.empty(3)
    p, new, mid, better = np.empty(3), np.empty(3), np.empty(3), np.empty(6)
    for n in range(begin, end):
        first = (n - begin) * most
        p[:] = seeds[n]
        points[first] = p
        missed[first] = 0
        count[n] = 1
        reason[n] = LONG
        if not at(m, field, p, st, q, ids, cx, cv, jac, tmp, stack, w, here):
            reason[n] = LEFT
            continue
        least = here[0]
        gone, misses = 0.0, 0
        while count[n] < most:
            size = np.sqrt(here[1] ** 2 + here[2] ** 2 + here[3] ** 2)
            if not size > 0.0:
                reason[n] = FADED
                break
            step = 0.5 * here[4]
            if here[5] < 0.5 * here[4]:
                reason[n] = WALL
                break
            x, y, z = here[1] / size, here[2] / size, here[3] / size
            for d in range(3):
                mid[d] = p[d] + sign * 0.5 * step * here[1 + d] / size
            if not at(m, field, mid, st, q, ids, cx, cv, jac, tmp, stack, w, better):
                reason[n] = LEFT
                break
            size = np.sqrt(better[1] ** 2 + better[2] ** 2 + better[3] ** 2)
            if not size > 0.0:
                reason[n] = FADED
                break
            for d in range(3):
                new[d] = p[d] + sign * step * better[1 + d] / size
                mid[d] = new[d]
            if not at(m, field, new, st, q, ids, cx, cv, jac, tmp, stack, w, here):
                reason[n] = LEFT
                break
            better[:] = here
            good = deepest(m, field, mid, better, st, q, ids, cx, cv, jac, tmp, stack, w, e, ring, there)
            if good:
                dx, dy, dz = mid[0] - p[0], mid[1] - p[1], mid[2] - p[2]
                way = np.sqrt(dx * dx + dy * dy + dz * dz)
                good = way > 0.2 * step and sign * (dx * x + dy * y + dz * z) > ALONG * way
            if good:
                new[:] = mid
                here[:] = better
                misses = 0
            else:
                misses += 1
                if misses > MISSES:
                    count[n] -= MISSES
                    reason[n] = LOST
                    break
            if here[0] > min(FADE * least, -FLOOR):
                reason[n] = FADED
                break
            least = min(FORGOTTEN * least, here[0])
            gone += step
            p[:] = new
            points[first + count[n]] = p
            missed[first + count[n]] = 0 if good else 1
            count[n] += 1
            far = np.sqrt((p[0] - seeds[n, 0]) ** 2 + (p[1] - seeds[n, 1]) ** 2 + (p[2] - seeds[n, 2]) ** 2)
            if gone > 8.0 * here[4] and far < 0.5 * here[4]:
                reason[n] = CLOSED
                break
        while count[n] > 1 and missed[first + count[n] - 1]:  # no end hangs in the air
            count[n] -= 1


@kernel
def circles(m: Any, velocity: Array, centres: Array, axes: Array, steps: Array, most: Array, around: int, mean: Array, least: Array,
            count: Array, begin: int, end: int) -> None:
    """Speed round circles about axes, against that of their centres.

    Circle k of station n has a radius of (k + 1) steps[n]; mean[n, k] and least[n, k] are of the speed along it, to the right of the axis.
    count[n] circles are wholly inside the flow, of most[n] asked for.
    """
    st, q, ids, cx, cv, jac, tmp, stack = room()
    w, e, here, there, p = np.empty(8), np.empty((2, 3)), np.empty(3), np.empty(3), np.empty(3)
    for n in range(begin, end):
        count[n] = 0
        p[:] = centres[n]
        if (not across(axes[n, 0], axes[n, 1], axes[n, 2], e)
                or not at(m, velocity, p, st, q, ids, cx, cv, jac, tmp, stack, w, here)):
            continue
        for k in range(most[n]):
            r = (k + 1) * steps[n]
            total, low, good = 0.0, 1e300, True
            for a in range(around):
                angle = 2.0 * np.pi * a / around
                c, s = np.cos(angle), np.sin(angle)
                for d in range(3):
                    p[d] = centres[n, d] + r * (c * e[0, d] + s * e[1, d])
                good = at(m, velocity, p, st, q, ids, cx, cv, jac, tmp, stack, w, there)
                if not good:
                    break
                along = 0.0
                for d in range(3):
                    along += (there[d] - here[d]) * (c * e[1, d] - s * e[0, d])
                total += along
                low = min(low, along)
            if not good:
                break
            mean[n, k] = total / around
            least[n, k] = low
            count[n] = k + 1
