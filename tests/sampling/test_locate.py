import numpy as np
import pytest

from making import KINDS, cube_flow, cube_points, flow_of, unstructured
from tidal_lens.flow.faces import face_neighbours
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.sampling.mesh import build_mesh

RNG = np.random.default_rng(5)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("warp", [0.0, 0.1])
def test_a_linear_field_is_reproduced_everywhere_inside(kind, warp):
    flow = cube_flow(7, kind, warp)
    targets = RNG.random((3000, 3))
    stencil, inside = build_mesh(flow).locate(targets)
    assert inside.all()
    for axis in range(3):  # coordinates are linear: interpolated at a point they give the point
        assert np.abs(stencil.apply(np.ascontiguousarray(flow.points[:, axis])) - targets[:, axis]).max() < 1e-6


@pytest.mark.parametrize("kind", KINDS)
def test_points_outside_are_outside(kind):
    flow = cube_flow(5, kind, 0.08)
    targets = np.concatenate([1.02 + RNG.random((200, 3)), -0.02 - RNG.random((200, 3))])
    stencil, inside = build_mesh(flow).locate(targets)
    assert not inside.any()
    assert np.isnan(stencil.apply(np.ones(flow.n_points))).all()


@pytest.mark.parametrize("kind", KINDS)
def test_nodes_and_middles_of_edges_and_faces_are_inside(kind):
    """The hard places: collapsed edges and corners, and borders between cells."""
    flow = cube_flow(6, kind, 0.08)
    grid = flow.blocks[0].grid
    places = [flow.points]
    if kind != "structured":
        corners = flow.points[grid.corners]
        places += [0.5 * (corners[:, a] + corners[:, b]) for a, b in ((0, 1), (1, 2), (0, 4), (2, 6))]
        places += [corners[:, (0, 1, 5, 4)].mean(axis=1)]
    targets = np.concatenate(places)
    stencil, inside = build_mesh(flow).locate(targets)
    assert inside.all()
    for axis in range(3):
        assert np.abs(stencil.apply(np.ascontiguousarray(flow.points[:, axis])) - targets[:, axis]).max() < 1e-5


def test_values_across_two_blocks_of_different_kinds():
    n = 6
    a = cube_points(n, 0.05)
    flow = flow_of([(a, StructuredGrid((n, n, n))), (a + np.array([1, 0, 0]), unstructured("tetrahedra", n))])
    targets = RNG.random((2000, 3)) * [2, 1, 1]
    stencil, inside = build_mesh(flow).locate(targets)
    assert inside.all()
    assert np.abs(stencil.apply(flow.points @ [1.0, 2.0, -3.0]) - targets @ [1.0, 2.0, -3.0]).max() < 1e-6


def test_very_thin_cells_at_a_wall_are_found():
    n = 20
    points = cube_points(n)
    points[:, 2] = np.expm1(14 * points[:, 2]) / np.expm1(14)  # first cell a millionth of the height
    flow = flow_of([(points, StructuredGrid((n, n, n)))])
    targets = RNG.random((2000, 3))
    targets[:, 2] = 10.0 ** RNG.uniform(-8, -1, 2000)
    stencil, inside = build_mesh(flow).locate(targets)
    assert inside.all()
    assert np.abs(stencil.apply(np.ascontiguousarray(flow.points[:, 2])) / targets[:, 2] - 1).max() < 1e-6


def test_left_handed_blocks_are_harmless():
    n = 6
    points = cube_points(n, 0.05) * [-1, 1, 1]
    flow = flow_of([(points, StructuredGrid((n, n, n)))])
    targets = RNG.random((500, 3)) * [-1, 1, 1]
    stencil, inside = build_mesh(flow).locate(targets)
    assert inside.all()
    assert np.abs(stencil.apply(np.ascontiguousarray(flow.points[:, 0])) - targets[:, 0]).max() < 1e-6


@pytest.mark.parametrize("kind", ["hexahedra", "tetrahedra", "wedges"])
def test_neighbours_are_mutual_and_share_a_face(kind):
    grid = unstructured(kind, 4)
    near = face_neighbours(grid)
    for cell, row in enumerate(near):
        for other in row[row >= 0]:
            assert cell in near[other]
            shared = set(grid.corners[cell]) & set(grid.corners[other])
            assert len(shared) >= 3
    inner = {"hexahedra": 54, "tetrahedra": 270, "wedges": 99}[kind]
    assert (near >= 0).sum() == 2 * inner
