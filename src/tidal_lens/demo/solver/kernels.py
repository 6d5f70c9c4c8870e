"""Compiled loops of the solver.

States are primitive: density, u, v, w, pressure, made dimensionless with the free stream's density and speed and the body's
length.

``w`` (quads + ghosts, layers + 4, 5) has two ghost layers at the wall and two beyond the outer boundary.
``grad`` (quads + ghosts, layers, 4, 3) holds the gradients of u, v, w and temperature.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel

Array = Any
GAMMA, PRANDTL = 1.4, 0.72


@inlined
def limited(a: float, b: float, c: float, d: float, second: float) -> tuple[float, float]:
    """Values on both sides of the face between b and c: MUSCL, κ = 1/3, van Albada's smooth limiter (van Albada et al. 1982)."""
    one, two, three = b - a, c - b, d - c
    s = (2.0 * one * two + 1e-5) / (one * one + two * two + 1e-5)
    t = (2.0 * two * three + 1e-5) / (two * two + three * three + 1e-5)
    left = b + second * 0.25 * s * ((1.0 - s / 3.0) * one + (1.0 + s / 3.0) * two)
    right = c - second * 0.25 * t * ((1.0 - t / 3.0) * three + (1.0 + t / 3.0) * two)
    return left, right


@kernel
def riemann(rl: float, ul: float, vl: float, wl: float, pl: float, rr: float, ur: float, vr: float, wr: float, pr: float,
            nx: float, ny: float, nz: float, blend: float) -> tuple[float, float, float, float, float]:
    """Flux through a unit face along n: HLLC (Toro, Spruce & Speares 1994), blended to HLL where ``blend`` is 1.

    Wave speeds by Einfeldt 1988 from Roe's averages.
    """
    ql, qr = ul * nx + vl * ny + wl * nz, ur * nx + vr * ny + wr * nz
    hl = GAMMA / (GAMMA - 1.0) * pl / rl + 0.5 * (ul * ul + vl * vl + wl * wl)
    hr = GAMMA / (GAMMA - 1.0) * pr / rr + 0.5 * (ur * ur + vr * vr + wr * wr)
    root = np.sqrt(rr / rl)
    share = 1.0 / (1.0 + root)
    u, v, w, h = share * (ul + root * ur), share * (vl + root * vr), share * (wl + root * wr), share * (hl + root * hr)
    q = u * nx + v * ny + w * nz
    c = np.sqrt((GAMMA - 1.0) * max(h - 0.5 * (u * u + v * v + w * w), 1e-12))
    sl = min(ql - np.sqrt(GAMMA * pl / rl), q - c)
    sr = max(qr + np.sqrt(GAMMA * pr / rr), q + c)
    el, er = rl * hl - pl, rr * hr - pr
    if sl >= 0.0:
        m = rl * ql
        return m, m * ul + pl * nx, m * vl + pl * ny, m * wl + pl * nz, m * hl
    if sr <= 0.0:
        m = rr * qr
        return m, m * ur + pr * nx, m * vr + pr * ny, m * wr + pr * nz, m * hr
    middle = (pr - pl + rl * ql * (sl - ql) - rr * qr * (sr - qr)) / (rl * (sl - ql) - rr * (sr - qr))
    if middle >= 0.0:
        r0, u0, v0, w0, p0, q0, e0, s0 = rl, ul, vl, wl, pl, ql, el, sl
    else:
        r0, u0, v0, w0, p0, q0, e0, s0 = rr, ur, vr, wr, pr, qr, er, sr
    factor = r0 * (s0 - q0) / (s0 - middle)
    star = p0 + r0 * (s0 - q0) * (middle - q0)
    f0 = r0 * q0 + s0 * (factor - r0)
    f1 = r0 * q0 * u0 + p0 * nx + s0 * (factor * (u0 + (middle - q0) * nx) - r0 * u0)
    f2 = r0 * q0 * v0 + p0 * ny + s0 * (factor * (v0 + (middle - q0) * ny) - r0 * v0)
    f3 = r0 * q0 * w0 + p0 * nz + s0 * (factor * (w0 + (middle - q0) * nz) - r0 * w0)
    energy = (e0 * (s0 - q0) - p0 * q0 + star * middle) / (s0 - middle)
    f4 = (e0 + p0) * q0 + s0 * (energy - e0)
    if blend > 0.0:
        gap = 1.0 / (sr - sl)
        a, b, cc = sr * gap, sl * gap, sl * sr * gap
        g0 = a * rl * ql - b * rr * qr + cc * (rr - rl)
        g1 = a * (rl * ql * ul + pl * nx) - b * (rr * qr * ur + pr * nx) + cc * (rr * ur - rl * ul)
        g2 = a * (rl * ql * vl + pl * ny) - b * (rr * qr * vr + pr * ny) + cc * (rr * vr - rl * vl)
        g3 = a * (rl * ql * wl + pl * nz) - b * (rr * qr * wr + pr * nz) + cc * (rr * wr - rl * wl)
        g4 = a * rl * ql * hl - b * rr * qr * hr + cc * (er - el)
        f0 += blend * (g0 - f0)
        f1 += blend * (g1 - f1)
        f2 += blend * (g2 - f2)
        f3 += blend * (g3 - f3)
        f4 += blend * (g4 - f4)
    return f0, f1, f2, f3, f4


@inlined
def _viscosity(t: float, reynolds: float, sutherland: float) -> float:
    """Sutherland's law (1893) over the free-stream value, divided by the Reynolds number."""
    return t * np.sqrt(t) * (1.0 + sutherland) / (t + sutherland) / reynolds


@kernel
def fill_ghosts(w: Array, mirrored: Array, nq: int, far: Array) -> None:
    """Set the ghosts beyond the plane of symmetry, inside the wall and beyond the outer boundary."""
    top = w.shape[1] - 2
    for q in range(nq):
        for c in range(5):
            sign = -1.0 if 1 <= c <= 3 else 1.0
            w[q, 1, c] = sign * w[q, 2, c]
            w[q, 0, c] = sign * w[q, 3, c]
            w[q, top, c] = w[q, top + 1, c] = far[q, c]
    ns = mirrored.shape[1]
    for which in range(2):
        for s in range(ns):
            for k in range(2, top):
                for c in range(5):
                    w[nq + which * ns + s, k, c] = (-1.0 if c == 2 else 1.0) * w[mirrored[which, s], k, c]


@kernel
def gradients(w: Array, grad: Array, sides: Array, signs: Array, beyond: Array, face_side: Array, face_up: Array,
              volume: Array, share: Array, scale: float, begin: int, end: int) -> None:
    """Green–Gauss gradients of u, v, w and temperature in the cells; ``scale`` p / rho is the temperature."""
    layers = volume.shape[1]
    for q in range(begin, end):
        for k in range(layers):
            inv = 1.0 / volume[q, k]
            for c in range(4):
                mid = w[q, k + 2, c + 1] if c < 3 else scale * w[q, k + 2, 4] / w[q, k + 2, 0]
                low = w[q, k + 1, c + 1] if c < 3 else scale * w[q, k + 1, 4] / w[q, k + 1, 0]
                high = w[q, k + 3, c + 1] if c < 3 else scale * w[q, k + 3, 4] / w[q, k + 3, 0]
                below = share[q, k] * mid + (1.0 - share[q, k]) * low if k > 0 else (0.0 if c < 3 else mid)
                above = share[q, k + 1] * high + (1.0 - share[q, k + 1]) * mid if k < layers - 1 else high
                for d in range(3):
                    total = above * face_up[q, k + 1, d] - below * face_up[q, k, d]
                    for e in range(4):
                        o = beyond[q, e]
                        other = w[o, k + 2, c + 1] if c < 3 else scale * w[o, k + 2, 4] / w[o, k + 2, 0]
                        total += 0.5 * (mid + other) * signs[q, e] * face_side[sides[q, e], k, d]
                    grad[q, k, c, d] = total * inv


@kernel
def mirror_gradients(grad: Array, mirrored: Array, nq: int) -> None:
    """Gradients in the first ghosts beyond the plane of symmetry."""
    for s in range(mirrored.shape[1]):
        for k in range(grad.shape[1]):
            for c in range(4):
                for d in range(3):
                    odd = (c == 1) != (d == 1)
                    grad[nq + s, k, c, d] = (-1.0 if odd else 1.0) * grad[mirrored[0, s], k, c, d]


@kernel
def sense_shocks(w: Array, grad: Array, beyond: Array, sensor: Array, begin: int, end: int) -> None:
    """1 where the flow is compressed and pressure jumps by 40 % to a neighbour, 0 below 15 %."""
    layers = grad.shape[1]
    for q in range(begin, end):
        for k in range(layers):
            jump = 0.0
            p = w[q, k + 2, 4]
            if grad[q, k, 0, 0] + grad[q, k, 1, 1] + grad[q, k, 2, 2] < 0.0:
                for e in range(4):
                    o = w[beyond[q, e], k + 2, 4]
                    jump = max(jump, abs(o - p) / min(o, p))
                o = w[q, k + 3, 4]
                jump = max(jump, abs(o - p) / min(o, p))
                o = w[q, k + 1, 4]
                jump = max(jump, abs(o - p) / min(o, p))
            sensor[q, k] = min(1.0, max(0.0, (jump - 0.5) / 0.5))


@inlined
def face_gradient(grad: Array, w: Array, a: int, ka: int, b: int, kb: int, ex: float, ey: float, ez: float, share: float,
                  scale: float) -> tuple[float, float, float, float, float, float, float, float, float, float, float, float]:
    """Gradients of u, v, w and temperature on the face between cells a and b, e apart; ``share`` is the weight of b.

    The mean gradient is corrected along e so that it meets the difference between the cells.
    """
    ta, tb = scale * w[a, ka + 2, 4] / w[a, ka + 2, 0], scale * w[b, kb + 2, 4] / w[b, kb + 2, 0]
    size = 1.0 / (ex * ex + ey * ey + ez * ez)
    keep = 1.0 - share
    gx0, gy0, gz0 = (keep * grad[a, ka, 0, 0] + share * grad[b, kb, 0, 0], keep * grad[a, ka, 0, 1] + share * grad[b, kb, 0, 1],
                     keep * grad[a, ka, 0, 2] + share * grad[b, kb, 0, 2])
    off = (gx0 * ex + gy0 * ey + gz0 * ez - (w[b, kb + 2, 1] - w[a, ka + 2, 1])) * size
    gx0, gy0, gz0 = gx0 - off * ex, gy0 - off * ey, gz0 - off * ez
    gx1, gy1, gz1 = (keep * grad[a, ka, 1, 0] + share * grad[b, kb, 1, 0], keep * grad[a, ka, 1, 1] + share * grad[b, kb, 1, 1],
                     keep * grad[a, ka, 1, 2] + share * grad[b, kb, 1, 2])
    off = (gx1 * ex + gy1 * ey + gz1 * ez - (w[b, kb + 2, 2] - w[a, ka + 2, 2])) * size
    gx1, gy1, gz1 = gx1 - off * ex, gy1 - off * ey, gz1 - off * ez
    gx2, gy2, gz2 = (keep * grad[a, ka, 2, 0] + share * grad[b, kb, 2, 0], keep * grad[a, ka, 2, 1] + share * grad[b, kb, 2, 1],
                     keep * grad[a, ka, 2, 2] + share * grad[b, kb, 2, 2])
    off = (gx2 * ex + gy2 * ey + gz2 * ez - (w[b, kb + 2, 3] - w[a, ka + 2, 3])) * size
    gx2, gy2, gz2 = gx2 - off * ex, gy2 - off * ey, gz2 - off * ez
    gx3, gy3, gz3 = (keep * grad[a, ka, 3, 0] + share * grad[b, kb, 3, 0], keep * grad[a, ka, 3, 1] + share * grad[b, kb, 3, 1],
                     keep * grad[a, ka, 3, 2] + share * grad[b, kb, 3, 2])
    off = (gx3 * ex + gy3 * ey + gz3 * ez - (tb - ta)) * size
    gx3, gy3, gz3 = gx3 - off * ex, gy3 - off * ey, gz3 - off * ez
    return gx0, gy0, gz0, gx1, gy1, gz1, gx2, gy2, gz2, gx3, gy3, gz3


@inlined
def stress(gx0: float, gy0: float, gz0: float, gx1: float, gy1: float, gz1: float, gx2: float, gy2: float, gz2: float, mu: float,
           sx: float, sy: float, sz: float) -> tuple[float, float, float]:
    """Viscous stress on a face of area vector s."""
    third = 2.0 / 3.0 * (gx0 + gy1 + gz2)
    return (mu * ((2.0 * gx0 - third) * sx + (gy0 + gx1) * sy + (gz0 + gx2) * sz),
            mu * ((gx1 + gy0) * sx + (2.0 * gy1 - third) * sy + (gz1 + gy2) * sz),
            mu * ((gx2 + gz0) * sx + (gy2 + gz1) * sy + (2.0 * gz2 - third) * sz))


@inlined
def _diffusion(grad: Array, w: Array, a: int, ka: int, b: int, kb: int, ex: float, ey: float, ez: float, sx: float, sy: float,
               sz: float, share: float, scale: float, reynolds: float, sutherland: float) -> tuple[float, float, float, float]:
    """Viscous flux of momentum and energy through the face between cells a and b, e apart; ``share`` is the weight of b."""
    gx0, gy0, gz0, gx1, gy1, gz1, gx2, gy2, gz2, gx3, gy3, gz3 = face_gradient(grad, w, a, ka, b, kb, ex, ey, ez, share, scale)
    keep = 1.0 - share
    mu = _viscosity(scale * (keep * w[a, ka + 2, 4] / w[a, ka + 2, 0] + share * w[b, kb + 2, 4] / w[b, kb + 2, 0]), reynolds, sutherland)
    fx, fy, fz = stress(gx0, gy0, gz0, gx1, gy1, gz1, gx2, gy2, gz2, mu, sx, sy, sz)
    u = keep * w[a, ka + 2, 1] + share * w[b, kb + 2, 1]
    v = keep * w[a, ka + 2, 2] + share * w[b, kb + 2, 2]
    ww = keep * w[a, ka + 2, 3] + share * w[b, kb + 2, 3]
    heat = mu * GAMMA / ((GAMMA - 1.0) * PRANDTL) / scale * (gx3 * sx + gy3 * sy + gz3 * sz)
    return fx, fy, fz, u * fx + v * fy + ww * fz + heat


@kernel
def flux_across(w: Array, grad: Array, sensor: Array, edges: Array, nq: int, face_side: Array, centre: Array, flux: Array,
                second: float, scale: float, reynolds: float, sutherland: float, begin: int, end: int) -> None:
    """Fluxes through the faces on edges begin..end, from L to R."""
    layers = face_side.shape[1]
    for at in range(begin, end):
        a, b, c, d = edges[at, 0], edges[at, 1], edges[at, 2], edges[at, 3]
        cc = c if c < nq else b
        for k in range(layers):
            n = k + 2
            sx, sy, sz = face_side[at, k, 0], face_side[at, k, 1], face_side[at, k, 2]
            area = np.sqrt(sx * sx + sy * sy + sz * sz)
            inv = 1.0 / area
            rl, rr = limited(w[a, n, 0], w[b, n, 0], w[c, n, 0], w[d, n, 0], second)
            ul, ur = limited(w[a, n, 1], w[b, n, 1], w[c, n, 1], w[d, n, 1], second)
            vl, vr = limited(w[a, n, 2], w[b, n, 2], w[c, n, 2], w[d, n, 2], second)
            wl, wr = limited(w[a, n, 3], w[b, n, 3], w[c, n, 3], w[d, n, 3], second)
            pl, pr = limited(w[a, n, 4], w[b, n, 4], w[c, n, 4], w[d, n, 4], second)
            blend = max(sensor[b, k], sensor[cc, k])
            f0, f1, f2, f3, f4 = riemann(rl, ul, vl, wl, pl, rr, ur, vr, wr, pr, sx * inv, sy * inv, sz * inv, blend)
            g1, g2, g3, g4 = _diffusion(grad, w, b, k, c, k, centre[c, k, 0] - centre[b, k, 0], centre[c, k, 1] - centre[b, k, 1],
                                        centre[c, k, 2] - centre[b, k, 2], sx, sy, sz, 0.5, scale, reynolds, sutherland)
            flux[at, k, 0] = area * f0
            flux[at, k, 1] = area * f1 - g1
            flux[at, k, 2] = area * f2 - g2
            flux[at, k, 3] = area * f3 - g3
            flux[at, k, 4] = area * f4 - g4


@kernel
def residuals(w: Array, grad: Array, sensor: Array, sides: Array, signs: Array, face_up: Array, centre: Array, share: Array,
              wall_gap: Array, flux: Array, second: float, scale: float, reynolds: float, sutherland: float, out: Array,
              wall_force: Array, begin: int, end: int) -> None:
    """Net flux out of the cells of quads begin..end; pressure and friction on their wall faces."""
    layers = share.shape[1] - 1
    for q in range(begin, end):
        for k in range(layers):
            for c in range(5):
                total = 0.0
                for e in range(4):
                    total += signs[q, e] * flux[sides[q, e], k, c]
                out[q, k, c] = total
        for f in range(layers + 1):
            sx, sy, sz = face_up[q, f, 0], face_up[q, f, 1], face_up[q, f, 2]
            area = np.sqrt(sx * sx + sy * sy + sz * sz)
            nx, ny, nz = sx / area, sy / area, sz / area
            n = f + 2
            if f == 0:
                p = w[q, 2, 4]
                u, v, ww = w[q, 2, 1], w[q, 2, 2], w[q, 2, 3]
                through = u * nx + v * ny + ww * nz
                drag = _viscosity(scale * p / w[q, 2, 0], reynolds, sutherland) * area / wall_gap[q]
                tx, ty, tz = drag * (u - through * nx), drag * (v - through * ny), drag * (ww - through * nz)
                for d in range(3):
                    wall_force[q, 0, d] = -p * face_up[q, 0, d]
                wall_force[q, 1, 0], wall_force[q, 1, 1], wall_force[q, 1, 2] = tx, ty, tz
                out[q, 0, 1] -= p * sx - tx
                out[q, 0, 2] -= p * sy - ty
                out[q, 0, 3] -= p * sz - tz
                continue
            rl, rr = limited(w[q, n - 2, 0], w[q, n - 1, 0], w[q, n, 0], w[q, n + 1, 0], second)
            ul, ur = limited(w[q, n - 2, 1], w[q, n - 1, 1], w[q, n, 1], w[q, n + 1, 1], second)
            vl, vr = limited(w[q, n - 2, 2], w[q, n - 1, 2], w[q, n, 2], w[q, n + 1, 2], second)
            wl, wr = limited(w[q, n - 2, 3], w[q, n - 1, 3], w[q, n, 3], w[q, n + 1, 3], second)
            pl, pr = limited(w[q, n - 2, 4], w[q, n - 1, 4], w[q, n, 4], w[q, n + 1, 4], second)
            blend = max(sensor[q, f - 1], sensor[q, min(f, layers - 1)])
            f0, f1, f2, f3, f4 = riemann(rl, ul, vl, wl, pl, rr, ur, vr, wr, pr, nx, ny, nz, blend)
            f0, f1, f2, f3, f4 = area * f0, area * f1, area * f2, area * f3, area * f4
            if f < layers:
                g1, g2, g3, g4 = _diffusion(grad, w, q, f - 1, q, f, centre[q, f, 0] - centre[q, f - 1, 0],
                                            centre[q, f, 1] - centre[q, f - 1, 1], centre[q, f, 2] - centre[q, f - 1, 2],
                                            sx, sy, sz, share[q, f], scale, reynolds, sutherland)
                f1, f2, f3, f4 = f1 - g1, f2 - g2, f3 - g3, f4 - g4
            out[q, f - 1, 0] += f0
            out[q, f - 1, 1] += f1
            out[q, f - 1, 2] += f2
            out[q, f - 1, 3] += f3
            out[q, f - 1, 4] += f4
            if f < layers:
                out[q, f, 0] -= f0
                out[q, f, 1] -= f1
                out[q, f, 2] -= f2
                out[q, f, 3] -= f3
                out[q, f, 4] -= f4


@inlined
def _radius(w: Array, q: int, n: int, sx: float, sy: float, sz: float, volume: float, scale: float, reynolds: float,
            sutherland: float) -> float:
    """Spectral radius of the flux through a face: waves and diffusion."""
    r, p = w[q, n, 0], w[q, n, 4]
    size = sx * sx + sy * sy + sz * sz
    through = abs(w[q, n, 1] * sx + w[q, n, 2] * sy + w[q, n, 3] * sz)
    return (through + np.sqrt(GAMMA * p / r * size)
            + 2.0 * GAMMA / PRANDTL * _viscosity(scale * p / r, reynolds, sutherland) / r * size / volume)


@inlined
def change(w: Array, du: Array, q: int, n: int, sx: float, sy: float, sz: float, radius: float,
           sweep: float) -> tuple[float, float, float, float, float]:
    """Half of F(U + dU)·S - F(U)·S - radius dU of a neighbour; ``sweep`` is the volume that the face passes over in unit time."""
    r, u, v, ww, p = w[q, n, 0], w[q, n, 1], w[q, n, 2], w[q, n, 3], w[q, n, 4]
    d0, d1, d2, d3, d4 = du[q, n - 2, 0], du[q, n - 2, 1], du[q, n - 2, 2], du[q, n - 2, 3], du[q, n - 2, 4]
    e = p / (GAMMA - 1.0) + 0.5 * r * (u * u + v * v + ww * ww)
    old = u * sx + v * sy + ww * sz
    r1 = max(r + d0, 0.1 * r)
    m1, m2, m3, e1 = r * u + d1, r * v + d2, r * ww + d3, e + d4
    p1 = max((GAMMA - 1.0) * (e1 - 0.5 * (m1 * m1 + m2 * m2 + m3 * m3) / r1), 0.1 * p)
    new = (m1 * sx + m2 * sy + m3 * sz) / r1
    push = p1 * new - p * old
    old, new = old - sweep, new - sweep
    return (0.5 * (r1 * new - r * old - radius * d0), 0.5 * (m1 * new - r * u * old + (p1 - p) * sx - radius * d1),
            0.5 * (m2 * new - r * v * old + (p1 - p) * sy - radius * d2),
            0.5 * (m3 * new - r * ww * old + (p1 - p) * sz - radius * d3),
            0.5 * (e1 * new - e * old + push - radius * d4))


@kernel
def sweeps(w: Array, res: Array, du: Array, sides: Array, signs: Array, beyond: Array, face_side: Array, face_up: Array,
           volume: Array, courant: float, rate: float, scale: float, reynolds: float, sutherland: float, diagonal: Array,
           begin: int, end: int) -> None:
    """LU-SGS (Yoon & Jameson 1988) over the cells of quads begin..end; others count as unchanged.

    ``rate`` is 3/2 over the time step in unsteady flow, else 0.
    """
    layers = volume.shape[1]
    for q in range(begin, end):
        for k in range(layers):
            total = 0.0
            v = volume[q, k]
            for e in range(4):
                total += _radius(w, q, k + 2, face_side[sides[q, e], k, 0], face_side[sides[q, e], k, 1],
                                 face_side[sides[q, e], k, 2], v, scale, reynolds, sutherland)
            for f in range(2):
                total += _radius(w, q, k + 2, face_up[q, k + f, 0], face_up[q, k + f, 1], face_up[q, k + f, 2], v, scale,
                                 reynolds, sutherland)
            diagonal[q, k] = 1.0 / (0.5 * total * (1.0 + 1.0 / courant) + rate * v)
    for turn in range(2):
        for step in range(end - begin):
            q = begin + step if turn == 0 else end - 1 - step
            for layer in range(layers):
                k = layer if turn == 0 else layers - 1 - layer
                a0, a1, a2, a3, a4 = 0.0, 0.0, 0.0, 0.0, 0.0
                for e in range(4):
                    o = beyond[q, e]
                    if (turn == 0 and begin <= o < q) or (turn == 1 and q < o < end):
                        s = signs[q, e]
                        sx, sy, sz = s * face_side[sides[q, e], k, 0], s * face_side[sides[q, e], k, 1], s * face_side[sides[q, e], k, 2]
                        c0, c1, c2, c3, c4 = change(w, du, o, k + 2, sx, sy, sz,
                                                     _radius(w, o, k + 2, sx, sy, sz, volume[o, k], scale, reynolds, sutherland), 0.0)
                        a0, a1, a2, a3, a4 = a0 + c0, a1 + c1, a2 + c2, a3 + c3, a4 + c4
                near = k - 1 if turn == 0 else k + 1
                if 0 <= near < layers:
                    f = k if turn == 0 else k + 1
                    s = -1.0 if turn == 0 else 1.0
                    sx, sy, sz = s * face_up[q, f, 0], s * face_up[q, f, 1], s * face_up[q, f, 2]
                    c0, c1, c2, c3, c4 = change(w, du, q, near + 2, sx, sy, sz,
                                                 _radius(w, q, near + 2, sx, sy, sz, volume[q, near], scale, reynolds, sutherland), 0.0)
                    a0, a1, a2, a3, a4 = a0 + c0, a1 + c1, a2 + c2, a3 + c3, a4 + c4
                inv = diagonal[q, k]
                if turn == 0:
                    du[q, k, 0], du[q, k, 1] = -inv * (res[q, k, 0] + a0), -inv * (res[q, k, 1] + a1)
                    du[q, k, 2], du[q, k, 3] = -inv * (res[q, k, 2] + a2), -inv * (res[q, k, 3] + a3)
                    du[q, k, 4] = -inv * (res[q, k, 4] + a4)
                else:
                    du[q, k, 0] -= inv * a0
                    du[q, k, 1] -= inv * a1
                    du[q, k, 2] -= inv * a2
                    du[q, k, 3] -= inv * a3
                    du[q, k, 4] -= inv * a4


@kernel
def update(w: Array, du: Array, begin: int, end: int) -> None:
    """Add the changes; density by at most 20 %, pressure between 0.7 and 1.5 of what it was."""
    for q in range(begin, end):
        for k in range(du.shape[1]):
            r, u, v, ww, p = w[q, k + 2, 0], w[q, k + 2, 1], w[q, k + 2, 2], w[q, k + 2, 3], w[q, k + 2, 4]
            e = p / (GAMMA - 1.0) + 0.5 * r * (u * u + v * v + ww * ww)
            share = min(1.0, 0.2 * r / max(abs(du[q, k, 0]), 1e-30))
            for _ in range(6):
                r1 = r + share * du[q, k, 0]
                m1, m2, m3 = r * u + share * du[q, k, 1], r * v + share * du[q, k, 2], r * ww + share * du[q, k, 3]
                p1 = (GAMMA - 1.0) * (e + share * du[q, k, 4] - 0.5 * (m1 * m1 + m2 * m2 + m3 * m3) / r1)
                if 0.7 * p <= p1 <= 1.5 * p:
                    w[q, k + 2, 0], w[q, k + 2, 1], w[q, k + 2, 2] = r1, m1 / r1, m2 / r1
                    w[q, k + 2, 3], w[q, k + 2, 4] = m3 / r1, p1
                    break
                share *= 0.5


@kernel
def conserved(w: Array, out: Array) -> None:
    """Density, momentum and energy of the inner cells, shape (quads, layers, 5)."""
    for q in range(out.shape[0]):
        for k in range(out.shape[1]):
            r, u, v, ww = w[q, k + 2, 0], w[q, k + 2, 1], w[q, k + 2, 2], w[q, k + 2, 3]
            out[q, k, 0], out[q, k, 1], out[q, k, 2], out[q, k, 3] = r, r * u, r * v, r * ww
            out[q, k, 4] = w[q, k + 2, 4] / (GAMMA - 1.0) + 0.5 * r * (u * u + v * v + ww * ww)


@kernel
def add_time_terms(now: Array, before: Array, earlier: Array, volume: Array, step: float, out: Array) -> None:
    """Second-order backward difference in time, added to the residuals."""
    for q in range(out.shape[0]):
        for k in range(out.shape[1]):
            for c in range(5):
                out[q, k, c] += volume[q, k] * (1.5 * now[q, k, c] - 2.0 * before[q, k, c] + 0.5 * earlier[q, k, c]) / step
