"""Particles against closed forms and an integrator of a library."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.optimize import brentq

from making import cube_flow
from tidal_lens.flow.case import Boundary
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.kinds.fates import fate_tables
from tidal_lens.tracing.particles import Heat, Particle, fly
from tidal_lens.tracing.streamlines import End

G = 9.80665
MU, D, RHO = 1.8e-5, 5e-5, 1000.0
TAU = RHO * D * D / (18 * MU)
K, C = 0.026, 4186.0


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


def walled(velocity=lambda p: 0 * p, n=9):
    """A cube with a wall at its bottom and an outlet else."""
    flow = cube_flow(n, velocity=velocity)
    faces = flow.outside.faces
    floor = (flow.points[faces][:, :, 2] == 0.0).all(axis=1)
    return replace(flow, boundaries=(Boundary("floor", "wall", flow.points, faces[floor], np.arange(flow.n_points)),
                                     Boundary("out", "outflow", flow.points, faces[~floor], np.arange(flow.n_points))))


def test_a_ball_that_falls_is_thrown_back_by_the_square_of_the_restitution():
    """From h it comes up again to e² h, and its bounces last 2 e^n √(2 h/g): closed form without drag."""
    h, e = 0.5, 0.8
    ball = Particle("ballistic", ballistic=1e12, start=(0.3, 0, 0), max_time=1.4, walls="bounce", restitution=e, tolerance=1e-6)
    lines = flown(walled(), [[0.2, 0.5, h]], ball, density=1.2)
    z, t = lines.points[:, 2], lines.time
    fall = np.sqrt(2 * h / G)
    hits = t[1:-1][(z[1:-1] < z[:-2]) & (z[1:-1] <= z[2:])]
    np.testing.assert_allclose(hits, fall * np.array([1.0, 1 + 2 * e, 1 + 2 * e + 2 * e * e]), atol=2e-4)
    for n in (1, 2):
        own = (t > hits[n - 1]) & (t < hits[n])
        middle = 0.5 * (hits[n - 1] + hits[n])
        np.testing.assert_allclose(z[own], e ** (2 * n) * h - 0.5 * G * (t[own] - middle) ** 2, atol=1e-3)
    np.testing.assert_allclose(lines.points[:, 0], 0.2 + 0.3 * t, atol=1e-6)
    assert lines.ends[0, 1] == End.TIME
    assert (np.diff(t) > -1e-12).all()


def test_walls_stop_pass_and_bring_to_rest():
    ball = Particle("ballistic", ballistic=1e12, start=(0, 0, 0), max_time=5.0)
    stops = flown(walled(), [[0.2, 0.5, 0.5]], ball, density=1.2)
    assert stops.ends[0, 1] == End.WALL
    assert stops.time[-1] == pytest.approx(np.sqrt(1.0 / G), abs=1e-3)
    passes = flown(walled(), [[0.2, 0.5, 0.5]], replace(ball, walls="pass"), density=1.2)
    assert passes.ends[0, 1] == End.LEFT
    rests = flown(walled(), [[0.2, 0.5, 0.5]], replace(ball, walls="bounce", restitution=0.3), density=1.2)
    assert rests.ends[0, 1] == End.WALL, "after some bounces it stays on the floor"
    assert rests.points[-1, 2] == pytest.approx(0.0, abs=1e-3)
    assert rests.time[-1] == pytest.approx(np.sqrt(1.0 / G) * (1 + 2 * (0.3 + 0.09 + 0.027)), rel=0.03)
    table, counts = fate_tables(walled(), stops)
    assert table.rows[0][1:3] == ("met a wall", "floor")
    assert counts.rows == (("met a wall", "floor", 1.0, 1.0),)
    assert fate_tables(walled(), passes)[1].rows[0][:2] == ("left the domain", "floor")


def test_a_ball_bounces_whatever_others_do():
    """One that is let go low bounces as often beside one that is shot past it a hundred times as fast."""
    ball = Particle("ballistic", ballistic=1e12, start=(0, 0, 0), gravity=(0, 0, -1.0), max_time=1.0, walls="bounce", tolerance=1e-6)
    low, shot = [0.2, 0.5, 0.02], [0.05, 0.5, 0.9]
    alone = flown(walled(), [low], ball, density=1.2)
    fast = flown(walled(velocity=lambda p: 0 * p), [low, shot, low], replace(ball, start=None), density=1.2,
                 velocity=lambda p: np.where(p[:, 2:] > 0.5, [[300.0, 0.0, 0.0]], 0.0))
    assert alone.ends[0, 1] == End.TIME
    for line in (0, 2):
        assert fast.ends[line, 1] == End.TIME
        assert np.array_equal(fast.points[fast.offsets[line]:fast.offsets[line + 1]], alone.points)


def warmed(heat, max_time, *, speed=0.0, gas=400.0, diameter=2e-4, tolerance=1e-6):
    """A ball held in a stream: heavy for its drag, at rest."""
    flow = cube_flow(5, velocity=lambda p: 0 * p)
    n = flow.n_points
    fluid = np.tile([speed, 0.0, 0.0], (n, 1)), np.full(n, 1e-9 if speed == 0.0 else 1.2), np.full(n, MU), np.full(n, gas), np.full(n, K)
    ball = Particle("stokes", diameter, RHO, gravity=(0, 0, 0), start=(0, 0, 0), max_time=max_time, tolerance=tolerance, heat=heat)
    return fly(flow, mesh_of(flow), fluid, np.array([[0.5, 0.5, 0.5]]), ball)


def test_a_ball_at_rest_takes_the_temperature_of_the_gas_exponentially():
    """Conduction about a ball, Nu = 2: T = T_g + (T_0 − T_g) exp(−12 k t / (ρ c d²))."""
    lines = warmed(Heat(C, 300.0), 0.3)
    rate = 12 * K / (RHO * C * 4e-8)
    np.testing.assert_allclose(lines.more["temperature of the particle"], 400.0 - 100.0 * np.exp(-rate * lines.time), rtol=1e-9)
    assert np.ptp(lines.more["diameter of the particle"]) == 0.0


def test_a_ball_in_a_stream_is_warmed_as_ranz_and_marshall_say():
    """Nu = 2 + 0.6 Re^½ Pr^⅓ (Ranz & Marshall 1952), integrated with scipy while the ball is carried off by Stokes' drag."""
    lines = warmed(Heat(C, 300.0, prandtl=0.7), 0.02, speed=5.0, tolerance=1e-5)
    tau = RHO * 4e-8 / (18 * MU)

    def law(t, temperature):
        reynolds = 1.2 * 5.0 * np.exp(-t / tau) * 2e-4 / MU
        return 6 * (2 + 0.6 * np.sqrt(reynolds) * 0.7 ** (1 / 3)) * K * (400.0 - temperature) / (RHO * C * 4e-8)

    theirs = solve_ivp(law, (0, 0.02), [300.0], rtol=1e-10, dense_output=True).sol(lines.time)[0]
    assert theirs[-1] > 303.0
    np.testing.assert_allclose(lines.more["temperature of the particle"] - 300.0, theirs - 300.0, rtol=2e-3, atol=1e-3)


def test_a_ball_that_boils_shrinks_by_the_square_of_its_diameter():
    """At its boiling point all heat goes into mass: d² = d₀² − 8 k (T_g − T_b) t / (ρ L), the d² law; then it is gone."""
    latent, d = 2e5, 2e-4
    lines = warmed(Heat(C, 350.0, 350.0, latent), 5.0)
    loss = 8 * K * 50.0 / (RHO * latent)
    np.testing.assert_allclose(lines.more["diameter of the particle"] ** 2, d * d - loss * lines.time, atol=1e-6 * d * d)
    assert lines.ends[0, 1] == End.GONE
    assert lines.time[-1] == pytest.approx(d * d / loss, rel=0.02)
    first = warmed(Heat(C, 300.0, 350.0, latent), 5.0)
    reached = np.log(2.0) / (12 * K / (RHO * C * d * d))
    shrinking = first.time > reached
    np.testing.assert_allclose(first.more["diameter of the particle"][shrinking] ** 2, d * d - loss * (first.time[shrinking] - reached),
                               atol=1e-6 * d * d)
    assert first.more["temperature of the particle"].max() == 350.0
    cold = warmed(Heat(C, 360.0, 350.0, latent), 0.3, gas=300.0)
    assert cold.more["temperature of the particle"][-1] < 350.0, "in a cold gas it cools, and loses nothing"
    assert np.ptp(cold.more["diameter of the particle"]) == 0.0
