"""Where a node quantity takes a value: isosurfaces, and slices as isosurfaces of the distance to a plane.

Structured blocks are contoured in index space, where VTK's flying edges are quick; each vertex lies on a grid edge, and
its weight there is worked out again in double precision. Of unstructured blocks the cells that the surface goes through are
contoured by VTK in space, and the vertices located among them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints, vtkSMPTools
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkImageData, vtkUnstructuredGrid
from vtkmodules.vtkFiltersCore import vtkContour3DLinearGrid, vtkFlyingEdges3D

from tidal_lens.cutting import kernels
from tidal_lens.cutting.surface import Surface, join
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import OWN_CORNERS, StructuredGrid, UnstructuredGrid
from tidal_lens.sampling.mesh import Stencil, build_mesh
from tidal_lens.work import Token, read_only, run_chunks

vtkSMPTools.SetBackend("STDThread")  # VTK's default is one thread


def isosurface(flow: Flow, values: NDArray[Any], level: float, token: Token | None = None) -> Surface:
    """Surface on which node values take a level.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : ndarray, shape (nodes,)
        Node values.
    level : float
        The value.
    token : Token, optional
        Checked between blocks.

    Returns
    -------
    Surface
        Empty where the level is not met.
    """
    if values.shape != (flow.n_points,):
        raise ValueError(f"{values.shape} values for {flow.n_points} nodes")
    parts: list[Surface] = []
    for n, block in enumerate(flow.blocks):
        if token is not None:
            token.check()
            token.report(n / len(flow.blocks))
        own = values[block.points]
        low, high = np.nanmin(own, initial=np.inf), np.nanmax(own, initial=-np.inf)
        if not low <= level <= high:
            continue
        parts.append(_structured(flow, block, own, level) if isinstance(block.grid, StructuredGrid)
                     else _unstructured(flow, block, own, level))
    return join(parts)


def axis_slice(flow: Flow, axis: int, position: float, token: Token | None = None) -> Surface:
    """Cut by the plane on which one coordinate takes a value.

    Parameters
    ----------
    axis : int
        0, 1 or 2 for x, y or z.
    position : float
        The coordinate; on the very border of the flow it is taken a hair inside.
    """
    low, high = (float(b[axis]) for b in flow.bounds)
    hair = 1e-9 * max(high - low, 1e-300)
    inside = min(max(position, low + hair), high - hair) if low - hair <= position <= high + hair else position
    return isosurface(flow, flow.points[:, axis], inside, token)


def _structured(flow: Flow, block: Block, values: NDArray[Any], level: float) -> Surface:
    assert isinstance(block.grid, StructuredGrid)
    dims = block.grid.dims
    image = vtkImageData()
    image.SetDimensions(*dims)
    scalars = np.ascontiguousarray(np.where(np.isfinite(values), values, level - 1.0), dtype=np.float64)
    array = numpy_to_vtk(scalars)
    array.SetName("s")
    image.GetPointData().SetScalars(array)
    cut = vtkFlyingEdges3D()
    cut.SetInputData(image)
    cut.SetValue(0, level)
    cut.ComputeNormalsOff()
    cut.ComputeGradientsOff()
    cut.ComputeScalarsOff()
    cut.Update()
    found = cut.GetOutput()
    if found.GetNumberOfPoints() == 0:
        return join([])
    index = vtk_to_numpy(found.GetPoints().GetData()).astype(np.float64)
    faces = vtk_to_numpy(found.GetPolys().GetConnectivityArray()).reshape(-1, 3).astype(np.int64)
    base = np.floor(index + 1e-6).astype(np.int64)
    along = index - base > 1e-6
    strides = np.array([1, dims[0], dims[0] * dims[1]])
    first = base @ strides
    second = np.minimum(first + along @ strides, len(values) - 1)
    stencil, points = _on_edges(flow, block, scalars, first, second, level)
    good = np.isfinite(values[first]) & np.isfinite(values[second])
    return Surface(points, _triangles(faces[good[faces].all(axis=1)]), stencil)


def _on_edges(flow: Flow, block: Block, scalars: NDArray[np.float64], first: NDArray[np.int64], second: NDArray[np.int64],
              level: float) -> tuple[Stencil, NDArray[np.float64]]:
    a, b = scalars[first], scalars[second]
    span = b - a
    t = np.divide(level - a, span, out=np.zeros_like(a), where=span != 0.0)
    t = np.clip(t, 0.0, 1.0)
    ids = np.column_stack([first, second]) + block.first_point
    weights = np.column_stack([1.0 - t, t])
    points = flow.points[ids[:, 0]] * weights[:, :1] + flow.points[ids[:, 1]] * weights[:, 1:]
    return Stencil(ids, weights), points


def _triangles(faces: NDArray[np.int64]) -> NDArray[np.int64]:
    return np.column_stack([faces, faces[:, 2]])


def to_unstructured(points: NDArray[np.float64], grid: UnstructuredGrid) -> Any:
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


def _unstructured(flow: Flow, block: Block, values: NDArray[Any], level: float) -> Surface:
    """Only the cells that the surface goes through are handed to VTK, and searched for its vertices."""
    assert isinstance(block.grid, UnstructuredGrid)
    crossed = _crossed(block.grid, values, level)
    if len(crossed) == 0:
        return join([])
    nodes, corners = np.unique(block.grid.corners[crossed], return_inverse=True)
    part = UnstructuredGrid(len(nodes), corners.reshape(-1, 8).astype(np.int32), block.grid.types[crossed])
    points = flow.points[nodes + block.first_point]
    grid = to_unstructured(points, part)
    array = numpy_to_vtk(np.ascontiguousarray(values[nodes], dtype=np.float64))
    array.SetName("s")
    grid.GetPointData().SetScalars(array)
    cut = vtkContour3DLinearGrid()
    cut.SetInputData(grid)
    cut.SetValue(0, level)
    cut.SetInterpolateAttributes(False)
    cut.ComputeScalarsOff()
    cut.SetOutputPointsPrecision(1)  # double
    cut.Update()
    found = cut.GetOutput()
    if found.GetNumberOfPoints() == 0:
        return join([])
    vertices = vtk_to_numpy(found.GetPoints().GetData()).astype(np.float64)
    faces = vtk_to_numpy(found.GetPolys().GetConnectivityArray()).reshape(-1, 3).astype(np.int64)
    near = build_mesh(Flow("", flow.path, points, (Block("", part, 0, 0),), {}))
    stencil, inside = near.locate(vertices, slack=0.05)
    good = inside & np.isfinite(vertices).all(axis=1)
    whole = Stencil(nodes[stencil.ids].astype(np.int64) + block.first_point, stencil.weights)
    return Surface(vertices, _triangles(faces[good[faces].all(axis=1)]), whole)


def _crossed(grid: UnstructuredGrid, values: NDArray[Any], level: float) -> NDArray[np.int64]:
    """Cells with corners on both sides of a level."""
    mask = np.zeros(grid.n_cells, dtype=bool)
    own, corners = read_only(values), read_only(grid.corners)
    run_chunks(lambda a, b: kernels.straddling(corners, own, level, mask, a, b), grid.n_cells, 65536)
    return np.flatnonzero(mask)
