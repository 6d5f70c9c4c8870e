"""Integrals, forces, sections and profiles against closed forms, potential flow and the solvers' own numbers.

Sources: Gauss's theorem; d'Alembert's paradox and the pressure round a sphere, Cp = 1 − 9/4 sin²θ (Lamb 1932, Hydrodynamics, § 96, from
memory); Archimedes' principle; the force that Kittiwake's solver wrote into its history; drag of a cylinder at Reynolds number 40 (Dennis &
Chang 1970, J. Fluid Mech. 42: 1.52, from memory).
"""

from dataclasses import replace

import numpy as np
import pytest
from scipy.integrate import quad
from scipy.interpolate import RegularGridInterpolator

from making import KINDS, cube_flow, flow_of
from plates import bed, plate, with_wall
from shells import shell
from tidal_lens.cutting.sections import section_of
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.demo.kittiwake import ASSETS, demo_file
from tidal_lens.errors import StudyError
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.formats.csv_tables import read_table
from tidal_lens.measures.boundaries import boundary_facets
from tidal_lens.measures.boundary_layer import law_of_the_wall
from tidal_lens.measures.course import course_of
from tidal_lens.measures.forces import Load, Wind, force_within, wall_forces
from tidal_lens.measures.layer_depth import two_layers
from tidal_lens.measures.on_walls import on_walls
from tidal_lens.measures.sums import Facets
from tidal_lens.quantities.smoothing import node_volumes
from tidal_lens.study.conditions import Condition
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.boundaries import BoundariesShape
from tidal_lens.study.kinds.boundary_layer import BoundaryLayerShape
from tidal_lens.study.kinds.forces import ForcesShape, new_forces
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.layer_depth import LayerDepthShape
from tidal_lens.study.kinds.over import OverShape
from tidal_lens.study.kinds.path import PathShape
from tidal_lens.study.kinds.probe import ProbeShape
from tidal_lens.study.kinds.profile import ProfileShape
from tidal_lens.study.kinds.region import RegionShape
from tidal_lens.study.kinds.round import RoundShape
from tidal_lens.study.kinds.section import SectionShape
from tidal_lens.study.kinds.slice import SliceShape
from tidal_lens.study.kinds.streamlines import new_seed_list
from tidal_lens.study.kinds.volume import VolumeShape
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
        errors.append((abs(facets.sizes.sum() / (4 * np.pi) - 1), abs(facets.sums(z).square / (4 * np.pi / 3) - 1)))
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
    # Axes x aft, y right, z up: lift on the left wing rolls it right, a push of the tail to the left turns the nose right.
    left, up, tail = np.array([0.0, -1.0, 0.0]), np.array([0.0, 0.0, 1.0]), np.array([1.0, 0.0, 0.0])
    assert wind.coefficients(Load(up, np.cross(left, up)))["Cl"] == pytest.approx(1.0 / 3.0)
    assert wind.coefficients(Load(up, np.cross(left, up)))["Cm"] == pytest.approx(0.0, abs=1e-15)
    assert wind.coefficients(Load(left, np.cross(tail, left)))["Cn"] == pytest.approx(1.0 / 3.0)
    assert wind.coefficients(Load(left, np.cross(tail, left)))["CY"] == pytest.approx(-1.0 / 6.0)


@pytest.mark.parametrize("kind", KINDS)
def test_momentum_through_a_box_is_the_force_within(kind):
    """A uniform stream with a pressure that falls along it: what the box holds is drawn by the whole difference."""
    flow = outside(kind)
    facets = boundary_facets(flow, ["all"])
    away = Facets(facets.corners, -facets.areas)
    middle, n = np.array([0.5, 0.5, 0.5]), flow.n_points
    load = force_within(flow.points, away, -2.0 * flow.points[:, 0], np.ones(n), np.tile([3.0, 1.0, 0.0], (n, 1)), middle)
    assert load.force == pytest.approx([2.0, 0, 0], abs=1e-9)
    assert load.moment == pytest.approx([0, 0, 0], abs=1e-9)
    # A stress that grows along y drags what is within along x; about another point that is a moment.
    stress = np.zeros((n, 3, 3))
    stress[:, 0, 1] = stress[:, 1, 0] = 4.0 * flow.points[:, 1]
    rubbed = force_within(flow.points, away, 0 * flow.points[:, 0], np.ones(n), np.zeros((n, 3)), middle - [0, 1.0, 0], stress)
    assert rubbed.force == pytest.approx([4.0, 0, 0], abs=1e-9)
    assert rubbed.moment[2] == pytest.approx(-4.0, abs=0.05), "the force stands a unit above that point; its own moment is nothing"


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


def test_momentum_through_a_box_of_choice_is_the_force_on_kittiwake():
    """The skin of a region round the body, whose own walls do not count in it: nearer than the whole domain is."""
    session = open_session(demo_file())
    limits = (("x", -0.06, 1.12), ("y", -0.38, 0.38), ("z", -0.12, 0.14))
    box = RegionShape(conditions=tuple(Condition(quantity=f"place-{a}", value=v, keep=k) for a, low, high in limits
                                       for v, k in ((low, "above"), (high, "below"))))
    study = Study()
    region = study.layer_of(Begun("box", box, SurfaceLook()))
    study = study.adding(region)
    walls = new_forces(session.evaluator.store).shape
    around = walls.with_(through=region.id)
    own = rows_of(session, study.layer_of(Begun("F", around, LineLook())), study)
    on_box = rows_of(session, study.layer_of(Begun("F", walls.with_(card=region.id), LineLook())), study)
    for name in ("CL", "CD"):
        assert own[f"{name} by momentum"][2] == pytest.approx(own[name][2], rel=0.015)
        assert own[f"{name} by momentum less the walls' own"][2] == own[f"{name} by momentum"][2] - own[name][2]
        assert on_box[name][-1] == pytest.approx(own[f"{name} by momentum"][2], rel=1e-9), "the same as the box's own force"
        assert on_box[name][3] < 0, "more momentum comes out below and behind than went in: the wake is slow, the stream turned down"
    assert on_box["Cm"][-1] == pytest.approx(own["Cm"][2], rel=0.03)


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


@pytest.mark.parametrize("kind", KINDS)
def test_integrals_over_a_volume_are_exact_where_values_are_linear(kind):
    """The unit cube, its cells bent inside: volume 1, middle at ½ each way; and of the second order for a cosine."""
    errors = []
    for n in (5, 9, 17):
        flow = cube_flow(n, kind, 0.2)
        weights = node_volumes(flow)
        assert weights.sum() == pytest.approx(1.0, rel=1e-12)
        assert weights @ flow.points == pytest.approx([0.5, 0.5, 0.5], rel=1e-12)
        errors.append(abs(weights @ np.cos(flow.points @ [1.0, 2.0, 0.5])
                          - np.real(np.exp(1.75j)) * np.prod(np.sin([0.5, 1.0, 0.25]) / [0.5, 1.0, 0.25])))
    assert np.log2(errors[1] / errors[2]) > 1.8


def _told(shape, evaluator, study=None):
    layer = (study or Study()).layer_of(_begun(shape))
    made = evaluator.evaluate(layer, Token(), (study or Study()).adding(layer)).made
    return made, {row[0]: row[1] for row in next(t for t in made.tables if t.heads[0] == "what").rows}


def test_a_ball_holds_what_it_should():
    """The region r < 0.4 with a density 1 + x: volume 4/3 π r³, mass by its middle, kinetic energy; of the second order."""
    exact = 4 / 3 * np.pi * 0.4**3
    errors = []
    for n in (17, 33):
        flow = cube_flow(n, velocity=lambda p: 3.0 + 0 * p, Density=lambda p: 1 + p[:, 0], s=lambda p: p[:, 0],
                         r=lambda p: np.linalg.norm(p - 0.5, axis=1))
        flow = replace(flow, roles=replace(flow.roles, density="Density"))
        evaluator, study = Evaluator(flow, ReferenceState()), Study()
        inside = Condition(quantity="file:r", value=0.4, keep="below")
        ball = study.layer_of(Begun("ball", RegionShape(conditions=(inside,)), SurfaceLook()))
        _, told = _told(VolumeShape(card=ball.id, quantity="file:s"), evaluator, study.adding(ball))
        errors.append(abs(told["volume"] / exact - 1))
        assert told["mean by volume"] == pytest.approx(0.5, abs=1e-6)
        assert told["mass"] == pytest.approx(1.5 * told["volume"], rel=1e-6)
        assert told["kinetic energy"] == pytest.approx(0.5 * 27.0 * told["mass"], rel=1e-6)
        assert told["mean by mass"] == pytest.approx(0.5 + 0.4**2 / 5 / 1.5, rel=0.01), "the middle of mass lies further along"
    assert errors[1] < 0.01
    assert np.log2(errors[0] / errors[1]) > 1.7


def test_the_distribution_of_a_linear_value_is_even():
    flow = cube_flow(33, warp=0.2, velocity=lambda p: 0 * p + [1.0, 0, 0], s=lambda p: p[:, 0])
    made, told = _told(VolumeShape(quantity="file:s", bins=8), Evaluator(flow, ReferenceState()))
    (curve,) = [c for c in made.charts[0].curves if c.name == "by volume"]
    assert curve.values * np.diff(curve.at)[0] == pytest.approx(1 / 8, rel=0.08)
    assert (curve.values * np.diff(curve.at)[0]).sum() == pytest.approx(1.0)
    assert told["standard deviation by volume"] == pytest.approx(1 / np.sqrt(12), rel=2e-3)


@pytest.mark.parametrize("periods", [1.0, 1.3, 4.6, 11.0])
def test_a_swing_over_time_is_told_by_mean_amplitude_and_period(periods):
    """2 + 0.3 sin 2πt/T at uneven moments, over little more than one period and over many."""
    rng = np.random.default_rng(3)
    t = np.sort(np.concatenate([[0.0, periods * 0.7], rng.uniform(0, periods * 0.7, 150)]))
    course = course_of(t, 2 + 0.3 * np.sin(2 * np.pi * t / 0.7 + 0.4))
    assert course.period == pytest.approx(0.7, rel=1e-3)
    assert course.swing == pytest.approx(0.3, rel=1e-3)
    assert course.periods == pytest.approx(periods, rel=1e-3)
    assert course.amplitude == pytest.approx(0.3, rel=0.02)
    if periods == 11.0:
        assert course.mean == pytest.approx(2.0, abs=6e-3)
        assert course.rms == pytest.approx(0.3 / np.sqrt(2), rel=0.04)
        assert course.frequency[course.strength.argmax()] == pytest.approx(1 / 0.7, rel=0.02)
        assert course.strength.max() == pytest.approx(0.3, rel=0.07), "the window is made up for"


def test_a_still_or_an_unknown_number_has_no_period():
    assert np.isnan(course_of(np.arange(20.0), np.full(20, 3.0)).period)
    assert np.isnan(course_of(np.arange(3.0), np.array([0.0, 1.0, 0.0])).period)
    assert np.isnan(course_of(np.arange(3.0), np.full(3, np.nan)).mean)
    assert course_of(np.arange(4.0), np.array([np.nan, 1.0, 3.0, np.nan])).mean == 2.0


def _swirling(n, kind="structured", warp=0.15):
    flow = cube_flow(n, kind, warp, velocity=lambda p: np.column_stack([1 + p[:, 1], 2 * p[:, 0] - p[:, 2], p[:, 0] * 0 + 0.5]),
                     p=lambda p: 2 + p @ [1.0, -0.5, 0.25], Density=lambda p: 1 + p[:, 0])
    return replace(flow, roles=replace(flow.roles, density="Density"))


@pytest.mark.parametrize("kind", KINDS)
def test_a_probe_reads_linear_fields_exactly(kind):
    """Values linear in space, and their derivatives: vorticity (1, 0, 1), Q = −(∂u/∂y · ∂v/∂x) = −2."""
    place = (0.43, 0.56, 0.61)
    _, told = _told(ProbeShape(places=(place,)), Evaluator(_swirling(9, kind), ReferenceState(1.0, 1.0, (1.0, 0, 0))))
    assert told["p"] == pytest.approx(2 + np.dot(place, [1.0, -0.5, 0.25]), rel=1e-6)
    assert [told[f"Velocity {a}"] for a in "xyz"] == pytest.approx([1.56, 0.86 - 0.61, 0.5], rel=1e-6)
    assert [told[f"Vorticity {a}"] for a in "xyz"] == pytest.approx([1.0, 0.0, 1.0], abs=1e-6)
    assert told["Q"] == pytest.approx(-2.0, rel=1e-6)
    assert told["Divergence"] == pytest.approx(0.0, abs=1e-6)


def test_a_probe_at_a_node_tells_what_the_whole_flow_has_there():
    """Near places alone the same comes out as from all nodes, for each quantity."""
    evaluator = Evaluator(_swirling(9), ReferenceState(1.0, 1.0, (1.0, 0, 0)))
    node = 9 * 9 * 4 + 9 * 3 + 5
    _, told = _told(ProbeShape(places=(tuple(evaluator.flow.points[node] + 1e-3),), snap="node"), evaluator)
    whole, compared = Evaluator(evaluator.flow, evaluator.store.reference), 0
    assert [told[a] for a in "xyz"] == pytest.approx(evaluator.flow.points[node])
    for quantity in whole.store.quantities():
        label = f"{quantity.title} [{quantity.unit}]" if quantity.unit else quantity.title
        if quantity.components == 1 and label in told:
            assert told[label] == pytest.approx(float(whole.store.values(quantity.name)[node]), rel=1e-9, abs=1e-12, nan_ok=True), label
            compared += 1
    assert compared > 40


def test_a_probe_of_a_cell_is_the_mean_of_its_corners_and_one_outside_says_so():
    evaluator = Evaluator(_swirling(5, warp=0.0), ReferenceState())
    _, told = _told(ProbeShape(places=((0.3, 0.3, 0.3),), snap="cell"), evaluator)
    assert [told[a] for a in "xyz"] == pytest.approx([0.375, 0.375, 0.375])
    made, _ = _told(ProbeShape(places=((0.3, 0.3, 0.3), (3.0, 0.0, 0.0))), evaluator)
    assert "1 outside the flow" in made.told
    with pytest.raises(StudyError, match="outside the flow"):
        _told(ProbeShape(places=((3.0, 0.0, 0.0),)), evaluator)


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
def test_probes_agree_with_scipy(kind):
    """Trilinear on even lattices: SciPy's RegularGridInterpolator; in tetrahedra to the second order of the mesh."""
    flow = cube_flow(25, kind, 0.0, s=lambda p: np.sin(3 * p[:, 0]) * np.cos(2 * p[:, 1]) + p[:, 2] ** 2)
    axis = np.linspace(0, 1, 25)
    other = RegularGridInterpolator((axis, axis, axis), flow.fields["s"].values.reshape(25, 25, 25))
    places = np.random.default_rng(1).uniform(0.02, 0.98, (40, 3))
    made, _ = _told(ProbeShape(places=tuple(map(tuple, places.tolist()))), Evaluator(flow, ReferenceState()))
    row = next(r for r in made.tables[0].rows if r[0] == "s")
    assert row[1:] == pytest.approx(other(places[:, ::-1]), abs=1e-6 if kind == "structured" else 2e-3)


@pytest.mark.parametrize("edge", ["vorticity", "total pressure"])
@pytest.mark.parametrize("kind", ["structured", "hexahedra"])
def test_the_boundary_layer_of_a_flat_plate(kind, edge):
    """δ* √Re/x = 1.7208, θ √Re/x = 0.6641, H = 2.591, cf √Re = 0.6641, δ99 √Re/x = 4.91 (Schlichting, ch. 6), and the order."""
    nu, stream, rho = 1e-4, 2.0, 1.2
    x = 1.0
    by = np.sqrt(stream * x / nu)
    errors = []
    for layers in (41, 81, 161):
        flow = plate(kind, layers, columns=2 * (layers // 4) + 1, nu=nu, stream=stream, rho=rho)
        evaluator = Evaluator(flow, ReferenceState(density=rho, velocity=(stream, 0, 0), viscosity=rho * nu))
        _, told = _told(BoundaryLayerShape(place=(x, 0.07, 0.01), edge=edge), evaluator)
        found = [told["δ*"] * by, told["θ"] * by, told["H"], told["cf by the edge"] * by]
        errors.append(np.abs(np.array(found) / [1.7208, 0.6641, 2.5911, 0.6641] - 1))
        assert told["δ99"] * by == pytest.approx(4.91, rel=0.015)
    assert errors[-1].max() < 0.003, errors
    assert told["Reynolds number of θ"] == pytest.approx(0.6641 * by, rel=0.01)
    assert told["speed at the edge"] == pytest.approx(stream, rel=2e-3)
    assert told["z of the wall"] == pytest.approx(0.0, abs=1e-12)
    assert told["y⁺ of the first node"] == pytest.approx(
        np.unique(flow.points[:, 2])[1] * np.sqrt(0.5 * 0.6641 / by) * stream / nu, rel=0.01)
    if edge == "total pressure":
        assert np.log2(errors[0][1] / errors[1][1]) > 1.8, "θ, of the second order while the mesh counts more than where the edge is put"


def test_a_spectrum_is_one_of_amplitudes():
    """Two swings of 0.3 and 0.05, ten and twenty-five periods in even moments: peaks as high as those, where they are (Harris 1978)."""
    t = np.linspace(0.0, 5.0, 1001)[:-1]
    course = course_of(t, 1.0 + 0.3 * np.sin(2 * np.pi * 2.0 * t) + 0.05 * np.cos(2 * np.pi * 5.0 * t))
    assert course.strength.max() == pytest.approx(0.3, rel=5e-3)
    assert course.frequency[course.strength.argmax()] == pytest.approx(2.0, abs=0.02)
    beyond = course.frequency > 3.5
    assert course.strength[beyond].max() == pytest.approx(0.05, rel=0.02)
    assert course.frequency[beyond][course.strength[beyond].argmax()] == pytest.approx(5.0, abs=0.02)


def test_what_comes_back_along_the_wall_is_no_layer():
    """The base of Kittiwake, where the wake turns back: told, whatever the numbers are; on its upper side nothing is told."""
    session = open_session(demo_file())
    layers = {}
    for name, place in (("base", (1.0, 0.2, 0.0)), ("side", (0.6, 0.0, 0.06))):
        layer = Study().layer_of(Begun(name, BoundaryLayerShape(place=place), LineLook()))
        layers[name] = session.evaluator.evaluate(layer, Token(), Study().adding(layer)).made.told
    assert "separated" in layers["base"]
    assert "separated" not in layers["side"]


def test_a_coarse_layer_is_warned_of_and_stations_make_curves():
    flow = plate(layers=9)
    evaluator = Evaluator(flow, ReferenceState(density=1.2, velocity=(2.0, 0, 0), viscosity=1.2e-4))
    made, _ = _told(BoundaryLayerShape(place=(1.0, 0.07, 0.0)), evaluator)
    assert "cells across the layer" in made.told
    fine = Evaluator(plate(layers=81), ReferenceState(density=1.2, velocity=(2.0, 0, 0), viscosity=1.2e-4))
    made, _ = _told(BoundaryLayerShape(place=(0.6, 0.07, 0.0), to=(1.4, 0.07, 0.0), stations=9), fine)
    thick, shape, friction = made.charts
    assert [c.name for c in thick.curves] == ["δ99", "δ*", "θ"]
    x = thick.curves[1].places[:, 0]
    assert thick.curves[1].values / np.sqrt(x) == pytest.approx(1.7208 * np.sqrt(1e-4 / 2.0), rel=0.02), "it grows with the root of x"
    assert shape.curves[0].values == pytest.approx(2.591, rel=0.02)
    assert friction.curves[0].values * np.sqrt(x) == pytest.approx(0.6641 * np.sqrt(1e-4 / 2.0), rel=0.02)


def test_the_law_of_the_wall_is_drawn_as_it_is():
    """u⁺ = y⁺ below, ln y⁺ / 0.41 + 5 above (Coles & Hirst 1968)."""
    assert law_of_the_wall(np.array([1.0, 5.0])) == pytest.approx([1.0, 5.0])
    assert law_of_the_wall(np.array([100.0])) == pytest.approx(np.log(100.0) / 0.41 + 5.0)


def test_the_interface_of_two_layers_is_found():
    """Two even layers: exactly. A tanh profile: the same as its integrals by quadrature give (Janssens & Tran 1992)."""
    z = np.linspace(0, 2.4, 4001)
    found = two_layers(z, np.where(z < 1.5, 293.0, 480.0))
    assert (found.height, found.lower, found.upper) == pytest.approx((1.5, 293.0, 480.0), rel=1e-3)

    def smooth(x):
        return 300.0 + 100.0 * (1 + np.tanh((x - 1.3) / 0.15))

    first, second = quad(smooth, 0, 2.4)[0], quad(lambda x: 1 / smooth(x), 0, 2.4)[0]
    low = smooth(0.0)
    height = low * (first * second - 2.4**2) / (first + second * low**2 - 2 * low * 2.4)
    found = two_layers(z, smooth(z))
    assert found.height == pytest.approx(height, rel=1e-5)
    assert found.height == pytest.approx(1.3, abs=0.12), "a broad step counts as lower than its middle"
    assert found.upper == pytest.approx(quad(smooth, height, 2.4)[0] / (2.4 - height), rel=1e-5)
    assert np.isnan(two_layers(z, np.full(len(z), 300.0)).height), "one layer"
    with pytest.raises(ValueError, match="positive"):
        two_layers(z, z - 1.0)


def test_a_layers_depth_is_measured_in_a_flow():
    flow = cube_flow(65, Temperature=lambda p: 300 + 100 * (1 + np.tanh((p[:, 2] - 0.6) / 0.05)))
    evaluator = Evaluator(flow, ReferenceState())
    made, told = _told(LayerDepthShape(start=(0.5, 0.5, 0.0), end=(0.5, 0.5, 1.0), quantity="file:Temperature"), evaluator)
    assert told["height of the interface above the line's beginning"] == pytest.approx(0.6, abs=0.04)
    assert told["mean of the upper layer"] == pytest.approx(500.0, rel=0.05)
    assert made.charts[0].curves[1].dashed
    with pytest.raises(StudyError, match="No depth follows"):
        _told(LayerDepthShape(start=(2.0, 0.5, 0.0), end=(2.0, 0.5, 1.0), quantity="file:Temperature"), evaluator)


def test_a_path_follows_the_lines_of_a_card():
    """In solid rotation about z the circle of radius 0.3: speed 0.3, length 2π · 0.3 a turn; values along it are those of the places."""
    flow = cube_flow(33, velocity=lambda p: np.column_stack([-(p[:, 1] - 0.5), p[:, 0] - 0.5, 0 * p[:, 0]]), s=lambda p: p[:, 0])
    evaluator, study = Evaluator(flow, ReferenceState()), Study()
    lines = study.layer_of(new_seed_list(evaluator.store, ((0.8, 0.5, 0.5), (0.6, 0.5, 0.5)), "a"))
    study = study.adding(lines)
    made, _ = _told(PathShape(card=lines.id, quantities=("speed", "file:s")), evaluator, study)
    speed, place = made.charts
    assert speed.curves[0].values == pytest.approx(0.3, rel=2e-3)
    assert place.curves[0].values == pytest.approx(place.curves[0].places[:, 0], abs=1e-6)
    timed, _ = _told(PathShape(card=lines.id, line=2, against="time", quantities=("speed",)), evaluator, study)
    curve = timed.charts[0].curves[0]
    assert curve.values == pytest.approx(0.1, rel=0.015)
    assert np.all(np.diff(curve.at) > 0)
    assert curve.places == pytest.approx(np.column_stack([0.5 + 0.1 * np.cos(curve.at), 0.5 + 0.1 * np.sin(curve.at), 0 * curve.at + 0.5]),
                                         abs=2e-3)


def test_all_boundaries_at_once_are_the_balance():
    """Couette flow through a box, with heat: what comes in goes out; enthalpy flow γ/(γ−1) p + ρu²/2 times the volume flow."""
    flow = cube_flow(9, velocity=lambda p: np.column_stack([1 + p[:, 2], 0 * p[:, 0], 0 * p[:, 0]]), p=lambda p: 3 + 0 * p[:, 0],
                     Density=lambda p: 2 + 0 * p[:, 0], Temperature=lambda p: 300 + 10 * p[:, 2])
    flow = replace(flow, roles=replace(flow.roles, density="Density", pressure="p", temperature="Temperature"))
    ends = [("in", lambda p: np.abs(p[..., 0]) < 1e-9, "inlet"), ("out", lambda p: np.abs(p[..., 0] - 1) < 1e-9, "outlet"),
            ("bed", bed, "wall")]
    for name, on, kind in ends:
        flow = with_wall(flow, on, kind)
        flow = replace(flow, boundaries=(*flow.boundaries[:-1], replace(flow.boundaries[-1], name=name)))
    evaluator = Evaluator(flow, ReferenceState(3.0, 2.0, (1.5, 0, 0), gas_constant=287.0, viscosity=1e-3, prandtl=0.7))
    made, _ = _told(BoundariesShape(groups=(("both", ("in", "out")), ("low", ("bed", "in")))), evaluator)
    long, wide = made.tables
    told = {(row[0], head): cell for row in wide.rows for head, cell in zip(wide.heads[1:], row[1:], strict=True)}
    assert told["mass flow in", "in"] == pytest.approx(3.0)
    assert told["mass flow out", "out"] == pytest.approx(3.0)
    assert told["mass flow in, net", "both"] == pytest.approx(0.0, abs=1e-12)
    assert told["mass flow in, net", "bed"] == pytest.approx(0.0, abs=1e-12)
    heat = 1.4 / 0.4 * 3.0 * 1.5 + 2.0 * 15 / 4 / 2
    assert told["heat flow in, net", "in"] == pytest.approx(heat, rel=5e-3)
    assert told["temperature, mean by mass", "in"] == pytest.approx(300 + 10 * (0.5 + 1 / 3) / 1.5, rel=1e-6)
    assert told["pressure, mean by area", "out"] == pytest.approx(3.0)
    assert [row[0] for row in long.rows] == ["in", "out", "bed", "both", "low", "all"]
    conducted = 1e-3 * 1.4 * 287.0 / 0.4 / 0.7 * 10.0  # k ∂T/∂n on the unit square: the flow is the warmer one
    assert told["heat conducted into walls", "bed"] == pytest.approx(conducted, rel=1e-6)
    assert told["heat conducted into walls", "low"] == pytest.approx(conducted, rel=1e-6), "open boundaries conduct nothing"
    assert np.isnan(told["heat conducted into walls", "in"])
    liquid, _ = _told(BoundariesShape(heat=4000.0), evaluator)
    rows = {row[0]: row[1:] for row in liquid.tables[1].rows}
    assert rows["heat conducted into walls"][2] == pytest.approx(1e-3 * 4000.0 / 0.7 * 10.0, rel=1e-6)
    assert rows["heat flow in, net"][0] == pytest.approx(4000.0 * 2.0 * (300 * 1.5 + 10 * (0.5 + 1 / 3)), rel=1e-4)


def test_places_on_walls_are_the_nearest():
    """On the floor of a cube: below the place, or at the floor's rim where that lies beside it."""
    flow = with_wall(cube_flow(9, "tetrahedra", 0.0), bed)
    places = np.array([[0.3, 0.4, 0.2], [0.9, 0.1, -0.5], [1.7, 0.5, 0.1]])
    feet = on_walls(flow, places)
    assert feet.points == pytest.approx(np.array([[0.3, 0.4, 0], [0.9, 0.1, 0], [1.0, 0.5, 0]]))
    assert feet.normals == pytest.approx(np.tile([0, 0, 1.0], (3, 1)))
    assert feet.stencil.apply_vectors(flow.points) == pytest.approx(feet.points)


def _round_cylinder(n, circulation=0.0, rho=1.2, stream=3.0):
    """Potential flow about a cylinder of radius ½ with circulation, in a ring of one layer of cells (Lamb, § 69)."""
    r, angle = 0.5 * np.geomspace(1, 8, n), np.linspace(0, 2 * np.pi, 4 * n)
    rr, aa = (a.ravel() for a in np.meshgrid(r, angle, indexing="ij"))
    flat = np.column_stack([rr * np.cos(aa), rr * np.sin(aa), 0 * rr])
    deep = np.array([0.0, 0.0, 0.05])
    points = np.concatenate([flat - deep, flat + deep])
    radial = stream * np.cos(aa) * (1 - 0.25 / rr**2)
    swirl = -stream * np.sin(aa) * (1 + 0.25 / rr**2) - circulation / (2 * np.pi * rr)
    u = np.column_stack([radial * np.cos(aa) - swirl * np.sin(aa), radial * np.sin(aa) + swirl * np.cos(aa), 0 * rr])
    u = np.concatenate([u, u])
    pressure = 0.5 * rho * (stream**2 - (u**2).sum(axis=1))
    flow = flow_of([(points, StructuredGrid((4 * n, n, 2)))], {"Velocity": u, "Pressure": pressure, "Density": np.full(len(u), rho)})
    flow = with_wall(flow, lambda p: np.abs(np.linalg.norm(p[..., :2], axis=-1) - 0.5) < 1e-9)
    return replace(flow, normal=(0.0, 0.0, 1.0), depth=0.1)


def test_the_lift_of_a_circulating_cylinder_is_that_of_kutta_and_joukowski():
    """ρ U Γ by unit depth, no drag (any text on potential flow); of the second order."""
    rho, stream, circulation = 1.2, 3.0, 2.5
    errors = []
    for n in (9, 17, 33):
        evaluator = Evaluator(_round_cylinder(n, circulation, rho, stream), ReferenceState(0.0, rho, (stream, 0, 0)))
        made, _ = _told(ForcesShape(boundaries=("wall",)), evaluator)
        told = {row[0]: row[-1] for row in made.tables[0].rows}
        errors.append(abs(told["force y"] / (rho * stream * circulation) - 1))
        assert told["force x"] == pytest.approx(0.0, abs=1e-6 * rho * stream * circulation + 2 * errors[-1])
        assert "by unit depth" in made.told
    assert errors[-1] < 2e-3
    assert np.log2(errors[0] / errors[1]) > 1.8


def test_momentum_through_any_circle_is_the_lift_of_kutta_and_joukowski():
    """Through rings of three sizes round the cylinder: by pressure and by momentum, half of it each far off."""
    rho, stream, circulation = 1.2, 3.0, 2.5
    evaluator = Evaluator(_round_cylinder(65, circulation, rho, stream), ReferenceState(0.0, rho, (stream, 0, 0)))
    lift = rho * stream * circulation
    for radius in (0.7, 0.9, 1.2):
        study = Study()
        ring = study.layer_of(Begun("ring", RoundShape(form="cylinder", centre=(0.0, 0.0, 0.0), axis=(0.0, 0.0, 1.0), radius=radius),
                                    SurfaceLook()))
        made, _ = _told(ForcesShape(boundaries=("wall",), card=ring.id), evaluator, study.adding(ring))
        told = {row[0]: row[1:] for row in made.tables[0].rows}
        assert "open" not in made.told
        assert told["force y"][-1] == pytest.approx(lift, rel=0.01)
        assert told["force x"][-1] == pytest.approx(0.0, abs=0.01 * lift)
    assert told["force y"][0] == pytest.approx(0.5 * lift * (1 + 0.25 / radius**2), rel=0.02), "by the pressure of potential flow there"


def test_the_section_of_a_cylinder_has_the_pressure_of_potential_flow():
    """Cp = 1 − 4 sin² θ round it, upper and lower side told apart."""
    evaluator = Evaluator(_round_cylinder(33), ReferenceState(0.0, 1.2, (3.0, 0, 0)))
    made, _ = _told(SectionShape(boundaries=("wall",), direction=(0.0, 0.0, 1.0), position=0.0, quantities=("cp",)), evaluator)
    assert [c.name for c in made.charts[0].curves] == ["upper", "lower"]
    for curve, side in zip(made.charts[0].curves, (1.0, -1.0), strict=True):
        good = np.isfinite(curve.at)
        sine = curve.places[good, 1] / 0.5
        assert (side * sine > -0.05).all()
        assert curve.values[good] == pytest.approx(1 - 4 * sine**2, abs=0.01)


def test_nothing_pushes_an_ellipsoid_in_potential_flow():
    """Round an ellipsoid the velocity is (1 + k) times the stream's part along the wall (Lamb, § 114): no force, whatever k."""
    errors = []
    for n in (17, 33, 65):
        polar, round_it = np.meshgrid(np.linspace(0, np.pi, n), np.linspace(0, 2 * np.pi, 2 * n), indexing="ij")
        half = np.array([1.0, 0.4, 0.25])
        unit = np.stack([np.cos(polar), np.sin(polar) * np.cos(round_it), np.sin(polar) * np.sin(round_it)], axis=-1)
        points = (unit * half).reshape(-1, 3)
        normal = (unit / half).reshape(-1, 3)
        normal /= np.linalg.norm(normal, axis=1)[:, None]
        stream = np.array([0.9, 0.3, 0.2])
        along = 1.12 * (stream - (normal @ stream)[:, None] * normal)
        index = np.arange(2 * n * n).reshape(n, 2 * n)
        faces = np.stack([index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]], axis=-1).reshape(-1, 4)
        facets = Facets.of(points, faces)
        force = wall_forces(points, facets, 0.5 * (1 - (along**2).sum(axis=1)), None, np.zeros(3), X).total.force
        errors.append(np.abs(force).max())
        assert facets.areas.sum(axis=0) == pytest.approx(0.0, abs=1e-12)
    assert errors[-1] < 1e-3
    assert errors[-1] < errors[0] / 8


def test_enstrophy_and_energy_flow_are_the_closed_forms():
    """Vorticity (1, 0, 1) in the unit cube: ½ · 2. A stream of 1 with p = 3, ρ = 2 through a square: γ/(γ−1) p + ½ ρ u²."""
    _, told = _told(VolumeShape(quantity="file:p"), Evaluator(_swirling(9), ReferenceState(1.0, 1.0, (1.0, 0, 0))))
    assert told["enstrophy, half of the vorticity squared"] == pytest.approx(1.0, rel=1e-6)
    flow = cube_flow(9, velocity=lambda p: 0 * p + [1.0, 0, 0], p=lambda p: 3 + 0 * p[:, 0], Density=lambda p: 2 + 0 * p[:, 0])
    flow = replace(flow, roles=replace(flow.roles, density="Density", pressure="p"))
    evaluator, study = Evaluator(flow, ReferenceState()), Study()
    cut = study.layer_of(Begun("cut", SliceShape(direction=(1.0, 0.0, 0.0), position=0.43), SurfaceLook()))
    _, over = _told(OverShape(card=cut.id, quantity="file:p"), evaluator, study.adding(cut))
    assert over["energy flow, net"] == pytest.approx(3.5 * 3.0 + 1.0, rel=1e-9)


def test_what_is_not_known_in_a_region_does_not_count():
    """A value of 5 that is known in one half of the region: its mean is 5 there, over half of the volume."""
    flow = cube_flow(17, velocity=lambda p: 0 * p + [1.0, 0, 0], r=lambda p: p[:, 1], s=lambda p: np.where(p[:, 0] < 0.51, 5.0, np.nan))
    evaluator, study = Evaluator(flow, ReferenceState()), Study()
    region = study.layer_of(Begun("r", RegionShape(conditions=(Condition(quantity="file:r", value=0.5, keep="below"),)), SurfaceLook()))
    _, told = _told(VolumeShape(card=region.id, quantity="file:s"), evaluator, study.adding(region))
    assert told["mean by volume"] == pytest.approx(5.0)
    assert told["volume"] == pytest.approx(0.5 * 0.53, rel=0.05)
