"""The solver of the demo against exact flows in a tube."""

import numpy as np
import pytest
from scipy.optimize import brentq

from tidal_lens.demo.solver import body, kernels
from tidal_lens.demo.solver.mesh import make_mesh
from tidal_lens.demo.solver.run import Solver, Stream

GAMMA = 1.4


class Tube:
    """One column of cells from a wall, without viscosity, advanced with the solver's own fluxes."""

    def __init__(self, cells, state):
        self.n = cells
        self.h = 1.0 / cells
        self.z = (np.arange(cells) + 0.5) * self.h
        self.w = np.empty((1, cells + 4, 5))
        self.w[0, 2:-2] = state(self.z)
        self.far = self.w[:, -3].copy()
        self.up = np.zeros((1, cells + 1, 3))
        self.up[..., 2] = 1.0
        self.centre = np.zeros((1, cells, 3))
        self.centre[0, :, 2] = self.z
        self.share = np.full((1, cells + 1), 0.5)

    def rate(self):
        kernels.fill_ghosts(self.w, np.zeros((2, 0), np.int64), 1, self.far)
        out, force = np.zeros((1, self.n, 5)), np.zeros((1, 2, 3))
        kernels.residuals(self.w, np.zeros((1, self.n, 4, 3)), np.zeros((1, self.n)), np.zeros((1, 4), np.int64), np.zeros((1, 4)),
                          self.up, self.centre, self.share, np.full(1, 0.5 * self.h), np.zeros((1, self.n, 5)), 1.0, GAMMA, 1e15,
                          0.5, out, force, 0, 1)
        return -out[0] / self.h

    def run(self, until, courant=0.3):
        u = self.conserved()
        time = 0.0
        while time < until - 1e-12:
            r, v, p = self.w[0, 2:-2, 0], self.w[0, 2:-2, 3], self.w[0, 2:-2, 4]
            step = min(courant * self.h / (np.abs(v) + np.sqrt(GAMMA * p / r)).max(), until - time)
            u0 = u
            for a, b in ((0.0, 1.0), (0.75, 0.25), (1 / 3, 2 / 3)):  # Shu & Osher 1988
                u = a * u0 + b * (u + step * self.rate())
                self.take(u)
            time += step

    def conserved(self):
        out = np.empty((1, self.n, 5))
        kernels.conserved(self.w, out)
        return out[0]

    def take(self, u):
        v = u[:, 1:4] / u[:, :1]
        self.w[0, 2:-2, 0], self.w[0, 2:-2, 1:4] = u[:, 0], v
        self.w[0, 2:-2, 4] = (GAMMA - 1) * (u[:, 4] - 0.5 * u[:, 0] * (v * v).sum(axis=1))


def exact_tube(z, time, left, right):
    """Exact solution of a shock tube with a rarefaction to the left and a shock to the right.

    Toro, Riemann Solvers and Numerical Methods for Fluid Dynamics, chapter 4.
    """
    (rl, ul, pl), (rr, ur, pr) = left, right
    cl = np.sqrt(GAMMA * pl / rl)
    g1 = (GAMMA - 1) / (2 * GAMMA)

    def shock(p):
        return (p - pr) * np.sqrt(2 / ((GAMMA + 1) * rr) / (p + (GAMMA - 1) / (GAMMA + 1) * pr))

    p = brentq(lambda p: 2 * cl / (GAMMA - 1) * ((p / pl) ** g1 - 1) + shock(p) + ur - ul, 1e-9, pl)
    u = ur + shock(p)
    behind = rr * (p / pr + (GAMMA - 1) / (GAMMA + 1)) / ((GAMMA - 1) / (GAMMA + 1) * p / pr + 1)
    speed = ur + np.sqrt(GAMMA * pr / rr) * np.sqrt((GAMMA + 1) / (2 * GAMMA) * p / pr + g1)
    s = z / time
    c = 2 / (GAMMA + 1) * (cl + (GAMMA - 1) / 2 * (ul - s))
    density = np.where(s < ul - cl, rl, np.where(s < u - cl * (p / pl) ** g1, rl * (c / cl) ** (2 / (GAMMA - 1)),
                                                 np.where(s < u, rl * (p / pl) ** (1 / GAMMA), np.where(s < speed, behind, rr))))
    return density, p, u


def sod(z):
    w = np.zeros((len(z), 5))
    w[:, 0], w[:, 4] = np.where(z < 0.5, 1.0, 0.125), np.where(z < 0.5, 1.0, 0.1)
    return w


def test_the_shock_tube_of_sod():
    """Sod 1978, J. Comput. Phys. 27; star values as in Toro's table 4.2 (test 1): p* = 0.30313, u* = 0.92745."""
    wrong = []
    for cells in (100, 200, 400):
        tube = Tube(cells, sod)
        tube.run(0.2)
        exact, p, u = exact_tube(tube.z - 0.5, 0.2, (1.0, 0.0, 1.0), (0.125, 0.0, 0.1))
        assert p == pytest.approx(0.30313, abs=1e-5)
        assert u == pytest.approx(0.92745, abs=1e-5)
        star = tube.w[0, 2:-2][(tube.z > 0.55) & (tube.z < 0.66)]
        assert star[:, 4] == pytest.approx(p, rel=3e-3)
        assert star[:, 3] == pytest.approx(u, rel=3e-3)
        wrong.append(np.abs(tube.w[0, 2:-2, 0] - exact).mean())
    assert wrong[-1] < 2.5e-3
    assert wrong[0] / wrong[1] > 1.6  # first order is all there is at jumps
    assert wrong[1] / wrong[2] > 1.6


def test_order_in_smooth_flow():
    """A weak sound wave in still gas runs along without changing its shape, but for the square of its strength."""
    strength = 1e-5

    def wave(z, time=0.0):
        bump = strength * np.exp(-(((z - 0.35 - time) / 0.07) ** 2))
        w = np.zeros((len(z), 5))
        w[:, 0], w[:, 3], w[:, 4] = 1.0 + bump, bump, 1.0 / GAMMA + bump  # sound goes with speed 1
        return w

    wrong = []
    for cells in (32, 64, 128):
        tube = Tube(cells, wave)
        tube.run(0.25, 0.2)
        wrong.append(np.abs(tube.w[0, 2:-2] - wave(tube.z, 0.25)).mean())
    orders = np.log2(np.array(wrong[:-1]) / wrong[1:])
    assert orders.min() > 1.9, orders


def test_a_riemann_flux_of_equal_states_is_the_exact_flux():
    n = np.array([0.6, 0.0, 0.8])
    state = np.array([1.2, 0.3, -0.2, 0.5, 0.9])
    flux = kernels.riemann(*state, *state, *n, 0.0)
    through = state[1:4] @ n
    energy = state[4] / (GAMMA - 1) + 0.5 * state[0] * (state[1:4] ** 2).sum()
    assert flux[0] == pytest.approx(state[0] * through)
    assert np.array(flux[1:4]) == pytest.approx(state[0] * through * state[1:4] + state[4] * n)
    assert flux[4] == pytest.approx((energy + state[4]) * through)
    assert kernels.riemann(*state, *state, *n, 1.0) == pytest.approx(flux)


def test_mesh_is_closed_and_a_uniform_stream_stays_uniform():
    mesh = make_mesh(16, 4, 8, 12, 5e-3)
    net = mesh.face_up[:, 1:] - mesh.face_up[:, :-1]
    for e in range(4):
        net = net + mesh.signs[:, e, None, None] * mesh.face_side[mesh.sides[:, e]]
    at_middle = (mesh.edges[mesh.sides, 2] >= len(mesh.quads)).any(axis=1)
    assert np.abs(net[~at_middle]).max() < 1e-14
    assert np.abs(net[at_middle][..., 1]).max() < 1e-14
    half = 2 / 3 * np.pi * 0.5 * (body.FAR_BACK - body.FAR_FRONT) * body.FAR_RADIUS**2
    assert mesh.volume.sum() == pytest.approx(half, rel=0.06)  # of which the body takes one per cent
    solver = Solver(mesh, Stream(1.6, 0.3, 1e4))
    residual = solver.residuals()
    assert np.abs(residual[:, 3:]).max() < 1e-15  # only the first layers feel the wall


def test_a_short_run_lifts_and_keeps_its_balance():
    """On a mesh of 3,000 cells: converging, lift and drag of the right size, mass and momentum kept."""
    solver = Solver(make_mesh(16, 4, 8, 20, 4e-3), Stream(1.6, np.radians(17.0), 1e4))
    solver.steady(260, lambda n, s: None, first_order=60, greatest=20.0)
    history = np.array(solver.history.rows)
    assert history[-1, 1] < 1e-2 * history[0, 1]
    lift, drag = solver.coefficients()
    assert 0.3 < lift < 0.6
    assert 0.15 < drag < 0.4
    net = solver.residuals().sum(axis=(0, 1))
    assert np.abs(net[[0, 1, 3, 4]]).max() < 1e-4
    assert np.isfinite(solver.state).all()


def test_unsteady_steps_follow_the_wind():
    """A change of the wind's angle reaches the body and changes the lift; time counts on."""
    solver = Solver(make_mesh(12, 4, 6, 14, 8e-3), Stream(1.6, np.radians(17.0), 5e3))
    solver.steady(150, lambda n, s: None, first_order=50, greatest=20.0)
    before = solver.coefficients()[0]
    seen = []
    solver.unsteady(40, 0.05, 0.0, lambda t: np.radians(22.0) * np.ones(solver.nq), lambda n, s: seen.append(s.history.rows[-1]), inner=8)
    assert [row[0] for row in seen] == pytest.approx(0.05 * np.arange(1, 41))
    assert solver.coefficients()[0] > before + 0.05
    assert seen[1][2] == pytest.approx(before, abs=0.02)  # news from the far field has not come yet
