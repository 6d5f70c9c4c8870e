"""Vortex criteria, shock sensors and formulas of the catalogue on exact flows.

Sources: Hunt, Wray & Moin 1988 (CTR-S88); Jeong & Hussain 1995, J. Fluid Mech. 285; Chong, Perry & Cantwell 1990, Phys. Fluids A 2;
Zhou, Adrian, Balachandar & Kendall 1999, J. Fluid Mech. 387; Levy, Degani & Seginer 1990, AIAA J. 28; Truesdell 1953; Burgers 1948;
Dombre et al. 1986, J. Fluid Mech. 167 (Arnold-Beltrami-Childress flow).
"""

import numpy as np
import pytest

from making import abc, cube_flow, flow_of
from tidal_lens.quantities import criteria
from tidal_lens.quantities.catalogue import CATALOGUE, HIDDEN
from tidal_lens.quantities.gradients import vorticity_and_q
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.names import catalogue_formula, standard, word_of
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.quantities.units import unit_of

CRITERIA = {"q": lambda g: vorticity_and_q(g)[1], "lambda2": criteria.lambda2, "delta": criteria.discriminant,
            "lci": criteria.swirling_strength}


def one(matrix):
    return np.array([matrix], dtype=float)


def test_solid_rotation():
    """Q = Ω², λ2 = −Ω², λci = Ω about the axis of rotation (by the definitions)."""
    spin = 3.0
    g = one([[0, -spin, 0], [spin, 0, 0], [0, 0, 0]])
    assert CRITERIA["q"](g)[0] == pytest.approx(spin**2)
    assert criteria.lambda2(g)[0] == pytest.approx(-(spin**2))
    assert criteria.swirling_strength(g)[0] == pytest.approx(spin)
    assert np.allclose(criteria.swirl_axis(g), [[0, 0, 1]])
    assert criteria.discriminant(g)[0] == pytest.approx((spin**2 / 3) ** 3)


def test_plane_shear_is_no_vortex():
    """A shear layer is none by Q, λ2, Δ and λci (Jeong & Hussain 1995, section 2)."""
    g = one([[0, 5.0, 0], [0, 0, 0], [0, 0, 0]])
    for name, criterion in CRITERIA.items():
        assert criterion(g)[0] == pytest.approx(0.0, abs=1e-12), name


def test_the_burgers_vortex_on_its_axis():
    """u_r = −a r/2, u_z = a z, ω0 = aΓ/4πν on the axis (Burgers 1948): the swirl is ω0/2, λ2 and Q follow from the matrix."""
    a, turn = 0.4, 6.0
    g = one([[-a / 2, -turn / 2, 0], [turn / 2, -a / 2, 0], [0, 0, a]])
    assert criteria.swirling_strength(g)[0] == pytest.approx(turn / 2)
    assert np.allclose(criteria.swirl_axis(g), [[0, 0, 1]])
    assert criteria.lambda2(g)[0] == pytest.approx(a**2 / 4 - turn**2 / 4)
    assert CRITERIA["q"](g)[0] == pytest.approx(turn**2 / 4 - 0.75 * a**2)


def many_matrices():
    """Matrices of all sorts: any, of whole numbers (with repeated eigenvalues), all but singular, of one hand, large and small."""
    rng = np.random.default_rng(7)
    anything = rng.normal(size=(4000, 3, 3))
    whole = rng.integers(-2, 3, size=(4000, 3, 3)).astype(float)
    flat = np.einsum("ni,nj->nij", rng.normal(size=(500, 3)), rng.normal(size=(500, 3)))
    symmetric = whole[:500] + np.swapaxes(whole[:500], 1, 2)
    return np.concatenate([anything, whole, flat, symmetric, whole[:500] - np.swapaxes(whole[:500], 1, 2)])


@pytest.mark.parametrize("scale_by", [1.0, 1e6, 1e-6])
def test_closed_forms_agree_with_general_solvers(scale_by):
    """Against numpy's eigenvalue solvers, whatever the matrix."""
    g = scale_by * many_matrices()
    s, w = 0.5 * (g + np.swapaxes(g, 1, 2)), 0.5 * (g - np.swapaxes(g, 1, 2))
    scale = np.abs(g).max() ** 2
    middle = np.linalg.eigvalsh(s @ s + w @ w)[:, 1]
    assert np.abs(criteria.lambda2(g) - middle).max() <= 2e-8 * scale
    values = np.linalg.eigvals(g)
    imaginary = np.abs(values.imag).max(axis=1)
    found = criteria.swirling_strength(g)
    assert np.abs(found - imaginary).max() <= 2e-4 * np.sqrt(scale)  # near repeated roots either loses digits
    axis = criteria.swirl_axis(g)
    turning = found > 1e-2 * np.sqrt(scale)
    stretched = np.einsum("nij,nj->ni", g, axis)
    along = np.einsum("ni,ni->n", stretched, axis)
    assert np.abs(stretched - along[:, None] * axis)[turning].max(initial=0.0) <= 1e-6 * np.sqrt(scale)
    assert (np.einsum("ni,ni->n", vorticity_and_q(g)[0], axis)[turning] >= -1e-9 * np.sqrt(scale)).all()


def test_what_is_not_finite_stays_so():
    g = np.full((2, 3, 3), np.nan)
    g[1] = np.eye(3)
    for name in ("lambda2", "delta", "lci"):
        found = CRITERIA[name](g)
        assert np.isnan(found[0]), name
        assert np.isfinite(found[1]), name
    assert criteria.lambda2(np.zeros((1, 3, 3)))[0] == 0.0
    with pytest.raises(ValueError, match="shape"):
        criteria.lambda2(np.zeros((3, 3)))


def test_beltrami_flow_runs_along_its_vorticity():
    """curl U = U: normalised helicity 1, no Lamb vector (Dombre et al. 1986)."""
    flow = cube_flow(25, velocity=lambda p: abc(2 * np.pi * p))
    store = QuantityStore(flow, flow.reference)
    inside = ((flow.points > 0.1) & (flow.points < 0.9)).all(axis=1)
    moving = inside & (store.values("speed") > 0.3)
    assert store.values("normalised-helicity")[moving].min() > 0.999
    speed = store.values("speed")[moving]
    assert store.values("helicity")[moving] == pytest.approx(2 * np.pi * speed**2, rel=0.02)
    assert store.values("lamb-magnitude")[moving].max() < 0.02 * (2 * np.pi * speed**2).max()


def test_kinematic_vorticity_number():
    """1 in plane shear, 0 in pure strain (Truesdell 1953)."""
    for matrix, wanted in (([[0, 1, 0], [0, 0, 0], [0, 0, 0]], 1.0), ([[1, 0, 0], [0, -1, 0], [0, 0, 0]], 0.0),
                           ([[0, -3, 0], [1, 0, 0], [0, 0, 0]], 2.0)):
        flow = cube_flow(4, velocity=lambda p, m=matrix: p @ np.array(m, float).T)
        assert np.allclose(QuantityStore(flow, flow.reference).values("kinematic-vorticity-number"), wanted)


def test_rotation_share_tells_turning_from_straining():
    flow = cube_flow(4, velocity=lambda p: p @ np.array([[0, -3, 0], [1, 0, 0], [0, 0, 0.0]]).T)
    assert np.allclose(QuantityStore(flow, flow.reference).values("rotation-share"), 4 / (4 + 1 + 0.001 * 3) * 1.0, rtol=1e-9)


def test_normal_mach_number_and_compression_sensor():
    """A smooth compression along x at Mach 2 to 1; shear and rotation leave the sensor at 0."""
    def state(p):
        return {"Velocity": np.column_stack([700 - 300 * p[:, 0], 50 + 0 * p[:, 0], 0 * p[:, 0]]), "Pressure": 1e5 * (1 + p[:, 0]),
                "Density": np.full(len(p), 1.2)}

    flow = cube_flow(5)
    flow = flow_of([(flow.points, flow.blocks[0].grid)], state(flow.points))
    store = QuantityStore(flow, flow.reference)
    a = np.sqrt(1.4 * state(flow.points)["Pressure"] / 1.2)
    assert np.allclose(store.values("normal-mach"), state(flow.points)["Velocity"][:, 0] / a)
    assert np.allclose(store.values("compression-sensor"), 1.0)
    turning = cube_flow(5, velocity=lambda p: np.column_stack([-p[:, 1], p[:, 0], 0 * p[:, 0]]))
    assert np.allclose(QuantityStore(turning, turning.reference).values("compression-sensor"), 0.0)


def test_units_of_the_catalogue_follow_from_its_formulas():
    for d in CATALOGUE:
        found = catalogue_formula(d.name)
        if found is None:
            continue
        assert found.doubts == (), d.name
        assert found.root.unit == unit_of(d.unit), f"{d.name}: {found.root.unit} and not {d.unit}"
        assert {"scalar": 1, "condition": 1, "vector": 3, "tensor": 9}[found.root.shape] == d.components, d.name


def test_every_entry_says_what_it_is():
    names = [d.name for d in CATALOGUE]
    assert len(names) == len(set(names))
    for d in CATALOGUE:
        if d.group != HIDDEN:
            assert d.title, d.name
            assert d.told, d.name
            assert standard(word_of(d)).key in (d.name, "temperature"), d.name


def test_cylindrical_components_and_the_rotating_frame():
    """Solid rotation seen from the rotating frame stands still (common practice, no source)."""
    spin, axis, point = 2.0, np.array([1.0, 2.0, 2.0]) / 3, np.array([0.3, 0.1, -0.2])

    def solid(p):
        return spin * np.cross(axis, p - point) + 5.0 * axis

    flow = cube_flow(6, velocity=solid)
    store = QuantityStore(flow, flow.reference, Methods(axis=tuple(3 * axis), axis_point=tuple(point), spin=spin))
    radius = np.linalg.norm(np.cross(axis, flow.points - point), axis=1)
    assert np.allclose(store.values("radius"), radius)
    assert np.allclose(store.values("velocity-axial"), 5.0)
    assert np.allclose(store.values("velocity-tangential"), spin * radius)
    assert np.allclose(store.values("velocity-radial"), 0.0, atol=1e-12)
    assert np.allclose(store.values("relative-speed"), 5.0)
    assert np.allclose(np.tan(store.values("flow-angle")), spin * radius / 5.0)


def test_the_rest_of_the_catalogue_on_linear_fields():
    """By the definitions, where all gradients are constant: what no other check here reaches."""
    g, rise, thin = np.array([[1.0, 2, 0], [0, -1, 3], [4, 0, 0]]), np.array([3.0, -4.0, 12.0]), np.array([0.1, 0.2, -0.2])
    cube = cube_flow(5)
    p = cube.points
    flow = flow_of([(p, cube.blocks[0].grid)], {"Velocity": p @ g.T + 1.0, "Pressure": 50 + p @ rise, "Density": 2 + p @ thin})
    store = QuantityStore(flow, flow.reference, Methods(knife=(0, 0, 2), shading=4.0, spin=1.0))
    u, s = p @ g.T + 1.0, 0.5 * (g + g.T)
    assert np.allclose(store.values("strain-rate"), np.sqrt(2 * (s * s).sum()))
    assert np.allclose(store.values("convective-acceleration"), u @ g.T)
    assert np.allclose(store.values("lamb-vector"), np.cross([g[2, 1] - g[1, 2], g[0, 2] - g[2, 0], g[1, 0] - g[0, 1]], u))
    assert np.allclose(store.values("pressure-gradient"), 13.0)
    assert np.allclose(store.values("density-gradient-magnitude"), 0.3)
    assert np.allclose(store.values("density-gradient-y"), 0.2)
    assert np.allclose(store.values("knife-edge"), -0.2)
    assert np.allclose(store.values("schlieren-shading"), np.exp(-4.0))
    assert np.abs(store.values("density-laplacian")).max() < 1e-9
    relative = np.linalg.norm(u - np.cross([1.0, 0, 0], p), axis=1)
    sound = np.sqrt(1.4 * (50 + p @ rise) / (2 + p @ thin))
    assert np.allclose(store.values("sound-speed"), sound)
    assert np.allclose(store.values("relative-mach"), relative / sound)
    assert np.allclose(store.values("mass-flux"), (2 + p @ thin)[:, None] * u)
