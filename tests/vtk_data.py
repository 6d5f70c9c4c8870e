"""VTK data sets made and written for tests."""

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkStructuredGrid, vtkUnstructuredGrid

from making import cube_points
from tidal_lens.flow.grid import OWN_CORNERS

N = 4


def add(attributes, name, values):
    array = numpy_to_vtk(np.ascontiguousarray(values), deep=1)
    array.SetName(name)
    attributes.AddArray(array)


def write(writer, data, path, mode="Appended", compress=True):
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    {"Ascii": writer.SetDataModeToAscii, "Binary": writer.SetDataModeToBinary, "Appended": writer.SetDataModeToAppended}[mode]()
    if not compress:
        writer.SetCompressorTypeToNone()
    assert writer.Write() == 1


def structured(points=None, dims=(N, N, N)):
    grid = vtkStructuredGrid()
    grid.SetDimensions(*dims)
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(np.ascontiguousarray(cube_points(N, 0.05) if points is None else points), deep=1))
    grid.SetPoints(holder)
    return grid


def to_unstructured(points, grid):
    """The block as a VTK unstructured grid."""
    sizes = np.zeros(256, np.int64)
    for kind, corners in OWN_CORNERS.items():
        sizes[kind] = len(corners)
    offsets = np.concatenate([[0], np.cumsum(sizes[grid.types])])
    connectivity = np.empty(int(offsets[-1]), np.int64)
    for kind, corners in OWN_CORNERS.items():
        chosen = np.flatnonzero(grid.types == kind)
        connectivity[offsets[chosen][:, None] + np.arange(len(corners))] = grid.corners[chosen][:, corners]
    cells = vtkCellArray()
    cells.SetData(numpy_to_vtkIdTypeArray(offsets, deep=1), numpy_to_vtkIdTypeArray(connectivity, deep=1))
    out = vtkUnstructuredGrid()
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(np.ascontiguousarray(points)))
    out.SetPoints(holder)
    out.SetCells(numpy_to_vtk(grid.types, deep=1), cells)
    return out
