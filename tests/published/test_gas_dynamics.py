"""Mach number and pressure coefficient against published relations."""

import numpy as np
import pytest

from making import cube_flow, cube_points, flow_of
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.store import QuantityStore

GAMMA = 1.4


def state_at(mach):
    """Pressure, density and speed along an isentrope with total pressure and density 1 (NACA Report 1135, eqs. 43 to 45)."""
    base = 1 + (GAMMA - 1) / 2 * mach**2
    pressure, density = base ** (-GAMMA / (GAMMA - 1)), base ** (-1 / (GAMMA - 1))
    return pressure, density, mach * np.sqrt(GAMMA * pressure / density)


def duct():
    """Mach number runs from 0.2 to 3 along x at constant entropy."""

    def mach_of(p):
        return 0.2 + 2.8 * p[:, 0]

    return cube_flow(15, p=lambda p: state_at(mach_of(p))[0], rho=lambda p: state_at(mach_of(p))[1],
                     velocity=lambda p: np.outer(state_at(mach_of(p))[2], [0.6, 0.0, 0.8]))


def test_mach_number_along_an_isentrope():
    """NACA Report 1135 (1953), isentropic relations: a state made from M must give M back."""
    flow = duct()
    store = QuantityStore(flow, ReferenceState(gamma=GAMMA))
    assert np.abs(store.values("mach") - (0.2 + 2.8 * flow.points[:, 0])).max() < 1e-12


@pytest.mark.parametrize(("mach", "ratio"), [(0.5, 0.8430), (1.0, 0.5283), (2.0, 0.1278), (3.0, 0.02722)])
def test_the_isentrope_is_the_table(mach, ratio):
    """p/p0 from NACA Report 1135, table I (values from memory, and computed here from its formula)."""
    assert state_at(mach)[0] == pytest.approx(ratio, rel=5e-4)


@pytest.mark.parametrize(("mach", "behind", "jump"), [(1.6, 0.6684, 2.820), (2.0, 0.5774, 4.500), (3.0, 0.4752, 10.33)])
def test_mach_number_and_cp_across_a_normal_shock(mach, behind, jump):
    """NACA Report 1135, table II: M2 and p2/p1 (values from memory), states from Rankine–Hugoniot (eqs. 93 to 96)."""
    p1, rho1, u1 = 1.0, 1.0, mach * np.sqrt(GAMMA)
    pressure_ratio = (2 * GAMMA * mach**2 - (GAMMA - 1)) / (GAMMA + 1)
    density_ratio = (GAMMA + 1) * mach**2 / ((GAMMA - 1) * mach**2 + 2)
    assert pressure_ratio == pytest.approx(jump, rel=5e-4)
    left = cube_points(3)[:, 0] < 0.5
    fields = {"p": np.where(left, p1, pressure_ratio * p1), "rho": np.where(left, rho1, density_ratio * rho1),
              "U": np.outer(np.where(left, u1, u1 / density_ratio), [1.0, 0, 0])}
    flow = flow_of([(cube_points(3), StructuredGrid((3, 3, 3)))], fields)
    store = QuantityStore(flow, ReferenceState(p1, rho1, (u1, 0, 0), GAMMA))
    found = store.values("mach")
    assert np.allclose(found[left], mach)
    assert np.allclose(found[~left], behind, atol=1e-4)
    assert np.allclose(store.values("cp")[~left], 2 * (jump - 1) / (GAMMA * mach**2), rtol=1e-3)
    assert np.allclose(store.values("cp")[left], 0)


def test_cp_on_a_sphere_in_potential_flow():
    """Cp = 1 − (9/4) sin²θ on a sphere in potential flow (any text on potential flow); stagnation Cp = 1."""
    n = 21
    theta = np.linspace(0.02, np.pi - 0.02, n)
    k, j, i = np.meshgrid(np.linspace(1, 2, 4), np.linspace(0, 1.5 * np.pi, 7), theta, indexing="ij")
    points = np.column_stack([(-k * np.cos(i)).ravel(), (k * np.sin(i) * np.cos(j)).ravel(), (k * np.sin(i) * np.sin(j)).ravel()])
    r, x = np.linalg.norm(points, axis=1), points[:, 0]
    u = np.array([1.0, 0, 0]) * (1 + 0.5 / r**3)[:, None] - 1.5 * (x / r**5)[:, None] * points
    speed2 = (u * u).sum(axis=1)
    density, stream, far = 1.2, 3.0, 10.0
    flow = flow_of([(points, StructuredGrid((n, 7, 4)))],
                   {"Velocity": stream * u, "Pressure": far + 0.5 * density * stream**2 * (1 - speed2)})
    store = QuantityStore(flow, ReferenceState(far, density, (stream, 0, 0)))
    on = np.isclose(r, 1)
    assert np.abs(store.values("cp")[on] - (1 - 2.25 * np.sin(np.arccos(-x[on])) ** 2)).max() < 1e-12
    assert store.values("cp").max() == pytest.approx(1.0, abs=2e-3)


def test_the_demo_state_is_consistent(demo):
    """Constant total enthalpy: T/T0 from the speed (NACA Report 1135, eq. 43) fits the Mach number everywhere."""
    store = QuantityStore(demo, demo.reference)
    mach = store.values("mach").astype(float)
    density = store.values("density").astype(float)
    total = density * (1 + (GAMMA - 1) / 2 * mach**2) ** (1 / (GAMMA - 1))
    assert total.std() / total.mean() < 1e-5
    assert 1.1 < mach.max() < 1.4


def test_total_state_along_an_isentrope():
    """NACA Report 1135, isentropic relations: total pressure and temperature stay what they are, entropy does not rise."""
    flow = duct()
    store = QuantityStore(flow, ReferenceState(*state_at(0.2)[:2], (state_at(0.2)[2], 0, 0), GAMMA, gas_constant=2.0))
    assert np.allclose(store.values("total-pressure"), 1.0)
    assert np.allclose(store.values("total-temperature"), 0.5)
    assert np.allclose(store.values("total-enthalpy"), GAMMA / (GAMMA - 1))
    assert np.abs(store.values("entropy-rise")).max() < 1e-12
    assert np.abs(store.values("total-pressure-loss")).max() < 1e-10
    mach, q = store.values("mach"), store.values("dynamic-pressure")
    pressure = state_at(mach)[0]
    assert np.allclose(q, 0.5 * GAMMA * pressure * mach**2)
    reference = 0.5 * GAMMA * state_at(0.2)[0] * 0.2**2
    assert np.allclose(store.values("total-pressure-coefficient"), (1 - state_at(0.2)[0]) / reference)
    assert np.allclose(store.values("mass-flux-magnitude"), state_at(mach)[1] * state_at(mach)[2])


@pytest.mark.parametrize(("mach", "pitot"), [(1.0, 1.8929), (1.5, 3.4133), (2.0, 5.6404), (3.0, 12.0610), (5.0, 32.6535)])
def test_pitot_pressure_is_that_behind_a_normal_shock(mach, pitot):
    """p02/p1 by Rayleigh's formula, NACA Report 1135, table II (values from memory), and by way of the shock relations."""
    p, rho, speed = 2.0, 3.0, mach * np.sqrt(GAMMA * 2.0 / 3.0)
    flow = cube_flow(3, p=lambda q: np.full(len(q), p), rho=lambda q: np.full(len(q), rho),
                     velocity=lambda q: np.tile([0.0, speed, 0.0], (len(q), 1)))
    store = QuantityStore(flow, ReferenceState(gamma=GAMMA))
    assert np.allclose(store.values("pitot-pressure") / p, pitot, rtol=2e-4)
    jump = (2 * GAMMA * mach**2 - (GAMMA - 1)) / (GAMMA + 1)
    behind = np.sqrt(((GAMMA - 1) * mach**2 + 2) / (2 * GAMMA * mach**2 - (GAMMA - 1)))
    assert np.allclose(store.values("pitot-pressure") / p, jump / state_at(behind)[0])


def test_subsonic_pitot_pressure_is_the_total_pressure():
    flow = duct()
    store = QuantityStore(flow, ReferenceState(gamma=GAMMA))
    slow = store.values("mach") < 1
    assert np.array_equal(store.values("pitot-pressure")[slow], store.values("total-pressure")[slow])


@pytest.mark.parametrize(("mach", "ratio"), [(1.5, 0.9298), (2.0, 0.7209), (3.0, 0.3283)])
def test_entropy_rises_through_a_normal_shock(mach, ratio):
    """Δs/R = −ln(p02/p01), NACA Report 1135, table II (values from memory)."""
    p2 = (2 * GAMMA * mach**2 - (GAMMA - 1)) / (GAMMA + 1)
    rho2 = (GAMMA + 1) * mach**2 / ((GAMMA - 1) * mach**2 + 2)
    u = mach * np.sqrt(GAMMA)
    flow = cube_flow(3, p=lambda q: np.full(len(q), p2), rho=lambda q: np.full(len(q), rho2),
                     velocity=lambda q: np.tile([u / rho2, 0.0, 0.0], (len(q), 1)))
    store = QuantityStore(flow, ReferenceState(1.0, 1.0, (u, 0, 0), GAMMA, gas_constant=287.0))
    assert np.allclose(store.values("entropy-rise") / 287.0, -np.log(ratio), atol=2e-4)
    assert np.allclose(store.values("total-pressure"), ratio / state_at(mach)[0], rtol=2e-4)
    assert np.allclose(store.values("total-temperature") * 287.0, 1 + (GAMMA - 1) / 2 * mach**2)


def test_viscosity_by_sutherland():
    """1.7894e-5 kg/(m s) at 288.15 K: U.S. Standard Atmosphere 1976, sea level (from memory)."""
    flow = cube_flow(3, velocity=lambda q: q, Temperature=lambda q: np.full(len(q), 288.15))
    known = flow_of([(flow.points, flow.blocks[0].grid)], {n: f.values for n, f in flow.fields.items()}, si_units=True)
    store = QuantityStore(known, ReferenceState())
    assert np.allclose(store.evaluate(store.check("viscosity")), 1.7894e-5, rtol=1e-4)
    assert QuantityStore(flow, ReferenceState()).describe("wall-shear").missing == "viscosity, walls"  # in no other units
    typed = QuantityStore(flow, ReferenceState(viscosity=3e-5))
    assert np.allclose(typed.evaluate(typed.check("viscosity")), 3e-5)
