"""Integrals, forces, sections and profiles against closed forms, potential flow and the solvers' own numbers.

Sources: Gauss's theorem; d'Alembert's paradox and the pressure round a sphere, Cp = 1 − 9/4 sin²θ (Lamb 1932, Hydrodynamics, § 96, from
memory); Archimedes' principle; the force that Kittiwake's solver wrote into its history; drag of a cylinder at Reynolds number 40 (Dennis &
Chang 1970, J. Fluid Mech. 42: 1.52, from memory).
"""

from dataclasses import replace

import numpy as np
import pytest
from scipy.interpolate import RegularGridInterpolator

from making import KINDS, cube_flow
from shells import shell
from tidal_lens.cutting.sections import section_of
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.demo.kittiwake import ASSETS, demo_file
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.formats.csv_tables import read_table
from tidal_lens.measures.boundaries import boundary_facets
from tidal_lens.measures.forces import Load, Wind, momentum_force, wall_forces
from tidal_lens.measures.sums import Facets
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.forces import new_forces
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.over import OverShape
from tidal_lens.study.kinds.profile import ProfileShape
from tidal_lens.study.kinds.section import SectionShape
from tidal_lens.study.kinds.slice import SliceShape
from tidal_lens.study.looks import BallLook, LineLook, SurfaceLook
from tidal_lens.study.model import Study
from tidal_lens.study.session import open_session
from tidal_lens.work import Token

X = np.array([1.0, 0.0, 0.0])


def outside(kind, n=9, warp=0.2, **fields):
    flow = cube_flow(n, kind, warp, **fields)
    return replace(flow, boundaries=(boundary_of_faces("all", "far field", flow.points, flow.outside.faces),))


@pytest.mark.parametrize("kind", KINDS)
def test_what_flows_out_of_a_volume_is_the_divergence_in_it(kind):
    """Gauss: the field r has a divergence of 3, and the faces hold exactly the volume of the cells."""
    flow = outside(kind)
    facets = boundary_facets(flow, ["all"])
    through = Facets(facets.corners, -facets.areas).through(flow.points)
    assert through.net == pytest.approx(3.0, rel=1e-9)
    assert through.back == pytest.approx(0.0, abs=1e-12), "seen from its corner all of it goes out"
    assert np.abs(facets.areas.sum(axis=0)).max() < 1e-12, "the surface is closed"


def test_what_turns_round_within_a_triangle_counts_on_both_sides():
    """A flux x through the unit square about zero: ⅛ each way, whatever the triangles."""
    points = np.array([[-0.5, -0.5, 0], [0.5, -0.5, 0], [0.5, 0.5, 0], [-0.5, 0.5, 0]])
    flux = np.column_stack([0 * points[:, 0], 0 * points[:, 0], points[:, 0]])
    for faces in ([[0, 1, 2, 3]], [[1, 2, 3, 0]], [[0, 1, 2, 2], [0, 2, 3, 3]]):
        through = Facets.of(points, np.array(faces)).through(flux)
        assert (through.forth, through.back) == (pytest.approx(0.125), pytest.approx(0.125))
        assert through.reversed == pytest.approx(0.5)


def test_the_area_of_a_sphere_and_the_mean_square_height_on_it_at_second_order():
    errors = []
    for n in (9, 17):
        ball = shell(n)
        facets = boundary_facets(ball, ["ball"])
        z = ball.points[:, 2]
        errors.append((abs(facets.sizes.sum() / (4 * np.pi) - 1), abs((facets.product(z, z) * facets.sizes).sum() / (4 * np.pi / 3) - 1)))
    order = np.log2(np.array(errors[0]) / errors[1])
    assert (order > 1.8).all()
    assert max(errors[1]) < 0.012


def test_a_body_in_a_fluid_at_rest_is_pushed_up_by_its_weight_of_fluid():
    """Archimedes; and no moment about its middle, another about another point."""
    ball = shell(33)
    facets = boundary_facets(ball, ["ball"])
    found = wall_forces(ball.points, facets, -ball.points[:, 2], None, np.zeros(3), X)
    volume = -np.einsum("ki,ki->", ball.points[facets.corners].mean(axis=1), facets.areas) / 3.0
    assert abs(volume) == pytest.approx(4 * np.pi / 3, rel=0.01)
    assert found.total.force == pytest.approx([0, 0, abs(volume)], abs=1e-9)
    assert found.total.moment == pytest.approx([0, 0, 0], abs=1e-9)
    aside = wall_forces(ball.points, facets, -ball.points[:, 2], None, np.array([1.0, 0, 0]), X)
    assert aside.total.moment == pytest.approx([0, abs(volume), 0], abs=1e-9), "-x times z is y"
    assert found.running[-1] == pytest.approx(found.total.force, abs=1e-12)
    assert found.running[len(found.along) // 2, 2] == pytest.approx(0.5 * abs(volume), rel=0.03), "half of it is pushed on the front half"


def test_potential_flow_does_not_push_a_sphere():
    ball = shell(33)
    facets = boundary_facets(ball, ["ball"])
    cp = 1 - 2.25 * (1 - ball.points[:, 0] ** 2)
    found = wall_forces(ball.points, facets, cp, None, np.zeros(3), X)
    assert np.abs(found.total.force).max() < 1e-9
    front = found.running[len(found.along) // 2, 0]
    assert front == pytest.approx(-np.pi / 8, rel=0.03), "each half is drawn: the integral of Cp cosθ over it"


def test_friction_all_round_one_way_is_its_area():
    ball = shell(17)
    facets = boundary_facets(ball, ["ball"])
    found = wall_forces(ball.points, facets, 0 * ball.points[:, 0], np.tile([0.0, 2.0, 0.0], (ball.n_points, 1)), np.zeros(3), X)
    assert found.friction.force == pytest.approx([0, 2.0 * facets.sizes.sum(), 0])
    assert not found.pressure.force.any()


def test_coefficients_stand_on_the_stream():
    wind = Wind((np.cos(0.1), 0.0, np.sin(0.1)), 2.0, 3.0, 0.5)
    lift = np.array([-np.sin(0.1), 0.0, np.cos(0.1)])
    found = wind.coefficients(Load(6.0 * lift + 1.2 * np.array(wind.velocity), np.array([0.0, 3.0, 0.0])))
    assert found["CL"] == pytest.approx(1.0)
    assert found["CD"] == pytest.approx(0.2)
    assert found["CY"] == pytest.approx(0.0, abs=1e-12)
    assert found["Cm"] == pytest.approx(1.0), "nose up"


@pytest.mark.parametrize("kind", KINDS)
def test_momentum_through_a_box_is_the_force_within(kind):
    """A uniform stream with a pressure that falls along it: what the box holds is drawn by the whole difference."""
    flow = outside(kind)
    facets = boundary_facets(flow, ["all"])
    away = Facets(facets.corners, -facets.areas)
    force = momentum_force(away, -2.0 * flow.points[:, 0], np.ones(flow.n_points), np.tile([3.0, 1.0, 0.0], (flow.n_points, 1)))
    assert force == pytest.approx([2.0, 0, 0], abs=1e-9)


def rows_of(session, layer, study=None):
    made = session.evaluator.evaluate(layer, Token(), study or Study()).made
    return {row[0]: row[1:] for row in made.tables[0].rows}


def test_the_force_on_kittiwake_is_that_of_its_solver_and_of_the_momentum_around_it():
    session = open_session(demo_file())
    own = rows_of(session, Study().layer_of(new_forces(session.evaluator.store)))
    history = read_table(ASSETS / "kittiwake history.csv")
    for name in ("CL", "CD"):
        told = history.column(name)[-1]
        assert own[name][2] == pytest.approx(told, rel=0.01)
        assert own[f"{name} by momentum"][2] == pytest.approx(told, rel=0.035)
    assert abs(own["CY"][2]) < 1e-4, "left and right agree"
    assert own["CD"][1] > 0.02, "friction is a tenth"


def test_the_drag_of_mooring_is_that_of_the_literature():
    session = open_session(ASSETS.parent / "mooring" / "mooring.vtm")
    own = rows_of(session, Study().layer_of(new_forces(session.evaluator.store)))
    assert own["CD"][2] == pytest.approx(1.52, rel=0.03)
    assert abs(own["CL"][2]) < 1e-6
    assert own["reference length"][2] == pytest.approx(1.0, rel=1e-3), "its diameter"


def test_a_section_of_a_sphere_is_a_circle_and_holds_its_pressure():
    errors = []
    for n in (17, 33):
        ball = shell(n)
        walls = boundary_surface(ball, ("ball",))
        cut = section_of(walls, np.array([0.0, 1.0, 0.0]), 0.1)
        assert len(cut.offsets) == 2, "one line, over all seams"
        assert np.array_equal(cut.points[0], cut.points[-1]), "closed"
        assert cut.points[:, 1] == pytest.approx(0.1, abs=1e-9)
        radius = np.hypot(cut.points[:, 0], cut.points[:, 2])
        assert radius == pytest.approx(np.sqrt(1 - 0.01), abs=0.02)
        assert cut.arc[-1] == pytest.approx(2 * np.pi * np.sqrt(0.99), rel=0.01)
        errors.append(0.0)
        for place in np.linspace(0.05, 0.6, 23):  # nearer to a row of nodes or farther off
            cut = section_of(walls, np.array([0.0, 1.0, 0.0]), place)
            cp = cut.stencil.apply(1 - 2.25 * (1 - ball.points[:, 0] ** 2))
            exact = 1 - 2.25 * (1 - (cut.points[:, 0] / np.linalg.norm(cut.points, axis=1)) ** 2)
            errors[-1] += np.abs(cp - exact).mean()
    assert np.log2(errors[0] / errors[1]) > 1.8


def test_a_section_tells_upper_from_lower_and_lays_several_spans_into_one_chart():
    ball = shell(25)
    pressure = ball.points[:, 2].copy()  # above on top
    flow = replace(ball, fields={**ball.fields, "Pressure": replace(ball.fields["Velocity"], name="Pressure", values=pressure)},
                   roles=replace(ball.roles, pressure="Pressure"))
    evaluator = Evaluator(flow, ReferenceState())
    shape = SectionShape(boundaries=("ball",), direction=(0.0, 1.0, 0.0), position=0.0, quantities=("file:Pressure",), more=(0.5,))
    made = evaluator.evaluate(Study().layer_of(_begun(shape)), Token()).made
    (chart,) = made.charts
    assert [c.name for c in chart.curves] == ["upper, y = 0", "lower, y = 0", "upper, y = 0.5", "lower, y = 0.5"]
    for curve in chart.curves:
        own = curve.values[np.isfinite(curve.values)]
        assert (own > -0.06).all() if curve.name.startswith("upper") else (own < 0.06).all()
        radius = 1.0 if curve.name.endswith("= 0") else np.sqrt(0.75)
        good = np.isfinite(curve.at)
        assert np.abs(curve.values[good]) == pytest.approx(np.sqrt(np.maximum(radius**2 - curve.at[good] ** 2, 0)), abs=0.1)
    chord = evaluator.evaluate(Study().layer_of(_begun(shape.with_(against="chord", more=()))), Token()).made.charts[0].curves[0]
    assert (np.nanmin(chord.at), np.nanmax(chord.at)) == (pytest.approx(0.0, abs=0.05), pytest.approx(1.0, abs=0.05))


def _begun(shape):
    return Begun("a", shape, BallLook() if shape.geometry == "points" else LineLook())


@pytest.mark.parametrize("kind", KINDS)
def test_a_profile_of_a_linear_field_is_exact_and_ends_where_the_flow_does(kind):
    flow = cube_flow(9, kind, 0.2, s=lambda p: 2 * p[:, 0] - p[:, 1] + 3 * p[:, 2])
    evaluator = Evaluator(flow, ReferenceState())
    shape = ProfileShape(start=(0.1, 0.2, 0.1), end=(0.7, 0.9, 1.4), quantities=("file:s",), count=131, lines=2, step=(0.1, 0.0, 0.0))
    made = evaluator.evaluate(Study().layer_of(_begun(shape)), Token()).made
    (chart,) = made.charts
    assert [c.name for c in chart.curves] == ["x = 0.1", "x = 0.2"]
    for curve in chart.curves:
        inside = (curve.places >= 0).all(axis=1) & (curve.places <= 1).all(axis=1)
        near = np.abs(curve.places - 0.5).max(axis=1) < 0.55
        assert np.isfinite(curve.values[inside]).all()
        assert np.isnan(curve.values[~near]).all()
        x, y, z = curve.places[inside].T
        assert curve.values[inside] == pytest.approx(2 * x - y + 3 * z, abs=1e-6)
    assert chart.curves[0].at[-1] == pytest.approx(np.linalg.norm([0.6, 0.7, 1.3]))


def test_a_profile_agrees_with_interpolation_by_scipy():
    flow = cube_flow(17, s=lambda p: np.sin(3 * p[:, 0]) * np.cos(2 * p[:, 1]) + p[:, 2] ** 2)
    a = np.linspace(0, 1, 17)
    other = RegularGridInterpolator((a, a, a), flow.fields["s"].values.reshape(17, 17, 17))
    shape = ProfileShape(start=(0.03, 0.9, 0.2), end=(0.95, 0.1, 0.77), quantities=("file:s",))
    curve = Evaluator(flow, ReferenceState()).evaluate(Study().layer_of(_begun(shape)), Token()).made.charts[0].curves[0]
    assert curve.values == pytest.approx(other(curve.places[:, ::-1]), abs=1e-6)


def test_means_over_a_pipe_are_the_closed_forms():
    """Poiseuille's parabola with a density of 2: over a slice, the mean of u² by area is U²/3, by mass flow U²/2."""
    flow = cube_flow(65, velocity=lambda p: np.maximum(1 - ((2 * p[:, :1] - 1) ** 2 + (2 * p[:, 1:2] - 1) ** 2), 0) * [0, 0, 1.0],
                     Density=lambda p: 2 + 0 * p[:, 0],
                     s=lambda p: np.maximum(1 - ((2 * p[:, 0] - 1) ** 2 + (2 * p[:, 1] - 1) ** 2), 0) ** 2)
    flow = replace(flow, roles=replace(flow.roles, density="Density"))
    evaluator, study = Evaluator(flow, ReferenceState()), Study()
    cut = study.layer_of(Begun("cut", SliceShape(direction=(0.0, 0.0, 1.0), position=0.47), SurfaceLook()))
    study = study.adding(cut)
    mean = study.layer_of(_begun(OverShape(card=cut.id, quantity="file:s")))
    study = study.adding(mean)
    told = {row[0]: row[1] for row in evaluator.evaluate(mean, Token(), study).made.tables[0].rows}
    area = np.pi / 4
    assert told["area"] == pytest.approx(1.0)
    assert told["mean by area"] == pytest.approx(area / 3, rel=2e-3)
    assert told["mass flow along the normal"] == pytest.approx(2 * area / 2, rel=2e-3)
    assert told["mass flow against it"] == pytest.approx(0.0, abs=1e-12)
    assert told["mean by mass"] == pytest.approx(0.5, rel=3e-3)
    assert told["volume flow, net"] == pytest.approx(area / 2, rel=2e-3)
    assert told["greatest"] == pytest.approx(1.0)
    assert [told[f"greatest at {a}"] for a in "xyz"] == pytest.approx([0.5, 0.5, 0.47])
