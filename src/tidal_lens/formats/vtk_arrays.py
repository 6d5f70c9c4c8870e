"""Checked NumPy content of VTK data sets."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Field
from tidal_lens.flow.faces import quads_of_sheet
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.formats.cells import POLYGON, POLYHEDRON, Cells, uniform
from tidal_lens.formats.content import DAMAGED, Sheet, Solid, block_of_cells, finite_points, kept_field
from tidal_lens.formats.polyhedra import Faces


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
    return structured(points, (dims[0], dims[1], dims[2]), name, _fields(data, len(points), n_cells, where), _not_ghost(data, n_cells),
                      _facts(data), where)


_FORMS: dict[str, Any] = {"vtkImageData": "uniform", "vtkRectilinearGrid": "rectilinear"}


def structured(points: NDArray[np.float64], dims: tuple[int, int, int], form: str, fields: list[Field], own: NDArray[np.bool_],
               facts: dict[str, Any], where: str) -> Solid | Sheet | None:
    """A structured block, or a sheet where it is one point thick.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points, i fastest.
    dims : tuple of int
        Points along i, j, k.
    form : str
        Class of the data set, or a form of :class:`StructuredGrid`.
    fields : list of Field
        Values at nodes and cells.
    own : ndarray, shape (cells,), bool
        Cells that are its own and not hidden.
    facts : dict
        About the case.
    where : str
        For messages.
    """
    if sum(d > 1 for d in dims) < 3:
        sheet = np.arange(len(points), dtype=np.int64).reshape([d for d in dims[::-1] if d > 1])
        if sheet.ndim != 2:
            return None
        whole = bool(own.all())
        faces = quads_of_sheet(sheet)
        if not whole:
            fields = [f if f.place == "node" else Field(f.name, "cell", f.values[own]) for f in fields]
        return Sheet(points, faces if whole else faces[own], fields=fields, facts=facts,
                     dims=(sheet.shape[1], sheet.shape[0]) if whole else None)
    grid = StructuredGrid(dims, _FORMS.get(form, form if form in ("uniform", "rectilinear") else "curvilinear"))
    core, left = _core_of(own.reshape([d - 1 for d in dims[::-1]]))
    if core is None:
        return None
    if left:  # holes inside: the cells that are left have no more than their neighbours in common with a lattice
        return block_of_cells(points, uniform(12, _lattice_cells(dims)), fields, facts, where, own)
    if core != tuple((0, d - 1) for d in dims[::-1]):
        grid, points, fields = _cropped(grid, points, fields, core)
    return Solid("", grid, points, fields, facts)


def _lattice_cells(dims: tuple[int, int, int]) -> NDArray[np.int64]:
    index = np.arange(dims[0] * dims[1] * dims[2], dtype=np.int64).reshape(dims[::-1])
    a, b = slice(None, -1), slice(1, None)
    return np.stack([index[a, a, a], index[a, a, b], index[a, b, b], index[a, b, a],
                     index[b, a, a], index[b, a, b], index[b, b, b], index[b, b, a]], axis=-1).reshape(-1, 8)


_Box = tuple[tuple[int, int], tuple[int, int], tuple[int, int]]


def _core_of(own: NDArray[np.bool_]) -> tuple[_Box | None, int]:
    """The box of cells (k, j, i) that are a block's own, and how many in it are not; None where all belong to others."""
    if own.all():
        k, j, i = own.shape
        return ((0, k), (0, j), (0, i)), 0
    if not own.any():
        return None, 0
    ranges = []
    for axis in range(3):
        there = np.flatnonzero(own.any(axis=tuple(a for a in range(3) if a != axis)))
        ranges.append((int(there[0]), int(there[-1]) + 1))
    box = (ranges[0], ranges[1], ranges[2])
    inner = own[tuple(slice(a, b) for a, b in box)]
    return box, int(inner.size - inner.sum())


def _cropped(grid: StructuredGrid, points: NDArray[np.float64], fields: list[Field],
             core: _Box) -> tuple[StructuredGrid, NDArray[np.float64], list[Field]]:
    """A structured block without its layers of ghost cells."""
    cells = tuple(slice(a, b) for a, b in core)
    nodes = tuple(slice(a, b + 1) for a, b in core)
    dims = grid.dims

    def cut(values: NDArray[Any], place: str) -> NDArray[Any]:
        shape = dims[::-1] if place == "node" else tuple(d - 1 for d in dims[::-1])
        part = values.reshape(*shape, *values.shape[1:])[nodes if place == "node" else cells]
        return np.ascontiguousarray(part.reshape(-1, *values.shape[1:]))

    k, j, i = (b - a + 1 for a, b in core)
    return (StructuredGrid((i, j, k), grid.form), cut(points, "node"),
            [Field(f.name, f.place, cut(f.values, f.place)) for f in fields])


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
    z, y, x = np.meshgrid(axes[2], axes[1], axes[0], indexing="ij")
    points = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
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
