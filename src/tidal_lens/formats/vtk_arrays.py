"""Checked NumPy content of VTK data sets."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Field
from tidal_lens.formats.cells import POLYGON, POLYHEDRON, Cells
from tidal_lens.formats.content import DAMAGED, Sheet, Solid, block_of_cells, finite_points, kept_field
from tidal_lens.formats.polyhedra import Faces
from tidal_lens.formats.structured import lattice_points, structured

_FORMS: dict[str, Any] = {"vtkImageData": "uniform", "vtkRectilinearGrid": "rectilinear"}


def content_of(data: Any, where: str) -> Solid | Sheet | None:
    """Take a data set apart, checking every size and index.

    Returns
    -------
    Solid, Sheet or None
        None where it holds no cells.

    Raises
    ------
    FileError
        Sizes, indices or coordinates contradict one another.
    """
    if data is None or data.GetNumberOfCells() == 0 or data.GetNumberOfPoints() == 0:
        return None
    name = data.GetClassName()
    if name == "vtkUnstructuredGrid":
        return _unstructured(data, where)
    if name == "vtkPolyData":
        return _poly(data, where)
    extent = data.GetExtent()
    dims = tuple(int(extent[2 * a + 1] - extent[2 * a] + 1) for a in range(3))
    points = _structured_points(data, name, dims, where)
    n_cells = int(data.GetNumberOfCells())
    return structured(points, (dims[0], dims[1], dims[2]), _FORMS.get(name, "curvilinear"), _fields(data, len(points), n_cells, where),
                      _not_ghost(data, n_cells), _facts(data), where)


def _structured_points(data: Any, name: str, dims: tuple[int, ...], where: str) -> NDArray[np.float64]:
    if name == "vtkStructuredGrid":
        return _points(data, where, dims[0] * dims[1] * dims[2])
    if name == "vtkImageData":
        extent, origin, spacing = data.GetExtent(), data.GetOrigin(), data.GetSpacing()
        axes = [origin[a] + spacing[a] * np.arange(extent[2 * a], extent[2 * a + 1] + 1) for a in range(3)]
        turn = np.array([[data.GetDirectionMatrix().GetElement(i, j) for j in range(3)] for i in range(3)])
    else:
        axes = [vtk_to_numpy(c).astype(np.float64) for c in
                (data.GetXCoordinates(), data.GetYCoordinates(), data.GetZCoordinates())]
        turn = np.eye(3)
    if tuple(len(a) for a in axes) != dims:
        raise FileError("The coordinates do not fit the extent.", where, DAMAGED)
    points = lattice_points(axes)
    if not np.allclose(turn, np.eye(3)):
        origin = np.array(data.GetOrigin())
        points = (points - origin) @ turn.T + origin
    return finite_points(np.ascontiguousarray(points), where)


def _points(data: Any, where: str, expected: int) -> NDArray[np.float64]:
    if data.GetPoints() is None or data.GetPoints().GetData() is None:
        raise FileError("There are no points in it.", where, DAMAGED)
    points = vtk_to_numpy(data.GetPoints().GetData()).astype(np.float64)
    if points.shape != (expected, 3):
        raise FileError(f"{expected:,} points are declared, {len(points):,} are there.", where, DAMAGED)
    return finite_points(np.ascontiguousarray(points), where)


def _fields(data: Any, n_points: int, n_cells: int, where: str) -> list[Field]:
    fields: list[Field] = []
    for place, attributes, count in (("node", data.GetPointData(), n_points), ("cell", data.GetCellData(), n_cells)):
        for index in range(attributes.GetNumberOfArrays()):
            array = attributes.GetArray(index)
            label = attributes.GetArrayName(index) or f"array {index + 1}"
            if array is None or label.startswith("vtk"):
                continue
            found = kept_field(label, place, vtk_to_numpy(array), count, where)
            if found is not None:
                fields.append(found)
    return fields


def _facts(data: Any) -> dict[str, Any]:
    facts: dict[str, Any] = {}
    table = data.GetFieldData()
    for index in range(table.GetNumberOfArrays()):
        array = table.GetAbstractArray(index)
        if array is None or not array.GetName() or not 0 < array.GetNumberOfValues() <= 16:
            continue
        if array.IsNumeric():
            facts[array.GetName()] = tuple(float(v) for v in vtk_to_numpy(array).ravel())
        else:
            facts[array.GetName()] = str(array.GetValue(0))
    return facts


def _unstructured(data: Any, where: str) -> Solid | Sheet | None:
    types = vtk_to_numpy(data.GetCellTypes() if hasattr(data, "GetCellTypes") else data.GetCellTypesArray())
    offsets = vtk_to_numpy(data.GetCells().GetOffsetsArray()).astype(np.int64, copy=False)
    nodes = vtk_to_numpy(data.GetCells().GetConnectivityArray())
    n_points = int(data.GetNumberOfPoints())
    faces = _polyhedron_faces(data, types) if (types == POLYHEDRON).any() else None
    return block_of_cells(_points(data, where, n_points), Cells(types, offsets, nodes, faces), _fields(data, n_points, len(types), where),
                          _facts(data), where, _not_ghost(data, len(types)))


def _polyhedron_faces(data: Any, types: NDArray[Any]) -> Faces | None:
    listed, of_cells = data.GetPolyhedronFaces(), data.GetPolyhedronFaceLocations()
    if listed is None or of_cells is None:
        return None
    starts = vtk_to_numpy(of_cells.GetOffsetsArray()).astype(np.int64)
    numbers = vtk_to_numpy(of_cells.GetConnectivityArray()).astype(np.int64)
    ends = vtk_to_numpy(listed.GetOffsetsArray()).astype(np.int64)
    nodes = vtk_to_numpy(listed.GetConnectivityArray()).astype(np.int64)
    if (len(starts) != len(types) + 1 or starts[-1] != len(numbers)
            or (len(numbers) and not 0 <= numbers.min() <= numbers.max() < len(ends) - 1)):
        return None
    owner = np.repeat(np.arange(len(types)), np.diff(starts))
    if np.array_equal(numbers, np.arange(len(ends) - 1)):
        return Faces(owner, ends, nodes)
    sizes = np.diff(ends)[numbers]
    begin = np.concatenate([[0], np.cumsum(sizes)])
    at = np.arange(begin[-1]) - np.repeat(begin[:-1], sizes) + np.repeat(ends[numbers], sizes)
    return Faces(owner, begin, nodes[at])


def _not_ghost(data: Any, count: int) -> NDArray[np.bool_]:
    ghosts = data.GetCellData().GetArray("vtkGhostType")
    if ghosts is None or ghosts.GetNumberOfTuples() != count:
        return np.ones(count, dtype=bool)
    flags = vtk_to_numpy(ghosts).astype(np.int64)
    keep: NDArray[np.bool_] = (flags & (1 | 32)) == 0  # duplicated in another piece, or hidden
    return keep


def _poly(data: Any, where: str) -> Sheet | None:
    polys = data.GetPolys()
    offsets = vtk_to_numpy(polys.GetOffsetsArray()).astype(np.int64)
    nodes = vtk_to_numpy(polys.GetConnectivityArray())
    n_points, many = int(data.GetNumberOfPoints()), len(offsets) - 1
    sizes = np.diff(offsets)
    types = np.where(sizes == 3, 5, np.where(sizes == 4, 9, POLYGON)).astype(np.uint8)
    fields = _fields(data, n_points, int(data.GetNumberOfCells()), where)
    if data.GetNumberOfCells() != many:
        fields = [f for f in fields if f.place == "node"]
    found = block_of_cells(_points(data, where, n_points), Cells(types, offsets, nodes), fields, _facts(data), where)
    return found if isinstance(found, Sheet) else None
