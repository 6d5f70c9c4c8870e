"""Cells of every kind: nothing is lost or doubled when they are cut, and all that follows works through them."""

import numpy as np
import pytest
import vtkmodules.vtkCommonDataModel

from cell_checks import check_whole, honeycomb, linear, polyhedron, refined_cube, save, volumes
from making import cube_points, hexahedra
from tidal_lens.cutting.contour import axis_slice
from tidal_lens.errors import FileError
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.formats import higher_order
from tidal_lens.quantities.nodes import node_values
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines


def check_crossed(flow, area, seeds):
    """A slice has the whole area, and lines go through from one side to the other."""
    middle = 0.5 * sum(flow.bounds)[0] + 0.01
    mesh = mesh_of(flow)
    assert axis_slice(flow, 0, middle).area == pytest.approx(area, rel=1e-6)
    lines = trace_lines(flow, mesh, flow.fields["Velocity"].values, np.asarray(seeds), TraceSettings("forward", 50.0, 1e-6))
    assert lines.n_lines == len(seeds)
    assert set(lines.ends[:, 1]) <= {End.LEFT, End.WALL}
    last = lines.points[lines.offsets[1:] - 1]
    np.testing.assert_allclose(last[:, 0], flow.bounds[1][0], atol=1e-3)


def test_polyhedra_are_cut_without_gaps(tmp_path):
    points, cells = honeycomb()
    flow = save(tmp_path / "honeycomb.vtu", points, lambda d: [polyhedron(d, c) for c in cells], len(cells))
    hexagon = 1.5 * np.sqrt(3.0)
    # 16 hexagons joined by 33 of their sides (12 along the rows, 21 between them): 96 - 66 sides of length 1 are outside.
    check_whole(flow, 16 * 3 * hexagon, 2 * 16 * hexagon + 3 * 30.0)
    assert "48 polyhedra" in flow.blocks[0].grid.description
    # A cell's value is that of all its parts.
    parts = np.bincount(flow.fields["number"].values.astype(int))
    assert (parts == 6 + 2 * 4).all()
    lines = trace_lines(flow, mesh_of(flow), np.tile([0.0, 0.0, 1.0], (flow.n_points, 1)), np.array([[0.1, 0.2, 0.0], [1.9, 1.4, 0.2]]),
                        TraceSettings("forward", 50.0, 1e-6))
    np.testing.assert_allclose(lines.points[lines.offsets[1:] - 1][:, 2], 3.0, atol=1e-3)


@pytest.mark.parametrize("turned", [False, True])
def test_polyhedra_that_are_plain_cells_stay_whole(tmp_path, turned):
    """Solvers write all cells as polyhedra; faces may run either way and come in any order."""
    points = cube_points(3)
    random = np.random.default_rng(3)
    cube = ((0, 4, 7, 3), (1, 2, 6, 5), (0, 1, 5, 4), (3, 7, 6, 2), (0, 3, 2, 1), (4, 5, 6, 7))
    prism = ((0, 1, 2), (4, 6, 5), (0, 4, 5, 1), (1, 5, 6, 2), (2, 6, 4, 0))
    tetra, pyramid = ((0, 1, 2), (0, 1, 5), (1, 2, 5), (0, 2, 5)), ((0, 1, 2, 3), (0, 1, 5), (1, 2, 5), (2, 3, 5), (3, 0, 5))
    cells = []
    for number, own in enumerate(hexahedra(3)):
        faces = [own[list(f)] for f in (cube, prism, tetra, pyramid)[number % 4]]
        cells.append([f[::-1] if turned else f for f in random.permutation(np.array(faces, dtype=object))])
    flow = save(tmp_path / "plain.vtu", points, lambda d: [polyhedron(d, c) for c in cells], 8)
    grid = flow.blocks[0].grid
    assert sorted(grid.types) == [10, 10, 12, 12, 13, 13, 14, 14]
    assert volumes(flow.points, grid).min() > 0.0
    cube_volume = 1.0 / 8.0
    assert volumes(flow.points, grid).sum() == pytest.approx(2 * cube_volume * (1 + 1 / 2 + 1 / 6 + 1 / 3))
    assert not grid.origin


HIGHER = ((24, 10), (25, 20), (33, 24), (29, 27), (26, 15), (32, 18), (31, 12), (27, 13), (37, 19), (71, 20), (72, 64), (73, 40))
NAMES = {24: "QuadraticTetra", 25: "QuadraticHexahedron", 33: "BiQuadraticQuadraticHexahedron", 29: "TriQuadraticHexahedron",
         26: "QuadraticWedge", 32: "BiQuadraticQuadraticWedge", 31: "QuadraticLinearWedge", 27: "QuadraticPyramid",
         37: "TriQuadraticPyramid", 71: "LagrangeTetra", 72: "LagrangeHexahedron", 73: "LagrangeWedge"}


def nodes_of(kind, size):
    """Places of a cell's nodes as VTK, the second opinion, has them."""
    cell = getattr(vtkmodules.vtkCommonDataModel, f"vtk{NAMES[kind]}")()
    cell.GetPointIds().SetNumberOfIds(size)
    cell.GetPoints().SetNumberOfPoints(size)
    cell.Initialize()
    if hasattr(cell, "SetUniformOrderFromNumPoints"):
        cell.SetUniformOrderFromNumPoints(size)
    places = cell.GetParametricCoords()
    flat = np.array([places[n] for n in range(3 * size)]).reshape(-1, 3)
    return flat if kind not in (27, 37) else pyramid_nodes(size)


def pyramid_nodes(size):
    corner = np.array([(-1, -1, 0), (1, -1, 0), (1, 1, 0), (-1, 1, 0), (0, 0, 1)], float)
    edges = [(0, 1), (1, 2), (2, 3), (3, 0), (0, 4), (1, 4), (2, 4), (3, 4)]
    sides = [(0, 1, 2, 3), (0, 1, 4), (1, 2, 4), (2, 3, 4), (3, 0, 4)]
    extra = [corner[list(s)].mean(axis=0) for s in (*edges, *sides)]
    return np.array([*corner, *extra, corner.mean(axis=0)])[:size]


@pytest.mark.parametrize(("kind", "size"), HIGHER)
def test_cells_of_higher_order_are_cut_between_their_nodes(tmp_path, kind, size):
    points = nodes_of(kind, size)
    flow = save(tmp_path / "higher.vtu", points, lambda d: d.InsertNextCell(kind, size, list(range(size))), 1)
    grid = flow.blocks[0].grid
    whole = next(v for end, v in (("Tetra", 1 / 6), ("hedron", 1.0), ("Wedge", 0.5), ("Pyramid", 4 / 3)) if NAMES[kind].endswith(end))
    parts = volumes(flow.points, grid)
    assert abs(parts.sum()) == pytest.approx(whole, rel=1e-9)
    assert parts.min() * parts.max() > 0.0
    np.testing.assert_allclose(flow.fields["p"].values, linear(flow.points), atol=1e-12)
    assert "1 cells of higher order" in grid.description
    assert (flow.fields["number"].values == 0.0).all()


def test_a_curved_face_is_cut_alike_from_both_sides(tmp_path):
    """Two 20-node hexahedra whose common face bulges: the added node in it is one."""
    local = nodes_of(25, 20)
    both = np.concatenate([local, local + np.array([1.0, 0.0, 0.0])])
    both[:, 0] += 0.2 * np.sin(np.pi * both[:, 1]) * np.sin(np.pi * both[:, 0] / 2.0) ** 2
    _, first, place = np.unique(np.round(both, 9), axis=0, return_index=True, return_inverse=True)
    cells = place.reshape(2, 20)

    def insert(data):
        for own in cells:
            data.InsertNextCell(25, 20, [int(n) for n in own])

    flow = save(tmp_path / "curved.vtu", both[first], insert, 2)
    assert flow.n_cells == 16
    outside = flow.outside.faces
    assert len(outside) == 2 * 4 * 5  # five sides of each, in four parts: none of the face between them
    assert flow.n_points == len(first) + 11 + 2


def test_hanging_nodes_leave_no_gap(tmp_path):
    points, cells = refined_cube()

    def insert(data):
        for own in cells:
            data.InsertNextCell(12, 8, [int(n) for n in own])

    flow = save(tmp_path / "refined.vtu", points, insert, len(cells))
    check_whole(flow, 1.0, 6.0)
    assert "beside finer ones" in flow.blocks[0].grid.description
    check_crossed(flow, 1.0, [(0.01, 0.1, 0.05), (0.05, 0.6, 0.4), (0.0, 0.24, 0.26), (0.3, 0.2, 0.1)])
    # The cell value of a large cell is kept in its parts: means at nodes lie between the least and the greatest.
    assert node_values(flow, flow.fields["number"]).max() <= len(cells) - 1


def test_a_conforming_mesh_is_left_as_it_is(tmp_path):
    points, cells = cube_points(5, 0.05), hexahedra(5)

    def insert(data):
        for own in cells:
            data.InsertNextCell(12, 8, [int(n) for n in own])

    flow = save(tmp_path / "plain.vtu", points, insert, len(cells))
    assert isinstance(flow.blocks[0].grid, UnstructuredGrid)
    np.testing.assert_array_equal(flow.blocks[0].grid.corners, cells)
    assert flow.blocks[0].grid.description == "64 hexahedra"


def test_points_that_no_cell_uses_are_left_out(tmp_path):
    points = np.concatenate([[[99.0, 99.0, 99.0]], cube_points(2)])
    flow = save(tmp_path / "loose.vtu", points, lambda d: d.InsertNextCell(12, 8, [int(n) + 1 for n in hexahedra(2)[0]]), 1)
    assert flow.n_points == 8
    np.testing.assert_array_equal(flow.bounds[1], [1.0, 1.0, 1.0])
    np.testing.assert_allclose(flow.fields["p"].values, linear(flow.points))


def test_cells_with_a_wrong_number_of_nodes(tmp_path):
    with pytest.raises(FileError, match="type 24 with 9 nodes"):
        save(tmp_path / "a.vtu", cube_points(3), lambda d: d.InsertNextCell(24, 9, list(range(9))), 1)
    with pytest.raises(FileError, match="type 79"):
        save(tmp_path / "b.vtu", cube_points(3), lambda d: d.InsertNextCell(79, 8, list(range(8))), 1)


def test_every_kind_of_higher_order_is_known():
    assert {kind for kind, _ in HIGHER} | {74} == set(higher_order.KINDS)
