"""Compiled loops that carry particles without mass from one step of a series to another."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel, piece
from tidal_lens.sampling.kernels import cell_nodes, find, jacobian, room, tetra_edges, velocity, weights_of
from tidal_lens.tracing.kernels import LEFT, STEPS

Array = Any
_LONGEST = 1.0  # step, in cells


@piece
def _wind(m0: Array, m1: Array, same: bool, vel0: Array, vel1: Array, s: float, p: Array, own: Array, other: Array, w: Array,
          u: Array, v: Array) -> float:
    """Write the velocity u at a place, a share s of the way from one step to the next; the size of its cell, or -1 outside both meshes."""
    st, q, ids, cx, cv, jac, tmp, stack = own
    size = -1.0
    if find(m0, vel0, p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack):
        tetra = st[5] == 2
        velocity(tetra, q, cv, u)
        size = abs(tetra_edges(cx, jac) if tetra else jacobian(cx, q[0], q[1], q[2], jac)) ** (1.0 / 3.0)
    if same:
        if size < 0.0:
            return size
        cell_nodes(m0[1], m0[2], st[0], st[1], ids)
        weights_of(st[5] == 2, q, w)
        for d in range(3):
            total = 0.0
            for c in range(8):
                total += w[c] * vel1[ids[c], d]
            u[d] += s * (total - u[d])
        return size
    st, q, ids, cx, cv, jac, tmp, stack = other
    if find(m1, vel1, p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack):
        tetra = st[5] == 2
        velocity(tetra, q, cv, v)
        if size < 0.0:
            s = 1.0
            for d in range(3):
                u[d] = 0.0
        for d in range(3):
            u[d] += s * (v[d] - u[d])
        size = abs(tetra_edges(cx, jac) if tetra else jacobian(cx, q[0], q[1], q[2], jac)) ** (1.0 / 3.0)
    return size


@kernel
def drift(m0: Array, m1: Array, same: bool, vel0: Array, vel1: Array, t0: float, t1: float, places: Array, times: Array, until: float,
          tolerance: float, keep: int, most: Array, state: Array, error: Array, out_p: Array, out_t: Array, out_u: Array, made: Array,
          begin: int, end: int) -> None:
    """Carry particles begin … end from their times to ``until``, both between those of two steps, forward or backward.

    The pair 3(2) of Bogacki & Shampine 1989 (Appl. Math. Lett. 2) with step control; velocity is linear in time between the steps.

    Parameters
    ----------
    m0, m1 : tuple
        Meshes of the steps (see :mod:`tidal_lens.sampling.kernels`); the same where ``same``.
    vel0, vel1 : (n, 3)
        Velocities at their nodes.
    places, times : (m, 3), (m,)
        Of the particles; written anew.
    tolerance : float
        Error allowed a step, in cells.
    keep, most : int, (m,) int64
        Room for the points of a way, and how many of each are written at most; for 0 none, and ways are as long as they get.
    state : (m,) int64
        0 while a particle is in the flow, else why it is followed no more; written.
    error : (m,)
        The error estimates of all steps are added to it.
    out_p, out_t, out_u, made : (m keep, 3), (m keep,), (m keep, 3), (m,)
        Written: places, times and velocities on the way, the first ones included; how many of each.
    """
    own, other = room(), room()
    w, v = np.empty(8), np.empty(3)
    p, y, a, b, c, d = np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    sign = 1.0 if until >= t0 else -1.0
    span = t1 - t0
    for n in range(begin, end):
        made[n] = 0
        if state[n] != 0:
            continue
        own[0][0] = other[0][0] = -1
        t = times[n]
        for k in range(3):
            p[k] = places[n, k]
        cell = _wind(m0, m1, same, vel0, vel1, (t - t0) / span, p, own, other, w, a, v)
        if cell < 0.0:
            state[n] = LEFT
            continue
        dt = 0.0
        while True:
            if keep > 0:
                at = np.uintp(n * keep + made[n])
                for k in range(3):
                    out_p[at, k], out_u[at, k] = p[k], a[k]
                out_t[at] = t
                made[n] += 1
            left = abs(until - t)
            if left <= 1e-12 * abs(span):
                break
            if keep > 0 and made[n] >= most[n]:
                state[n] = STEPS
                break
            speed = np.sqrt(a[0] ** 2 + a[1] ** 2 + a[2] ** 2)
            longest = _LONGEST * cell / (speed + 1e-300)
            dt = min(dt if dt > 0.0 else longest, longest, left)
            done = False
            worst = 0.0
            there = cell
            for _attempt in range(60):
                h = sign * dt
                for k in range(3):
                    y[k] = p[k] + 0.5 * h * a[k]
                inside = _wind(m0, m1, same, vel0, vel1, (t + 0.5 * h - t0) / span, y, own, other, w, b, v) >= 0.0
                if inside:
                    for k in range(3):
                        y[k] = p[k] + 0.75 * h * b[k]
                    inside = _wind(m0, m1, same, vel0, vel1, (t + 0.75 * h - t0) / span, y, own, other, w, c, v) >= 0.0
                if inside:
                    for k in range(3):
                        y[k] = p[k] + h * (2.0 * a[k] + 3.0 * b[k] + 4.0 * c[k]) / 9.0
                    there = _wind(m0, m1, same, vel0, vel1, (t + h - t0) / span, y, own, other, w, d, v)
                    inside = there >= 0.0
                if inside:
                    worst = 0.0
                    for k in range(3):
                        worst += (h * (-5.0 * a[k] + 6.0 * b[k] + 8.0 * c[k] - 9.0 * d[k]) / 72.0) ** 2
                    worst = np.sqrt(worst)
                    if worst <= tolerance * cell:
                        done = True
                        break
                    dt *= max(0.2, 0.9 * (worst / (tolerance * cell)) ** (-1.0 / 3.0))
                else:
                    dt *= 0.5
                    if dt < 1e-4 * longest:
                        break
            if not done:
                state[n] = LEFT
                break
            t = until if dt == left else t + sign * dt
            cell = there
            error[n] += worst
            for k in range(3):
                p[k], a[k] = y[k], d[k]
            dt *= 4.0 if worst < 1e-3 * tolerance * cell else min(4.0, 0.9 * (worst / (tolerance * cell)) ** (-1.0 / 3.0))
        for k in range(3):
            places[n, k] = p[k]
        times[n] = t
