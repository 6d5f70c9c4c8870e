"""Cuts and regions of difficult meshes against VTK's: hanging nodes, seams of blocks, hidden cells."""

import itertools

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonDataModel import vtkPlane
from vtkmodules.vtkFiltersCore import vtkContourFilter, vtkCutter
from vtkmodules.vtkFiltersGeneral import vtkTableBasedClipDataSet
from vtkmodules.vtkFiltersVerdict import vtkCellSizeFilter
from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridWriter

from cell_checks import refined_cube
from making import cube_flow, cube_points, flow_of, hexahedra
from tidal_lens.cutting.contour import isosurface, plane_cut
from tidal_lens.cutting.regions import Limit, region_content, region_skin
from tidal_lens.flow.grid import HEXAHEDRON, StructuredGrid, UnstructuredGrid
from tidal_lens.formats.registry import open_flow
from vtk_data import add, to_unstructured, write

POINT, NORMAL = (0.52, 0.51, 0.47), np.array([1.0, 2.0, 3.0]) / np.sqrt(14.0)


def linear(p):
    return p @ np.array([0.3, -0.5, 0.8])


def area(faces):
    """Area of VTK's polygons."""
    points = vtk_to_numpy(faces.GetPoints().GetData()).astype(float)
    offsets = vtk_to_numpy(faces.GetPolys().GetOffsetsArray())
    nodes = vtk_to_numpy(faces.GetPolys().GetConnectivityArray())
    total = 0.0
    for a, b in itertools.pairwise(offsets):
        own = points[nodes[a:b]]
        total += 0.5 * np.linalg.norm(np.cross(own[1:-1] - own[0], own[2:] - own[0]).sum(axis=0))
    return total


def their_slice(data):
    cutter, plane = vtkCutter(), vtkPlane()
    plane.SetNormal(*NORMAL)
    plane.SetOrigin(*POINT)
    cutter.SetCutFunction(plane)
    cutter.SetInputData(data)
    cutter.SetOutputPointsPrecision(1)
    cutter.Update()
    return area(cutter.GetOutput())


def their_surface(data, level):
    contour = vtkContourFilter()
    contour.SetInputData(data)
    contour.SetInputArrayToProcess(0, 0, 0, 0, "s")
    contour.SetValue(0, level)
    contour.SetOutputPointsPrecision(1)
    contour.Update()
    return area(contour.GetOutput())


def their_volume(data, level):
    clip, size = vtkTableBasedClipDataSet(), vtkCellSizeFilter()
    clip.SetInputData(data)
    clip.SetInputArrayToProcess(0, 0, 0, 0, "s")
    clip.SetValue(level)
    clip.SetOutputPointsPrecision(1)
    size.SetInputConnection(clip.GetOutputPort())
    size.Update()
    return float(vtk_to_numpy(size.GetOutput().GetCellData().GetArray("Volume")).sum())


def laid(points, cells):
    """Hexahedra as VTK has them, with a linear field."""
    data = to_unstructured(points, UnstructuredGrid(len(points), np.asarray(cells, np.int32), np.full(len(cells), HEXAHEDRON, np.uint8)))
    add(data.GetPointData(), "s", linear(points))
    add(data.GetPointData(), "U", np.tile([1.0, 0.0, 0.0], (len(points), 1)))
    return data


def agree(flow, data, level):
    values = linear(flow.points)
    assert plane_cut(flow, POINT, NORMAL).area == pytest.approx(their_slice(data), rel=1e-9)
    assert isosurface(flow, values, level).area == pytest.approx(their_surface(data, level), rel=1e-9)
    assert region_content(flow, [Limit(values, level, True)], None).volume == pytest.approx(their_volume(data, level), rel=1e-9)


def open_edges(surface, inside):
    """Edges with one face only whose middle is inside a box."""
    _, number = np.unique(np.round(surface.points, 9), axis=0, return_inverse=True)
    uses = {}
    for face in number.ravel()[surface.faces].tolist():
        corners = list(dict.fromkeys(face))
        for a, b in zip(corners, corners[1:] + corners[:1], strict=True):
            uses[min(a, b), max(a, b)] = uses.get((min(a, b), max(a, b)), 0) + 1
    place = np.zeros((number.max() + 1, 3))
    place[number.ravel()] = surface.points
    low, high = inside
    middles = np.array([0.5 * (place[a] + place[b]) for (a, b), n in uses.items() if n == 1]).reshape(-1, 3)
    return int(((middles > low) & (middles < high)).all(axis=1).sum())


def test_hanging_nodes(tmp_path):
    data = laid(*refined_cube())
    write(vtkXMLUnstructuredGridWriter(), data, tmp_path / "a.vtu")
    flow = open_flow(tmp_path / "a.vtu")
    agree(flow, data, 0.23)
    hair = 1e-6
    for surface in (plane_cut(flow, POINT, NORMAL), isosurface(flow, linear(flow.points), 0.23)):
        assert open_edges(surface, (hair, 1 - hair)) == 0, "where large cells meet small ones there is no gap"
    bent = isosurface(flow, np.linalg.norm(flow.points - 0.1, axis=1), 0.6)
    assert open_edges(bent, (hair, 1 - hair)) == 0


@pytest.mark.parametrize("second", ["structured", "hexahedra"])
def test_seams_of_blocks(second):
    first, other = cube_points(7), cube_points(7) * [1.0, 1.0, 1.0] + [1.0, 0.0, 0.0]
    grid = StructuredGrid((7, 7, 7)) if second == "structured" else cube_flow(7, "hexahedra").blocks[0].grid
    flow = flow_of([(first, StructuredGrid((7, 7, 7))), (other, grid)])
    cells = hexahedra(7)
    data = laid(np.concatenate([first, other]), np.concatenate([cells, cells + len(first)]))
    agree(flow, data, 0.61)
    surface = isosurface(flow, linear(flow.points), 0.61)
    assert open_edges(surface, (1e-6, np.array([2.0, 1.0, 1.0]) - 1e-6)) == 0, "both blocks cut their common side alike"
    skin = region_skin(flow, [Limit(linear(flow.points), 0.4, True)])
    assert len(skin.faces) > 0


def test_hidden_cells(tmp_path):
    points, cells = cube_points(9), hexahedra(9)
    data = laid(points, cells)
    hidden = np.zeros(len(cells), np.uint8)
    middle = points[cells].mean(axis=1)
    hidden[(np.abs(middle - 0.55) < 0.2).all(axis=1)] = 32  # of the kind that is not to be shown
    assert 0 < (hidden > 0).sum() < 100
    array = numpy_to_vtk(hidden, deep=1)
    array.SetName("vtkGhostType")
    data.GetCellData().AddArray(array)
    write(vtkXMLUnstructuredGridWriter(), data, tmp_path / "a.vtu")
    flow = open_flow(tmp_path / "a.vtu")
    rest = laid(points, cells[hidden == 0])
    agree(flow, rest, 0.31)
    assert plane_cut(flow, POINT, NORMAL).area < 0.99 * plane_cut(cube_flow(9), POINT, NORMAL).area
