"""Sets of seeds: evenly laid, moved by their beads, a little off walls, wholly inside at first."""

import numpy as np
import pytest

from making import cube_flow, cube_points, flow_of
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Boundary
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.seeds import SETS, BallSeeds, BoundarySeeds, DiscSeeds, GridSeeds, LineSeeds, PlaneSeeds, PointSeeds
from tidal_lens.study.kinds.streamlines import StreamShape, first_set, new_streamlines
from tidal_lens.study.looks import LineLook
from tidal_lens.study.model import Layer
from tidal_lens.study.words import Words
from tidal_lens.tracing.seeds import seeds_in_ball, seeds_on_disc, seeds_on_rectangle
from tidal_lens.work import Token

FORMS = [s.model_fields["form"].default for s in SETS]


def along(p):
    return np.column_stack([1 + 0 * p[:, 0], 0 * p[:, 0], 0 * p[:, 0]])


@pytest.fixture(scope="module")
def evaluator():
    return Evaluator(cube_flow(9, velocity=along, p=lambda p: 1 + p[:, 0]), ReferenceState(1.0, 1.0, (1.0, 0, 0)))


def made(evaluator, *sets, **more):
    layer = Layer(id="streamlines-1", name="Lines", shape=StreamShape(seeds=sets, **more), look=LineLook())
    return evaluator.evaluate(layer, Token()).made


def test_a_rectangle_is_an_even_grid():
    seeds = seeds_on_rectangle(np.array([1.0, 2, 3]), np.array([4.0, 0, 0]), np.array([0.0, 0, 1.0]), 64)
    assert len(seeds) == 64
    np.testing.assert_allclose([seeds.min(axis=0), seeds.max(axis=0)], [[-1, 2, 2.5], [3, 2, 3.5]])
    assert len(np.unique(np.round(seeds[:, 0], 9))) == 16, "as far apart one way as the other"
    assert len(seeds_on_rectangle(np.zeros(3), np.eye(3)[0], np.eye(3)[1], 1)) == 1


@pytest.mark.parametrize("inner", [0.0, 0.5])
def test_a_disc_is_covered_evenly(inner):
    seeds = seeds_on_disc(np.zeros(3), np.eye(3)[0], np.eye(3)[1], inner, 800)
    r = np.linalg.norm(seeds, axis=1)
    assert inner <= r.min()
    assert r.max() <= 1.0
    edges = np.sqrt(inner**2 + (1 - inner**2) * np.linspace(0, 1, 9))  # rings of one area
    np.testing.assert_allclose(np.histogram(r, edges)[0], 100, atol=2)
    np.testing.assert_allclose(np.histogram(np.arctan2(seeds[:, 1], seeds[:, 0]), 8, (-np.pi, np.pi))[0], 100, atol=6)


def test_a_circle_and_a_ball():
    circle = seeds_on_disc(np.zeros(3), np.eye(3)[0], np.eye(3)[1], 1.0, 12)
    np.testing.assert_allclose(np.linalg.norm(circle, axis=1), 1.0)
    np.testing.assert_allclose(np.linalg.norm(np.diff(circle, axis=0), axis=1), 2 * np.sin(np.pi / 12))
    ball = seeds_in_ball(np.array([1.0, 0, 0]), 2.0, 4000) - [1.0, 0, 0]
    r = np.linalg.norm(ball, axis=1) / 2.0
    assert r.max() <= 1.0
    np.testing.assert_allclose(np.histogram(r**3, 8, (0, 1))[0], 500, atol=12)
    np.testing.assert_allclose(np.histogram(ball[:, 2] / np.linalg.norm(ball, axis=1), 8, (-1, 1))[0], 500, atol=25)


@pytest.mark.parametrize("form", FORMS)
def test_each_form_begins_inside_and_is_told(evaluator, form):
    first = first_set(evaluator.store, form)
    if form == "card":
        with pytest.raises(StudyError, match="No card is chosen"):
            made(evaluator, first)
        return
    if form == "boundary":
        first = first.with_(boundaries=tuple(b.name for b in evaluator.flow.boundaries))
    if form == "boundary" and not evaluator.flow.boundaries:
        with pytest.raises(StudyError, match="no faces"):
            made(evaluator, first)
        return
    began = made(evaluator, first).began
    assert len(began) > 0
    assert mesh_of(evaluator.flow).locate(began)[1].all(), "wholly inside"
    assert first.tell(Words(None))


@pytest.mark.parametrize("form", ["line", "plane", "disc", "ball", "points"])
def test_beads_move_it(evaluator, form):
    shape = new_streamlines(evaluator.store, form).shape
    flow = evaluator.flow
    for bead in shape.handles(flow, None).beads:
        assert shape.moved(bead.id, bead.place, flow, snap=False).seeds[0].free() == pytest.approx(shape.seeds[0].free(), abs=2e-3)
        there = bead.place + np.array([0.05, 0.03, 0.07])
        moved = shape.moved(bead.id, there, flow, snap=False)
        assert moved != shape
        if not bead.turns and bead.rail is None:
            again = next(b for b in moved.handles(flow, None).beads if b.id == bead.id)
            assert again.place == pytest.approx(there, abs=1e-3)


def test_several_sets_are_one_card(evaluator):
    sets = (LineSeeds(start=(0.1, 0.1, 0.1), end=(0.1, 0.9, 0.1), count=5), BallSeeds(centre=(0.5, 0.5, 0.5), radius=0.2, count=7),
            PointSeeds(points=((0.3, 0.3, 0.3), (5.0, 5.0, 5.0))))
    result = made(evaluator, *sets)
    assert (result.geometry.n_seeds, result.geometry.n_lines) == (14, 13)
    shape = StreamShape(seeds=sets)
    handles = shape.handles(evaluator.flow, result)
    assert handles.told == "13 of 14 seeds are inside"
    assert handles.good.sum() == 13
    assert {b.id for b in handles.beads} == {"start", "end", "middle", "centre:1", "radius:1", "points 0:2", "points 1:2"}
    moved = shape.moved("centre:1", np.array([0.6, 0.5, 0.5]), evaluator.flow, snap=False)
    assert moved.seeds[0] == sets[0]
    assert moved.seeds[1].centre == (0.6, 0.5, 0.5)
    assert shape.typed("points 1:2", (0.4, 0.4, 0.4)).seeds[2].points[1] == (0.4, 0.4, 0.4)


def test_seeds_off_a_wall_go_into_the_flow():
    points = cube_points(9)
    floor = np.flatnonzero(points[:, 2] == 0.0)
    corners = np.array([[0, 1, 10, 9]]) + (np.arange(8)[:, None] + 9 * np.arange(8)[None, :]).reshape(-1, 1)
    for faces in (corners, corners[:, ::-1]):  # whichever way its faces look
        wall = Boundary("floor", "wall", points[floor], faces.astype(np.int64), floor)
        flow = flow_of([(points, StructuredGrid((9, 9, 9)))], {"U": along(points)}, boundaries=(wall,))
        evaluator = Evaluator(flow, ReferenceState(1.0, 1.0, (1.0, 0, 0)))
        began = made(evaluator, BoundarySeeds(boundaries=("floor",), off=0.01, count=50)).began
        np.testing.assert_allclose(began[:, 2], 0.01)


def test_nodes_of_a_block(evaluator):
    began = made(evaluator, GridSeeds(block=evaluator.flow.blocks[0].name, first=(2, 0, 0), last=(2, 8, 8), every=4)).began
    assert len(began) == 9
    np.testing.assert_allclose(began[:, 0], 0.25)
    with pytest.raises(StudyError, match="no structured block"):
        made(evaluator, GridSeeds(block="nowhere"))


def test_limits_of_time_and_steps(evaluator):
    seed = PointSeeds(points=((0.2, 0.5, 0.5),))
    lines = made(evaluator, seed, direction="forward", max_time=0.31).geometry
    np.testing.assert_allclose(lines.points[-1], [0.51, 0.5, 0.5], atol=1e-9)
    assert lines.time[-1] == pytest.approx(0.31)
    assert "reached the time limit" in lines.describe(0)
    both = made(evaluator, seed, max_time=0.1).geometry
    np.testing.assert_allclose([both.points[0, 0], both.points[-1, 0]], [0.1, 0.3], atol=1e-9)
    length = made(evaluator, seed, direction="forward", max_time=9.0, max_length=0.2).geometry
    assert "reached the length limit" in length.describe(0)


def test_lines_of_another_vector(evaluator):
    flow = cube_flow(9, velocity=along, other=lambda p: np.column_stack([0 * p[:, 0], 1 + 0 * p[:, 0], 0 * p[:, 0]]))
    own = Evaluator(flow, ReferenceState(1.0, 1.0, (1.0, 0, 0)))
    lines = made(own, PointSeeds(points=((0.5, 0.5, 0.5),)), of="file:other").geometry
    assert np.ptp(lines.points[:, 1]) == pytest.approx(1.0, abs=1e-3)
    assert np.ptp(lines.points[:, 0]) < 1e-12
    assert DiscSeeds(centre=(0, 0, 0), radius=1.0, inner=1.0).tell(Words(None)) == "60 seeds on a circle"
    with pytest.raises(ValueError, match="direction needs a length"):
        PlaneSeeds(centre=(0, 0, 0), direction=(0, 0, 0), width=1.0, height=1.0)


def test_one_seed_is_taken_away(evaluator):
    line, ball = LineSeeds(start=(0.1, 0.1, 0.1), end=(0.1, 0.9, 0.1), count=5), BallSeeds(centre=(0.5, 0.5, 0.5), radius=0.2, count=7)
    shape = StreamShape(seeds=(line, ball))
    began = np.concatenate([line.free(), ball.free()])
    left = shape.without_seed(1, began)
    assert [s.form for s in left.seeds] == ["points", "ball"]
    np.testing.assert_allclose(left.seeds[0].free(), np.delete(line.free(), 1, axis=0))
    left = shape.without_seed(8, began)
    assert left.seeds[0] == line
    np.testing.assert_allclose(left.seeds[1].free(), np.delete(ball.free(), 3, axis=0))
    grid = GridSeeds(block=evaluator.flow.blocks[0].name, first=(2, 0, 0), last=(2, 8, 8), every=4)
    one = StreamShape(seeds=(grid, line))
    began = made(evaluator, grid, line).began
    assert [s.form for s in one.without_seed(2, began).seeds] == ["points", "line"]
    two = StreamShape(seeds=(grid, grid))
    assert [s.form for s in two.without_seed(2, np.tile(began[:9], (2, 1))).seeds] == ["points"]
    assert shape.without_seed(99, began) is None
    alone = StreamShape(seeds=(PointSeeds(points=((0.3, 0.3, 0.3),)), line))
    assert [s.form for s in alone.without_seed(0, np.concatenate([[[0.3, 0.3, 0.3]], line.free()])).seeds] == ["line"]
