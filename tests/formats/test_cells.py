"""Cells of every kind: nothing is lost or doubled when they are cut, and all that follows works through them."""

import numpy as np
import pytest
import vtkmodules.vtkCommonDataModel
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkIdList, vtkPoints
from vtkmodules.vtkCommonDataModel import vtkUnstructuredGrid
from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridWriter

from making import cube_points, hexahedra
from tidal_lens.cutting.contour import axis_slice
from tidal_lens.errors import FileError
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.formats import higher_order
from tidal_lens.formats.registry import open_flow
from tidal_lens.quantities.gradients import flow_gradient
from tidal_lens.quantities.nodes import node_values
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines
from vtk_data import add, write

_TETS = {10: ((0, 1, 2, 3),), 14: ((0, 1, 2, 4), (0, 2, 3, 4)), 13: ((0, 1, 2, 3), (1, 4, 2, 3), (2, 4, 5, 3)),
         12: ((0, 1, 3, 4), (1, 2, 3, 6), (1, 3, 4, 6), (1, 4, 5, 6), (3, 4, 6, 7))}
_OWN = {10: (0, 1, 2, 4), 12: (0, 1, 2, 3, 4, 5, 6, 7), 13: (0, 1, 2, 4, 5, 6), 14: (0, 1, 2, 3, 4)}


def volumes(points, grid):
    """Volume of each cell, by tetrahedra; negative where one is inside out."""
    out = np.zeros(grid.n_cells)
    for kind, tets in _TETS.items():
        some = np.flatnonzero(grid.types == kind)
        own = points[grid.corners[some][:, _OWN[kind]]]
        for t in tets:
            a, b, c, d = (own[:, n] for n in t)
            out[some] += np.einsum("ij,ij->i", np.cross(b - a, c - a), d - a) / 6.0
    return out


def stream(points):
    return np.column_stack([1.0 + 0.0 * points[:, 0], 0.2 * points[:, 2], 0.1 * points[:, 0]])


def linear(points):
    return 3.0 + points @ [1.0, -2.0, 0.5]


def save(path, points, insert, count):
    data = vtkUnstructuredGrid()
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(np.ascontiguousarray(points), deep=1))
    data.SetPoints(holder)
    insert(data)
    assert data.GetNumberOfCells() == count
    add(data.GetPointData(), "Velocity", stream(points))
    add(data.GetPointData(), "p", linear(points))
    add(data.GetCellData(), "number", np.arange(count, dtype=float))
    write(vtkXMLUnstructuredGridWriter(), data, path)
    return open_flow(path)


def polyhedron(data, faces):
    stream_of_ids = vtkIdList()
    stream_of_ids.InsertNextId(len(faces))
    for face in faces:
        stream_of_ids.InsertNextId(len(face))
        for node in face:
            stream_of_ids.InsertNextId(int(node))
    data.InsertNextCell(42, stream_of_ids)


def check_whole(flow, volume, area):
    """The cut mesh fills the volume, has no inner faces left over, and keeps linear fields."""
    block = flow.blocks[0]
    parts = volumes(flow.points, block.grid)
    assert parts.min() > 0.0
    assert parts.sum() == pytest.approx(volume, rel=1e-9)
    outside = flow.outside.faces
    p = flow.points[outside]
    size = 0.5 * np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1) + np.where(
        outside[:, 2] == outside[:, 3], 0.0, 0.5 * np.linalg.norm(np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 0]), axis=1))
    assert size.sum() == pytest.approx(area, rel=1e-9)
    np.testing.assert_allclose(flow.fields["p"].values, linear(flow.points), atol=1e-12)
    gradient = flow_gradient(flow, flow.fields["p"].values)
    np.testing.assert_allclose(gradient[:, 0], np.broadcast_to([1.0, -2.0, 0.5], (flow.n_points, 3)), atol=1e-8)


def check_crossed(flow, area, seeds):
    """A slice has the whole area, and lines go through from one side to the other."""
    middle = 0.5 * sum(flow.bounds)[0] + 0.01
    mesh = mesh_of(flow)
    assert axis_slice(flow, mesh, 0, middle).area == pytest.approx(area, rel=1e-6)
    lines = trace_lines(flow, mesh, flow.fields["Velocity"].values, np.asarray(seeds), TraceSettings("forward", 50.0, 1e-6))
    assert lines.n_lines == len(seeds)
    assert set(lines.ends[:, 1]) <= {End.LEFT, End.WALL}
    last = lines.points[lines.offsets[1:] - 1]
    np.testing.assert_allclose(last[:, 0], flow.bounds[1][0], atol=1e-3)


def honeycomb(n=4, layers=3):
    """Points and faces of hexagonal prisms side by side."""
    middles = [(np.sqrt(3.0) * (i + 0.5 * (j % 2)), 1.5 * j) for j in range(n) for i in range(n)]
    angles = np.radians(30 + 60 * np.arange(6))
    flat = np.array([[x + np.cos(a), y + np.sin(a)] for x, y in middles for a in angles])
    _, first, place = np.unique(np.round(flat, 6), axis=0, return_index=True, return_inverse=True)
    base = flat[first]
    points = np.concatenate([np.column_stack([base, np.full(len(base), float(k))]) for k in range(layers + 1)])
    cells = []
    for hexagon in place.reshape(-1, 6):
        for k in range(layers):
            low, high = hexagon + k * len(base), hexagon + (k + 1) * len(base)
            cells.append([low[::-1], high, *([low[c], low[(c + 1) % 6], high[(c + 1) % 6], high[c]] for c in range(6))])
    return points, cells


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


def refined_cube():
    """Eight cubes of half a metre; the one at the origin, and in it one again, are cut in eight."""
    corners = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0, 0, 1), (1, 0, 1), (1, 1, 1), (0, 1, 1)], float)
    coarse = [(0.5 * np.array((i, j, k)), 0.5) for k in range(2) for j in range(2) for i in range(2)]
    cells = []
    for low, size in coarse:
        if low.any():
            cells.append((low, size))
        else:
            cells += [(0.25 * np.array((i, j, k)), 0.25) for k in range(2) for j in range(2) for i in range(2)]
    first = cells.pop(0)
    cells += [(0.125 * np.array((i, j, k)), 0.125) for k in range(2) for j in range(2) for i in range(2)]
    assert first[1] == 0.25
    every = np.concatenate([low + size * corners for low, size in cells])
    _, at, place = np.unique(np.round(every, 9), axis=0, return_index=True, return_inverse=True)
    return every[at], place.reshape(-1, 8)


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
