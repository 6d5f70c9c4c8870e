"""Cells of all kinds made for tests, and what must hold of a flow that was cut from them."""

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkIdList, vtkPoints
from vtkmodules.vtkCommonDataModel import vtkUnstructuredGrid
from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridWriter

from tidal_lens.formats.registry import open_flow
from tidal_lens.quantities.gradients import flow_gradient
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


def filled(data):
    """A data set with a velocity, a scalar linear in space, and a number at cells."""
    points = np.array([data.GetPoint(n) for n in range(data.GetNumberOfPoints())])
    add(data.GetPointData(), "Velocity", stream(points))
    add(data.GetPointData(), "p", linear(points).astype(np.float32))
    add(data.GetCellData(), "number", np.arange(data.GetNumberOfCells(), dtype=float))
    return data


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
