"""In a tetrahedron the velocity is linear and the way through it exact: checked against the matrix exponential.

The closed form of x' = A (x - c) is common practice, no source; :func:`scipy.linalg.expm` computes it.
"""

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.linalg import expm

from making import cells_of, cube_flow, cube_points, flow_of, unstructured
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines

SPIN = np.array([[-0.3, -2.0, 0.1], [2.2, -0.3, 0.0], [0.2, 0.1, 0.35]])
REST = np.array([0.52, 0.47, 0.11])


def followed(flow, seeds, **settings):
    return trace_lines(flow, mesh_of(flow), flow.fields["Velocity"].values, np.atleast_2d(seeds), TraceSettings(**settings))


def spun(points):
    return (points - REST) @ SPIN.T


def part(lines, n):
    return slice(lines.offsets[n], lines.offsets[n + 1])


def test_lines_of_a_linear_field_are_those_of_the_matrix_exponential():
    """Wherever a line goes, and at the coarsest tolerance offered."""
    flow = cube_flow(9, "tetrahedra", 0.06, velocity=spun)
    seeds = 0.25 + 0.5 * np.random.default_rng(4).random((40, 3))
    lines = followed(flow, seeds, cell_tolerance=1e-2, direction="both", max_time=6.0)
    assert lines.n_lines == 40
    for n, seed in enumerate(seeds):
        exact = np.array([REST + expm(SPIN * t) @ (seed - REST) for t in lines.time[part(lines, n)]])
        assert np.abs(lines.points[part(lines, n)] - exact).max() < 1e-6
    assert lines.error.max() < 1e-5
    assert {int(e) for e in lines.ends.ravel()} <= {End.LEFT, End.TIME}


def test_limits_of_time_and_length_are_met_exactly():
    flow = cube_flow(9, "tetrahedra", 0.06, velocity=spun)
    by_time = followed(flow, [0.6, 0.5, 0.3], max_time=1.25)
    assert by_time.ends[0, 1] == End.TIME
    assert by_time.time[-1] == pytest.approx(1.25, abs=1e-12)
    by_length = followed(flow, [0.6, 0.5, 0.3], max_length=0.3)
    assert by_length.ends[0, 1] == End.LENGTH
    way = solve_ivp(lambda _, p: spun(p[None])[0], (0, by_length.time[-1]), [0.6, 0.5, 0.3], rtol=1e-10, atol=1e-12, max_step=0.005).y.T
    assert np.linalg.norm(np.diff(way, axis=0), axis=1).sum() == pytest.approx(0.3, abs=2e-4)
    assert np.abs(way[-1] - by_length.points[-1]).max() < 1e-6


def test_what_is_between_the_nodes_is_what_is_followed():
    """A field that bends: against a solver of small steps in the same interpolation, over hundreds of tetrahedra."""
    def bent(p):
        return np.column_stack([1 + 0 * p[:, 0], 0.8 * np.sin(9 * p[:, 0]), 0.6 * np.cos(7 * p[:, 1])])

    flow = cube_flow(17, "tetrahedra", 0.05, velocity=bent)
    mesh, nodes = mesh_of(flow), flow.fields["Velocity"].values
    lines = followed(flow, [[0.05, 0.3, 0.2], [0.1, 0.7, 0.1]], cell_tolerance=1e-3)
    for n in range(2):
        time, points = lines.time[part(lines, n)], lines.points[part(lines, n)]
        # Kinks at every face: classical steps of the fourth order, so small that they do not matter.
        x, t, dt, at = points[0].copy(), 0.0, 5e-4, 1

        def rate(p, mesh=mesh, nodes=nodes):
            return mesh.locate(np.clip(p, 0, 1)[None])[0].apply_vectors(nodes)[0]

        worst = 0.0
        while at < len(time) - 1 and at < 20:
            h = min(dt, time[at] - t)
            a = rate(x)
            b = rate(x + 0.5 * h * a)
            c = rate(x + 0.5 * h * b)
            d = rate(x + h * c)
            x, t = x + h / 6 * (a + 2 * b + 2 * c + d), t + h
            if t >= time[at] - 1e-14:
                worst = max(worst, np.abs(x - points[at]).max())
                at += 1
        assert at > 7
        assert worst < 5e-6


def test_a_line_comes_to_rest_in_a_focus_and_circles_a_centre():
    inward = np.array([[-1.0, -3.0, 0.0], [3.0, -1.0, 0.0], [0.0, 0.0, -1.0]])
    flow = cube_flow(6, "tetrahedra", 0.04, velocity=lambda p: (p - 0.47) @ inward.T)
    lines = followed(flow, [0.8, 0.6, 0.3])
    assert lines.ends[0, 1] == End.STILL
    assert np.abs(lines.points[-1] - 0.47).max() < 2e-3
    round_ = np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 0.0]])
    for radius in (0.3, 0.02):  # through many cells, and in the cells round the centre only
        flow = cube_flow(6, "tetrahedra", 0.04, velocity=lambda p: (p - 0.47) @ round_.T)
        circle = followed(flow, [0.47 + radius, 0.47, 0.4])
        assert circle.ends[0, 1] == End.CLOSED
        away = np.abs(np.hypot(*(circle.points[:, :2] - 0.47).T) - radius)
        assert away[:-1].max() < 1e-7
        assert away[-1] < 5e-5  # cut where it passes its seed, on a cubic
        assert circle.lengths[0] == pytest.approx(2 * np.pi * radius, rel=5e-3)


def test_lines_pass_from_tetrahedra_to_hexahedra_and_back_and_from_block_to_block():
    """Half of the cube's cells cut into tetrahedra (their sides do not conform: a small gap), half of it in a block of its own."""
    n = 7
    points = cube_points(n)
    hexa, kinds = cells_of("hexahedra", n)
    tetra, tetra_kinds = cells_of("tetrahedra", n)

    def left(cells):
        return points[cells].mean(axis=1)[:, 0] < 0.5

    both = UnstructuredGrid(n**3, np.concatenate([hexa[left(hexa)], tetra[~left(tetra)]]).astype(np.int32),
                            np.concatenate([kinds[left(hexa)], tetra_kinds[~left(tetra)]]))
    ahead = cube_points(n) + np.array([1.0, 0.0, 0.0])
    flow = flow_of([(points, both), (ahead, unstructured("tetrahedra", n))],
                   {"Velocity": np.concatenate([np.tile([1.0, 0.2, -0.1], (n**3, 1))] * 2)})
    lines = followed(flow, [[0.1, 0.3, 0.6], [0.05, 0.21, 0.83]], direction="both")
    assert (lines.ends == End.LEFT).all()
    for k in range(2):
        ends = lines.points[part(lines, k)][[0, -1]]
        assert ends[:, 0] == pytest.approx([0.0, 2.0], abs=1e-4)
        assert np.abs(np.diff(ends, axis=0) - [[2.0, 0.4, -0.2]]).max() < 1e-3


@pytest.mark.parametrize("number", range(8))
def test_lines_end_well_on_a_crumpled_mesh_and_where_there_is_no_velocity(number):
    """Nodes moved onto their neighbours leave flat cells and cells that overlap; seeds on nodes and edges too."""
    random = np.random.default_rng(number)
    n = 6
    points = cube_points(n, 0.05)
    cells, kinds = cells_of("tetrahedra", n)
    moved = random.integers(0, len(points), len(points) // 20)
    points[moved] = points[np.roll(moved, 1)]
    velocity = random.normal(size=points.shape)
    if number % 2:
        velocity *= (random.random(len(points)) > 0.5)[:, None]
        velocity[random.integers(0, len(points), 3)] = np.nan
    flow = flow_of([(points, UnstructuredGrid(len(points), cells.astype(np.int32), kinds))], {"Velocity": velocity})
    seeds = np.concatenate([points[random.integers(0, len(points), 20)], points[cells[:10, :2]].mean(axis=1), random.random((40, 3))])
    lines = followed(flow, seeds, direction="both", max_length=3.0, max_points=500)
    assert lines.n_lines > 40
    assert np.isfinite(lines.points).all()
    assert lines.points.min() > -0.2
    assert lines.points.max() < 1.2
    for n in range(lines.n_lines):
        assert (np.diff(lines.time[part(lines, n)]) >= 0.0).all()
