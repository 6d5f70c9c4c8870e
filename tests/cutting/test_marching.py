"""Cells of every kind are cut alike: closed, each vertex once, with or without the packed mesh, and as VTK cuts them."""

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonDataModel import vtkPlane
from vtkmodules.vtkFiltersCore import vtkContour3DLinearGrid, vtkPlaneCutter

from making import KINDS, cube_flow, flow_of, pyramids
from tidal_lens.cutting import marching
from tidal_lens.cutting.cases import KIND_TYPES, cases, sides_of
from tidal_lens.cutting.contour import axis_slice, isosurface, plane_cut, quadric_cut
from tidal_lens.flow.grid import COLLAPSE, StructuredGrid
from tidal_lens.sampling.mesh import mesh_of
from vtk_data import to_unstructured

ALL = [*KINDS, "pyramids"]
SPHERE = (1.0, 1.0, 1.0, 0.0, 0.0, 0.0, -1.0, -1.0, -1.0)  # about the middle of the unit cube


def radius(p):
    return np.linalg.norm(p - 0.5, axis=1)


def made(kind, n, warp=0.06):
    if kind == "pyramids":
        points, grid = pyramids(n, warp)
        return flow_of([(points, grid)], {"r": radius(points)})
    return cube_flow(n, kind, warp, r=radius)


def border(surface, edge):
    p, q = surface.points[list(edge)]
    return any(abs(p[k] - v) < 1e-9 and abs(q[k] - v) < 1e-9 for k in range(3) for v in (0.0, 1.0))


def test_the_sides_of_cells_look_outwards():
    own = {10: [(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)],
           12: [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0, 0, 1), (1, 0, 1), (1, 1, 1), (0, 1, 1)]}
    for cell_type, places in own.items():
        corners = np.array([places[point] for point in COLLAPSE[cell_type]], float)
        middle = np.array(places, float).mean(axis=0)
        assert len(sides_of(cell_type)) == {10: 4, 12: 6}[cell_type]
        for side in sides_of(cell_type):
            a, b, c = corners[side[:3]]
            assert np.cross(b - a, c - b) @ (corners[side].mean(axis=0) - middle) > 0


def test_every_case_is_told_and_no_face_is_lost():
    vertices, faces = cases()
    assert len(KIND_TYPES) * 256 == len(vertices)
    hexahedra = vertices[256:512, 0]
    assert hexahedra[0] == hexahedra[255] == 0
    assert (hexahedra[1:255] >= 3).all()
    assert faces[:, 0].max() == 4
    assert (vertices[512:528, 0][1:15] >= 3).all()  # tetrahedra by their four points


@pytest.mark.parametrize("kind", ALL)
def test_surfaces_are_closed_even_of_noise(kind):
    flow = made(kind, 9)
    noise = np.random.default_rng(4).random(flow.n_points)
    surface = isosurface(flow, noise, 0.5)
    uses = {}
    for face in surface.faces.tolist():
        corners = list(dict.fromkeys(face))
        for a, b in zip(corners, corners[1:] + corners[:1], strict=True):
            uses.setdefault((min(a, b), max(a, b)), []).append(a < b)
    inner = [ways for edge, ways in uses.items() if not border(surface, edge)]
    assert len(inner) > 1000
    assert all(sorted(ways) == [False, True] for ways in inner)  # two faces, which run along it opposite ways
    assert len(np.unique(surface.points, axis=0)) == len(surface.points)


@pytest.mark.parametrize("kind", ALL)
def test_the_packed_mesh_changes_nothing_but_the_order(kind):
    flow = made(kind, 12)
    values = flow.fields["r"].values
    for cut in (lambda: isosurface(flow, values, 0.31), lambda: axis_slice(flow, 2, 0.43),
                lambda: plane_cut(flow, (0.5, 0.5, 0.5), (1, 2, 3)), lambda: quadric_cut(flow, SPHERE, 0.09 - 0.75)):
        flow.__dict__.pop("_mesh", None)
        plain = cut()
        mesh_of(flow)
        packed = cut()
        assert len(plain.faces) == len(packed.faces) > 100
        assert (np.unique(plain.points, axis=0) == np.unique(packed.points, axis=0)).all()
        assert packed.area == pytest.approx(plain.area, rel=1e-12)


def test_values_that_change_are_cut_anew():
    flow = made("hexahedra", 9)
    mesh_of(flow)
    assert isosurface(flow, radius(flow.points), 0.3).area > 1.0
    for _ in range(20):  # other values in the memory of the former ones
        assert len(isosurface(flow, radius(flow.points) + 5.0, 0.3).faces) == 0
        assert len(isosurface(flow, radius(flow.points), 0.3).faces) > 100


@pytest.mark.parametrize("kind", ["hexahedra", "tetrahedra", "wedges", "pyramids"])
def test_as_vtk_contours_and_cuts(kind):
    flow = made(kind, 12)
    values = flow.fields["r"].values
    data = to_unstructured(flow.points, flow.blocks[0].grid)
    data.GetPointData().SetScalars(numpy_to_vtk(values))
    contour = vtkContour3DLinearGrid()
    contour.SetInputData(data)
    contour.SetValue(0, 0.31)
    contour.SetOutputPointsPrecision(1)
    contour.Update()
    theirs = contour.GetOutput()
    ours = isosurface(flow, values, 0.31)
    assert len(ours.points) == theirs.GetNumberOfPoints()
    triangles = (ours.faces[:, 2] != ours.faces[:, 3]).sum() + len(ours.faces)
    assert triangles == theirs.GetNumberOfPolys()
    corners = vtk_to_numpy(theirs.GetPoints().GetData())[vtk_to_numpy(theirs.GetPolys().GetConnectivityArray()).reshape(-1, 3)]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum()
    assert ours.area == pytest.approx(area, rel=2e-3)  # quadrilaterals may be cut along the other diagonal
    cutter, plane = vtkPlaneCutter(), vtkPlane()
    plane.SetNormal(1, 2, 3)
    plane.SetOrigin(0.51, 0.53, 0.47)
    cutter.SetPlane(plane)
    cutter.SetInputData(data)
    cutter.Update()
    cut = cutter.GetOutput()
    found = sum(cut.GetPartition(n).GetNumberOfPoints() for n in range(cut.GetNumberOfPartitions())) if hasattr(
        cut, "GetNumberOfPartitions") else cut.GetNumberOfPoints()
    mine = plane_cut(flow, (0.51, 0.53, 0.47), (1, 2, 3))
    assert len(mine.points) == found
    assert mine.area == pytest.approx(plane_cut(cube_flow(30), (0.51, 0.53, 0.47), (1, 2, 3)).area, rel=1e-9)


@pytest.mark.parametrize("kind", ALL)
def test_round_cuts_lie_on_their_quadric(kind):
    flow = made(kind, 14)
    ball = quadric_cut(flow, SPHERE, 0.3**2 - 0.75)
    assert np.abs(radius(ball.points) - 0.3).max() < 1e-12
    assert ball.area == pytest.approx(4 * np.pi * 0.09, rel=0.02)
    pipe = quadric_cut(flow, (1, 1, 0, 0, 0, 0, -1, -1, 0), 0.2**2 - 0.5)
    assert np.abs(np.hypot(*(pipe.points[:, :2] - 0.5).T) - 0.2).max() < 1e-12
    assert pipe.area == pytest.approx(2 * np.pi * 0.2, rel=0.02)


def test_nodes_on_the_level_are_vertices_once():
    flow = cube_flow(9, "tetrahedra")
    cut = axis_slice(flow, 0, 0.5)
    assert len(cut.points) == 81
    assert len(cut.faces) == 128
    assert (cut.stencil.ids[:, 0] == cut.stencil.ids[:, 1]).all()
    assert cut.area == pytest.approx(1.0, abs=1e-12)


def test_a_cell_with_a_missing_number_is_left_out():
    flow = cube_flow(5)
    values = flow.points[:, 0].copy()
    values[62] = np.nan  # the middle node
    assert isosurface(flow, values, 0.4).area == pytest.approx(1.0 - 0.25)


def test_a_plane_needs_a_direction():
    with pytest.raises(ValueError, match="length"):
        plane_cut(cube_flow(4), (0, 0, 0), (0, 0, 0))


def test_collapsed_cells_of_a_structured_block_are_cut_too():
    n = 9
    r, a, z = np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 1.5, n), np.linspace(0, 1, n), indexing="ij")
    points = np.stack([r * np.cos(a), r * np.sin(a), z], axis=-1).transpose(2, 1, 0, 3).reshape(-1, 3)
    flow = flow_of([(points, StructuredGrid((n, n, n)))])
    sector = axis_slice(flow, 2, 0.43)
    assert sector.area == pytest.approx(0.5 * 8 * np.sin(1.5 / 8), rel=1e-9)


@pytest.mark.parametrize("of_one_lot", [False, True])
def test_keys_are_told_apart_by_two_at_a_time_whatever_they_are(of_one_lot):
    keys = np.random.default_rng(3).integers(0, 1 << 40, 60000)
    if of_one_lot:  # all of the same bit of their number in the table: one lot would run over
        keys = keys[(keys.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(31) & np.uint64(1) == 1]
    keys = np.concatenate([keys, keys[::3]])
    assert len(keys) > marching._MANY
    first = np.full(len(keys), -1, np.int32)
    marching._find_first(keys, first, marching._Rooms())
    _, begin, which = np.unique(keys, return_index=True, return_inverse=True)
    assert (first == begin[which]).all()
