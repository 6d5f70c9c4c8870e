"""VTK data sets made and written for tests."""

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkStructuredGrid

from making import cube_points

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
