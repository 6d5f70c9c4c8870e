"""Lines and cuts through periodic sides, against flows that are known exactly."""

from dataclasses import replace

import numpy as np
import pytest

from making import cube_flow
from passages import AXIAL, CIRCULATION, HUB, LONG, PITCH, angle_of, free_vortex, hub, passage
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.periodic import moved, periodic_of, turn_about
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.evaluate import Evaluator, methods_of
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.seeds import PointSeeds
from tidal_lens.study.kinds.slice import SliceShape
from tidal_lens.study.kinds.streamlines import StreamShape
from tidal_lens.study.looks import LineLook, SurfaceLook
from tidal_lens.study.model import Study
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines
from tidal_lens.tracing.through_sides import through_sides
from tidal_lens.work import Token

AXIS = (0.0, 0.0, 0.0), (1.0, 0.0, 0.0)


def free(shape=(33, 25, 17), **more):
    """A free vortex in a passage without a blade: its lines are helices."""
    return passage(shape, blade=None, Velocity=free_vortex, **more)


def sheet(n=9, kind="structured"):
    """A cube whose y sides are periodic, and its flow (1, 0.9, 0.2)."""
    flow = cube_flow(n, kind, velocity=lambda p: np.tile([1.0, 0.9, 0.2], (len(p), 1)), s=lambda p: p[:, 1])
    faces, bounds = flow.outside.faces, []
    for name, axis, at, sort in (("low", 1, 0.0, "periodic"), ("high", 1, 1.0, "periodic"), ("in", 0, 0.0, "inlet"),
                                 ("out", 0, 1.0, "outlet"), ("floor", 2, 0.0, "far field"), ("lid", 2, 1.0, "far field")):
        own = faces[(np.abs(flow.points[faces][:, :, axis] - at) < 1e-9).all(axis=1)]
        bounds.append(boundary_of_faces(name, sort, flow.points, own))
    return replace(flow, boundaries=tuple(bounds))


def followed(flow, seeds, **how):
    settings = TraceSettings(**how)
    mesh, velocity = mesh_of(flow), flow.fields["Velocity"].values
    periodic = periodic_of(flow, *AXIS)
    return through_sides(lambda s, h: trace_lines(flow, mesh, velocity, s, h), flow, mesh, periodic, np.array(seeds), settings)


def test_the_way_beyond_is_a_turn_by_the_pitch_or_a_shift():
    flow = free()
    found = periodic_of(flow, *AXIS)
    assert found.move == pytest.approx(turn_about(*AXIS, PITCH), abs=1e-9)
    assert found.moves(-9)[:3, :3] == pytest.approx(np.eye(3), abs=1e-9), "nine of them are once round"
    assert np.abs(periodic_of(sheet(), *AXIS).move[:3, 3]) == pytest.approx([0, 1, 0], abs=1e-12)
    plain = replace(flow, boundaries=tuple(b for b in flow.boundaries if b.kind != "periodic"))
    assert periodic_of(plain, *AXIS) is None
    assert periodic_of(flow, *AXIS, 7) is None, "seven passages do not fit"


def test_lines_of_a_free_vortex_go_on_as_helices():
    """Between coaxial walls r uθ = Γ is a flow of the Euler equations; its lines turn by Γ t / r² (any textbook)."""
    flow = free((49, 33, 25))
    r0, x0 = 0.75, 0.3
    start = 0.3 + 0.9 * x0 + 0.4 * PITCH
    seed = [[x0, -r0 * np.sin(start), r0 * np.cos(start)]]
    lines = followed(flow, seed, direction="both", cell_tolerance=1e-5)
    assert lines.n_lines == 1
    assert lines.ends.tolist() == [[End.LEFT, End.LEFT]]
    assert lines.points[:, 0].min() == pytest.approx(0.0, abs=2e-3)
    assert lines.points[:, 0].max() == pytest.approx(LONG, abs=2e-3)
    r = np.hypot(lines.points[:, 1], lines.points[:, 2])
    assert r == pytest.approx(r0, abs=2e-3)
    turned = np.unwrap(np.arctan2(-lines.points[:, 1], lines.points[:, 2]))
    turned -= np.interp(x0, lines.points[:, 0], turned)
    assert turned == pytest.approx(CIRCULATION / r0**2 * (lines.points[:, 0] - x0) / AXIAL, abs=4e-3)
    assert np.ptp(turned) > 1.2 * PITCH, "through more than one passage"
    assert lines.time == pytest.approx((lines.points[:, 0] - x0) / AXIAL, abs=4e-3)
    gaps = np.linalg.norm(np.diff(lines.points, axis=0), axis=1)
    assert gaps.max() < 0.2, "in one piece"
    velocity = lines.stencil.apply_vectors(flow.fields["Velocity"].values)
    assert velocity == pytest.approx(free_vortex(lines.points), abs=0.02), "vectors turn with it"


def test_lines_go_through_shifted_sides_and_keep_to_their_limits():
    for kind in ("structured", "tetrahedra"):
        flow = sheet(9, kind)
        lines = followed(flow, [[0.05, 0.5, 0.1]], direction="both")
        way = np.array([1.0, 0.9, 0.2])
        off = np.cross(lines.points - [0.05, 0.5, 0.1], way / np.linalg.norm(way))
        assert np.abs(off).max() < 1e-4, kind
        assert lines.points[-1, 0] == pytest.approx(1.0, abs=1e-3)
        assert lines.points[-1, 1] == pytest.approx(0.5 + 0.9 * 0.95, abs=1e-3)
        assert lines.stencil.apply(flow.fields["s"].values).max() <= 1.0 + 1e-3, "values are those of the passage"
    short = followed(flow, [[0.05, 0.5, 0.1]], direction="forward", max_length=1.0)
    assert 0.7 < short.lengths[0] <= 1.0 + 1e-6
    assert short.ends[0, 1] == End.LENGTH
    early = followed(flow, [[0.05, 0.5, 0.1]], direction="forward", max_time=0.7)
    assert early.time.max() <= 0.7 + 1e-9
    several = followed(sheet(), [[0.05, y, 0.1] for y in (0.2, 0.5, 2.0, 0.9)], direction="forward")
    assert several.seeds.tolist() == [0, 1, 3], "seeds outside give none"
    assert several.points[several.offsets[1:] - 1, 0] == pytest.approx(1.0, abs=1e-3)


def made(flow, layer, **study):
    whole = Study(**study)
    own = whole.layer_of(layer)
    evaluator = Evaluator(flow, ReferenceState(), methods_of(whole))
    return evaluator.evaluate(own, Token(), whole.adding(own))


def test_a_card_of_lines_goes_through_sides_by_itself():
    flow = sheet()
    shape = StreamShape(seeds=(PointSeeds(points=((0.05, 0.5, 0.1),)),))
    result = made(flow, Begun("lines", shape, LineLook(colour_by="file:s")))
    assert result.geometry.points[:, 1].max() > 1.3
    assert result.colours.max() <= 1.0 + 1e-3


@pytest.mark.parametrize("shown", [1, 3, 9])
def test_a_plane_cuts_all_passages_that_are_shown(shown):
    """y = 0 cuts the annulus between two cones in two halves, of ∫ (casing − hub) dx each."""
    flow = free((33, 33, 17), s=lambda p: np.hypot(p[:, 1], p[:, 2]), a=angle_of)
    result = made(flow, Begun("cut", SliceShape(direction=(0.0, 1.0, 0.0), position=0.0), SurfaceLook(colour_by="file:s")),
                  passages_shown=shown)
    cut = result.geometry
    assert np.abs(cut.points[:, 1]).max() < 1e-9 if len(cut.points) else True
    assert result.unmasked.whole == (shown > 1)
    if shown == 9:
        x = np.linspace(0, LONG, 4001)
        exact = 2.0 * np.trapezoid(1.0 - 0.05 * x - hub(x), x)
        assert cut.area == pytest.approx(exact, rel=5e-3)
    assert result.colours == pytest.approx(np.hypot(cut.points[:, 1], cut.points[:, 2]), abs=2e-3)
    axial = made(flow, Begun("cut", SliceShape(direction=(1.0, 0.0, 0.0), position=1.0), SurfaceLook()), passages_shown=shown)
    assert not axial.unmasked.whole, "copies are the same then"
    assert moved(axial.geometry.points, turn_about(*AXIS, PITCH))[:, 0] == pytest.approx(1.0)
    assert HUB[0] < np.hypot(*axial.geometry.points[:, 1:].T).min()
