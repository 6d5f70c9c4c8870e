"""Vortex size and strength, and lines on flows whose paths are known in closed form."""

import numpy as np
import pytest

from making import abc, cube_flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines


def lamb_oseen(p, gamma=1.0, core2=0.04):
    """Azimuthal velocity Γ/(2πr)·(1 − exp(−r²/core²)) about the z axis, core² = 4νt."""
    r2 = np.maximum(p[:, 0] ** 2 + p[:, 1] ** 2, 1e-30)
    swirl = gamma / (2 * np.pi * r2) * -np.expm1(-r2 / core2)
    return np.column_stack([-swirl * p[:, 1], swirl * p[:, 0], 0 * r2])


@pytest.fixture(scope="module")
def vortex():
    return cube_flow(81, velocity=lamb_oseen, low=-1.0)


def test_the_greatest_swirl_is_where_it_should_be(vortex):
    """Lamb, Hydrodynamics: greatest swirl at r = 1.1209 √(4νt) (number from memory, and found again here by search)."""
    r = np.linspace(0.15, 0.35, 2001)
    speed = -np.expm1(-r**2 / 0.04) / r
    assert r[speed.argmax()] / 0.2 == pytest.approx(1.1209, abs=2e-3)
    values = QuantityStore(vortex, vortex.reference).values("speed")
    line = np.column_stack([r, 0 * r, 0 * r])
    stencil, inside = mesh_of(vortex).locate(line)
    assert inside.all()
    assert r[stencil.apply(values).argmax()] / 0.2 == pytest.approx(1.1209, abs=0.06), "to within a cell"


def test_circulation_from_vorticity_is_that_of_the_vortex(vortex):
    """Stokes: the integral of ωz over the mid-plane is the circulation round its rim, Γ to within exp(−25)."""
    omega = QuantityStore(vortex, vortex.reference).values("vorticity-z").reshape(81, 81, 81)[40]
    h = 2 / 80
    assert omega.sum() * h * h == pytest.approx(1.0, abs=2e-3)


def test_q_is_positive_inside_the_core_and_negative_outside(vortex):
    """Hunt, Wray & Moin 1988: Q changes sign where turning no longer outweighs straining: at the greatest swirl."""
    q = QuantityStore(vortex, vortex.reference).values("q")
    r = np.hypot(vortex.points[:, 0], vortex.points[:, 1])
    inner = np.all(np.abs(vortex.points) < 0.9, axis=1)
    assert (q[inner & (r < 0.19)] > 0).all()
    assert (q[inner & (r > 0.27)] < 0).all()


def test_lines_round_the_vortex_close_and_take_their_time(vortex):
    """A particle at radius r goes round in 2πr/u(r)."""
    flow, radius = vortex, 0.4
    velocity = QuantityStore(flow, flow.reference).values("velocity")
    lines = trace_lines(flow, mesh_of(flow), velocity, np.array([[radius, 0.0, 0.1]]), TraceSettings("forward", 50.0, 1e-5))
    assert lines.ends[0, 1] == End.CLOSED
    speed = np.linalg.norm(lamb_oseen(np.array([[radius, 0.0, 0.0]])))
    assert lines.time[-1] == pytest.approx(2 * np.pi * radius / speed, rel=0.01)
    assert np.abs(np.hypot(lines.points[:, 0], lines.points[:, 1]) - radius).max() < 0.005


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra"])
def test_a_stagnation_point_turns_lines_along_hyperbolas(kind):
    """Plane stagnation flow u = x, v = −y: the product x·y stays (any text on potential flow); linear, so exact on any cell."""
    flow = cube_flow(9, kind, 0.05, velocity=lambda p: np.column_stack([p[:, 0], -p[:, 1], 0 * p[:, 0]]), low=-1.0)
    velocity = QuantityStore(flow, flow.reference).values("velocity")
    seeds = np.array([[0.05 * n, 0.9, 0.3] for n in range(1, 8)])
    lines = trace_lines(flow, mesh_of(flow), velocity, seeds, TraceSettings("forward", 50.0, 1e-6))
    for n in range(lines.n_lines):
        part = lines.points[lines.offsets[n]:lines.offsets[n + 1]]
        assert np.abs(part[:, 0] * part[:, 1] - seeds[n, 0] * 0.9).max() < 1e-4
        assert part[-1, 0] == pytest.approx(1.0, abs=1e-2)


def test_a_line_into_the_stagnation_point_comes_to_rest_there():
    flow = cube_flow(9, velocity=lambda p: np.column_stack([p[:, 0], -p[:, 1], 0 * p[:, 0]]), low=-1.0)
    velocity = QuantityStore(flow, flow.reference).values("velocity")
    lines = trace_lines(flow, mesh_of(flow), velocity, np.array([[0.0, 0.9, 0.3]]), TraceSettings("forward", 50.0))
    assert lines.ends[0, 1] == End.STILL
    assert np.abs(lines.points[-1, :2]).max() < 1e-3


def test_lines_converge_to_the_exact_flow_as_the_mesh_is_refined():
    """Arnold–Beltrami–Childress flow (Dombre et al. 1986): the distance from the exact line falls at second order."""
    from scipy.integrate import solve_ivp

    start, wrong = np.array([0.4, 0.45, 0.5]), []
    for n in (17, 33, 65):
        flow = cube_flow(n, "structured", 0.03, velocity=lambda p: abc(2 * np.pi * p))
        velocity = QuantityStore(flow, flow.reference).values("velocity")
        lines = trace_lines(flow, mesh_of(flow), velocity, start[None], TraceSettings("forward", 0.35, 1e-6))
        exact = solve_ivp(lambda _t, x: abc(2 * np.pi * x[None])[0], (0, lines.time[-1]), start, rtol=1e-11, atol=1e-12, t_eval=lines.time)
        wrong.append(np.linalg.norm(exact.y.T - lines.points, axis=1).max())
    order = np.log2(wrong[0] / wrong[2]) / 2
    assert order > 1.6, wrong
