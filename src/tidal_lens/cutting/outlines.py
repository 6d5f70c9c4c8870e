"""The outline of a flow: sharp edges of its outside."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersCore import vtkFeatureEdges, vtkOrientPolyData

from tidal_lens.flow.case import Flow


def outline(flow: Flow) -> NDArray[np.float64]:
    """Sharp edges of the flow's outside; shape (n, 2, 3), one straight piece a row."""
    labels = flow.seams.labels(flow.n_points)
    faces = labels[flow.outside.faces]
    nodes, compact = np.unique(faces, return_inverse=True)
    compact = compact.reshape(faces.shape)
    polygons = vtkCellArray()
    triangle = compact[:, 2] == compact[:, 3]
    sizes = np.where(triangle, 3, 4)
    offsets = np.concatenate([[0], np.cumsum(sizes)])
    keep = np.ones(compact.shape, dtype=bool)
    keep[triangle, 3] = False
    polygons.SetData(numpy_to_vtkIdTypeArray(offsets, deep=1), numpy_to_vtkIdTypeArray(compact[keep], deep=1))
    surface = vtkPolyData()
    points = vtkPoints()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(flow.points[nodes]), deep=1))
    surface.SetPoints(points)
    surface.SetPolys(polygons)
    turned = vtkOrientPolyData()  # blocks of either hand: else every seam between two would count as an edge
    turned.SetInputData(surface)
    edges = vtkFeatureEdges()
    edges.SetInputConnection(turned.GetOutputPort())
    edges.SetFeatureAngle(40.0)
    edges.ManifoldEdgesOff()
    edges.NonManifoldEdgesOff()
    edges.ColoringOff()
    edges.Update()
    found = edges.GetOutput()
    if found.GetNumberOfLines() == 0:
        return np.empty((0, 2, 3))
    ends = vtk_to_numpy(found.GetLines().GetConnectivityArray()).reshape(-1, 2)
    pieces = vtk_to_numpy(found.GetPoints().GetData()).astype(np.float64)[ends]
    # The library gives them in whatever order and sense: the same picture wants the same ones.
    a, b = pieces[:, 0], pieces[:, 1]
    apart = a != b
    first = np.where(apart.any(axis=1), apart.argmax(axis=1), 0)
    rows = np.arange(len(pieces))
    back = a[rows, first] > b[rows, first]
    pieces[back] = pieces[back, ::-1]
    return np.asarray(pieces[np.lexsort(pieces.reshape(-1, 6).T[::-1])])
