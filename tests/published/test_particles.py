"""Particles against closed forms and an integrator of a library."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.optimize import brentq

from making import cube_flow
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.particles import Particle, fly
from tidal_lens.tracing.streamlines import End

G = 9.80665
MU, D, RHO = 1.8e-5, 5e-5, 1000.0
TAU = RHO * D * D / (18 * MU)


@pytest.fixture(scope="module")
def still():
    return cube_flow(9, velocity=lambda p: 0 * p)


def flown(flow, seeds, particle, density=0.0, viscosity=MU, velocity=None):
    n = flow.n_points
    vel = np.zeros((n, 3)) if velocity is None else velocity(flow.points)
    fluid = vel, np.full(n, density), np.full(n, viscosity)
    return fly(flow, mesh_of(flow), fluid, np.array(seeds), particle)


def test_a_small_ball_settles_as_stokes_says(still):
    """Stokes 1851: v = g τ (1 − exp(−t/τ)), τ = ρ d²/18 µ; the path is its integral."""
    lines = flown(still, [[0.5, 0.5, 0.9]], Particle("stokes", D, RHO, start=(0, 0, 0), max_time=1.0))
    t = lines.time
    np.testing.assert_allclose(lines.points[:, 2], 0.9 - G * TAU * (t - TAU * (1 - np.exp(-t / TAU))), atol=1e-10)
    assert lines.more["speed of the particle"][-1] == pytest.approx(G * TAU, rel=1e-9)
    assert t[-1] == pytest.approx(1.0)
    assert lines.ends[0, 1] == End.TIME


def test_buoyancy_takes_the_weight_of_the_fluid_off(still):
    """Archimedes: a ball of the fluid's own density does not sink; half as heavy again sinks with a third of its weight."""
    level = flown(still, [[0.5, 0.5, 0.5]], Particle("stokes", D, 2.0, start=(0, 0, 0), max_time=0.5), density=2.0)
    assert np.ptp(level.points[:, 2]) < 1e-12
    sinking = flown(still, [[0.5, 0.5, 0.5]], Particle("stokes", D, 3.0, start=(0, 0, 0), max_time=0.5), density=2.0)
    tau = 3.0 * D * D / (18 * MU)
    assert sinking.more["speed of the particle"][-1] == pytest.approx(G * tau / 3, rel=1e-6)


def test_free_fall_and_a_throw(still):
    heavy = Particle("ballistic", ballistic=1e12, start=(0, 0, 0), max_time=0.3)
    lines = flown(still, [[0.5, 0.5, 0.9]], heavy, density=1.2)
    np.testing.assert_allclose(0.9 - lines.points[:, 2], 0.5 * G * lines.time**2, atol=1e-9)
    thrown = flown(still, [[0.1, 0.5, 0.5]], Particle("ballistic", ballistic=1e12, start=(2.0, 0, 1.0), max_time=0.2), density=1.2)
    x = thrown.points[:, 0] - 0.1
    np.testing.assert_allclose(thrown.points[:, 2] - 0.5, x / 2 - 0.5 * G * (x / 2) ** 2, atol=1e-9)


def test_the_stopping_distance(still):
    """A ball thrown into still air goes on by v τ."""
    lines = flown(still, [[0.1, 0.5, 0.5]], Particle("stokes", D, RHO, start=(5.0, 0, 0), gravity=(0, 0, 0), max_time=3.0))
    assert lines.points[-1, 0] - 0.1 == pytest.approx(5.0 * TAU, rel=1e-9)


def test_a_ballistic_body_slows_down_by_the_square(still):
    """With drag by the square alone x = B' ln(1 + v t / B'), B' = 2 B / ρ."""
    lines = flown(still, [[0.1, 0.5, 0.5]], Particle("ballistic", ballistic=0.3, start=(3.0, 0, 0), gravity=(0, 0, 0), max_time=0.2,
                                                     tolerance=1e-6), density=1.2)
    scale = 2 * 0.3 / 1.2
    np.testing.assert_allclose(lines.points[:, 0] - 0.1, scale * np.log1p(3.0 * lines.time / scale), atol=1e-5)


@pytest.mark.parametrize("diameter", [2e-4, 1e-3])
def test_the_terminal_speed_of_schiller_and_naumann(diameter):
    """Schiller and Naumann 1933: C_d = 24/Re (1 + 0.15 Re^0.687); the speed at which drag is the weight less the fluid's."""
    rho = 1.2
    flow = cube_flow(9, velocity=lambda p: 0 * p, high=20.0)

    def left(v):
        re = rho * v * diameter / MU
        drag = 0.125 * np.pi * diameter**2 * rho * v * v * 24 / re * (1 + 0.15 * re**0.687)
        return drag - np.pi / 6 * diameter**3 * (RHO - rho) * G

    expected = brentq(left, 1e-6, 50.0)
    assert rho * expected * diameter / MU < 1000
    ball = Particle("schiller-naumann", diameter, RHO, start=(0, 0, 0), max_time=4.0, tolerance=1e-5)
    lines = flown(flow, [[10.0, 10.0, 19.0]], ball, density=rho)
    assert lines.more["speed of the particle"][-1] == pytest.approx(expected, rel=1e-4)


def test_a_path_through_a_turning_flow_as_a_library_integrates_it():
    """scipy's solve_ivp on the same law, in solid rotation with a stream, which is linear and so exact in the cells."""
    def swirl(p):
        q = np.atleast_2d(p) - 0.5
        return np.column_stack([-2.0 * q[:, 1], 2.0 * q[:, 0], 0.3 + 0 * q[:, 0]])

    flow = cube_flow(9, velocity=swirl)
    rho, d = 1.2, 4e-4

    def law(_t, s):
        u, v = swirl(s[:3])[0], s[3:]
        rel = np.linalg.norm(u - v)
        k = 18 * MU / (RHO * d * d) * (1 + 0.15 * (rho * rel * d / MU) ** 0.687)
        return [*v, *(k * (u - v) + np.array([0, 0, -G]) * (1 - rho / RHO))]

    begin = np.array([0.7, 0.5, 0.6])
    theirs = solve_ivp(law, (0, 0.25), [*begin, *swirl(begin)[0]], rtol=1e-10, atol=1e-12, dense_output=True)
    for tolerance, allowed in ((1e-3, 1e-3), (1e-5, 2e-5)):
        lines = flown(flow, [begin], Particle("schiller-naumann", d, RHO, max_time=0.25, tolerance=tolerance), density=rho, velocity=swirl)
        np.testing.assert_allclose(lines.points, theirs.sol(lines.time)[:3].T, atol=allowed)


def test_the_lightest_goes_with_the_flow_and_all_that_leaves_is_told():
    flow = cube_flow(9, velocity=lambda p: np.column_stack([1 + 0 * p[:, 0], 0 * p[:, 0], 0 * p[:, 0]]))
    light = Particle("stokes", 1e-9, 1.0, gravity=(0, 0, 0), start=(0, 0, 0))
    lines = flown(flow, [[0.1, 0.5, 0.5], [3.0, 0.5, 0.5]], light, density=1.2, velocity=lambda p: np.tile([1.0, 0, 0], (len(p), 1)))
    assert lines.n_lines == 1
    assert lines.n_seeds == 2
    assert lines.ends[0, 1] == End.LEFT
    assert lines.points[-1, 0] == pytest.approx(1.0, abs=1e-3)
    assert lines.time[-1] == pytest.approx(0.9, abs=2e-3)
    assert lines.more["speed of the particle"][-1] == pytest.approx(1.0)
