"""Shocks against jumps in closed form, on every kind of cell, and none where there is none.

NACA Report 1135 (1953): normal shock relations (equations 93 to 96), Prandtl–Meyer fan (167 to 171); the fields are in shock_fields.py.
Method: Lovely & Haimes 1999 (AIAA 99-3285).
"""

import numpy as np
import pytest

from making import cube_flow, flow_of
from shock_fields import behind, boundary_layer, contact, expansion_fan, oblique, supersonic_vortex
from tidal_lens.features.finding import USUAL
from tidal_lens.features.shocks import find_shocks
from tidal_lens.quantities.store import QuantityStore

CELLS = ("structured", "hexahedra", "tetrahedra", "wedges")
N = 41
H = 2 / (N - 1)


def found(state, kind="structured", warp=0.03, noise=0.0, n=N):
    base = cube_flow(n, kind, warp, None, -1.0, 1.0, one=lambda p: p[:, 0])
    p, r, u = state(base.points)
    if noise:
        rng = np.random.default_rng(3)
        p, r, u = (v * (1 + noise * rng.standard_normal(v.shape)) for v in (p, r, u))
    flow = flow_of([(base.points, base.blocks[0].grid)], {"Pressure": p, "Density": r, "Velocity": u})
    sheets = find_shocks(flow, QuantityStore(flow, flow.reference).values, 1.4)
    return [s for s in sheets if s.finding.score >= USUAL and s.finding.sort == "shock"]


def test_the_jump_is_that_of_the_report():
    """NACA Report 1135, table II: at Mach 2 the pressure rises 4.5 times, the density 2.667, and the Mach number falls to 0.5774."""
    assert behind(2.0) == pytest.approx((4.5, 2.6667, 0.57735), rel=1e-4)


@pytest.mark.parametrize("kind", CELLS)
@pytest.mark.parametrize("angle", [50.0, 34.0, 32.3])
def test_an_oblique_shock_is_one_piece_with_its_angle_and_strength(kind, angle):
    (one,) = found(lambda p: oblique(p, 2.0, angle, 2 * H), kind)
    normal = np.array([np.sin(np.radians(angle)), -np.cos(np.radians(angle)), 0.0])
    mach = 2.0 * np.sin(np.radians(angle))
    assert one.finding.number("normal Mach number") == pytest.approx(mach, rel=0.02)
    assert one.finding.number("Mach number before it") == pytest.approx(2.0, rel=0.02)
    # NACA Report 1135, equation 132 by way of the normal and the tangential part: the Mach number behind an oblique shock.
    sound = behind(mach)[0] / behind(mach)[1]
    after = np.sqrt(behind(mach)[2] ** 2 + (2.0 * np.cos(np.radians(angle))) ** 2 / sound)
    assert one.finding.number("Mach number behind it") == pytest.approx(after, rel=0.02)
    assert one.finding.number("pressure ratio") == pytest.approx(behind(mach)[0], rel=0.04)
    assert one.finding.number("angle") == pytest.approx(angle, abs=0.5)
    off = one.surface.points @ normal / H
    assert abs(off.mean()) < 0.1
    assert off.std() < 0.3, "in cells"
    whole = 4.0 / max(abs(normal[0]), abs(normal[1]))
    assert one.surface.area == pytest.approx(whole, rel=0.08), "from side to side, without folds"


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
def test_noise_of_one_per_cent_leaves_it(kind):
    (one,) = found(lambda p: oblique(p, 2.0, 50.0, 2 * H), kind, noise=0.01)
    assert one.finding.number("normal Mach number") == pytest.approx(2.0 * np.sin(np.radians(50)), rel=0.02)


@pytest.mark.parametrize("kind", ["structured", "wedges"])
def test_a_jump_within_one_cell_is_found_with_its_strength(kind):
    (one,) = found(lambda p: oblique(p, 2.0, 50.0), kind)
    assert one.finding.number("normal Mach number") == pytest.approx(2.0 * np.sin(np.radians(50)), rel=0.01)
    assert one.finding.number("angle") == pytest.approx(50.0, abs=1.5)


@pytest.mark.parametrize("noise", [0.0, 0.01])
@pytest.mark.parametrize("kind", ["structured", "tetrahedra", "wedges"])
@pytest.mark.parametrize("state", [expansion_fan, contact, boundary_layer, supersonic_vortex], ids=lambda s: s.__name__)
def test_nothing_is_found_where_there_is_no_shock(state, kind, noise):
    assert found(state, kind, 0.0, noise) == []


def test_the_fan_of_the_test_is_isentropic_and_turns_as_it_should():
    """NACA Report 1135: the Prandtl–Meyer angle of Mach 1.5 is 11.905° and of Mach 2 is 26.380°."""
    points = np.array([[x, y, 0.0] for x in np.linspace(-1, 1, 9) for y in np.linspace(-1, 1, 9)])
    p, r, u = expansion_fan(points)
    assert p / r**1.4 == pytest.approx(1.0, rel=1e-9)
    mach = np.linalg.norm(u, axis=1) / np.sqrt(1.4 * p / r)
    turn = -np.degrees(np.arctan2(u[:, 1], u[:, 0]))
    k = np.sqrt(6.0)
    nu = np.degrees(k * np.arctan(np.sqrt(mach**2 - 1) / k) - np.arctan(np.sqrt(mach**2 - 1)))
    assert nu - turn == pytest.approx(11.905, abs=0.01)
    assert mach.max() > 1.7
