"""VTKHDF files: image, rectilinear, structured, unstructured and surface data, sets of blocks, in one or many pieces, steady or in steps.

The layout follows the published description of the VTKHDF file format, version 2.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Field, Flow
from tidal_lens.formats import hdf5
from tidal_lens.formats.assemble import assemble_content
from tidal_lens.formats.cells import POLYGON, Cells
from tidal_lens.formats.content import DAMAGED, Sheet, Solid, block_of_cells, finite_points, kept_field
from tidal_lens.formats.polyhedra import Faces
from tidal_lens.formats.reading import claim, note_quantities, wants_block, wants_quantity
from tidal_lens.formats.structured import Form, lattice_points, structured
from tidal_lens.work import Token

_SETS = ("PartitionedDataSetCollection", "MultiBlockDataSet")
_MOST_PIECES = 100_000
_GHOST = "vtkGhostType"
_FORMS: dict[str, Form] = {"ImageData": "uniform", "RectilinearGrid": "rectilinear", "StructuredGrid": "curvilinear"}


class UnknownBlockError(FileError):
    """A block of a file is of a kind that is not read; others may be."""


def is_vtkhdf(path: Path) -> bool:
    """Whether an HDF5 file holds VTK data."""
    with hdf5.open_hdf5(path) as file:
        return hdf5.subgroup(file, "VTKHDF") is not None


def open_file(path: Path, token: Token, anyway: bool, step: int = 0) -> Flow:
    """Read one step of a VTKHDF file into a flow."""
    with hdf5.open_hdf5(path) as file:
        root = hdf5.subgroup(file, "VTKHDF")
        if root is None:
            raise FileError("There is no VTKHDF group in it.", str(path), DAMAGED)
        holders = _holders(path, root)
        times = next((t for _, g in holders if (t := _times(path, g))), _times(path, root))
        step = min(step, max(len(times) - 1, 0))
        contents: list[tuple[str, Solid | Sheet]] = []
        lost: list[str] = []
        for number, (name, group) in enumerate(holders):
            token.check()
            if name and not wants_block(name):
                continue
            try:
                contents += _contents(path, name, group, step)
            except UnknownBlockError as error:  # of many blocks only this one is refused
                if len(holders) == 1:
                    raise
                lost.append(str(error))
            token.report((number + 1) / len(holders))
    solids = [_named(content, name, n) for n, (name, content) in enumerate(contents) if isinstance(content, Solid)]
    sheets = [(name or f"surface {n + 1}", content) for n, (name, content) in enumerate(contents) if isinstance(content, Sheet)]
    return assemble_content(path, solids, sheets, lost, anyway, (times, step) if len(times) > 1 else ((), 0))


def _named(solid: Solid, name: str, number: int) -> Solid:
    return replace(solid, name=name or f"block {number + 1}")


def _holders(path: Path, root: Any) -> list[tuple[str, Any]]:
    """Data sets of a file, by name."""
    if hdf5.text_of(root, "Type") not in _SETS:
        return [("", root)]
    labels = dict(_labels(hdf5.subgroup(root, "Assembly"), 0))
    found: list[tuple[str, Any]] = []
    for name in hdf5.names(root):
        group = hdf5.subgroup(root, name)
        if group is not None and name != "Assembly" and hdf5.text_of(group, "Type"):
            found.append((labels.get(name, name), group))
    if not found:
        raise FileError("There are no blocks in it.", str(path), DAMAGED)
    return found


def _labels(assembly: Any, depth: int) -> Iterator[tuple[str, str]]:
    """Names of data sets in the tree of an assembly, whose leaves are links to them."""
    import h5py

    for name in hdf5.names(assembly) if assembly is not None and depth < 30 else ():
        link = assembly.get(name, getlink=True)
        if isinstance(link, h5py.SoftLink):
            target = str(link.path).rsplit("/", 1)[-1]
            # A partition is called like the node of the tree that it stands in.
            own = assembly.name.rsplit("/", 1)[-1]
            yield target, own if name == target and own != "Assembly" else name
        else:
            yield from _labels(hdf5.subgroup(assembly, name), depth + 1)


def _times(path: Path, group: Any) -> tuple[float, ...]:
    steps = hdf5.subgroup(group, "Steps")
    if steps is None:
        return ()
    values = hdf5.numbers(hdf5.member(steps, "Values"), f"{path.name}, Steps").ravel().astype(float)
    if len(values) > 1_000_000 or not np.isfinite(values).all():
        raise FileError("Its times make no sense.", str(path), DAMAGED)
    return tuple(float(v) for v in values)


def _contents(path: Path, name: str, group: Any, step: int) -> list[tuple[str, Solid | Sheet]]:
    where = f"{path.name}, {name or 'VTKHDF'}"
    kind = hdf5.text_of(group, "Type")
    if kind in _FORMS:
        found = _block(group, kind, step, where)
        return [(name, found)] if found is not None else []
    if kind not in ("UnstructuredGrid", "PolyData"):
        raise UnknownBlockError(f"Its data are of type {kind or 'unknown'}, which is not opened.", where,
                        "It opens image, rectilinear, structured, unstructured and surface data, and sets of them.")
    reader = _Pieces(group, step, where)
    whole = name or path.stem
    out: list[tuple[str, Solid | Sheet]] = []
    for number in range(reader.count):
        content = reader.unstructured(number) if kind == "UnstructuredGrid" else reader.surface(number)
        if isinstance(content, Solid):
            content = replace(content, whole=whole)
        if content is not None:
            out.append((f"{whole} {number + 1}" if reader.count > 1 else whole, content))
    return out


def _block(group: Any, kind: str, step: int, where: str) -> Solid | Sheet | None:
    """A block addressed by three indices: image data, or with points of its own along its axes or at each node."""
    low, dims = _size(group, kind, where)
    n_points, n_cells = int(np.prod(dims)), int(np.prod([max(d - 1, 1) for d in dims]))
    claim(24 * n_points, where, structured=True)
    fields: list[Field] = []
    own = np.ones(n_cells, dtype=bool)
    cells = tuple(max(d - 1, 1) for d in dims)
    for place, holder, count, shape in (("node", "PointData", n_points, dims), ("cell", "CellData", n_cells, cells)):
        for label, data, part in _arrays(group, holder, step):
            lead = len(hdf5.checked(data, where, "iufb").shape) - len(shape) - len(part)
            values = hdf5.numbers(data, f"{where}, {label}", part, "iufb")
            if values.shape[:3] != shape[::-1] or lead not in (0, 1):
                raise FileError(f"{label} has {values.shape} values for {shape[::-1]} places.", where, DAMAGED)
            flat = values.reshape(count, *values.shape[3:])
            if label == _GHOST:
                own = (flat.astype(np.int64) & 33) == 0 if place == "cell" else own
                continue
            found = kept_field(label, place, flat, count, where)
            if found is not None:
                fields.append(found)
    if n_points > 1 and not fields:
        raise FileError("There are no values in it.", where, DAMAGED)
    points = finite_points(_lattice(group, kind, low, dims, step, where), where)
    return structured(points, (dims[0], dims[1], dims[2]), _FORMS[kind], fields, own, _facts(group), where)


def _size(group: Any, kind: str, where: str) -> tuple[list[int], tuple[int, ...]]:
    """First indices of a block, and its numbers of points."""
    if kind == "ImageData":
        extent = hdf5.some_numbers(group, "WholeExtent")
        if len(extent) != 6 or any(b < a for a, b in zip(extent[::2], extent[1::2], strict=True)):
            raise FileError("Its extent makes no sense.", where, DAMAGED)
        return [int(e) for e in extent[::2]], tuple(int(b) - int(a) + 1 for a, b in zip(extent[::2], extent[1::2], strict=True))
    dims = hdf5.some_numbers(group, "Dimensions")
    if len(dims) != 3 or not all(1 <= d < 2**31 for d in dims):
        raise FileError("Its dimensions make no sense.", where, DAMAGED)
    return [0, 0, 0], tuple(int(d) for d in dims)


def _lattice(group: Any, kind: str, low: list[int], dims: tuple[int, ...], step: int, where: str) -> NDArray[np.float64]:
    """Points of a block, i fastest."""
    if kind == "ImageData":
        origin, spacing = (hdf5.some_numbers(group, n) for n in ("Origin", "Spacing"))
        turn = hdf5.some_numbers(group, "Direction")
        if len(origin) != 3 or len(spacing) != 3:
            raise FileError("Its origin or spacing make no sense.", where, DAMAGED)
        matrix = np.array(turn).reshape(3, 3) if len(turn) == 9 else np.eye(3)
        axes = [np.arange(low[a], low[a] + dims[a]) * spacing[a] for a in range(3)]
        return np.asarray(lattice_points(axes) @ matrix.T + np.array(origin))
    names = ("Points",) if kind == "StructuredGrid" else ("XCoordinates", "YCoordinates", "ZCoordinates")
    wanted = [(*dims[::-1], 3)] if kind == "StructuredGrid" else [(d,) for d in dims]
    arrays: list[NDArray[Any]] = []
    for name, shape in zip(names, wanted, strict=True):
        data = hdf5.checked(hdf5.member(group, name), f"{where}, {name}", "iuf")
        part = (min(step, data.shape[0] - 1),) if len(data.shape) == len(shape) + 1 and data.shape[0] > 0 else ()
        values = hdf5.numbers(data, f"{where}, {name}", part).reshape(-1)
        if len(values) != int(np.prod(shape)):
            raise FileError(f"{name} has {len(values):,} numbers where {int(np.prod(shape)):,} belong.", where, DAMAGED)
        arrays.append(values)
    return np.asarray(arrays[0].reshape(-1, 3) if kind == "StructuredGrid" else lattice_points(arrays))


def _arrays(group: Any, holder: str, step: int) -> list[tuple[str, Any, tuple[Any, ...]]]:
    """Arrays of points or cells: name, data and what part of them belongs to the step (image data only)."""
    data = hdf5.subgroup(group, holder)
    steps = hdf5.subgroup(group, "Steps")
    out = []
    for label in hdf5.names(data) if data is not None else ():
        if label != _GHOST and not wants_quantity(label):
            continue
        part: tuple[Any, ...] = ()
        if steps is not None:
            offsets = hdf5.at_path(steps, f"{holder}Offsets/{label}")
            start = step if offsets is None else int(hdf5.numbers(offsets, label).ravel()[step])
            part = (start,)
        out.append((label, hdf5.member(data, label), part))
    return out


def _facts(group: Any) -> dict[str, Any]:
    facts: dict[str, Any] = {}
    table = hdf5.subgroup(group, "FieldData")
    for label in hdf5.names(table) if table is not None else ():
        data = hdf5.member(table, label)
        if data is None or getattr(data, "size", 0) is None or not 0 < getattr(data, "size", 0) <= 16:
            continue
        if data.dtype.kind in "iuf":
            facts[label] = tuple(float(v) for v in hdf5.numbers(data, label).ravel())
        elif data.dtype.kind in "OS":
            value = data[()]
            first = value.ravel()[0] if isinstance(value, np.ndarray) else value
            facts[label] = bytes(first).decode("utf-8", "replace") if isinstance(first, bytes) else str(first)
    return facts


class _Pieces:
    """The pieces of one step of an unstructured or surface data set: where each begins in the file's long arrays."""

    def __init__(self, group: Any, step: int, where: str) -> None:
        self.group, self.where, self.step = group, where, step
        counts = self._whole("NumberOfPoints")
        steps = hdf5.subgroup(group, "Steps")
        self.first, self.count = 0, len(counts)
        self.starts = {"points": 0, "cells": 0, "nodes": 0}
        self.steps = steps
        if steps is not None:
            self.first = self._at_step("PartOffsets", 0)
            self.count = self._at_step("NumberOfParts", 1)
            self.starts = {"points": self._at_step("PointOffsets", 0), "cells": self._at_step("CellOffsets", 0),
                           "nodes": self._at_step("ConnectivityIdOffsets", 0)}
        if self.count > _MOST_PIECES or self.first < 0 or self.first + self.count > len(counts):
            raise FileError("Its pieces make no sense.", where, DAMAGED)

    def _at_step(self, name: str, otherwise: int) -> int:
        data = hdf5.member(self.steps, name)
        if data is None:
            return otherwise
        values = hdf5.numbers(data, f"{self.where}, {name}")
        if self.step >= len(values):
            raise FileError(f"{name} has no step {self.step + 1}.", self.where, DAMAGED)
        return int(values[self.step].ravel()[0] if values.ndim > 1 else values[self.step])

    def _whole(self, name: str, group: Any = None) -> NDArray[np.int64]:
        values = hdf5.numbers(hdf5.member(self.group if group is None else group, name), f"{self.where}, {name}", kinds="iu").ravel()
        if len(values) and (values.min() < 0 or values.astype(float).sum() > 1e11):
            raise FileError(f"{name} makes no sense.", self.where, DAMAGED)
        return values.astype(np.int64)

    def _slice(self, name: str, start: int, count: int, group: Any = None, kinds: str = "iuf") -> NDArray[Any]:
        where = f"{self.where}, {name}"
        data = hdf5.checked(hdf5.member(self.group if group is None else group, name), where, kinds)
        if len(data.shape) < 1 or start < 0 or start + count > data.shape[0]:
            raise FileError(f"{name} ends before its {start + count:,} values.", self.where, DAMAGED)
        return hdf5.numbers(data, where, slice(start, start + count), kinds)

    def _points(self, number: int) -> tuple[NDArray[np.float64], int]:
        counts = self._whole("NumberOfPoints")[self.first:]
        start = self.starts["points"] + int(counts[:number].sum())
        points = self._slice("Points", start, int(counts[number]))
        if points.ndim != 2 or points.shape[1] != 3:
            raise FileError("Its points do not have three coordinates.", self.where, DAMAGED)
        return finite_points(points, self.where), int(counts[:number].sum())

    def unstructured(self, number: int) -> Solid | Sheet | None:
        """A piece of unstructured cells."""
        points, before = self._points(number)
        cells_in, nodes_in = self._whole("NumberOfCells")[self.first:], self._whole("NumberOfConnectivityIds")[self.first:]
        if number >= len(cells_in) or number >= len(nodes_in):
            raise FileError("A piece has no number of cells.", self.where, DAMAGED)
        n, earlier = int(cells_in[number]), int(cells_in[:number].sum())
        if n == 0 or len(points) == 0:
            return None
        first = self.starts["cells"] + earlier
        for holder in ("PointData", "CellData"):
            data = hdf5.subgroup(self.group, holder)
            note_quantities(name for name in (hdf5.names(data) if data is not None else ()) if name != _GHOST)
        claim(24 * len(points) + 33 * n, self.where)
        types = self._slice("Types", first, n, kinds="iu").astype(np.uint8)
        # One more offset than cells for every piece before it, also those of earlier steps.
        offsets = self._slice("Offsets", first + self.first + number, n + 1, kinds="iu").astype(np.int64)
        nodes = self._slice("Connectivity", self.starts["nodes"] + int(nodes_in[:number].sum()), int(nodes_in[number]), kinds="iu")
        fields, keep = self._fields(before, len(points), earlier, n)
        cells = Cells(types, offsets, nodes.astype(np.int64), self._faces(number, n, first) if (types == 42).any() else None)
        return block_of_cells(points, cells, fields, _facts(self.group), self.where, keep)

    def _faces(self, number: int, n: int, first: int) -> Faces:
        """Faces of polyhedra, as version 2.5 of the format lists them."""
        def span(name: str) -> tuple[int, int]:
            counts = self._whole(name)[self.first:]
            return int(counts[:number].sum()), int(counts[number])

        of_cell = self._slice("PolyhedronOffsets", first + self.first + number, n + 1, kinds="iu").astype(np.int64)
        begin, many = span("NumberOfPolyhedronToFaceIds")
        face_ids = self._slice("PolyhedronToFaces", begin, many, kinds="iu").astype(np.int64)
        begin, many = span("NumberOfFaces")
        ends = self._slice("FaceOffsets", begin + self.first + number, many + 1, kinds="iu").astype(np.int64)
        begin, many = span("NumberOfFaceConnectivityIds")
        nodes = self._slice("FaceConnectivity", begin, many, kinds="iu").astype(np.int64)
        wrong = (of_cell[0] != 0 or (np.diff(of_cell) < 0).any() or of_cell[-1] != len(face_ids) or (np.diff(ends) < 0).any()
                 or (len(face_ids) and not 0 <= face_ids.min() <= face_ids.max() < len(ends) - 1) or ends[0] != 0 or ends[-1] != len(nodes))
        if wrong:
            raise FileError("The faces of its polyhedra make no sense.", self.where, DAMAGED)
        owner = np.repeat(np.arange(n), np.diff(of_cell))
        sizes = np.diff(ends)[face_ids]
        starts = np.concatenate([[0], np.cumsum(sizes)])
        at = np.arange(starts[-1]) - np.repeat(starts[:-1], sizes) + np.repeat(ends[face_ids], sizes)
        return Faces(owner, starts.astype(np.int64), nodes[at])

    def surface(self, number: int) -> Sheet | None:
        """A piece of polygons."""
        points, before = self._points(number)
        polygons = hdf5.subgroup(self.group, "Polygons")
        if polygons is None:
            return None
        cells_in = self._whole("NumberOfCells", polygons)[self.first:]
        nodes_in = self._whole("NumberOfConnectivityIds", polygons)[self.first:]
        if number >= len(cells_in) or number >= len(nodes_in):
            raise FileError("A piece has no number of faces.", self.where, DAMAGED)
        n = int(cells_in[number])
        if n == 0 or len(points) == 0:
            return None
        first = int(self._whole("NumberOfCells", polygons)[: self.first + number].sum())
        offsets = self._slice("Offsets", first + self.first + number, n + 1, polygons, "iu").astype(np.int64)
        begin = int(self._whole("NumberOfConnectivityIds", polygons)[: self.first + number].sum())
        nodes = self._slice("Connectivity", begin, int(nodes_in[number]), polygons, "iu").astype(np.int64)
        sizes = np.diff(offsets)
        types = np.where(sizes == 3, 5, np.where(sizes == 4, 9, POLYGON)).astype(np.uint8)
        fields = [f for f in self._fields(before, len(points), 0, 0)[0] if f.place == "node"]
        found = block_of_cells(points, Cells(types, offsets, nodes), fields, _facts(self.group), self.where)
        return found if isinstance(found, Sheet) else None

    def _fields(self, before: int, n_points: int, earlier: int, n_cells: int) -> tuple[list[Field], NDArray[np.bool_]]:
        fields: list[Field] = []
        keep = np.ones(n_cells, dtype=bool)
        for place, holder, begin, count, kind in (("node", "PointData", before, n_points, "points"),
                                                  ("cell", "CellData", earlier, n_cells, "cells")):
            data = hdf5.subgroup(self.group, holder)
            for label in hdf5.names(data) if data is not None and count else ():
                if label != _GHOST and not wants_quantity(label):
                    continue
                start = begin + self._array_start(holder, label, kind)
                values = self._slice(label, start, count, data, "iufb")
                if label == _GHOST:
                    keep = (values.astype(np.int64) & 33) == 0 if place == "cell" else keep
                    continue
                found = kept_field(label, place, values, count, self.where)
                if found is not None:
                    fields.append(found)
        return fields, keep

    def _array_start(self, holder: str, label: str, kind: str) -> int:
        if self.steps is None:
            return 0
        offsets = hdf5.at_path(self.steps, f"{holder}Offsets/{label}")
        if offsets is None:
            return self.starts[kind]
        values = hdf5.numbers(offsets, f"{self.where}, {label}").ravel()
        if self.step >= len(values):
            raise FileError(f"{label} has no step {self.step + 1}.", self.where, DAMAGED)
        return int(values[self.step])
