"""Slices and isosurfaces against VTK's, and on structured blocks against flying edges with weights worked out again.

Warm: trees and links are there on both sides. Cold: our packed mesh is there, nothing is kept of the quantity; VTK's filter and grid are
new. New: neither has anything, cells are looked at as they stand in the file.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkPlane, vtkUnstructuredGrid
from vtkmodules.vtkFiltersCore import vtkContour3DLinearGrid, vtkFlyingEdges3D, vtkPlaneCutter
from vtkmodules.vtkFiltersGeneral import vtkTableBasedClipDataSet
from vtkmodules.vtkFiltersGeometry import vtkGeometryFilter

from grids import hexahedra, mixed, tetrahedra, vtk_data, warped
from tidal_lens.cutting.contour import axis_slice, isosurface, plane_cut
from tidal_lens.cutting.regions import Limit, region_skin
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.sampling.mesh import Stencil, mesh_of
from timing import Row, in_turn

LEVEL = 0.3
OBLIQUE = np.array([1.0, 0.7, 0.4])


def radius(p: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    return np.asarray(np.linalg.norm(p - 0.5, axis=1))


def area(points: np.ndarray[Any, Any], faces: np.ndarray[Any, Any]) -> float:
    a, b, c = (points[faces[:, k]] for k in range(3))
    return float(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())


def plane_cutter(data: Any, normal: Any, point: Any) -> Any:
    task = vtkPlaneCutter()
    plane = vtkPlane()
    plane.SetNormal(*normal)
    plane.SetOrigin(*point)
    task.SetPlane(plane)
    task.SetInputData(data)
    task.SetComputeNormals(False)
    task.SetInterpolateAttributes(False)
    return task


def contour(data: Any, level: float) -> Any:
    task = vtkContour3DLinearGrid()
    task.SetInputData(data)
    task.SetValue(0, level)
    task.SetInterpolateAttributes(False)
    task.ComputeScalarsOff()
    return task


def again(task: Any) -> Any:
    task.Modified()
    task.Update()
    return task.GetOutput()


def vtk_skin(data: Any, low: float, high: float) -> Callable[[], Any]:
    """The cells between two values, cut at both, and their surface."""
    first, second, outside = vtkTableBasedClipDataSet(), vtkTableBasedClipDataSet(), vtkGeometryFilter()
    for task in (first, second):
        task.SetInputArrayToProcess(0, 0, 0, 0, "r")
    first.SetInputData(data)
    first.SetValue(low)
    second.SetInputConnection(first.GetOutputPort())
    second.SetValue(high)
    second.InsideOutOn()
    outside.SetInputConnection(second.GetOutputPort())

    def run() -> Any:
        first.Modified()
        outside.Update()
        return outside.GetOutput()

    return run


def fresh(data: Any) -> Any:
    """The same grid, of which nothing has been worked out."""
    other = vtkUnstructuredGrid()
    other.SetPoints(data.GetPoints())
    other.SetCells(data.GetCellTypesArray(), data.GetCells())
    other.GetPointData().SetScalars(data.GetPointData().GetScalars())
    return other


def vtk_area(found: Any) -> float:
    if hasattr(found, "GetNumberOfPartitions"):
        return sum(vtk_area(found.GetPartition(n)) for n in range(found.GetNumberOfPartitions()))
    if found.GetNumberOfPoints() == 0:
        return 0.0
    ids, starts = (vtk_to_numpy(a) for a in (found.GetPolys().GetConnectivityArray(), found.GetPolys().GetOffsetsArray()))
    sizes, points = np.diff(starts), vtk_to_numpy(found.GetPoints().GetData()).astype(float)
    total = 0.0
    for k in range(1, int(sizes.max()) - 1):  # triangles round the first corner of each polygon
        first = starts[:-1][sizes > k + 1]
        total += area(points, np.column_stack([ids[first], ids[first + k], ids[first + k + 1]]))
    return total


def flying_edges(flow: Flow, values: np.ndarray[Any, Any], level: float) -> Any:
    """Structured blocks as they were cut before: index space, and vertices on their edges in double precision."""
    grid = flow.blocks[0].grid
    assert isinstance(grid, StructuredGrid)
    np.nanmin(values), np.nanmax(values)
    image = vtkImageData()
    image.SetDimensions(*grid.dims)
    scalars = np.ascontiguousarray(np.where(np.isfinite(values), values, level - 1.0), dtype=np.float64)
    image.GetPointData().SetScalars(numpy_to_vtk(scalars))
    task = vtkFlyingEdges3D()
    task.SetInputData(image)
    task.SetValue(0, level)
    task.ComputeNormalsOff()
    task.ComputeGradientsOff()
    task.ComputeScalarsOff()
    task.Update()
    found = task.GetOutput()
    index = vtk_to_numpy(found.GetPoints().GetData()).astype(np.float64)
    faces = vtk_to_numpy(found.GetPolys().GetConnectivityArray()).reshape(-1, 3).astype(np.int64)
    base = np.floor(index + 1e-6).astype(np.int64)
    along = index - base > 1e-6
    strides = np.array([1, grid.dims[0], grid.dims[0] * grid.dims[1]])
    first = base @ strides
    second = np.minimum(first + along @ strides, len(values) - 1)
    a, b = scalars[first], scalars[second]
    t = np.clip(np.divide(level - a, b - a, out=np.zeros_like(a), where=b != a), 0.0, 1.0)
    ids, weights = np.column_stack([first, second]), np.column_stack([1.0 - t, t])
    points = flow.points[ids[:, 0]] * weights[:, :1] + flow.points[ids[:, 1]] * weights[:, 1:]
    good = np.isfinite(values[first]) & np.isfinite(values[second])
    return points, faces[good[faces].all(axis=1)], Stencil(ids, weights)


def structured(n: int, rounds: int) -> list[Row]:
    points = warped(n)
    flow = Flow("bench", Path("bench"), points, (Block("b", StructuredGrid((n, n, n)), 0, 0),), {})
    mesh_of(flow)
    values, exact = radius(points), (1.0, 4 * np.pi * LEVEL**2)
    rows = []
    x = points[:, 0]
    for what, mine, theirs, true, wanted in (
            ("slice", lambda: axis_slice(flow, 0, 0.37), lambda: flying_edges(flow, x, 0.37), exact[0], "4x"),
            ("isosurface", lambda: isosurface(flow, values, LEVEL), lambda: flying_edges(flow, values, LEVEL), exact[1], "2.5x")):
        mine(), theirs()
        found = in_turn({"ours": mine, "theirs": theirs}, rounds)
        a, b = found["ours"], found["theirs"]
        rows.append(Row(f"{what}: curvilinear", "warm", a.best, b.best, a.ratio(b), abs(a.answer.area / true - 1),
                        abs(area(b.answer[0], b.answer[1]) / true - 1), wanted))
    return rows


def unstructured(n: int, rounds: int) -> list[Row]:
    rows = []
    m = n * 80 // 128
    points_of_mixed, grid_of_mixed = mixed(warped(n * 96 // 128))
    for name, points, grid in (("hexahedra", warped(n), hexahedra(n)), ("tetrahedra", warped(m), tetrahedra(m)),
                               ("mixed cells", points_of_mixed, grid_of_mixed)):
        flow = Flow("bench", Path("bench"), points, (Block("b", grid, 0, 0),), {})
        unpacked = Flow("bench", Path("bench"), points, flow.blocks, {})
        mesh_of(flow)
        values = radius(points)
        data = vtk_data(n, points, np.zeros((len(points), 3), np.float32), grid)
        array = numpy_to_vtk(values)
        array.SetName("r")
        data.GetPointData().SetScalars(array)
        axis, oblique = plane_cutter(data, (1, 0, 0), (0.37, 0.5, 0.5)), plane_cutter(data, OBLIQUE, (0.5, 0.5, 0.5))
        outside, surface, little = plane_cutter(data, (1, 0, 0), (1.5, 0, 0)), contour(data, LEVEL), contour(data, 0.03)

        def new_values(flow: Flow = flow, values: Any = values) -> Any:
            return isosurface(flow, values.view(), LEVEL)

        sphere = 4 * np.pi * LEVEL**2
        low, high = 0.35, 0.55
        shell = [Limit(values, low, True), Limit(values, high, False)]
        skin = vtk_skin(data, low, high)
        for what, state, mine, theirs, true, wanted in (
                ("slice", "warm", lambda flow=flow: axis_slice(flow, 0, 0.37), lambda axis=axis: again(axis), 1.0, "5x"),
                ("oblique slice", "warm", lambda flow=flow: plane_cut(flow, (0.5, 0.5, 0.5), OBLIQUE),
                 lambda oblique=oblique: again(oblique), 0.0, "5x"),
                ("isosurface", "warm", lambda flow=flow, values=values: isosurface(flow, values, LEVEL),
                 lambda surface=surface: again(surface), sphere, "5x"),
                ("small isosurface", "warm", lambda flow=flow, values=values: isosurface(flow, values, 0.03),
                 lambda little=little: again(little), 4 * np.pi * 0.03**2, "5x"),
                ("slice of nothing", "warm", lambda flow=flow: axis_slice(flow, 0, 1.5), lambda outside=outside: again(outside), 0.0,
                 "0.5 ms"),
                ("skin with caps", "warm", lambda flow=flow, shell=shell: region_skin(flow, shell), lambda skin=skin: skin(),
                 0.0, "10x"),
                ("isosurface", "cold", new_values, lambda data=data: again(contour(fresh(data), LEVEL)), sphere, "1.3x"),
                ("slice", "new", lambda unpacked=unpacked: axis_slice(unpacked, 0, 0.37),
                 lambda data=data: again(plane_cutter(fresh(data), (1, 0, 0), (0.37, 0.5, 0.5))), 1.0, "1.3x"),
                ("isosurface", "new", lambda unpacked=unpacked, values=values: isosurface(unpacked, values, LEVEL),
                 lambda data=data: again(contour(fresh(data), LEVEL)), sphere, "1.3x")):
            mine(), theirs()
            found = in_turn({"ours": mine, "theirs": theirs}, rounds)
            a, b = found["ours"], found["theirs"]
            ours, other = a.answer.area, vtk_area(b.answer)
            right = true or other or 1.0
            rows.append(Row(f"{what}: {name}", state, a.best, b.best, a.ratio(b), abs(ours / right - 1) if ours else 0.0,
                            abs(other / right - 1) if other else 0.0, wanted))
    return rows


def cutting(n: int, rounds: int) -> list[Row]:
    """All rows."""
    return structured(n, rounds) + unstructured(n, rounds)
