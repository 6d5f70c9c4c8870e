"""Compiled loops for particles with mass in steady flow."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel, piece
from tidal_lens.sampling.kernels import cell_nodes, find, jacobian, room, tetra_edges, velocity, weights_of
from tidal_lens.tracing.kernels import GONE, LEFT, LENGTH, OUTSIDE, STEPS, STILL, TIME

Array = Any
_SPENT = 0.01  # of the square of its first diameter: a ball of a thousandth of its mass is gone
_NEWTON = 0.44  # drag coefficient of a ball above a Reynolds number of 1000 (Schiller and Naumann 1933; from memory)


@piece
def _around(m: Array, vel: Array, gas: Array, p: Array, st: Array, q: Array, ids: Array, cx: Array, cv: Array, jac: Array, tmp: Array,
            stack: Array, w: Array, u: Array, env: Array) -> bool:
    """Velocity at a place, and density, viscosity, the cell's size, temperature and conductivity; whether it is in the flow."""
    if not find(m, vel, p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack):
        return False
    tetra = st[5] == 2
    velocity(tetra, q, cv, u)
    cell_nodes(m[1], m[2], st[0], st[1], ids)
    weights_of(tetra, q, w)
    env[0] = env[1] = env[3] = env[4] = 0.0
    for c in range(8):
        env[0] += w[c] * gas[ids[c], 0]
        env[1] += w[c] * gas[ids[c], 1]
        if gas.shape[1] > 2:
            env[3] += w[c] * gas[ids[c], 2]
            env[4] += w[c] * gas[ids[c], 3]
    det = tetra_edges(cx, jac) if tetra else jacobian(cx, q[0], q[1], q[2], jac)
    env[2] = abs(det) ** (1.0 / 3.0)
    return True


@piece
def _rate(law: int, size: float, dense: float, u: Array, v: Array, env: Array) -> float:
    """How fast drag takes the difference of velocities away [1/time]."""
    rel = np.sqrt((u[0] - v[0]) ** 2 + (u[1] - v[1]) ** 2 + (u[2] - v[2]) ** 2)
    if law == 2:  # size is the ballistic coefficient m / (C_d A)
        return float(0.5 * env[0] * rel / size)
    stokes = 18.0 * env[1] / (dense * size * size)
    if law == 0:
        return float(stokes)
    reynolds = env[0] * rel * size / max(env[1], 1e-300)
    factor = 1.0 + 0.15 * reynolds**0.687 if reynolds < 1000.0 else _NEWTON * reynolds / 24.0
    return float(stokes * factor)


@piece
def _moved(p: Array, v: Array, u: Array, k: float, g: Array, buoyant: float, dt: float, to: Array, speed: Array) -> None:
    """Place and velocity after a time in which the fluid's velocity and the rate of drag stay the same: exact, however fast drag is."""
    decay = np.exp(-k * dt)
    share = (1.0 - decay) / k if k * dt > 1e-8 else dt * (1.0 - 0.5 * k * dt)
    for d in range(3):
        a = g[d] * buoyant
        # v' = k (u - v) + a
        speed[d] = v[d] * decay + (k * u[d] + a) * share
        to[d] = p[d] + v[d] * share + ((u[d] + a / k) * (dt - share) if k * dt > 1e-8 else 0.5 * (k * u[d] + a) * dt * dt)


@piece
def _nusselt(u: Array, v: Array, env: Array, size: float, prandtl: float) -> float:
    """Heat that a ball takes up, as a number: Ranz and Marshall 1952 (Chem. Eng. Prog. 48)."""
    rel = np.sqrt((u[0] - v[0]) ** 2 + (u[1] - v[1]) ** 2 + (u[2] - v[2]) ** 2)
    return float(2.0 + 0.6 * np.sqrt(env[0] * rel * size / max(env[1], 1e-300)) * prandtl ** (1.0 / 3.0))


@piece
def _until_less(state: Array, gas: float, flux: float, dense: float, heat: Array) -> float:
    """Time in gas that is warm enough until a ball boils, and a tenth of it is gone."""
    square = state[1] * state[1]
    time = 0.1 * square * dense * heat[2] / (4.0 * flux * (gas - heat[1]) + 1e-300)
    if state[0] < heat[1]:
        time += np.log((gas - state[0]) / (gas - heat[1])) * dense * square * heat[0] / (6.0 * flux + 1e-300)
    return float(time)


@piece
def _warmed(state: Array, gas: float, flux: float, dense: float, heat: Array, dt: float) -> None:
    """Temperature and diameter after a time in which the gas is as warm and takes as much: exact, however small the ball is.

    ``flux`` is the Nusselt number times the conductivity. What a ball that boils takes up goes into its mass.
    """
    warmth, boils, latent = heat[0], heat[1], heat[2]
    rate = 6.0 * flux / (dense * state[1] * state[1] * warmth)
    left = dt
    if state[0] < boils:
        if gas > boils:  # it gets there
            left = dt - np.log((gas - state[0]) / (gas - boils)) / rate
        if gas <= boils or left <= 0.0:
            state[0] = gas + (state[0] - gas) * np.exp(-rate * dt)
            return
        state[0] = boils
    if gas <= boils:
        state[0] = gas + (state[0] - gas) * np.exp(-rate * dt)
        return
    square = state[1] * state[1] - 4.0 * flux * (gas - boils) / (dense * latent) * left
    state[1] = np.sqrt(max(square, 0.0))


@kernel
def fly(m: Array, vel: Array, gas: Array, seeds: Array, first: Array, begun: Array, law: int, dense: float, heat: Array, g: Array,
        with_flow: bool, tolerance: float, max_time: float, max_length: float, max_points: int, out_p: Array, out_q: Array,
        out_cell: Array, out_time: Array, out_v: Array, out_s: Array, count: Array, reason: Array, error: Array, begin: int,
        end: int) -> None:
    """Follow particles from seeds begin … end by an exponential midpoint rule, of the second order and stable for the lightest.

    Parameters
    ----------
    vel : (n, 3)
        The fluid's velocity at nodes.
    gas : (n, 2) or (n, 4)
        Its density and viscosity; its temperature and conductivity where heat is followed.
    seeds, first : (m, 3)
        Where they begin, and how fast; with the flow where ``with_flow``.
    begun : (m, 5)
        Time, way, temperature and diameter at which they begin, and the diameter that they had at first; for the third law the
        coefficient m / (C_d A) in the place of a diameter.
    law : int
        0 Stokes, 1 Schiller and Naumann, 2 a ballistic coefficient.
    dense : float
        Density.
    heat : (4,)
        Specific heat, the temperature at which it boils, latent heat, Prandtl number of the gas.
    g : (3,)
        Gravity. A particle floats by the density of the fluid, but not by the third law.
    tolerance : float
        Error allowed a step, in cells.
    max_time, max_length, max_points
        Limits.
    out_p, out_q, out_cell, out_time, count, reason, error
        As of :func:`tidal_lens.tracing.kernels.trace`.
    out_v, out_s : (rows, 3), (rows, 2)
        Written: velocity, temperature and diameter of the particle.
    """
    st, q, ids, cx, cv, jac, tmp, stack = room()
    w, env, u, state, there = np.empty(8), np.zeros(5), np.empty(3), np.empty(2), np.empty(3)
    p, v, x, y, half, vy, vx = np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    warm = gas.shape[1] > 2
    heavy = np.sqrt(g[0] ** 2 + g[1] ** 2 + g[2] ** 2)
    for n in range(begin, end):
        line = n - begin
        row = line * max_points
        count[line], error[line] = 0, 0.0
        st[0] = -1
        for d in range(3):
            p[d] = seeds[n, d]
        if not _around(m, vel, gas, p, st, q, ids, cx, cv, jac, tmp, stack, w, u, env):
            reason[line] = OUTSIDE
            continue
        for d in range(3):
            v[d] = u[d] if with_flow else first[n, d]
        time, gone, made, dt = begun[n, 0], begun[n, 1], 0, -1.0
        state[0], state[1] = begun[n, 2], begun[n, 3]
        reason[line] = STEPS
        still = 0
        while True:
            at = np.uintp(row + made)
            for d in range(3):
                out_p[at, d], out_q[at, d], out_v[at, d] = p[d], q[d], v[d]
            out_cell[at, 0], out_cell[at, 1], out_time[at] = st[0], st[1], time
            out_s[at, 0], out_s[at, 1] = state[0], state[1]
            made += 1
            if made >= max_points:
                break
            cell = env[2]
            size = state[1]
            k = _rate(law, size, dense, u, v, env)
            buoyant = 1.0 - env[0] / dense if law < 2 else 1.0
            fast = np.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2)
            flow = np.sqrt(u[0] ** 2 + u[1] ** 2 + u[2] ** 2)
            longest = 0.5 * cell / max(max(fast, flow), np.sqrt(heavy * cell) + 1e-300)
            dt = longest if dt <= 0.0 else min(dt, longest)
            dt = min(dt, max_time - time) if max_time - time < dt else dt
            done = out = False
            worst = flux = about = 0.0
            if warm and env[3] > heat[1]:  # until it boils, and a tenth of what is left of it at most
                taken = _nusselt(u, v, env, size, heat[3]) * env[4]
                dt = min(dt, _until_less(state, env[3], taken, dense, heat))
            for _attempt in range(60):
                out = False
                _moved(p, v, u, k, g, buoyant, dt, y, vy)  # the fluid as it is here
                _moved(p, v, u, k, g, buoyant, 0.5 * dt, half, vx)
                kept = env[0], env[1], env[2], env[3], env[4]
                held0, held1 = st[0], st[1]
                if not _around(m, vel, gas, half, st, q, ids, cx, cv, jac, tmp, stack, w, there, env):
                    out = True
                else:
                    km = _rate(law, size, dense, there, vx, env)
                    bm = 1.0 - env[0] / dense if law < 2 else 1.0
                    if warm:
                        flux, about = _nusselt(there, vx, env, size, heat[3]) * env[4], env[3]
                    _moved(p, v, there, km, g, bm, dt, x, vx)  # as it is half-way
                    worst = np.sqrt((x[0] - y[0]) ** 2 + (x[1] - y[1]) ** 2 + (x[2] - y[2]) ** 2)
                    ratio = worst / (tolerance * cell)
                    if ratio <= 1.0:
                        if _around(m, vel, gas, x, st, q, ids, cx, cv, jac, tmp, stack, w, there, env):
                            for d in range(3):
                                u[d] = there[d]
                            done = True
                            break
                        out = True
                    else:
                        env[0], env[1], env[2], env[3], env[4] = kept
                        st[0], st[1] = held0, held1
                        dt *= max(0.2, 0.9 * ratio**-0.5)
                        continue
                env[0], env[1], env[2], env[3], env[4] = kept
                st[0], st[1] = held0, held1
                dt *= 0.5
                if dt * max(max(fast, flow), np.sqrt(heavy * cell)) < 1e-4 * cell:
                    break
            if not done:
                find(m, vel, p, 1e-3, st, q, ids, cx, cv, jac, tmp, stack)
                reason[line] = LEFT if out else STILL
                break
            step = np.sqrt((x[0] - p[0]) ** 2 + (x[1] - p[1]) ** 2 + (x[2] - p[2]) ** 2)
            time += dt
            gone += step
            error[line] += worst
            for d in range(3):
                p[d], v[d] = x[d], vx[d]
            still = still + 1 if step < 1e-9 * cell and not warm else 0
            spent = False
            if warm:
                _warmed(state, about, flux, dense, heat, dt)
                spent = state[1] * state[1] <= _SPENT * begun[n, 4] * begun[n, 4]
            over = time >= max_time * (1.0 - 1e-12) or gone >= max_length or still > 20 or spent
            if over:
                at = np.uintp(row + made)
                if made < max_points:
                    for d in range(3):
                        out_p[at, d], out_q[at, d], out_v[at, d] = p[d], q[d], v[d]
                    out_cell[at, 0], out_cell[at, 1], out_time[at] = st[0], st[1], time
                    out_s[at, 0], out_s[at, 1] = state[0], state[1]
                    made += 1
                reason[line] = GONE if spent else STILL if still > 20 else TIME if time >= max_time * (1.0 - 1e-12) else LENGTH
                break
            dt *= 5.0 if worst < 0.01 * tolerance * cell else min(5.0, 0.9 * (worst / (tolerance * cell)) ** -0.5)
        count[line] = made
