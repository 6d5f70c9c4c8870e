"""Runs the solver: finite volumes, implicit in (pseudo-)time, steady or with a moving far field.

Equations: compressible Navier–Stokes, ideal gas (ratio of specific heats 1.4), Sutherland's viscosity, Prandtl number 0.72.
Scheme: cell-centred; MUSCL on primitive variables; HLLC, blended to HLL in shocks; Green–Gauss viscous gradients; LU-SGS with
local time steps (Jameson & Yoon 1987); in unsteady flow a second-order backward difference with inner iterations.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from tidal_lens.demo.solver import kernels
from tidal_lens.demo.solver.mesh import Mesh, area_vectors
from tidal_lens.work import run_chunks

Array = NDArray[np.float64]
Report = Callable[[int, "Solver"], None]


@dataclass(frozen=True)
class Stream:
    """The free stream, in its own density and speed, and the body's length.

    Attributes
    ----------
    mach, incidence : float
        Mach number; incidence [rad].
    reynolds : float
        Reynolds number on the body's length.
    temperature : float
        Static temperature [K], for Sutherland's law.
    """

    mach: float
    incidence: float
    reynolds: float
    temperature: float = 216.65

    @property
    def scale(self) -> float:
        """Temperature over that of the free stream, where p / rho is 1."""
        return kernels.GAMMA * self.mach**2

    @property
    def direction(self) -> Array:
        """Unit vector along the wind."""
        return np.array([np.cos(self.incidence), 0.0, np.sin(self.incidence)])

    def state(self, incidence: float | Array) -> Array:
        """Density, velocity and pressure for one or several angles of the wind."""
        angle = np.asarray(incidence, dtype=float)
        one = np.ones_like(angle)
        return np.stack([one, np.cos(angle), 0.0 * one, np.sin(angle), one / self.scale], axis=-1)


@dataclass
class History:
    """One row an iteration or time step: time, residual of density (root of the mean square), CL, CD."""

    rows: list[tuple[float, float, float, float]] = field(default_factory=list)


class Solver:
    """The flow and the means to advance it.

    Attributes
    ----------
    state : ndarray, shape (nq + 2 ns, layers + 4, 5)
        Primitive variables with ghosts.
    history : History
        What happened.
    sensing : bool
        Whether shocks are looked for anew at each iteration.
    """

    def __init__(self, mesh: Mesh, stream: Stream) -> None:
        self.mesh, self.stream = mesh, stream
        self.nq, layers = mesh.volume.shape
        ghosts = mesh.mirrored.shape[1]
        self.state = np.tile(stream.state(stream.incidence), (self.nq + 2 * ghosts, layers + 4, 1))
        self.far = np.tile(stream.state(stream.incidence), (self.nq, 1))
        self.history = History()
        self.sensing = True
        self._grad = np.zeros((self.nq + 2 * ghosts, layers, 4, 3))
        self._sensor = np.zeros((self.nq, layers))
        self._flux = np.zeros((len(mesh.edges), layers, 5))
        self._res = np.zeros((self.nq, layers, 5))
        self._du = np.zeros((self.nq, layers, 5))
        self._diagonal = np.zeros((self.nq, layers))
        self.wall_force = np.zeros((self.nq, 2, 3))
        corners = mesh.vertices[mesh.quads, 0]
        self.planform = float(np.abs(area_vectors(corners)[:, 2]).sum())  # of the whole body: half of both sides' of one half, twice

    def coefficients(self) -> tuple[float, float]:
        """CL and CD of the whole body on its planform area."""
        force = 2.0 * self.wall_force.sum(axis=(0, 1)) / (0.5 * self.planform)
        wind = self.stream.direction
        return float(-force[0] * wind[2] + force[2] * wind[0]), float(force @ wind)

    def residuals(self, second: float = 1.0) -> Array:
        """Net flux out of each cell, shape (nq, layers, 5); 0 for ``second`` is first order."""
        m, s = self.mesh, self.stream
        gas = (s.scale, s.reynolds, 110.4 / s.temperature)
        kernels.fill_ghosts(self.state, m.mirrored, self.nq, self.far)
        run_chunks(lambda a, b: kernels.gradients(self.state, self._grad, m.sides, m.signs, m.beyond, m.face_side, m.face_up, m.volume,
                                                  m.share, s.scale, a, b), self.nq, self.nq // 8)
        kernels.mirror_gradients(self._grad, m.mirrored, self.nq)
        if self.sensing:
            run_chunks(lambda a, b: kernels.sense_shocks(self.state, self._grad, m.beyond, self._sensor, a, b), self.nq, self.nq // 8)
        run_chunks(lambda a, b: kernels.flux_across(self.state, self._grad, self._sensor, m.edges, self.nq, m.face_side, m.centre,
                                                    self._flux, second, *gas, a, b), len(m.edges), len(m.edges) // 8)
        run_chunks(lambda a, b: kernels.residuals(self.state, self._grad, self._sensor, m.sides, m.signs, m.face_up, m.centre, m.share,
                                                  m.wall_gap, self._flux, second, *gas, self._res, self.wall_force, a, b),
                   self.nq, self.nq // 8)
        return self._res

    def _step(self, courant: float, rate: float) -> None:
        m, s = self.mesh, self.stream
        self._du[:] = 0.0
        run_chunks(lambda a, b: kernels.sweeps(self.state, self._res, self._du, m.sides, m.signs, m.beyond, m.face_side, m.face_up,
                                               m.volume, courant, rate, s.scale, s.reynolds, 110.4 / s.temperature, self._diagonal,
                                               a, b), self.nq, (self.nq + 1) // 2)
        run_chunks(lambda a, b: kernels.update(self.state, self._du, a, b), self.nq, self.nq // 4)

    def steady(self, iterations: int, report: Report, first_order: int = 100, greatest: float = 100.0) -> None:
        """Iterate towards steady flow; the Courant number grows from 1 in each of both orders.

        In the last two fifths the shocks' places are kept and steps are shorter: else the residual stalls.
        """
        for n in range(iterations):
            self.sensing = n < 0.6 * iterations
            since = n if n < first_order else n - first_order
            courant = min(greatest if self.sensing else 0.15 * greatest, 1.06**since)
            res = self.residuals(0.0 if n < first_order else 1.0)
            size = float(np.sqrt(np.mean((res[..., 0] / self.mesh.volume) ** 2)))
            self.history.rows.append((float(n), size, *self.coefficients()))
            self._step(courant, 0.0)
            report(n, self)
            if not np.isfinite(size):
                raise FloatingPointError(f"the flow is not finite after {n} iterations")
        self.sensing = True

    def unsteady(self, steps: int, step: float, start: float, wind: Callable[[float], Array], report: Report,
                 inner: int = 12, courant: float = 50.0) -> None:
        """Advance in time; ``wind`` gives the angle of the wind beyond each quad's outermost face."""
        now = conserved_of(self.state, self.mesh)
        before, earlier = now.copy(), now.copy()
        for n in range(1, steps + 1):
            time = start + n * step
            self.far[:] = self.stream.state(wind(time))
            size = np.nan
            for _ in range(inner):
                res = self.residuals()
                kernels.conserved(self.state, now)
                kernels.add_time_terms(now, before, earlier, self.mesh.volume, step, res)
                size = float(np.sqrt(np.mean((res[..., 0] / self.mesh.volume) ** 2)))
                self._step(courant, 1.5 / step)
            earlier, before = before, conserved_of(self.state, self.mesh)
            self.history.rows.append((time, size, *self.coefficients()))
            report(n, self)


def conserved_of(state: Array, mesh: Mesh) -> Array:
    """Density, momentum and energy of the inner cells, shape (nq, layers, 5)."""
    out = np.empty((*mesh.volume.shape, 5))
    kernels.conserved(state, out)
    return out
