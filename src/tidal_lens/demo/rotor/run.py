"""Runs the rotor's solver: steady flow in the frame that turns with the rotor, for the absolute velocity.

Equations: compressible Navier–Stokes for the absolute velocity v in axes that turn at Ω about x, w = v − Ω × r:
∇·(ρ w) = 0, ∇·(ρ v w + p) = ∇·τ − ρ Ω × v, ∇·(ρ E w + p v) = ∇·(τ v + q). Viscosity is constant, eddies by a mixing length on the
absolute vorticity, walls by a friction law of their first cells. Units: tip radius, density and sound speed of the inlet's total state.
Scheme: as the glider's solver (:mod:`tidal_lens.demo.solver`), with moving faces.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.demo.rotor import kernels
from tidal_lens.demo.rotor.mesh import AXIAL, PITCH, SPEED, WORK, Mesh, edges_of, hub
from tidal_lens.demo.solver.kernels import GAMMA, update
from tidal_lens.work import run_chunks

Array = NDArray[np.float64]
TOTAL_PRESSURE = 1.0 / GAMMA
REYNOLDS = 1e6  # on tip radius and speed


@dataclass
class Row:
    """One iteration: density residual (root of the mean square over volume), mass in and out, total pressure ratio, efficiency."""

    residual: float
    mass_in: float
    mass_out: float
    ratio: float
    efficiency: float


class Rotor:
    """The flow through one passage.

    Attributes
    ----------
    state : ndarray, shape (columns, nk + 4, 5)
        Density, absolute velocity, pressure; with ghosts.
    outlet : ndarray, shape (nk,)
        Pressure behind the outlet.
    rows : list of Row
        What happened.
    """

    def __init__(self, mesh: Mesh, back: float, *, speed: float = SPEED, slip: bool = False, reynolds: float = REYNOLDS) -> None:
        self.mesh, self.back, self.speed, self.slip = mesh, back, speed, slip
        self.viscosity = SPEED / reynolds
        ni, nj, nk = mesh.counts.cells
        self.shape = ni, nj, nk
        columns = (ni + 4) * (nj + 4)
        self.state = self._first(columns)
        self.outlet = np.full(nk, back)
        self.rows: list[Row] = []
        self._grad = np.zeros((columns, nk, 4, 3))
        self._du = np.zeros((columns, nk, 5))
        self._eddy = np.zeros((ni, nj, nk))
        self._flux = [np.zeros((*a.shape[:3], 5)) for a in mesh.area]
        self._res = np.zeros((ni, nj, nk, 5))
        self._diagonal = np.zeros((ni, nj, nk))
        self.force = {"pressure side": np.zeros((ni, nk, 2, 3)), "suction side": np.zeros((ni, nk, 2, 3)),
                      "hub": np.zeros((ni, nj, 2, 3)), "casing": np.zeros((ni, nj, 2, 3))}

    def _first(self, columns: int) -> Array:
        """Axial flow whose pressure and swirl grow through the blade."""
        place = self.mesh.centre
        r = np.hypot(place[..., 1], place[..., 2])
        eta = np.clip((r - hub(place[..., 0])) / (1.0 - hub(place[..., 0])), 0.0, 1.0)
        first, last = edges_of(eta)
        t = np.clip((place[..., 0] - first) / (last - first), 0.0, 1.0)
        if not self.mesh.bladed.any():
            t = np.zeros_like(t)
        around = WORK * t / r
        speed2 = AXIAL**2 + around**2
        total = 1.0 + (GAMMA - 1.0) * SPEED * WORK * t
        sound2 = total - 0.5 * (GAMMA - 1.0) * speed2
        pressure = TOTAL_PRESSURE * sound2 ** (GAMMA / (GAMMA - 1.0))
        state = np.stack([GAMMA * pressure / sound2, np.full_like(r, AXIAL), -around * place[..., 2] / r, around * place[..., 1] / r,
                          pressure], axis=-1)
        return np.ascontiguousarray(state.reshape(columns, -1, 5))

    def cells(self, ghosts: int = 0) -> Array:
        """The state of the cells, shape (ni, nj, nk, 5), with ghosts at each side on wish."""
        ni, nj, nk = self.shape
        cut = slice(2 - ghosts, -2 + ghosts or None)
        return self.state.reshape(ni + 4, nj + 4, nk + 4, 5)[cut, cut, cut]

    def fill(self) -> None:
        """Set all ghosts, those of the gradients too."""
        ni, nj, _ = self.shape
        kernels.end_ghosts(self.state, self._grad, ni, nj, TOTAL_PRESSURE, self.outlet)
        kernels.side_ghosts(self.state, self._grad, self.mesh.bladed, ni, nj, float(np.cos(PITCH)), float(np.sin(PITCH)), True)

    def residuals(self, second: float = 1.0) -> Array:
        """Net flux out of each cell, shape (ni, nj, nk, 5); 0 for ``second`` is first order."""
        m, (ni, nj, _) = self.mesh, self.shape
        self.fill()
        run_chunks(lambda a, b: kernels.gradients(self.state, self._grad, self._eddy, m.length, *m.area, *m.share, m.bladed, m.volume,
                                                  a, b), ni, ni // 8)
        self.fill()
        for axis in range(3):
            run_chunks(lambda a, b, axis=axis: kernels.inner_fluxes(  # type: ignore[misc]
                self.state, self._grad, m.length, m.centre, m.area[axis], m.sweep[axis], m.share[axis], axis, ni, nj, self.viscosity,
                second, self._flux[axis], a, b), m.area[axis].shape[0], ni // 8)
        for name, axis, last, turns in (("pressure side", 1, False, self.speed), ("suction side", 1, True, self.speed),
                                        ("hub", 2, False, self.speed), ("casing", 2, True, 0.0)):
            kernels.wall_fluxes(self.state, m.centre, m.points, m.area[axis], m.sweep[axis], axis, last, turns, m.bladed,
                                self.viscosity, self.slip, self._flux[axis], self.force[name])
        flux_i, flux_j, flux_k = self._flux
        run_chunks(lambda a, b: kernels.residuals(self.state, flux_i, flux_j, flux_k, m.volume, self.speed, self._res, a, b), ni, ni // 8)
        return self._res

    def _step(self, courant: float) -> None:
        m, ni = self.mesh, self.shape[0]
        self._du[:] = 0.0
        run_chunks(lambda a, b: kernels.sweeps(self.state, self._res, self._du, self._eddy, *m.area, *m.sweep, m.volume, self.viscosity,
                                               courant, self._diagonal, a, b), ni, (ni + 1) // 2)
        run_chunks(lambda a, b: update(self.state, self._du, a, b), len(self.state), len(self.state) // 4)

    def _balance(self) -> None:
        """Let the outlet's pressure follow the swirl: dp/dr = ρ cθ² / r of the mean round the axis, as given at half the radius."""
        cells, place = self.cells()[-1], self.mesh.centre[-3, 2:-2, 2:-2]
        r = np.hypot(place[..., 1], place[..., 2])
        around = (place[..., 1] * cells[..., 3] - place[..., 2] * cells[..., 2]) / r
        weight = np.linalg.norm(self.mesh.area[0][-1], axis=-1)
        slope = (weight * cells[..., 0] * around**2 / r).sum(axis=0) / weight.sum(axis=0)
        radius = r.mean(axis=0)
        rise = np.concatenate([[0.0], np.cumsum(0.5 * (slope[1:] + slope[:-1]) * np.diff(radius))])
        middle = 0.5 * (radius[0] + radius[-1])
        self.outlet += 0.05 * (self.back + rise - np.interp(middle, radius, rise) - self.outlet)

    def plane(self, i: int) -> tuple[float, float, float, float]:
        """Mass flow of the passage through plane i, and by mass: T0 / T01, p0 / p01 (by the logarithm), r cθ."""
        flux = self._flux[0][i, ..., 0]
        near = 0.5 * (self.cells(1)[i, 1:-1, 1:-1] + self.cells(1)[i + 1, 1:-1, 1:-1])
        place = 0.5 * (self.mesh.centre[i + 1, 2:-2, 2:-2] + self.mesh.centre[i + 2, 2:-2, 2:-2])
        static = GAMMA * near[..., 4] / near[..., 0]
        total = static + 0.5 * (GAMMA - 1.0) * (near[..., 1:4] ** 2).sum(-1)
        log = np.log(near[..., 4] / TOTAL_PRESSURE) + GAMMA / (GAMMA - 1.0) * np.log(total / static)
        spin = place[..., 1] * near[..., 3] - place[..., 2] * near[..., 2]
        mass = float(flux.sum())
        return mass, float((flux * total).sum() / mass), float(np.exp((flux * log).sum() / mass)), float((flux * spin).sum() / mass)

    def torque(self, name: str) -> float:
        """Of the flow on a wall, about the axis."""
        p, q = self.mesh.points, slice(None, -1)
        at = 0 if name in ("hub", "pressure side") else -1
        s = p[:, :, at] if name in ("hub", "casing") else p[:, at]
        middle = 0.25 * (s[q, q] + s[1:, q] + s[q, 1:] + s[1:, 1:])
        force = self.force[name].sum(axis=2)
        return float((middle[..., 1] * force[..., 2] - middle[..., 2] * force[..., 1]).sum())

    def steady(self, iterations: int, report: Callable[[int, Rotor], None], first_order: int = 150, greatest: float = 25.0) -> None:
        """Iterate towards steady flow; the Courant number grows from 1.

        Raises
        ------
        FloatingPointError
            When the flow is no longer finite.
        """
        for n in range(iterations):
            courant = min(greatest, 1.06 ** (n if n < first_order else n - first_order))
            res = self.residuals(0.0 if n < first_order else 1.0)
            size = float(np.sqrt(np.mean((res[..., 0] / self.mesh.volume) ** 2)))
            mass, _, _, _ = self.plane(0)
            out, warm, ratio, _ = self.plane(self.shape[0])
            good = (ratio ** ((GAMMA - 1.0) / GAMMA) - 1.0) / (warm - 1.0) if warm > 1.0 else 0.0
            self.rows.append(Row(size, mass, out, ratio, good))
            self._step(courant)
            self._balance()
            report(n, self)
            if not np.isfinite(size):
                raise FloatingPointError(f"the flow is not finite after {n} iterations")
