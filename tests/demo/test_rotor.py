"""The solver of the made-up rotor against flows that it must leave as they are, and its balances."""

import numpy as np
import pytest

from tidal_lens.demo.rotor.kernels import friction
from tidal_lens.demo.rotor.mesh import PITCH, SPEED, Counts, make_mesh, shape_of, turned
from tidal_lens.demo.rotor.run import TOTAL_PRESSURE, Rotor

GAMMA = 1.4
SMALL = Counts(6, 12, 8, 10, 10, 3)


def at_rest_state(speed=0.3):
    """Axial flow of the inlet's total state."""
    sound2 = 1.0 - 0.5 * (GAMMA - 1.0) * speed**2
    pressure = TOTAL_PRESSURE * sound2 ** (GAMMA / (GAMMA - 1.0))
    return np.array([GAMMA * pressure / sound2, speed, 0.0, 0.0, pressure])


def test_cells_close_and_turning_moves_no_volume():
    mesh = make_mesh(SMALL)
    assert mesh.volume.min() > 0.0
    size = np.linalg.norm(mesh.area[0], axis=-1).mean()
    closed = sum(np.diff(a, axis=n) for n, a in enumerate(mesh.area))
    swept = sum(np.diff(s, axis=n) for n, s in enumerate(mesh.sweep))
    assert np.abs(closed).max() < 1e-14 * size * 100
    assert np.abs(swept).max() < 1e-14 * size * 100
    first, last = mesh.points[:, 0], mesh.points[:, -1]
    apart = np.linalg.norm(turned(first, PITCH) - last, axis=-1)
    ahead, on = SMALL.ahead, slice(SMALL.ahead + 1, SMALL.ahead + SMALL.on)
    assert apart[: ahead + 1].max() < 1e-12, "periodic ahead of the blade"
    assert apart[:, SMALL.below:].max() < 1e-12, "and above its tip"
    assert apart[on, : SMALL.below - 2].min() > 1e-4, "a blade stands between"


def test_uniform_axial_flow_is_kept_in_every_cell_of_the_bladed_mesh():
    """Seen from axes that turn, over sheared cells: convection, Coriolis force and sweeping faces cancel to rounding."""
    mesh = make_mesh(SMALL, blades=False, points=shape_of(SMALL))
    rotor = Rotor(mesh, 0.7, slip=True)
    rotor.state[:] = at_rest_state()
    rotor.fill = lambda: None  # ghosts are uniform too
    size = max(np.linalg.norm(a, axis=-1).max() for a in mesh.area)
    inner = rotor.residuals()[:, :, 1:-1]
    assert np.abs(inner).max() < 1e-12 * size
    turning = rotor.state[:, :, 3].copy()
    rotor.state[:, :, 3] = 0.1
    assert np.abs(rotor.residuals()[:, :, 1:-1]).max() > 1e-6 * size, "any other is not"
    rotor.state[:, :, 3] = turning


def test_a_straight_duct_without_blades_keeps_axial_flow():
    """All boundaries in force: inlet, outlet, sides, walls; nothing changes but by rounding."""
    x, r = np.linspace(0, 1, 13), np.linspace(0.5, 1.0, 9)
    angle = np.linspace(0, PITCH, 9)
    xx, aa, rr = np.meshgrid(x, angle, r, indexing="ij")
    points = np.stack([xx, rr * np.cos(aa), rr * np.sin(aa)], axis=-1)
    counts = Counts(4, 4, 4, 8, 6, 2)
    state = at_rest_state()
    rotor = Rotor(make_mesh(counts, blades=False, points=points), state[4], slip=True)
    rotor.state[:] = state
    rotor.steady(60, lambda _n, _r: None, first_order=10)
    off = np.abs(rotor.cells() - state).max(axis=(0, 1, 2))
    assert off.max() < 1e-11, off


def test_the_friction_law_meets_the_laminar_one_and_the_logarithmic_one():
    """Below a Reynolds number of 125 it is μ u / y; above near the law of the wall, u+ = ln y+ / 0.41 + 5.2 (Coles 1956)."""
    viscosity, gap = 1e-5, 1e-3
    assert friction(0.5, gap, 1.0, viscosity) == pytest.approx(viscosity * 0.5 / gap)
    just = 125.0 * viscosity / gap
    assert friction(just * 1.0001, gap, 1.0, viscosity) == pytest.approx(viscosity * just / gap, rel=0.02)
    for reynolds in (500.0, 2000.0, 10000.0):
        speed = reynolds * viscosity / gap
        velocity = np.sqrt(friction(speed, gap, 1.0, viscosity))
        plus = gap * velocity / viscosity
        assert speed / velocity == pytest.approx(np.log(plus) / 0.41 + 5.2, rel=0.05)


def test_a_rotor_that_begins_to_run_balances_mass_and_work():
    """On a mesh of a few thousand cells: mass goes through, and what the blade does to the flow is its enthalpy's rise."""
    rotor = Rotor(make_mesh(Counts(8, 20, 12, 12, 12, 3)), 0.705)
    rotor.steady(700, lambda _n, _r: None)
    assert rotor.rows[-1].residual < 1e-3 * rotor.rows[0].residual
    ni = rotor.shape[0]
    masses = [rotor.plane(i)[0] for i in range(ni + 1)]
    assert np.ptp(masses) < 2e-3 * np.mean(masses)
    energy = [float(rotor._flux[0][i, ..., 4].sum()) for i in (0, ni)]
    work = -SPEED * sum(rotor.torque(n) for n in ("pressure side", "suction side", "hub"))
    assert energy[1] - energy[0] == pytest.approx(work, rel=0.03)
    mass, warm, ratio, spin = rotor.plane(ni)
    assert ratio > 1.05
    # Euler's turbomachine equation; friction of the casing, which stands, takes angular momentum and no energy.
    euler = SPEED * mass * spin + SPEED * rotor.torque("casing")
    assert mass * 2.5 * (warm - 1.0) == pytest.approx(euler, rel=0.02)
