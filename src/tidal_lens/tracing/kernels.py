"""Compiled loops for following lines. The mesh tuple and the scratch arrays are those of ``sampling/kernels.py``.

Neither the mesh tuple nor a row of an array is passed on in the loop over steps: each would count a reference.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import ask_early, folded, kernel, making, one_by_one, piece
from tidal_lens.sampling.kernels import (
    INSIDE,
    clear_of,
    coefficients,
    find,
    jacobian,
    load,
    newton,
    room,
    search,
    side_of,
    solve,
    tetra_edges,
    velocity,
    walk,
)

Array = Any
LEFT, STILL, CLOSED, LENGTH, STEPS, OUTSIDE, TIME, GONE = 1, 2, 3, 4, 5, 6, 8, 10
SLACK = 1e-3  # how far outside a cell still counts as inside [cell widths]
FLAT = 1e-24  # of a tetrahedron: its sixfold volume by the length of its edges to the third, all to the second
# By side: the share of the corner across from it in a tetrahedron is the first and the others by r, s and t.
SHARES = np.array([[0.0, 1.0, 0.0, 0.0], [1.0, -1.0, -1.0, -1.0], [0.0, 0.0, 1.0, 0.0], [0.0, 0.0, 0.0, 0.0], [0.0, 0.0, 0.0, 1.0]])
GHOST = 1.0  # how far beyond the border stages take the velocity of the last cell's map [cell widths]


@kernel
def trace(m: Array, vel: Array, seeds: Array, sign: float, tol_abs: float, tol_cell: float, max_cells: float,
          max_length: float, max_time: float, still: float, max_points: int, out_p: Array, out_q: Array, out_cell: Array,
          out_time: Array, count: Array, reason: Array, error: Array, begin: int, end: int) -> None:
    """Follow lines from seeds begin..end with the pair 5(4) of Dormand & Prince (1980), local extrapolation.

    Lines stand one after another in the outputs, which have room for ``max_points`` each: points (n, 3), place in the
    cell (n, 3), block and cell (n, 2), time and error estimate so far (n, 2). By line: points (lines,), reason for ending
    (lines,), summed error estimate (lines,).
    """
    st, q, ids, cx, cv, jac, tmp, stack = room()
    rate = np.empty(3)
    p = np.empty(3)
    origin = np.empty(3)
    x = np.empty(3)
    k = np.empty((7, 3))
    hold = np.empty(2, np.int64)
    nothing = np.empty(3, np.int64)  # block, cell and its side beyond which there is nothing
    off = np.zeros(3, np.int64)
    guess = np.empty((3, 3))
    index = np.empty(3)
    points, blocks, cells = m[0], m[1], m[2]
    back = np.empty(3)
    run = np.empty(7)
    row = 0
    i0 = i1 = i2 = i3 = i4 = i5 = i6 = i7 = 0
    for n in range(begin, end):
        line = n - begin
        first = row
        full = first + max_points
        for d in range(3):
            p[d] = origin[d] = seeds[n, d]
        error[line] = 0.0
        count[line] = 0
        st[0] = -1
        if not find(m, vel, p, SLACK, st, q, ids, cx, cv, jac, tmp, stack):
            reason[line] = OUTSIDE
            continue
        tetra = st[5] == 2
        velocity(tetra, q, cv, rate)
        for d in range(3):
            k[0, d] = sign * rate[d]
        det = tetra_edges(cx, jac) if tetra else jacobian(cx, q[0], q[1], q[2], jac)
        ring = 0.02 * abs(det) ** (1.0 / 3.0)
        _store(out_p, out_q, out_cell, out_time, row, p, q, st, 0.0, 0.0)
        row += 1
        length, time, h, away = 0.0, 0.0, -1.0, 0.0
        reason[line] = STEPS
        idle = 0
        usual = False
        run[3], run[5] = -1.0, 0.0
        nothing[0] = -1
        while row < full:
            speed = np.sqrt(k[0, 0] ** 2 + k[0, 1] ** 2 + k[0, 2] ** 2)
            if not speed > still:
                reason[line] = STILL
                break
            tetra = st[5] == 2
            if tetra and not usual:
                run[0], run[1], run[2], run[4] = time, length, error[line], away
                allowed = tol_cell if tol_abs <= 0.0 else tol_abs / (50.0 * ring)
                reach = 0.25 if allowed > 4e-7 else (720.0 * allowed) ** (1.0 / 6.0)
                ended = _cross(points, blocks, cells, vel, sign, reach, 0.06 * allowed, origin, ring, min(allowed, 0.02), max_length,
                               max_time, p, st, q, k, run)
                if run[0] > time:
                    _store(out_p, out_q, out_cell, out_time, row, p, q, st, run[0], run[2])
                    row += 1
                time, length, error[line], away = run[0], run[1], run[2], run[4]
                if ended > 0:
                    reason[line] = ended
                    break
                if ended < 0:
                    usual = True
                    if ended == -3:  # is there anything behind it, at once or after a small gap?
                        hold[0], hold[1] = st[0], st[1]
                        back[0], back[1], back[2] = q[0], q[1], q[2]
                        found = False
                        for ahead_by in (5e-3, 0.1):
                            for d in range(3):
                                x[d] = p[d] + k[0, d] * ahead_by / run[6]
                            found = found or search(m, vel, x, SLACK, st, q, ids, cx, cv, jac, tmp, stack)
                        if not found:
                            reason[line] = LEFT
                            break
                        st[0], st[1] = hold[0], hold[1]
                        q[0], q[1], q[2] = back[0], back[1], back[2]
                    elif ended == -2:
                        st[1] = np.int64(run[3])
                        q[0] = q[1] = q[2] = 0.4
                    load(points, blocks, cells, vel, st, ids, cx, cv)
                    if ended == -2 and not (walk(points, blocks, cells, vel, p, st, q, ids, cx, cv, jac, tmp, ended > 0)
                                           or find(m, vel, p, SLACK, st, q, ids, cx, cv, jac, tmp, stack)):
                        reason[line] = LEFT
                        break
                    run[3], h = -1.0, -1.0
                continue
            usual = False
            det = tetra_edges(cx, jac) if tetra else jacobian(cx, q[0], q[1], q[2], jac)
            solve(jac, det, k[0, 0], k[0, 1], k[0, 2], rate)
            fastest = max(abs(rate[0]), max(abs(rate[1]), abs(rate[2])))
            # Where the stages will be, in cells from this one, by the linear part of its map.
            box = st[5] <= 1
            if box:
                for d in range(3):
                    d1, d2 = (d + 1) % 3, (d + 2) % 3
                    for g in range(3):
                        g1, g2 = (g + 1) % 3, (g + 2) % 3
                        guess[d, g] = (jac[g1, d1] * jac[g2, d2] - jac[g1, d2] * jac[g2, d1]) / det
                    index[d] = q[d] + (st[2 + d] if st[5] == 0 else 0)
            if not fastest < 1e300:
                fastest = 1e300
            longest = max_cells / max(fastest, 1e-300)
            if h <= 0.0:
                h = 0.25 * longest
            h = min(h, longest)
            done, ratio, worst, ends_outside = False, 0.0, 0.0, False
            share = 1.0
            for _attempt in range(60):
                hold[0], hold[1] = st[0], st[1]
                for d in range(3):
                    back[d] = q[d]
                    off[d] = 0
                ahead = box
                far, beyond = 0.0, 0.0
                bend_r = bend_s = bend_t = 0.0  # how far the guess was off, for a whole step
                stage = 0
                out = ends_outside = False
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
                    if ahead and st[0] == hold[0]:
                        dx, dy, dz = x[0] - p[0], x[1] - p[1], x[2] - p[2]
                        r = index[0] + guess[0, 0] * dx + guess[0, 1] * dy + guess[0, 2] * dz
                        s = index[1] + guess[1, 0] * dx + guess[1, 1] * dy + guess[1, 2] * dz
                        t = index[2] + guess[2, 0] * dx + guess[2, 1] * dy + guess[2, 2] * dz
                        # The linear part errs by the square of the way: so much more than at the last stage.
                        share = 0.04 if stage == 1 else 0.09 if stage == 2 else 0.64 if stage == 3 else 0.79 if stage == 4 else 1.0
                        r, s, t = r + share * bend_r, s + share * bend_s, t + share * bend_t
                        moved = False
                        if st[5] == 0:
                            ni, nj = blocks[st[0], 2], blocks[st[0], 3]
                            i = min(int(min(max(r, 0.0), 1e9)), ni - 2)
                            j = min(int(min(max(s, 0.0), 1e9)), nj - 2)
                            n_k = min(int(min(max(t, 0.0), 1e9)), blocks[st[0], 4] - 2)
                            if i != st[2] or j != st[3] or n_k != st[4]:
                                moved = True
                                st[1] = i + (ni - 1) * (j + (nj - 1) * n_k)
                                st[2], st[3], st[4] = i, j, n_k
                                i0 = blocks[st[0], 1] + i + ni * (j + nj * n_k)
                                i1, i2, i3 = i0 + 1, i0 + 1 + ni, i0 + ni
                                i4, i5, i6, i7 = i0 + ni * nj, i1 + ni * nj, i2 + ni * nj, i3 + ni * nj
                            q[0], q[1], q[2] = r - i, s - j, t - n_k
                        else:
                            q[0], q[1], q[2] = r - off[0], s - off[1], t - off[2]
                            cell = st[1]
                            ahead = _hop(blocks[st[0], 7], cells, st, q, off)
                            if st[1] != cell:
                                moved = True
                                to = np.uintp(blocks[st[0], 7] + st[1])
                                i0 = blocks[st[0], 1]
                                i1, i2, i3 = i0 + cells[to, 1], i0 + cells[to, 2], i0 + cells[to, 3]
                                i4, i5, i6, i7 = i0 + cells[to, 4], i0 + cells[to, 5], i0 + cells[to, 6], i0 + cells[to, 7]
                                i0 += cells[to, 0]
                        if moved:
                            coefficients(points, i0, i1, i2, i3, i4, i5, i6, i7, cx)
                            coefficients(vel, i0, i1, i2, i3, i4, i5, i6, i7, cv)
                    if st[5] != 2:  # most stages end in the cell foreseen: no call with all of the mesh for them
                        good, a, b, c = newton(cx, x[0], x[1], x[2], q[0], q[1], q[2], st[5] <= 1)
                        if ahead and good:
                            bend_r += (a - q[0]) / share
                            bend_s += (b - q[1]) / share
                            bend_t += (c - q[2]) / share
                        q[0], q[1], q[2] = a, b, c
                        inside = good and (min(a, min(b, c)) >= -INSIDE and max(a, max(b, c)) <= 1.0 + INSIDE)
                    if not inside:
                        cell = st[1]
                        inside = walk(points, blocks, cells, vel, x, st, q, ids, cx, cv, jac, tmp, good)
                        if st[5] != 0 and st[1] != cell:
                            ahead = False
                    if not inside:
                        block, cell = st[0], st[1]
                        far = q[3]
                        a, b, c = q[0], q[1], q[2]
                        side = side_of(st[5], q)
                        # Of places beyond the same side of the same cell one is looked for.
                        known = st[5] <= 2 and far <= GHOST and block == nothing[0] and cell == nothing[1] and side == nothing[2]
                        inside = far <= SLACK if known else search(m, vel, x, SLACK, st, q, ids, cx, cv, jac, tmp, stack)
                        if inside:
                            ahead = ahead and st[5] == 0
                        else:
                            if not far <= GHOST:
                                out = True
                                break
                            nothing[0], nothing[1], nothing[2] = block, cell, side
                            # A little beyond the border the last cell's map goes on.
                            beyond = max(beyond, far)
                            if not known:
                                st[0], st[1] = block, cell
                                load(points, blocks, cells, vel, st, ids, cx, cv)
                                q[0], q[1], q[2] = a, b, c
                            ends_outside = stage == 6
                    a, b, c = q[0], q[1], q[2]
                    if st[5] == 2:
                        for d in range(3):
                            k[stage, d] = sign * (cv[0, d] + a * cv[1, d] + b * cv[2, d] + c * cv[3, d])
                    else:
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
                        det = tetra_edges(cx, jac) if st[5] == 2 else jacobian(cx, q[0], q[1], q[2], jac)
                        solve(jac, det, tmp[0], tmp[1], tmp[2], rate)
                        ratio = max(abs(rate[0]), max(abs(rate[1]), abs(rate[2]))) / tol_cell
                    if not ratio < 1e12:
                        ratio = 1e12
                    if ratio <= 1.0 and (ends_outside or beyond < 0.1 or h * fastest < 0.1):
                        done = True
                        break
                # Back to the cell of the last good point, and a shorter step.
                if out:  # to end less than a cell beyond the border
                    gone = h * fastest * (0.2 if stage == 1 else (0.3 if stage == 2 else 0.85))
                    h *= min(0.8, max(0.1, 1.0 - (far - 0.5) / max(gone, 1e-300))) if far < 1e3 else 0.5
                elif ratio > 1.0:
                    h *= max(0.2, 0.9 * ratio ** -0.2)
                else:  # it went out and came in again
                    h *= 0.5
                st[0], st[1] = hold[0], hold[1]
                load(points, blocks, cells, vel, st, ids, cx, cv)
                q[0], q[1], q[2] = back[0], back[1], back[2]
                if out and h * fastest < 1e-3:
                    break
            if not done:
                reason[line] = LEFT
                break
            if ends_outside:  # cut the step where it meets the border
                share = _border(m, vel, p, x, k, h, fastest, hold, nothing, st, q, ids, cx, cv, jac, rate, tmp, stack)
                if share <= 0.0:
                    reason[line] = LEFT
                    break
                _between(p, x, k, h, share, tmp)
                x[0], x[1], x[2] = tmp[0], tmp[1], tmp[2]
                h *= share
            # Arc length of the step by Simpson's rule, the middle velocity from the cubic through both ends.
            step = _arc(p, x, k, h)
            time += h
            error[line] += worst
            passing = -1.0
            if away > 8.0 * ring:
                passing = _passes(p, x, k, h, origin, ring, step)
            last = passing < 0.0 and (length + step >= max_length or time >= max_time)
            late = False
            if passing >= 0.0 or last:  # cut the step where the seed is passed or a limit is reached
                share = passing
                if passing < 0.0:
                    share, spent = (max_length - length) / max(step, 1e-300), 1.0 - (time - max_time) / h
                    late = spent < share
                    share = min(share, spent)
                _between(p, x, k, h, share, tmp)
                x[0], x[1], x[2] = tmp[0], tmp[1], tmp[2]
                time -= h * (1.0 - share)
                h *= share
                if not find(m, vel, x, SLACK, st, q, ids, cx, cv, jac, tmp, stack):
                    reason[line] = CLOSED if passing >= 0.0 else LEFT
                    break
            if passing >= 0.0 or last or ends_outside:
                velocity(st[5] == 2, q, cv, rate)
                for d in range(3):
                    k[6, d] = sign * rate[d]
            length += step
            if passing >= 0.0:
                _store(out_p, out_q, out_cell, out_time, row, x, q, st, time, error[line])
                row += 1
                reason[line] = CLOSED
                break
            # Steps shorter than the error allowed lead nowhere: the line circles a point of rest.
            allowed = tol_cell if tol_abs <= 0.0 else tol_abs * fastest / speed
            if step * fastest / speed < min(30.0 * allowed, 0.02) and not ends_outside:
                idle += 1
                if idle > 8:
                    reason[line] = STILL
                    break
            else:
                idle = 0
            if k[0, 0] * k[6, 0] + k[0, 1] * k[6, 1] + k[0, 2] * k[6, 2] < 0.985 * speed * np.sqrt(
                    k[6, 0] ** 2 + k[6, 1] ** 2 + k[6, 2] ** 2):
                row = _round_off(m, vel, p, x, k, h, st, q, ids, cx, cv, jac, tmp, stack, out_p, out_q, out_cell,
                                 out_time, row, full, time - h, error[line])
            if row >= full:
                break
            gone = 0.0
            for d in range(3):
                p[d] = x[d]
                k[0, d] = k[6, d]
                gone += (p[d] - origin[d]) ** 2
            away = max(away, np.sqrt(gone))
            _store(out_p, out_q, out_cell, out_time, row, p, q, st, time, error[line])
            row += 1
            if last or ends_outside:
                reason[line] = TIME if late else LENGTH if last else LEFT
                break
            h *= 5.0 if ratio < 1.9e-4 else min(5.0, 0.9 * ratio ** -0.2)
        count[line] = row - first


@folded
def _reaches(share: float, rate: float, bend: float) -> float:
    """When a share (0 or more) of a corner is used up: the first time ahead at which share + rate t + bend t² is 0.

    Without a branch: which of the four corners is used up first cannot be foretold.
    """
    within = rate * rate - 4.0 * bend * share
    root = np.sqrt(max(within, 0.0))
    over = rate + root if rate > 0.0 else 2.0 * share
    under = -2.0 * bend if rate > 0.0 else root - rate
    when = over / under
    return when if within >= 0.0 and under > 0.0 else 1e300


@piece
def _cross(points: Array, blocks: Array, cells: Array, vel: Array, sign: float, reach: float, enough: float, seed: Array, ring: float,
           near: float, most_length: float, most_time: float, p: Array, st: Array, q: Array, k: Array, run: Array) -> int:
    """Go on through a few tetrahedra, each crossed in one exact step.

    The velocity is linear in a tetrahedron: the way is a series in time (after Nielson & Jung 1999, IEEE Trans. Vis. Comput.
    Graphics 5), here of five terms, over times in which strain comes to no more than ``reach``; of four, where the fifth power of
    strain is less than ``enough``: the fifth term is less than a two-thousandth of the error allowed then. p, q, st and the velocity k[0]
    are those of the end. ``run``: 0 time, 1 length, 2 error estimate, 3 the tetrahedron to go on in, or -1, 4 the greatest distance
    from the seed so far (until it is 8 rings), 5 short steps in a row. 6 at a border: corners a time that are left behind. Returns 0
    to go on, -1 where a step of the usual kind is to be done (at flat cells, towards the seed again), -2 at a cell of another kind,
    -3 at a border, else a reason to end.
    """
    one_by_one()
    base, first = blocks[st[0], 7], blocks[st[0], 1]
    cell: Any = st[1]
    to: Any = np.int64(run[3])
    r, s, t = q[0], q[1], q[2]
    x, y, z = p[0], p[1], p[2]
    u, v, w = k[0, 0], k[0, 1], k[0, 2]
    speed = np.sqrt(u * u + v * v + w * w)
    u_first, v_first, w_first = u / speed, v / speed, w / speed
    time, length, error, away = run[0], run[1], run[2], run[4]
    answer = 0
    stuck = 0
    for _ in range(8):
        row = np.uintp(base + (cell if to < 0 else to))
        n0, n1 = np.uintp(first + cells[row, 0]), np.uintp(first + cells[row, 1])
        n2, n3 = np.uintp(first + cells[row, 2]), np.uintp(first + cells[row, 4])
        x0, y0, z0 = points[n0, 0], points[n0, 1], points[n0, 2]
        a0, a1, a2 = points[n1, 0] - x0, points[n1, 1] - y0, points[n1, 2] - z0
        b0, b1, b2 = points[n2, 0] - x0, points[n2, 1] - y0, points[n2, 2] - z0
        c0, c1, c2 = points[n3, 0] - x0, points[n3, 1] - y0, points[n3, 2] - z0
        l0, l1, l2 = b1 * c2 - b2 * c1, b2 * c0 - b0 * c2, b0 * c1 - b1 * c0
        m0, m1, m2 = c1 * a2 - c2 * a1, c2 * a0 - c0 * a2, c0 * a1 - c1 * a0
        o0, o1, o2 = a1 * b2 - a2 * b1, a2 * b0 - a0 * b2, a0 * b1 - a1 * b0
        det = a0 * l0 + a1 * l1 + a2 * l2
        edges = a0 * a0 + a1 * a1 + a2 * a2 + b0 * b0 + b1 * b1 + b2 * b2 + c0 * c0 + c1 * c1 + c2 * c2
        if not det * det > FLAT * edges * edges * edges:
            answer = -1
            break
        inv = 1.0 / det
        if to >= 0:
            cell, to = to, -1
            dx, dy, dz = x - x0, y - y0, z - z0
            r = (dx * l0 + dy * l1 + dz * l2) * inv
            s = (dx * m0 + dy * m1 + dz * m2) * inv
            t = (dx * o0 + dy * o1 + dz * o2) * inv
        # (r, s, t)' = (r1, s1, t1) here, and its matrix.
        r1, s1, t1 = (l0 * u + l1 * v + l2 * w) * inv, (m0 * u + m1 * v + m2 * w) * inv, (o0 * u + o1 * v + o2 * w) * inv
        inv *= sign
        u0, v0, w0 = vel[n0, 0], vel[n0, 1], vel[n0, 2]
        d0, d1, d2 = vel[n1, 0] - u0, vel[n1, 1] - v0, vel[n1, 2] - w0
        e0, e1, e2 = vel[n2, 0] - u0, vel[n2, 1] - v0, vel[n2, 2] - w0
        f0, f1, f2 = vel[n3, 0] - u0, vel[n3, 1] - v0, vel[n3, 2] - w0
        rr, rs, rt = (l0 * d0 + l1 * d1 + l2 * d2) * inv, (l0 * e0 + l1 * e1 + l2 * e2) * inv, (l0 * f0 + l1 * f1 + l2 * f2) * inv
        sr, ss, ts = (m0 * d0 + m1 * d1 + m2 * d2) * inv, (m0 * e0 + m1 * e1 + m2 * e2) * inv, (m0 * f0 + m1 * f1 + m2 * f2) * inv
        tr, tq, tt = (o0 * d0 + o1 * d1 + o2 * d2) * inv, (o0 * e0 + o1 * e1 + o2 * e2) * inv, (o0 * f0 + o1 * f1 + o2 * f2) * inv
        strain = max(abs(rr) + abs(rs) + abs(rt), max(abs(sr) + abs(ss) + abs(ts), abs(tr) + abs(tq) + abs(tt)))
        fastest = max(abs(r1), max(abs(s1), abs(t1)))
        if not fastest * strain < 1e300:
            answer = -1
            break
        r2, s2, t2 = 0.5 * (rr * r1 + rs * s1 + rt * t1), 0.5 * (sr * r1 + ss * s1 + ts * t1), 0.5 * (tr * r1 + tq * s1 + tt * t1)
        out, side = _reaches(r, r1, r2), 8
        other = _reaches(s, s1, s2)
        if other < out:
            out, side = other, 10
        other = _reaches(t, t1, t2)
        if other < out:
            out, side = other, 12
        other = _reaches(1.0 - r - s - t, -(r1 + s1 + t1), -(r2 + s2 + t2))
        if other < out:
            out, side = other, 9
        if out >= 1e300 or out * strain > reach or out * fastest > 4.0 or time + out > most_time:
            side = -1
            out = min(most_time - time, min(reach / max(strain, 1e-300), 4.0 / max(fastest, 1e-300)))
        elif cells[row, side] >= 0:  # what comes next comes from memory meanwhile
            following = np.uintp(base + cells[row, side])
            for corner in (0, 1, 2, 4):
                node = np.uintp(first + cells[following, corner])
                ask_early(points, node)
                ask_early(vel, node)
            for beside in (8, 9, 10, 12):
                ask_early(cells, np.uintp(base + cells[following, beside]))
        r3, s3, t3 = (rr * r2 + rs * s2 + rt * t2) / 3.0, (sr * r2 + ss * s2 + ts * t2) / 3.0, (tr * r2 + tq * s2 + tt * t2) / 3.0
        r4, s4, t4 = 0.25 * (rr * r3 + rs * s3 + rt * t3), 0.25 * (sr * r3 + ss * s3 + ts * t3), 0.25 * (tr * r3 + tq * s3 + tt * t3)
        bend = out * strain
        four = bend * bend * bend * bend * bend < enough
        if four:
            r5 = s5 = t5 = 0.0
            rest = max(abs(r4), max(abs(s4), abs(t4))) * out / 5.0
        else:
            r5, s5, t5 = 0.2 * (rr * r4 + rs * s4 + rt * t4), 0.2 * (sr * r4 + ss * s4 + ts * t4), 0.2 * (tr * r4 + tq * s4 + tt * t4)
            rest = max(abs(r5), max(abs(s5), abs(t5))) * out * out / 6.0
        h = out
        if side >= 0:  # by two terms so far: with all of them
            at = np.uintp(side - 8)
            on, by_r, by_s, by_t = SHARES[at, 0], SHARES[at, 1], SHARES[at, 2], SHARES[at, 3]
            g0, g1 = on + by_r * r + by_s * s + by_t * t, by_r * r1 + by_s * s1 + by_t * t1
            g2, g3 = by_r * r2 + by_s * s2 + by_t * t2, by_r * r3 + by_s * s3 + by_t * t3
            g4, g5 = by_r * r4 + by_s * s4 + by_t * t4, by_r * r5 + by_s * s5 + by_t * t5
            slope = g1 + h * (2.0 * g2 + h * (3.0 * g3 + h * 4.0 * g4))
            off = g0 + h * (g1 + h * (g2 + h * (g3 + h * g4)))
            if abs(off) < 0.2 * abs(slope * h):
                h -= off / slope
            if not four:
                slope = g1 + h * (2.0 * g2 + h * (3.0 * g3 + h * (4.0 * g4 + h * 5.0 * g5)))
                off = g0 + h * (g1 + h * (g2 + h * (g3 + h * (g4 + h * g5))))
                if abs(off) < 0.2 * abs(slope * h):
                    h -= off / slope
            h = max(h, 0.0)
        stuck = stuck + 1 if h * fastest < 1e-9 else 0
        if stuck > 6:
            answer = -1
            break
        r0 = s0 = t0 = 0.0
        for _turn in range(6):
            r0 = r + h * (r1 + h * (r2 + h * (r3 + h * (r4 + h * r5))))
            s0 = s + h * (s1 + h * (s2 + h * (s3 + h * (s4 + h * s5))))
            t0 = t + h * (t1 + h * (t2 + h * (t3 + h * (t4 + h * t5))))
            if min(min(r0, s0), min(t0, 1.0 - r0 - s0 - t0)) >= -0.01:
                break
            h *= 0.5  # out by another side before
            side = -1
        dx = x0 + r0 * a0 + s0 * b0 + t0 * c0 - x
        dy = y0 + r0 * a1 + s0 * b1 + t0 * c1 - y
        dz = z0 + r0 * a2 + s0 * b2 + t0 * c2 - z
        nu = sign * (u0 + r0 * d0 + s0 * e0 + t0 * f0)
        nv = sign * (v0 + r0 * d1 + s0 * e1 + t0 * f1)
        nw = sign * (w0 + r0 * d2 + s0 * e2 + t0 * f2)
        faster = np.sqrt(nu * nu + nv * nv + nw * nw)
        # An arc is longer than its chord by a 24th of its turn's square.
        step = np.sqrt(dx * dx + dy * dy + dz * dz) * (13.0 - (u * nu + v * nv + w * nw) / max(speed * faster, 1e-300)) / 12.0
        gx, gy, gz = x - seed[0], y - seed[1], z - seed[2]
        if away > 8.0 * ring:
            if abs(gx) < step + ring and abs(gy) < step + ring and abs(gz) < step + ring and gx * dx + gy * dy + gz * dz < 0.0:
                answer = -1
                break
        else:
            away = max(away, np.sqrt((gx + dx) ** 2 + (gy + dy) ** 2 + (gz + dz) ** 2))
        if length + step >= most_length:  # the rest of the length, at the speeds there
            share = (most_length - length) / max(step, 1e-300)
            h *= share * (speed + faster) / (speed + np.sqrt(speed * speed + share * (faster * faster - speed * speed)))
            answer = LENGTH
            r0 = r + h * (r1 + h * (r2 + h * (r3 + h * (r4 + h * r5))))
            s0 = s + h * (s1 + h * (s2 + h * (s3 + h * (s4 + h * s5))))
            t0 = t + h * (t1 + h * (t2 + h * (t3 + h * (t4 + h * t5))))
            dx = x0 + r0 * a0 + s0 * b0 + t0 * c0 - x
            dy = y0 + r0 * a1 + s0 * b1 + t0 * c1 - y
            dz = z0 + r0 * a2 + s0 * b2 + t0 * c2 - z
        error += rest * (h * h * h * h) * strain * speed / max(fastest, 1e-300)
        r, s, t = r0, s0, t0
        x, y, z = x + dx, y + dy, z + dz
        u, v, w, speed = nu, nv, nw, faster
        time += h
        length += step
        if answer != 0:
            break
        if side < 0:
            if time >= most_time:
                answer = TIME
                break
            run[5] = run[5] + 1.0 if h * fastest < near else 0.0
            if run[5] > 8.0 or not speed > 0.0:
                answer = STILL
                break
        else:
            run[5] = 0.0
            to = np.int64(cells[row, side])
            if to < 0:
                answer = -3
                run[6] = fastest
                break
            if cells[np.uintp(base + to), 14] != 2:
                answer = -2
                break
        if not u * u_first + v * v_first + w * w_first > 0.99 * speed:
            break
    st[1] = cell
    q[0], q[1], q[2] = r, s, t
    p[0], p[1], p[2] = x, y, z
    k[0, 0], k[0, 1], k[0, 2] = u, v, w
    run[0], run[1], run[2], run[3], run[4] = time, length, error, to, away
    return answer


@piece
def _hop(first: int, cells: Array, st: Array, q: Array, off: Array) -> bool:
    """From hexahedron to hexahedron towards the place q, as if the grid were regular there; ``off`` counts the cells.

    False where it is not regular: q is then only the middle of the cell reached.
    """
    for d in range(3):
        for _ in range(8):
            if q[d] < 0.0:
                side, way = 2 * d, -1
            elif q[d] > 1.0:
                side, way = 2 * d + 1, 1
            else:
                break
            other = cells[np.uintp(first + st[1]), 8 + side]
            if other < 0:
                break
            to = np.uintp(first + other)
            if cells[to, 14] != 1 or cells[to, 8 + (side ^ 1)] != st[1]:
                if cells[to, 14] == 1:
                    st[1] = other
                    q[0] = q[1] = q[2] = 0.5
                return False
            st[1] = other
            q[d] -= way
            off[d] += way
    return True


@folded
def _arc(p: Array, x: Array, k: Array, h: float) -> float:
    start = middle = ahead = 0.0
    for d in range(3):
        start += k[0, d] ** 2
        middle += (1.5 * (x[d] - p[d]) / h - 0.25 * (k[0, d] + k[6, d])) ** 2
        ahead += k[6, d] ** 2
    return h / 6.0 * (np.sqrt(start) + 4.0 * np.sqrt(middle) + np.sqrt(ahead))


@making
def _border(m: Array, vel: Array, p: Array, x: Array, k: Array, h: float, fastest: float, hold: Array, nothing: Array, st: Array,
            q: Array, ids: Array, cx: Array, cv: Array, jac: Array, rate: Array, tmp: Array, stack: Array) -> float:
    """The greatest share of the step that is inside, to a thousandth of a cell; the present cell is then that of its end.

    From outside by Newton's method on the distance from the last cell, else by halving.
    """
    low, high = 0.0, 1.0
    place = np.empty(3)
    block, cell = hold[0], hold[1]
    r = s = t = 0.5
    ends = st[1]  # the cell beyond whose border the line goes
    for round_ in range(24):
        share = 0.5 * (low + high)
        far = clear_of(st[5], q)
        if round_ < 4 and ends == st[1] and far > 0.0:
            tetra = st[5] == 2
            det = tetra_edges(cx, jac) if tetra else jacobian(cx, q[0], q[1], q[2], jac)
            solve(jac, det, k[6, 0], k[6, 1], k[6, 2], rate)
            leaving = 0.0
            for d in range(3):
                if q[d] > 1.0 and not tetra:
                    leaving = max(leaving, rate[d])
                elif q[d] < 0.0:
                    leaving = max(leaving, -rate[d])
            if tetra and q[0] + q[1] + q[2] > 1.0:
                leaving = max(leaving, rate[0] + rate[1] + rate[2])
            aim = high - (far + 3e-4) / (h * leaving)
            if low < aim < high:
                share = aim
        elif low > 0.0 and round_ < 6:
            share = min(share, low + 1e-3 * 4.0 ** round_ / (h * fastest))
        _between(p, x, k, h, share, tmp)
        place[0], place[1], place[2] = tmp[0], tmp[1], tmp[2]
        inside = walk(m[0], m[1], m[2], vel, place, st, q, ids, cx, cv, jac, tmp, round_ < 0)
        if not inside:
            here, last = st[0], st[1]
            a, b, c, far = q[0], q[1], q[2], q[3]
            known = (st[5] <= 2 and far <= GHOST and here == nothing[0] and last == nothing[1]
                     and side_of(st[5], q) == nothing[2])
            inside = far <= SLACK if known else search(m, vel, place, SLACK, st, q, ids, cx, cv, jac, tmp, stack)
            if not inside:
                high = share
                if not known:
                    st[0], st[1] = here, last
                    load(m[0], m[1], m[2], vel, st, ids, cx, cv)
                    q[0], q[1], q[2] = a, b, c
                ends = last if far <= 1.0 else -1
        if inside:
            low = share
            block, cell = st[0], st[1]
            r, s, t = q[0], q[1], q[2]
        if (high - low) * h * fastest < 2e-3:
            break
    if st[0] != block or st[1] != cell:
        st[0], st[1] = block, cell
        load(m[0], m[1], m[2], vel, st, ids, cx, cv)
    q[0], q[1], q[2] = r, s, t
    return low


@making
def _round_off(m: Array, vel: Array, p: Array, x: Array, k: Array, h: float, st: Array, q: Array, ids: Array,
               cx: Array, cv: Array, jac: Array, tmp: Array, stack: Array, out_p: Array, out_q: Array, out_cell: Array,
               out_time: Array, row: int, full: int, time: float, error: float) -> int:
    """Store points on a step that turns, so that the line looks as round as it is; ends in the cell of x again."""
    dot = k[0, 0] * k[6, 0] + k[0, 1] * k[6, 1] + k[0, 2] * k[6, 2]
    size = np.sqrt((k[0, 0] ** 2 + k[0, 1] ** 2 + k[0, 2] ** 2) * (k[6, 0] ** 2 + k[6, 1] ** 2 + k[6, 2] ** 2))
    pieces = min(16, 1 + int(np.arccos(max(-1.0, dot / size)) / 0.14))
    block, cell = st[0], st[1]
    r, s, t = q[0], q[1], q[2]
    place = np.empty(3)
    for n in range(1, pieces):
        if row >= full:
            break
        _between(p, x, k, h, n / pieces, tmp)
        place[0], place[1], place[2] = tmp[0], tmp[1], tmp[2]
        if not find(m, vel, place, 0.0, st, q, ids, cx, cv, jac, tmp, stack):
            break
        _store(out_p, out_q, out_cell, out_time, row, place, q, st, time + h * n / pieces, error)
        row += 1
    st[0], st[1] = block, cell
    load(m[0], m[1], m[2], vel, st, ids, cx, cv)
    q[0], q[1], q[2] = r, s, t
    return row


@folded
def _store(out_p: Array, out_q: Array, out_cell: Array, out_time: Array, row: int, p: Array, q: Array, st: Array,
           time: float, error: float) -> None:
    at = np.uintp(row)
    for d in range(3):
        out_p[at, d] = p[d]
        out_q[at, d] = q[d]
    out_cell[at, 0] = st[0]
    out_cell[at, 1] = st[1]
    out_time[at, 0] = time
    out_time[at, 1] = error


@piece
def _between(p: Array, x: Array, k: Array, h: float, s: float, out: Array) -> None:
    """The place at share s of a step on the cubic through both ends, with their velocities k[0] and k[6]."""
    a = (1 + 2 * s) * (1 - s) * (1 - s)
    b = s * (1 - s) * (1 - s) * h
    c = s * s * (3 - 2 * s)
    e = s * s * (s - 1) * h
    for d in range(3):
        out[d] = a * p[d] + b * k[0, d] + c * x[d] + e * k[6, d]


@making
def _passes(p: Array, x: Array, k: Array, h: float, seed: Array, ring: float, step: float) -> float:
    """Where on the step (0 to 1) the line comes back to its seed, or -1."""
    near = 1e300
    for d in range(3):
        if p[d] - seed[d] > step + ring or seed[d] - p[d] > step + ring:
            return -1.0
    at = -1.0
    c = np.empty(3)
    for n in range(17):
        _between(p, x, k, h, n / 16.0, c)
        dist = (c[0] - seed[0]) ** 2 + (c[1] - seed[1]) ** 2 + (c[2] - seed[2]) ** 2
        if dist < near:
            near, at = dist, n / 16.0
    width = 1.0 / 32.0
    for _ in range(20):
        for side in range(2):
            s = min(1.0, max(0.0, at + (width if side else -width)))
            _between(p, x, k, h, s, c)
            dist = (c[0] - seed[0]) ** 2 + (c[1] - seed[1]) ** 2 + (c[2] - seed[2]) ** 2
            if dist < near:
                near, at = dist, s
        width *= 0.6
    return at if near <= ring * ring else -1.0


@kernel
def lay_out(behind: Array, ahead: Array, back_p: Array, back_q: Array, back_cell: Array, back_time: Array, back_count: Array,
            ahead_p: Array, ahead_q: Array, ahead_cell: Array, ahead_time: Array, ahead_count: Array, out_p: Array,
            out_q: Array, out_cell: Array, out_time: Array) -> None:
    """Join the halves of each line: ``behind[n]`` points of the backward one, the last first, then ``ahead[n]`` of the other.

    Of a backward half the seed itself is left out if there are points of the forward half. The time of it is negative.
    """
    row = 0
    from_back = from_ahead = 0
    for line in range(behind.shape[0]):
        top = from_back + behind[line] - (0 if ahead[line] > 0 else 1)
        for n in range(behind[line]):
            for d in range(3):
                out_p[row, d] = back_p[top - n, d]
                out_q[row, d] = back_q[top - n, d]
            out_cell[row, 0] = back_cell[top - n, 0]
            out_cell[row, 1] = back_cell[top - n, 1]
            out_time[row, 0], out_time[row, 1] = -back_time[top - n, 0], back_time[top - n, 1]
            row += 1
        for n in range(from_ahead, from_ahead + ahead[line]):
            for d in range(3):
                out_p[row, d] = ahead_p[n, d]
                out_q[row, d] = ahead_q[n, d]
            out_cell[row, 0] = ahead_cell[n, 0]
            out_cell[row, 1] = ahead_cell[n, 1]
            out_time[row, 0], out_time[row, 1] = ahead_time[n, 0], ahead_time[n, 1]
            row += 1
        from_back += back_count[line]
        from_ahead += ahead_count[line]


@kernel
def places_of(m: Array, targets: Array, cells: Array, places: Array, begin: int, end: int) -> None:
    """Block and cell (n, 2) that hold targets begin..end, and the place in it (n, 3); block -1 outside."""
    st, q, ids, cx, cv, jac, tmp, stack = room()
    p = np.empty(3)
    for n in range(begin, end):
        for d in range(3):
            p[d] = targets[n, d]
        st[0] = -1
        if find(m, m[0], p, SLACK, st, q, ids, cx, cv, jac, tmp, stack):
            cells[n, 0], cells[n, 1] = st[0], st[1]
            for d in range(3):
                places[n, d] = q[d]
        else:
            cells[n, 0] = cells[n, 1] = -1
