from dataclasses import replace

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from making import KINDS, abc, cube_flow, cube_points, flow_of, unstructured
from tidal_lens.errors import CancelledError
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.grid import HEXAHEDRON, StructuredGrid, UnstructuredGrid
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import build_mesh, mesh_of
from tidal_lens.tracing.masking import kept_lines
from tidal_lens.tracing.seeds import seeds_on_line
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines
from tidal_lens.work import Token
from vortex_tank import CENTRE
from vortex_tank import velocity as demo_velocity


def follow(flow, seeds, token=None, **settings):
    return trace_lines(flow, mesh_of(flow), QuantityStore(flow, flow.reference).values("velocity"), np.atleast_2d(seeds),
                       TraceSettings(**settings), token)


def rotation(p):
    return np.column_stack([-(p[:, 1] - 0.5), p[:, 0] - 0.5, 0 * p[:, 2]])


def helix(p):
    return rotation(p) + np.array([0, 0, 0.05])


@pytest.mark.parametrize("kind", KINDS)
def test_a_helix_is_followed_in_every_kind_of_cell(kind):
    """The field is linear, so its interpolation is exact and only the integrator errs."""
    flow = cube_flow(6, kind, 0.07, velocity=helix)
    lines = follow(flow, [0.8, 0.5, 0.2], cell_tolerance=1e-7)
    t = lines.time
    exact = np.column_stack([0.5 + 0.3 * np.cos(t), 0.5 + 0.3 * np.sin(t), 0.2 + 0.05 * t])
    assert np.abs(lines.points - exact).max() < 1e-5
    assert lines.ends[0].tolist() == [0, End.LEFT]
    assert lines.points[-1, 2] == pytest.approx(1.0, abs=1e-3)


@pytest.mark.parametrize("kind", KINDS)
def test_lines_end_on_the_border_whatever_their_angle_to_it(kind):
    """A last step that goes beyond is cut at the border: exact again, as the field is linear."""
    def strain(p):
        return (p - 0.5) * [1.0, 0.6, -1.2] + [0.3, 0.1, 0.2]

    seeds = 0.3 + 0.4 * np.random.default_rng(5).random((60, 3))
    lines = follow(cube_flow(7, kind, 0.06, velocity=strain), seeds, cell_tolerance=1e-7, direction="both")
    assert (lines.ends == End.LEFT).all()
    for n, seed in enumerate(seeds):
        part = slice(lines.offsets[n], lines.offsets[n + 1])
        rate, rest = np.array([1.0, 0.6, -1.2]), np.array([0.3, 0.1, 0.2]) / [1.0, 0.6, -1.2]
        exact = 0.5 - rest + (seed - 0.5 + rest) * np.exp(rate * lines.time[part, None])
        assert np.abs(lines.points[part] - exact).max() < 2e-5
        for end in (exact[0], exact[-1]):
            assert np.abs(end - 0.5).max() == pytest.approx(0.5, abs=1e-3)
    assert lines.stencil.apply(np.ones(7 ** 3 if kind != "pyramids" else lines.stencil.ids.max() + 1)) == pytest.approx(1.0)


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "wedges"])
def test_lines_pass_a_collapsed_edge(kind):
    """A grid round an axis: cells along it shrink to an edge, and lines through them go on."""
    radius, turn, height = np.linspace(0.0, 1.0, 9), np.linspace(0.0, 2 * np.pi, 25), np.linspace(0.0, 1.0, 7)
    h, a, r = (v.ravel() for v in np.meshgrid(height, turn, radius, indexing="ij"))
    points = np.column_stack([r * np.cos(a), r * np.sin(a), h])
    grid = StructuredGrid((9, 25, 7)) if kind == "structured" else polar(kind)
    flow = flow_of([(points, grid)], {"Velocity": np.tile([1.0, 0.25, 0.1], (len(points), 1))})
    lines = follow(flow, [[-0.7, -0.2, 0.3], [-0.6, -0.15, 0.4], [-0.5, 0.0, 0.5]], max_length=1.2)
    assert (lines.ends[:, 1] == End.LENGTH).all()
    for n in range(3):
        along = lines.points[lines.offsets[n]:lines.offsets[n + 1]] - lines.points[lines.offsets[n]]
        assert np.abs(np.cross(along, [1.0, 0.25, 0.1])).max() < 1e-6


def polar(kind):
    """The grid round an axis as hexahedra with a collapsed edge, or with wedges there."""
    node = np.arange(9 * 25 * 7).reshape(7, 25, 9)
    node[:, 24] = node[:, 0]
    if kind == "wedges":
        node[:, :, 0] = node[:, :1, 0]
    cells = np.array([[node[k, j, i], node[k, j, i + 1], node[k, j + 1, i + 1], node[k, j + 1, i],
                       node[k + 1, j, i], node[k + 1, j, i + 1], node[k + 1, j + 1, i + 1], node[k + 1, j + 1, i]]
                      for k in range(6) for j in range(24) for i in range(8)], dtype=np.int32)
    return UnstructuredGrid(9 * 25 * 7, cells, np.full(len(cells), HEXAHEDRON, np.uint8))


@pytest.mark.parametrize("kind", KINDS)
def test_a_circle_closes(kind):
    lines = follow(cube_flow(7, kind, velocity=rotation), [0.75, 0.5, 0.5], max_length=100.0)
    assert lines.ends[0, 1] == End.CLOSED
    assert lines.lengths[0] == pytest.approx(2 * np.pi * 0.25, rel=3e-3)
    assert lines.time[-1] == pytest.approx(2 * np.pi, rel=1e-3)


def test_a_slow_spiral_is_not_called_closed():
    flow = cube_flow(7, velocity=lambda p: rotation(p) + 0.02 * (p - 0.5) * [1, 1, 0])
    assert follow(flow, [0.55, 0.5, 0.5], max_length=3.0).ends[0, 1] in (End.LENGTH, End.LEFT)


def test_error_falls_with_the_tolerance():
    flow = cube_flow(6, "structured", 0.07, velocity=helix)
    wrong = []
    for tolerance in (1e-2, 1e-4, 1e-6):
        lines = follow(flow, [0.8, 0.5, 0.2], tolerance=tolerance, max_cells=50.0)
        t = lines.time
        exact = np.column_stack([0.5 + 0.3 * np.cos(t), 0.5 + 0.3 * np.sin(t), 0.2 + 0.05 * t])
        wrong.append(np.abs(lines.points - exact).max())
        assert lines.error[0] < 1000 * tolerance
    assert wrong[0] > 5 * wrong[1] > 25 * wrong[2]


def test_through_the_seams_against_a_tight_integration_of_the_exact_field(demo):
    """The demo's line runs through all three blocks; the difference is the mesh's interpolation, not the seam's."""
    start = np.array([-1.9, 0.35, 1.45])
    lines = follow(demo, start, cell_tolerance=1e-6)
    exact = solve_ivp(lambda _t, x: demo_velocity(x[None])[0], (0, lines.time[-1]), start, rtol=1e-11, atol=1e-11, t_eval=lines.time)
    assert lines.ends[0, 1] == End.LEFT
    assert lines.points[0, 0] < -1.5
    assert lines.points[-1, 0] > 3.99
    blocks = {next(n for n, b in enumerate(demo.blocks) if b.points.start <= node < b.points.stop) for node in lines.stencil.ids[:, 0]}
    assert blocks == {0, 1, 2}
    off = np.abs(exact.y.T - lines.points).max()
    assert off < 3e-3
    assert np.linalg.norm(np.diff(lines.points, axis=0), axis=1).max() < 0.6


def test_a_seam_between_blocks_changes_nothing():
    n = 9
    left = cube_points(n, 0.05)
    right = left + np.array([1, 0, 0])
    both = flow_of([(left, StructuredGrid((n, n, n))), (right, unstructured("tetrahedra", n))],
                   {"U": np.concatenate([left, right]) * 0 + [1.0, 0.1, 0.05]})
    lines = follow(both, [0.01, 0.3, 0.4])
    assert lines.points[-1, 0] == pytest.approx(2.0, abs=1e-3)
    assert np.abs(lines.points - ([0.01, 0.3, 0.4] + lines.time[:, None] * [1.0, 0.1, 0.05])).max() < 1e-9


def test_a_hairline_gap_between_blocks_is_crossed():
    n = 5
    left = cube_points(n)
    right = left + np.array([1 + 2e-5, 0, 0])
    flow = flow_of([(left, StructuredGrid((n, n, n))), (right, StructuredGrid((n, n, n)))], {"U": np.tile([1.0, 0, 0], (2 * n**3, 1))})
    assert follow(flow, [0.1, 0.5, 0.5]).points[-1, 0] > 1.99


def test_both_ways_is_one_line_in_the_sense_of_the_flow():
    flow = cube_flow(5, velocity=lambda p: np.tile([1.0, 0, 0], (len(p), 1)))
    lines = follow(flow, [0.4, 0.5, 0.5], direction="both")
    assert np.all(np.diff(lines.points[:, 0]) > 0)
    assert lines.points[[0, -1], 0] == pytest.approx([0, 1], abs=1e-3)
    assert np.interp(0.0, lines.time, lines.points[:, 0]) == pytest.approx(0.4)
    assert lines.ends[0].tolist() == [End.LEFT, End.LEFT]
    back = follow(flow, [0.4, 0.5, 0.5], direction="backward")
    assert back.points[-1, 0] == pytest.approx(0.4)
    assert back.ends[0].tolist() == [End.LEFT, 0]


def test_limits_and_rest():
    flow = cube_flow(5, velocity=lambda p: np.tile([1.0, 0, 0], (len(p), 1)))
    lines = follow(flow, [0.1, 0.5, 0.5], max_length=0.35)
    assert lines.ends[0, 1] == End.LENGTH
    assert lines.lengths[0] == pytest.approx(0.35)
    assert follow(flow, [0.1, 0.5, 0.5], max_points=3, max_cells=0.1).ends[0, 1] == End.STEPS
    still = cube_flow(5, velocity=lambda p: np.outer(0.5 - p[:, 0], [1.0, 0, 0]))
    ended = follow(still, [0.1, 0.5, 0.5], max_length=100)
    assert ended.ends[0, 1] == End.STILL
    assert ended.points[-1, 0] == pytest.approx(0.5, abs=1e-4)


def test_a_line_that_meets_a_wall_says_so():
    flow = cube_flow(5, velocity=lambda p: np.tile([0.2, 0, -1.0], (len(p), 1)))
    faces = flow.outside.faces
    floor = np.all(flow.points[faces][:, :, 2] == 0, axis=1)
    walls = (boundary_of_faces("floor", "wall", flow.points, faces[floor]), boundary_of_faces("rest", "open", flow.points, faces[~floor]))
    walled = flow_of([(flow.points, flow.blocks[0].grid)], {"U": flow.fields["Velocity"].values}, boundaries=walls)
    lines = follow(walled, [[0.2, 0.5, 0.5], [0.95, 0.5, 0.9]])
    assert lines.ends[:, 1].tolist() == [End.WALL, End.LEFT]
    assert dict(lines.census) == {"met a wall": 1, "left the domain": 1}
    assert "met a wall" in lines.describe(0)


def test_seeds_outside_are_counted():
    flow = cube_flow(5, velocity=lambda p: np.tile([1.0, 0, 0], (len(p), 1)))
    lines = follow(flow, seeds_on_line((0.5, 0.5, -0.49), (0.5, 0.5, 0.51), 11))
    assert lines.n_seeds == 11
    assert lines.n_lines == 6
    assert lines.seeds.tolist() == [5, 6, 7, 8, 9, 10]
    none = follow(flow, seeds_on_line((5, 5, 5), (6, 6, 6), 4))
    assert none.n_lines == 0
    assert none.census == ()


def test_colours_follow_the_line():
    flow = cube_flow(9, "tetrahedra", 0.05, velocity=abc)
    lines = follow(flow, seeds_on_line((0.2, 0.2, 0.2), (0.8, 0.8, 0.8), 40))
    x = lines.stencil.apply(np.ascontiguousarray(flow.points[:, 0]))
    assert np.abs(x - lines.points[:, 0]).max() < 1e-9


def test_cancel_stops_and_a_later_trace_works(demo):
    token = Token()
    token.cancel()
    with pytest.raises(CancelledError):
        follow(demo, seeds_on_line((-1.9, -1, 1), (-1.9, 1, 1), 200), token)
    assert follow(demo, CENTRE + np.array([0, 0, 0.9])).n_lines == 1


def test_shapes_that_do_not_fit_are_refused():
    flow = cube_flow(4, velocity=abc)
    with pytest.raises(ValueError, match="does not fit"):
        trace_lines(flow, build_mesh(flow), np.zeros((3, 3)), np.zeros((1, 3)), TraceSettings())


def test_doubtful_lines_are_told_dashed_and_followed_tighter():
    """With another in the place of a line the rest stays as it was, and so do the values along them."""
    flow = cube_flow(7, velocity=rotation)
    mesh, velocity = mesh_of(flow), rotation(flow.points)
    seeds = np.array([[0.8, 0.5, 0.5], [0.55, 0.5, 0.5], [2.0, 0.5, 0.5], [0.9, 0.5, 0.3]])
    lines = trace_lines(flow, mesh, velocity, seeds, TraceSettings("forward", max_length=1.5, cell_tolerance=1e-5))
    assert len(lines.doubtful) == 0
    assert lines.dashed(0.1) is None
    for n in range(3):
        so_far = lines.so_far[lines.offsets[n]:lines.offsets[n + 1]]
        assert so_far[0] == 0.0
        assert (np.diff(so_far) >= 0.0).all()
        assert so_far[-1] == lines.error[n] > 0.0
    rough = replace(lines, error=np.array([0.0, 0.1, 0.0]), so_far=None)
    assert rough.doubtful.tolist() == [1]
    gaps = rough.dashed(0.1)
    own = np.arange(rough.offsets[1], rough.offsets[2])
    assert not np.delete(gaps, own).any()
    assert gaps[own].tolist() == (np.floor(rough.along[own] / 0.1) % 2 == 1).tolist()
    assert 0 < gaps[own].sum() < len(own)
    part = replace(rough, so_far=np.where(np.arange(len(lines.points)) >= own[len(own) // 2], 0.1, 0.001))
    assert np.array_equal(part.dashed(0.1), gaps & (np.arange(len(lines.points)) >= own[len(own) // 2])), "from where the doubt begins"
    masked = kept_lines(part, lines.points[:, 0] - 0.52)
    assert masked.so_far.shape == (len(masked.points),) != part.so_far.shape
    assert masked.dashed(0.05).shape == masked.so_far.shape
    assert set(masked.so_far) >= {0.1}
    assert kept_lines(part, np.full(len(lines.points), -1.0)).dashed(0.1) is None
    finer = trace_lines(flow, mesh, velocity, seeds[[1]], TraceSettings("forward", max_length=1.5, cell_tolerance=1e-7))
    joined = rough.with_lines(rough.doubtful, finer)
    assert joined.seeds.tolist() == [0, 1, 3]
    assert np.diff(joined.offsets)[1] == len(finer.points) != len(own)
    assert np.array_equal(joined.points[joined.offsets[1]:joined.offsets[2]], finer.points)
    assert np.array_equal(joined.points[joined.offsets[2]:], lines.points[lines.offsets[2]:])
    assert joined.error[1] < 1e-5
    np.testing.assert_allclose(joined.stencil.apply(flow.points[:, 0]), joined.points[:, 0], atol=1e-9)
