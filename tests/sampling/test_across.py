"""Values of one flow at the nodes of another."""

from dataclasses import replace

import numpy as np
import pytest

from making import cube_flow, flow_of
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.across import across
from tidal_lens.study.others import Ways, carried


def linear(p):
    return 2.0 + p @ np.array([1.0, -3.0, 0.5])


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra", "wedges", "pyramids"])
def test_a_linear_field_comes_across_exactly_and_outside_has_no_value(kind):
    there = cube_flow(9, kind, s=linear, v=lambda p: np.column_stack([p[:, 1], -p[:, 0], 1 + 0 * p[:, 0]]))
    here = cube_flow(8, "structured", 0.05, low=-0.4, high=1.2)
    way = across(there, here)
    inside = ((here.points >= -1e-9) & (here.points <= 1 + 1e-9)).all(axis=1)
    found = way.bring(there.fields["s"].values)
    assert np.isfinite(found).sum() == inside.sum()
    assert found[inside] == pytest.approx(linear(here.points[inside]), abs=2e-5)
    assert way.outside == (~inside).sum()
    vectors = way.bring(there.fields["v"].values)
    assert vectors[inside, 0] == pytest.approx(here.points[inside, 1], abs=2e-5)


def test_the_error_of_a_smooth_field_falls_with_the_square_of_the_cells():
    def wave(p):
        return np.sin(3 * p[:, 0]) * np.cos(2 * p[:, 1] + p[:, 2])

    here = cube_flow(12, "tetrahedra", 0.03)
    errors = []
    for n in (11, 21):
        there = cube_flow(n, "structured", 0.05, s=wave)
        errors.append(float(np.abs(across(there, here).bring(there.fields["s"].values) - wave(here.points)).max()))
    assert errors[0] / errors[1] > 3.2, errors


def test_the_same_mesh_gives_the_values_themselves():
    there, here = (cube_flow(7, "hexahedra", 0.04, s=linear) for _ in range(2))
    values = there.fields["s"].values
    assert across(there, here).bring(values) is values


def _ring(around, away=9):
    """A cylinder's wall in a quarter, with so many cells round it."""
    a, r = np.linspace(0, 0.5 * np.pi, around + 1), np.linspace(1.0, 2.0, away)
    z = np.linspace(0, 0.2, 3)
    zz, rr, aa = np.meshgrid(z, r, a, indexing="ij")
    points = np.stack([rr * np.cos(aa), rr * np.sin(aa), zz], axis=-1).reshape(-1, 3)
    grid = StructuredGrid((around + 1, away, 3), "curvilinear")
    flow = flow_of([(points, grid)], {"s": np.hypot(points[:, 0], points[:, 1]), "angle": np.arctan2(points[:, 1], points[:, 0])})
    index = np.arange(len(points)).reshape(3, away, around + 1)
    wall = np.stack([index[:-1, 0, :-1], index[:-1, 0, 1:], index[1:, 0, 1:], index[1:, 0, :-1]], axis=-1).reshape(-1, 4)
    return replace(flow, boundaries=(boundary_of_faces("wall", "wall", points, wall),)), wall


def test_walls_of_two_meshes_of_one_curved_body_meet():
    """Facets of a fine wall lie outside of a coarse one's, whose nodes lie on the body: all take what is on the other wall."""
    fine, wall = _ring(40)
    coarse, _ = _ring(8)
    way = across(coarse, fine)
    nodes = np.unique(wall)
    found = way.bring(coarse.fields["s"].values)[nodes]
    assert np.isfinite(found).all()
    assert found == pytest.approx(1.0, abs=1e-12), "on the wall, not beside it"
    angle = way.bring(coarse.fields["angle"].values)[nodes]
    assert angle == pytest.approx(fine.fields["angle"].values[nodes], abs=2e-3)
    plain = replace(coarse, boundaries=())
    assert across(plain, replace(fine, boundaries=())).bring(coarse.fields["s"].values)[nodes].max() > 1.004, "else not"
    rim = np.hypot(fine.points[:, 0], fine.points[:, 1]) > 1.9999
    assert not np.isfinite(way.bring(coarse.fields["s"].values)[rim]).all(), "what lies beyond the other's outside has no value"


def _pair(text):
    here = cube_flow(7, "structured", 0.03, Pressure=linear, Density=lambda p: 1 + 0 * p[:, 0])
    there = cube_flow(9, "structured", Pressure=lambda p: linear(p) + p[:, 0] ** 2, Density=lambda p: 2 + 0 * p[:, 0])
    methods = Methods(formulas=(("d", text), ("twice", "2 * d")))
    stores = [QuantityStore(flow, flow.reference, methods) for flow in (here, there)]
    return stores, here


def test_formulas_look_into_the_second_case():
    (own, other), here = _pair("in_second(pressure) - pressure")
    assert "another case beside this one" in own.missing("formula:d")
    own.others = (carried(type("E", (), {"store": other})(), here, Ways()),)
    assert own.missing("formula:d") == ""
    x = here.points[:, 0]
    assert own.values("formula:d") == pytest.approx(x**2, abs=0.01)
    assert own.values("formula:twice") == pytest.approx(2 * x**2, abs=0.02)
    assert own.describe("formula:d").title == "Δ Pressure"
    assert own.describe("formula:d").scale == "signed"
    (own, other), here = _pair("in_second(length(grad(pressure)))")
    own.others = (carried(type("E", (), {"store": other})(), here, Ways()),)
    inner = np.abs(here.points - 0.5).max(axis=1) < 0.3
    exact = np.sqrt((1 + 2 * here.points[:, 0]) ** 2 + 9 + 0.25)
    assert own.values("formula:d")[inner] == pytest.approx(exact[inner], abs=0.02), "derivatives are taken on the other's mesh"


def test_what_rests_on_another_case_changes_with_it():
    (own, other), here = _pair("in_second(pressure) - pressure")
    ways = Ways()
    own.others = (carried(type("E", (), {"store": other})(), here, ways),)
    before, signed = own.values("formula:d").copy(), own.signature("formula:d")
    later = cube_flow(9, "structured", Pressure=lambda p: linear(p) + 5, Density=lambda p: 2 + 0 * p[:, 0])
    own.others = (carried(type("E", (), {"store": QuantityStore(later, later.reference, own.methods)})(), here, ways),)
    assert own.signature("formula:d") != signed
    assert own.values("formula:d") == pytest.approx(5.0, abs=1e-3)
    assert own.signature("pressure") == QuantityStore(here, here.reference).signature("pressure")
    own.others = (carried(type("E", (), {"store": other})(), here, ways),)
    assert own.values("formula:d") == pytest.approx(before, abs=1e-12)
