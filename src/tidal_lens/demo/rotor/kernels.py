"""Compiled loops of the rotor's solver.

``w`` (columns, layers + 4, 5) holds density, absolute velocity and pressure, in sound speeds and densities of the inlet's total state;
columns are those of (ni + 4, nj + 4) with two ghosts at each side, j fastest. ``grad`` (columns, layers, 4, 3) holds the gradients of
u, v, w and temperature (p / ρ).
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.demo.solver.kernels import GAMMA, PRANDTL, change, face_gradient, limited, riemann, stress
from tidal_lens.jit import inlined, kernel

Array = Any
TURBULENT_PRANDTL = 0.9


@kernel
def gradients(w: Array, grad: Array, eddy: Array, length: Array, area_i: Array, area_j: Array, area_k: Array, share_i: Array,
              share_j: Array, share_k: Array, bladed: Array, volume: Array, begin: int, end: int) -> None:
    """Green–Gauss gradients and the eddy viscosity of cells begin..end along i; walls count as having the cell's own values."""
    nj, nk = volume.shape[1], volume.shape[2]
    wide = nj + 4
    for i in range(begin, end):
        for j in range(nj):
            col = (i + 2) * wide + j + 2
            for k in range(nk):
                inv = 1.0 / volume[i, j, k]
                for c in range(4):
                    mid = w[col, k + 2, c + 1] if c < 3 else w[col, k + 2, 4] / w[col, k + 2, 0]
                    sum_x, sum_y, sum_z = 0.0, 0.0, 0.0
                    for side in range(6):
                        axis, up = side // 2, side % 2
                        o, n = col, k + 2
                        if axis == 0:
                            o += wide if up else -wide
                            sx, sy, sz = area_i[i + up, j, k, 0], area_i[i + up, j, k, 1], area_i[i + up, j, k, 2]
                            share = share_i[i + up, j, k]
                            wall = False
                        elif axis == 1:
                            o += 1 if up else -1
                            sx, sy, sz = area_j[i, j + up, k, 0], area_j[i, j + up, k, 1], area_j[i, j + up, k, 2]
                            share = share_j[i, j + up, k]
                            wall = bladed[i, k] and ((up == 0 and j == 0) or (up == 1 and j == nj - 1))
                        else:
                            n += 1 if up else -1
                            sx, sy, sz = area_k[i, j, k + up, 0], area_k[i, j, k + up, 1], area_k[i, j, k + up, 2]
                            share = share_k[i, j, k + up]
                            wall = (up == 0 and k == 0) or (up == 1 and k == nk - 1)
                        value = mid
                        if not wall:
                            other = w[o, n, c + 1] if c < 3 else w[o, n, 4] / w[o, n, 0]
                            value = (1.0 - share) * mid + share * other if up else share * mid + (1.0 - share) * other
                        if up == 0:
                            value = -value
                        sum_x += value * sx
                        sum_y += value * sy
                        sum_z += value * sz
                    grad[col, k, c, 0], grad[col, k, c, 1], grad[col, k, c, 2] = inv * sum_x, inv * sum_y, inv * sum_z
                x = grad[col, k, 2, 1] - grad[col, k, 1, 2]
                y = grad[col, k, 0, 2] - grad[col, k, 2, 0]
                z = grad[col, k, 1, 0] - grad[col, k, 0, 1]
                eddy[i, j, k] = w[col, k + 2, 0] * length[i + 2, j + 2, k] ** 2 * np.sqrt(x * x + y * y + z * z)


@kernel
def side_ghosts(w: Array, grad: Array, bladed: Array, ni: int, nj: int, cosine: float, sine: float, also_grad: bool) -> None:
    """Ghosts beyond j = 0 and j = nj: what stands a pitch on, turned; at blades the cell's own state."""
    wide, nk = nj + 4, w.shape[1] - 4
    for i in range(ni + 4):
        row = min(max(i - 2, 0), ni - 1)
        for g in range(2):
            for side in range(2):
                to = i * wide + (g if side == 0 else nj + 2 + g)
                of = i * wide + (nj + g if side == 0 else 2 + g)
                near = i * wide + (2 if side == 0 else nj + 1)
                s = -sine if side == 0 else sine
                for n in range(nk + 4):
                    k = min(max(n - 2, 0), nk - 1)
                    if bladed[row, k] and 2 <= i < ni + 2:
                        for c in range(5):
                            w[to, n, c] = w[near, n, c]
                        continue
                    w[to, n, 0], w[to, n, 1], w[to, n, 4] = w[of, n, 0], w[of, n, 1], w[of, n, 4]
                    w[to, n, 2] = cosine * w[of, n, 2] - s * w[of, n, 3]
                    w[to, n, 3] = s * w[of, n, 2] + cosine * w[of, n, 3]
                    if also_grad and 2 <= n < nk + 2 and (g == 1 if side == 0 else g == 0):
                        _turn_gradient(grad, of, to, k, cosine, s)


@inlined
def _turn_gradient(grad: Array, of: int, to: int, k: int, c: float, s: float) -> None:
    for q in range(4):
        y, z = grad[of, k, q, 1], grad[of, k, q, 2]
        grad[to, k, q, 0] = grad[of, k, q, 0]
        grad[to, k, q, 1], grad[to, k, q, 2] = c * y - s * z, s * y + c * z
    for d in range(3):
        v, u = grad[to, k, 1, d], grad[to, k, 2, d]
        grad[to, k, 1, d], grad[to, k, 2, d] = c * v - s * u, s * v + c * u


@kernel
def end_ghosts(w: Array, grad: Array, ni: int, nj: int, total_pressure: float, outlet: Array) -> None:
    """Ghosts ahead of the inlet, behind the outlet, in the hub and the casing.

    Inlet: total state, axial, the wave that leaves is kept. Outlet: the pressure. Walls: the first cell's state.
    """
    wide, nk = nj + 4, w.shape[1] - 4
    for j in range(2, nj + 2):
        first, last = 2 * wide + j, (ni + 1) * wide + j
        for n in range(2, nk + 2):
            sound = np.sqrt(GAMMA * w[first, n, 4] / w[first, n, 0])
            wave = w[first, n, 1] - 2.0 * sound / (GAMMA - 1.0)
            # c² + (γ − 1)/2 u² = 1 with u = wave + 2 c / (γ − 1).
            a = 1.0 + 2.0 / (GAMMA - 1.0)
            b = 2.0 * wave
            e = 0.5 * (GAMMA - 1.0) * wave * wave - 1.0
            sound = (-b + np.sqrt(max(b * b - 4.0 * a * e, 0.0))) / (2.0 * a)
            u = wave + 2.0 * sound / (GAMMA - 1.0)
            pressure = total_pressure * (sound * sound) ** (GAMMA / (GAMMA - 1.0))
            for g in range(2):
                o = g * wide + j
                w[o, n, 0], w[o, n, 1], w[o, n, 2], w[o, n, 3] = GAMMA * pressure / (sound * sound), u, 0.0, 0.0
                w[o, n, 4] = pressure
                o = (ni + 2 + g) * wide + j
                for c in range(4):
                    w[o, n, c] = w[last, n, c]
                w[o, n, 4] = outlet[n - 2]
            for q in range(4):
                for d in range(3):
                    grad[wide + j, n - 2, q, d] = grad[first, n - 2, q, d]
                    grad[(ni + 2) * wide + j, n - 2, q, d] = grad[last, n - 2, q, d]
    for i in range(ni + 4):
        for j in range(2, nj + 2):
            o = i * wide + j
            for c in range(5):
                w[o, 0, c] = w[o, 1, c] = w[o, 2, c]
                w[o, nk + 2, c] = w[o, nk + 3, c] = w[o, nk + 1, c]


@kernel
def inner_fluxes(w: Array, grad: Array, length: Array, centre: Array, area: Array, sweep: Array, share: Array, axis: int, ni: int,
                 nj: int, viscosity: float, second: float, flux: Array, begin: int, end: int) -> None:
    """Fluxes through the faces begin..end (along i) across an axis, towards the greater index, as if there were no walls."""
    wide = nj + 4
    dc = wide if axis == 0 else (1 if axis == 1 else 0)
    dk = 1 if axis == 2 else 0
    ai, aj = (1 if axis == 0 else 0), (1 if axis == 1 else 0)
    for i in range(begin, end):
        for j in range(area.shape[1]):
            for k in range(area.shape[2]):
                c = (i + 2) * wide + j + 2
                nc = k + 2
                a, b, d = c - 2 * dc, c - dc, c + dc
                na, nb, nd = nc - 2 * dk, nc - dk, nc + dk
                if axis == 2 and (k == 0 or k == area.shape[2] - 1):
                    continue  # walls
                sx, sy, sz = area[i, j, k, 0], area[i, j, k, 1], area[i, j, k, 2]
                size = np.sqrt(sx * sx + sy * sy + sz * sz)
                nx, ny, nz = sx / size, sy / size, sz / size
                speed = sweep[i, j, k] / size
                gx, gy, gz = speed * nx, speed * ny, speed * nz
                rl, rr = limited(w[a, na, 0], w[b, nb, 0], w[c, nc, 0], w[d, nd, 0], second)
                ul, ur = limited(w[a, na, 1], w[b, nb, 1], w[c, nc, 1], w[d, nd, 1], second)
                vl, vr = limited(w[a, na, 2], w[b, nb, 2], w[c, nc, 2], w[d, nd, 2], second)
                wl, wr = limited(w[a, na, 3], w[b, nb, 3], w[c, nc, 3], w[d, nd, 3], second)
                pl, pr = limited(w[a, na, 4], w[b, nb, 4], w[c, nc, 4], w[d, nd, 4], second)
                # In a frame that moves with the face, and back.
                f0, f1, f2, f3, f4 = riemann(rl, ul - gx, vl - gy, wl - gz, pl, rr, ur - gx, vr - gy, wr - gz, pr, nx, ny, nz, 0.0)
                f4 += gx * f1 + gy * f2 + gz * f3 + 0.5 * speed * speed * f0
                f1, f2, f3 = f1 + gx * f0, f2 + gy * f0, f3 + gz * f0
                kb, kc = nb - 2, nc - 2
                fb, fc = min(max(kb, 0), length.shape[2] - 1), min(kc, length.shape[2] - 1)
                weight = share[i, j, k]
                ex = centre[i + 2, j + 2, nc, 0] - centre[i + 2 - ai, j + 2 - aj, nb, 0]
                ey = centre[i + 2, j + 2, nc, 1] - centre[i + 2 - ai, j + 2 - aj, nb, 1]
                ez = centre[i + 2, j + 2, nc, 2] - centre[i + 2 - ai, j + 2 - aj, nb, 2]
                x0, y0, z0, x1, y1, z1, x2, y2, z2, x3, y3, z3 = face_gradient(grad, w, b, fb, c, fc, ex, ey, ez, weight, 1.0)
                turn = np.sqrt((y2 - z1) ** 2 + (z0 - x2) ** 2 + (x1 - y0) ** 2)
                mixing = (1.0 - weight) * length[i + 2 - ai, j + 2 - aj, fb] + weight * length[i + 2, j + 2, fc]
                density = (1.0 - weight) * w[b, nb, 0] + weight * w[c, nc, 0]
                eddy = density * mixing * mixing * turn
                fx, fy, fz = stress(x0, y0, z0, x1, y1, z1, x2, y2, z2, viscosity + eddy, sx, sy, sz)
                u = (1.0 - weight) * w[b, nb, 1] + weight * w[c, nc, 1]
                v = (1.0 - weight) * w[b, nb, 2] + weight * w[c, nc, 2]
                ww = (1.0 - weight) * w[b, nb, 3] + weight * w[c, nc, 3]
                carry = GAMMA / (GAMMA - 1.0) * (viscosity / PRANDTL + eddy / TURBULENT_PRANDTL)
                heat = carry * (x3 * sx + y3 * sy + z3 * sz)
                flux[i, j, k, 0] = size * f0
                flux[i, j, k, 1] = size * f1 - fx
                flux[i, j, k, 2] = size * f2 - fy
                flux[i, j, k, 3] = size * f3 - fz
                flux[i, j, k, 4] = size * f4 - (u * fx + v * fy + ww * fz + heat)


@kernel
def friction(speed: float, gap: float, density: float, viscosity: float) -> float:
    """Wall shear by the first cell's Reynolds number: laminar below 125, else a fit of the logarithmic law (Denton 1992)."""
    reynolds = density * speed * gap / viscosity
    if reynolds < 125.0:
        return viscosity * speed / gap
    log = np.log(reynolds)
    return 0.5 * density * speed * speed * (-0.001767 + 0.03177 / log + 0.25614 / (log * log))


@kernel
def wall_fluxes(w: Array, centre: Array, points: Array, area: Array, sweep: Array, axis: int, last: bool, turns: float,
                bladed: Array, viscosity: float, slip: bool, flux: Array, force: Array) -> None:
    """Fluxes through walls: of the blade (axis 1) at j = 0 or nj, of hub and casing (axis 2).

    ``force`` (ni, n, 2, 3) is filled with pressure and friction on the wall.
    """
    ni, wide = bladed.shape[0], centre.shape[1]
    count = bladed.shape[1] if axis == 1 else area.shape[1]
    sign = 1.0 if last else -1.0
    for i in range(ni):
        for m in range(count):
            if axis == 1 and not bladed[i, m]:
                continue
            j, k = ((area.shape[1] - 1 if last else 0), m) if axis == 1 else (m, (area.shape[2] - 1 if last else 0))
            cj = j - 1 if axis == 1 and last else j
            ck = k - 1 if axis == 2 and last else k
            q, n = (i + 2) * wide + cj + 2, ck + 2
            sx, sy, sz = sign * area[i, j, k, 0], sign * area[i, j, k, 1], sign * area[i, j, k, 2]
            size = np.sqrt(sx * sx + sy * sy + sz * sz)
            nx, ny, nz = sx / size, sy / size, sz / size
            j1, k1 = (j, k + 1) if axis == 1 else (j + 1, k)
            px = 0.25 * (points[i, j, k, 0] + points[i + 1, j, k, 0] + points[i, j1, k1, 0] + points[i + 1, j1, k1, 0])
            py = 0.25 * (points[i, j, k, 1] + points[i + 1, j, k, 1] + points[i, j1, k1, 1] + points[i + 1, j1, k1, 1])
            pz = 0.25 * (points[i, j, k, 2] + points[i + 1, j, k, 2] + points[i, j1, k1, 2] + points[i + 1, j1, k1, 2])
            gap = ((px - centre[i + 2, cj + 2, n, 0]) * nx + (py - centre[i + 2, cj + 2, n, 1]) * ny
                   + (pz - centre[i + 2, cj + 2, n, 2]) * nz)
            vy, vz = -turns * pz, turns * py
            u, v, ww = w[q, n, 1], w[q, n, 2] - vy, w[q, n, 3] - vz
            through = u * nx + v * ny + ww * nz
            u, v, ww = u - through * nx, v - through * ny, ww - through * nz
            speed = np.sqrt(u * u + v * v + ww * ww)
            pull = 0.0 if slip else friction(speed, gap, w[q, n, 0], viscosity) * size / max(speed, 1e-12)
            tx, ty, tz = pull * u, pull * v, pull * ww  # of the flow on the wall
            p = w[q, n, 4]
            flux[i, j, k, 0] = 0.0
            flux[i, j, k, 1], flux[i, j, k, 2], flux[i, j, k, 3] = sign * (p * sx + tx), sign * (p * sy + ty), sign * (p * sz + tz)
            flux[i, j, k, 4] = p * sweep[i, j, k] + sign * (ty * vy + tz * vz)
            force[i, m, 0, 0], force[i, m, 0, 1], force[i, m, 0, 2] = p * sx, p * sy, p * sz
            force[i, m, 1, 0], force[i, m, 1, 1], force[i, m, 1, 2] = tx, ty, tz


@kernel
def residuals(w: Array, flux_i: Array, flux_j: Array, flux_k: Array, volume: Array, turns: float, out: Array, begin: int,
              end: int) -> None:
    """Net flux out of the cells begin..end along i, and what turning does to the momentum: + ρ Ω × v."""
    nj, nk = volume.shape[1], volume.shape[2]
    for i in range(begin, end):
        for j in range(nj):
            col = (i + 2) * (nj + 4) + j + 2
            for k in range(nk):
                for c in range(5):
                    out[i, j, k, c] = (flux_i[i + 1, j, k, c] - flux_i[i, j, k, c] + flux_j[i, j + 1, k, c] - flux_j[i, j, k, c]
                                       + flux_k[i, j, k + 1, c] - flux_k[i, j, k, c])
                mass = turns * w[col, k + 2, 0] * volume[i, j, k]
                out[i, j, k, 2] -= mass * w[col, k + 2, 3]
                out[i, j, k, 3] += mass * w[col, k + 2, 2]


@inlined
def _radius(w: Array, q: int, n: int, sx: float, sy: float, sz: float, sweep: float, volume: float, diffusion: float) -> float:
    """Spectral radius of the flux through a face: waves and diffusion."""
    r, p = w[q, n, 0], w[q, n, 4]
    size = sx * sx + sy * sy + sz * sz
    through = abs(w[q, n, 1] * sx + w[q, n, 2] * sy + w[q, n, 3] * sz - sweep)
    return through + np.sqrt(GAMMA * p / r * size) + 2.0 * GAMMA * diffusion / r * size / volume


@kernel
def sweeps(w: Array, res: Array, du: Array, eddy: Array, area_i: Array, area_j: Array, area_k: Array, sweep_i: Array, sweep_j: Array,
           sweep_k: Array, volume: Array, viscosity: float, courant: float, diagonal: Array, begin: int, end: int) -> None:
    """LU-SGS (Yoon & Jameson 1988) over the cells begin..end along i; others count as unchanged. ``du`` (columns, layers, 5)."""
    nj, nk = volume.shape[1], volume.shape[2]
    wide = nj + 4
    for i in range(begin, end):
        for j in range(nj):
            col = (i + 2) * wide + j + 2
            for k in range(nk):
                v = volume[i, j, k]
                diffusion = viscosity / PRANDTL + eddy[i, j, k] / TURBULENT_PRANDTL
                total = 0.0
                for up in range(2):
                    total += _radius(w, col, k + 2, area_i[i + up, j, k, 0], area_i[i + up, j, k, 1], area_i[i + up, j, k, 2],
                                     sweep_i[i + up, j, k], v, diffusion)
                    total += _radius(w, col, k + 2, area_j[i, j + up, k, 0], area_j[i, j + up, k, 1], area_j[i, j + up, k, 2],
                                     sweep_j[i, j + up, k], v, diffusion)
                    total += _radius(w, col, k + 2, area_k[i, j, k + up, 0], area_k[i, j, k + up, 1], area_k[i, j, k + up, 2],
                                     sweep_k[i, j, k + up], v, diffusion)
                diagonal[i, j, k] = 1.0 / (0.5 * total * (1.0 + 1.0 / courant))
    for turn in range(2):
        up = turn
        s = -1.0 if turn == 0 else 1.0
        for step in range(end - begin):
            i = begin + step if turn == 0 else end - 1 - step
            for across in range(nj):
                j = across if turn == 0 else nj - 1 - across
                col = (i + 2) * wide + j + 2
                for layer in range(nk):
                    k = layer if turn == 0 else nk - 1 - layer
                    a0, a1, a2, a3, a4 = 0.0, 0.0, 0.0, 0.0, 0.0
                    for axis in range(3):
                        oi, oj, ok = i, j, k
                        if axis == 0:
                            oi += 2 * turn - 1
                            if oi < begin or oi >= end:
                                continue
                            sx, sy, sz = s * area_i[i + up, j, k, 0], s * area_i[i + up, j, k, 1], s * area_i[i + up, j, k, 2]
                            moved = s * sweep_i[i + up, j, k]
                        elif axis == 1:
                            oj += 2 * turn - 1
                            if oj < 0 or oj >= nj:
                                continue
                            sx, sy, sz = s * area_j[i, j + up, k, 0], s * area_j[i, j + up, k, 1], s * area_j[i, j + up, k, 2]
                            moved = s * sweep_j[i, j + up, k]
                        else:
                            ok += 2 * turn - 1
                            if ok < 0 or ok >= nk:
                                continue
                            sx, sy, sz = s * area_k[i, j, k + up, 0], s * area_k[i, j, k + up, 1], s * area_k[i, j, k + up, 2]
                            moved = s * sweep_k[i, j, k + up]
                        other = (oi + 2) * wide + oj + 2
                        diffusion = viscosity / PRANDTL + eddy[oi, oj, ok] / TURBULENT_PRANDTL
                        c0, c1, c2, c3, c4 = change(w, du, other, ok + 2, sx, sy, sz,
                                                    _radius(w, other, ok + 2, sx, sy, sz, moved, volume[oi, oj, ok], diffusion), moved)
                        a0, a1, a2, a3, a4 = a0 + c0, a1 + c1, a2 + c2, a3 + c3, a4 + c4
                    inv = diagonal[i, j, k]
                    if turn == 0:
                        du[col, k, 0], du[col, k, 1] = -inv * (res[i, j, k, 0] + a0), -inv * (res[i, j, k, 1] + a1)
                        du[col, k, 2], du[col, k, 3] = -inv * (res[i, j, k, 2] + a2), -inv * (res[i, j, k, 3] + a3)
                        du[col, k, 4] = -inv * (res[i, j, k, 4] + a4)
                    else:
                        du[col, k, 0] -= inv * a0
                        du[col, k, 1] -= inv * a1
                        du[col, k, 2] -= inv * a2
                        du[col, k, 3] -= inv * a3
                        du[col, k, 4] -= inv * a4
