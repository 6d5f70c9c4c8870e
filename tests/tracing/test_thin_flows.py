"""Planar flows, wedges about an axis and planes of symmetry: lines neither drift off them nor end early."""

from pathlib import Path

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.geometry import own_values
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines


def structured(dims, x, y, z):
    """Nodes of a block, i fastest, from arrays over (k, j, i)."""
    points = np.column_stack([np.broadcast_to(a, dims[::-1]).ravel() for a in (x, y, z)])
    return Flow("thin", Path("thin"), points, (Block("a", StructuredGrid(dims), 0, 0),), {})


def traced(flow, velocity, seeds, **settings):
    return trace_lines(flow, mesh_of(flow), velocity(flow.points), np.atleast_2d(seeds), TraceSettings(**settings))


@pytest.mark.parametrize("height", [0.0, 0.005, 0.01])
def test_lines_of_a_planar_flow_stay_in_it_on_its_sides_too(height):
    """One cell thick; a whirl that goes round ten times and closes at each."""
    k, j, i = np.meshgrid(np.linspace(0, 0.01, 2), np.linspace(-1, 1, 41), np.linspace(-1, 1, 41), indexing="ij")
    flow = structured((41, 41, 2), i, j, k)
    whirl = lambda p: np.column_stack([-p[:, 1], p[:, 0], 0.0 * p[:, 0]])  # noqa: E731
    lines = traced(flow, whirl, [0.5, 0.0, height], max_length=40.0, cell_tolerance=1e-6)
    assert lines.ends[0, 1] == End.CLOSED
    assert np.ptp(lines.points[:, 2]) < 1e-12
    out = traced(flow, lambda p: np.tile([1.0, 0.3, 0.0], (len(p), 1)), [-0.9, -0.4, height], max_length=40.0)
    assert out.ends[0, 1] == End.LEFT
    assert out.points[-1, 0] == pytest.approx(1.0, abs=1e-3)


@pytest.mark.parametrize("angle", [-2.5, 0.0, 2.5])
def test_lines_of_a_wedge_about_an_axis_run_to_its_end(angle):
    """u = 1, v = -0.2 r along the radius: r = r0 exp(-0.2 x); the cells at the axis shrink to an edge."""
    theta, r, x = np.meshgrid(np.radians([-2.5, 2.5]), np.linspace(0, 1, 21), np.linspace(0, 4, 81), indexing="ij")
    flow = structured((81, 21, 2), x, r * np.cos(theta), r * np.sin(theta))
    wind = lambda p: np.column_stack([np.ones(len(p)), -0.2 * p[:, 1], -0.2 * p[:, 2]])  # noqa: E731
    turn = np.radians(angle)
    for radius in (0.0, 0.01, 0.3, 0.9):
        lines = traced(flow, wind, [0.1, radius * np.cos(turn), radius * np.sin(turn)], max_length=40.0, cell_tolerance=1e-6)
        assert lines.n_lines == 1
        assert lines.ends[0, 1] == End.LEFT
        assert lines.points[-1, 0] == pytest.approx(4.0, abs=2e-3), f"from r = {radius}"
        exact = radius * np.exp(-0.2 * (lines.points[:, 0] - 0.1))
        assert np.hypot(lines.points[:, 1], lines.points[:, 2]) == pytest.approx(exact, abs=1e-4)


def test_lines_on_a_plane_of_symmetry_run_on():
    """The half y >= 0 of a flow whose velocity across the plane is nought there."""
    wind = lambda p: np.column_stack([1.0 + 0.2 * np.sin(6 * p[:, 2]), 0.5 * p[:, 1], 0.3 * np.cos(5 * p[:, 0])])  # noqa: E731
    flow = cube_flow(21, velocity=wind)
    seeds = [[0.02, 0.0, z] for z in np.linspace(0.1, 0.6, 11)]
    lines = traced(flow, wind, seeds, max_length=40.0)
    assert lines.n_lines == 11
    back = traced(flow, wind, seeds, max_length=40.0, direction="backward")
    for found in (lines, back):
        kinds = own_values(found)["kind of its end"]
        assert kinds.shape == (len(found.points),)
        assert (kinds == End.LEFT).all(), "whichever way they were followed"
    last = lines.points[lines.offsets[1:] - 1]
    assert (np.abs(last[:, [0, 2]] - 0.5).max(axis=1) == pytest.approx(0.5, abs=1e-3)), "they leave at the sides, not on the way"
    assert np.abs(lines.points[:, 1]).max() < 1e-12
