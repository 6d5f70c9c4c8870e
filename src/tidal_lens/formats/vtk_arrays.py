"""Checked NumPy content of VTK data sets."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy

from tidal_lens.errors import FileError
from tidal_lens.flow.case import BoundaryKind, Field
from tidal_lens.flow.faces import quads_of_sheet
from tidal_lens.flow.grid import COLLAPSE, HEXAHEDRON, OWN_CORNERS, Grid, StructuredGrid, UnstructuredGrid

_VOXEL = 11
_VOXEL_ORDER = (0, 1, 3, 2, 4, 5, 7, 6)
_FLAT = {5: 3, 8: 4, 9: 4}  # triangle, pixel, quadrilateral and their corners
_SKIPPED = {1, 2, 3, 4}  # vertices and lines
_OTHERS = {42: "polyhedra", 7: "polygons", 6: "triangle strips"}
_DAMAGED = "Write it again from the solver."


@dataclass(frozen=True, eq=False)
class Solid:
    """A block of three-dimensional cells with its fields and the file's facts about the case."""

    name: str
    grid: Grid
    points: NDArray[np.float64]
    fields: list[Field]
    facts: dict[str, Any]
    notices: list[str] = field(default_factory=list)


@dataclass(frozen=True, eq=False)
class Sheet:
    """A surface: points (n, 3), faces (m, 4), a triangle repeating its last corner, and its kind if the file states it."""

    points: NDArray[np.float64]
    faces: NDArray[np.int64]
    notices: list[str] = field(default_factory=list)
    kind: BoundaryKind | None = None


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
    if sum(d > 1 for d in dims) < 3:
        sheet = np.arange(len(points), dtype=np.int64).reshape([d for d in dims[::-1] if d > 1])
        return Sheet(points, quads_of_sheet(sheet)) if sheet.ndim == 2 else None
    form: Any = {"vtkImageData": "uniform", "vtkRectilinearGrid": "rectilinear"}.get(name, "curvilinear")
    grid = StructuredGrid((dims[0], dims[1], dims[2]), form)
    fields, notices = _fields(data, grid.n_points, grid.n_cells, None, where)
    core, left = _core_of(_not_ghost(data, grid.n_cells).reshape([d - 1 for d in dims[::-1]]))
    if core is None:
        return None
    if left:
        notices.append(f"{left:,} hidden or duplicate cells inside a structured block are shown: only whole layers can be left out.")
    if core != tuple((0, d - 1) for d in dims[::-1]):
        grid, points, fields = _cropped(grid, points, fields, core)
    return Solid("", grid, points, fields, _facts(data), notices)


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
        raise FileError("The coordinates do not fit the extent.", where, _DAMAGED)
    z, y, x = np.meshgrid(axes[2], axes[1], axes[0], indexing="ij")
    points = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
    if not np.allclose(turn, np.eye(3)):
        origin = np.array(data.GetOrigin())
        points = (points - origin) @ turn.T + origin
    return _finite(np.ascontiguousarray(points), where)


def _points(data: Any, where: str, expected: int) -> NDArray[np.float64]:
    if data.GetPoints() is None or data.GetPoints().GetData() is None:
        raise FileError("There are no points in it.", where, _DAMAGED)
    points = vtk_to_numpy(data.GetPoints().GetData()).astype(np.float64)
    if points.shape != (expected, 3):
        raise FileError(f"{expected:,} points are declared, {len(points):,} are there.", where, _DAMAGED)
    return _finite(np.ascontiguousarray(points), where)


def _finite(points: NDArray[np.float64], where: str) -> NDArray[np.float64]:
    bad = ~np.isfinite(points).all(axis=1)
    if bad.any():
        raise FileError(f"{int(bad.sum()):,} points have coordinates that are not finite, the first is point "
                        f"{int(bad.argmax()):,}.", where, _DAMAGED)
    return points


def _fields(data: Any, n_points: int, n_cells: int, keep: NDArray[np.bool_] | None,
            where: str) -> tuple[list[Field], list[str]]:
    fields: list[Field] = []
    notices: list[str] = []
    for place, attributes, count in (("node", data.GetPointData(), n_points), ("cell", data.GetCellData(), n_cells)):
        for index in range(attributes.GetNumberOfArrays()):
            array = attributes.GetArray(index)
            label = attributes.GetArrayName(index) or f"array {index + 1}"
            if array is None or label.startswith("vtk"):
                continue
            if array.GetNumberOfComponents() not in (1, 3):
                notices.append(f"{label} has {array.GetNumberOfComponents()} components and was left out.")
                continue
            values = vtk_to_numpy(array)
            if values.dtype.kind not in "fiu":
                continue
            if place == "cell" and keep is not None and len(values) == len(keep):
                values = values[keep]
            if len(values) != count:
                raise FileError(f"{label} has {len(values):,} values for {count:,} {place}s.", where, _DAMAGED)
            dtype = values.dtype if values.dtype in (np.float32, np.float64) else np.dtype(np.float64)
            fields.append(Field(label, "node" if place == "node" else "cell", np.array(values, dtype=dtype, order="C")))
    return fields, notices


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
    offsets = vtk_to_numpy(data.GetCells().GetOffsetsArray()).astype(np.int64)
    connectivity = vtk_to_numpy(data.GetCells().GetConnectivityArray())
    n_points = int(data.GetNumberOfPoints())
    points = _points(data, where, n_points)
    _check_connectivity(types, offsets, connectivity, n_points, where)
    known = set(OWN_CORNERS) | {_VOXEL} | set(_FLAT) | _SKIPPED
    strange = sorted({int(t) for t in np.unique(types)} - known)
    if strange:
        names = ", ".join(_OTHERS.get(t, f"cell type {t}") for t in strange)
        raise FileError(f"It holds {names}, which are not read.", where,
                        "Write it with linear tetrahedra, pyramids, wedges or hexahedra.")
    solid = np.isin(types, [*OWN_CORNERS, _VOXEL]) & _not_ghost(data, len(types))
    if not solid.any():
        return _flat_cells(types, offsets, connectivity, points, where)
    corners = _corners(types, offsets, connectivity, solid, where)
    kinds = np.where(types[solid] == _VOXEL, HEXAHEDRON, types[solid]).astype(np.uint8)
    fields, notices = _fields(data, n_points, len(kinds), solid, where)
    return Solid("", UnstructuredGrid(n_points, corners, kinds), points, fields, _facts(data), notices)


def _not_ghost(data: Any, count: int) -> NDArray[np.bool_]:
    ghosts = data.GetCellData().GetArray("vtkGhostType")
    if ghosts is None or ghosts.GetNumberOfTuples() != count:
        return np.ones(count, dtype=bool)
    flags = vtk_to_numpy(ghosts).astype(np.int64)
    keep: NDArray[np.bool_] = (flags & (1 | 32)) == 0  # duplicated in another piece, or hidden
    return keep


def _check_connectivity(types: NDArray[Any], offsets: NDArray[np.int64], connectivity: NDArray[Any], n_points: int,
                        where: str) -> None:
    if len(offsets) != len(types) + 1 or offsets[0] != 0 or offsets[-1] != len(connectivity) or (np.diff(offsets) < 0).any():
        raise FileError("The list of cells contradicts itself (offsets).", where, _DAMAGED)
    if len(connectivity) and (connectivity.min() < 0 or connectivity.max() >= n_points):
        raise FileError(f"Cells refer to point {int(connectivity.max()):,}, but there are {n_points:,} points.", where,
                        _DAMAGED)


def _gather(types: NDArray[Any], offsets: NDArray[np.int64], connectivity: NDArray[Any], kind: int, size: int,
            where: str) -> tuple[NDArray[np.intp], NDArray[Any]]:
    chosen = np.flatnonzero(types == kind)
    if (offsets[chosen + 1] - offsets[chosen] != size).any():
        raise FileError(f"Some cells of type {kind} do not have {size} corners.", where, _DAMAGED)
    return chosen, connectivity[offsets[chosen][:, None] + np.arange(size)]


def _corners(types: NDArray[Any], offsets: NDArray[np.int64], connectivity: NDArray[Any], solid: NDArray[np.bool_],
             where: str) -> NDArray[np.int32]:
    corners = np.empty((len(types), 8), dtype=np.int32)
    for kind in (*OWN_CORNERS, _VOXEL):
        order = _VOXEL_ORDER if kind == _VOXEL else COLLAPSE[kind]
        chosen, own = _gather(types, offsets, connectivity, kind, max(order) + 1, where)
        corners[chosen] = own[:, order]
    return np.ascontiguousarray(corners[solid])


def _flat_cells(types: NDArray[Any], offsets: NDArray[np.int64], connectivity: NDArray[Any],
                points: NDArray[np.float64], where: str) -> Sheet | None:
    faces: list[NDArray[np.int64]] = []
    for kind, size in _FLAT.items():
        _, own = _gather(types, offsets, connectivity, kind, size, where)
        order = {5: (0, 1, 2, 2), 8: (0, 1, 3, 2), 9: (0, 1, 2, 3)}[kind]
        faces.append(own[:, order].astype(np.int64))
    joined = np.concatenate(faces)
    return Sheet(points, joined) if len(joined) else None


def _poly(data: Any, where: str) -> Sheet | None:
    polys = data.GetPolys()
    offsets = vtk_to_numpy(polys.GetOffsetsArray()).astype(np.int64)
    connectivity = vtk_to_numpy(polys.GetConnectivityArray())
    n_points = int(data.GetNumberOfPoints())
    sizes = np.diff(offsets)
    points = _points(data, where, n_points)
    if len(connectivity) and (connectivity.min() < 0 or connectivity.max() >= n_points):
        raise FileError("Faces refer to points that are not there.", where, _DAMAGED)
    triangles = connectivity[offsets[:-1][sizes == 3][:, None] + np.array([0, 1, 2, 2])]
    quads = connectivity[offsets[:-1][sizes == 4][:, None] + np.arange(4)]
    faces = np.concatenate([triangles, quads]).astype(np.int64)
    left = int(((sizes != 3) & (sizes != 4)).sum())
    notices = [f"{left:,} polygons with more than four corners were left out."] if left else []
    return Sheet(points, faces, notices) if len(faces) else None
