"""Blocks and surfaces of one VTK XML file."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Field
from tidal_lens.formats.cells import POLYGON, POLYHEDRON, Cells
from tidal_lens.formats.content import Sheet, Solid, block_of_cells, finite_points, kept_field
from tidal_lens.formats.polyhedra import Faces
from tidal_lens.formats.reading import claim, note_quantities, wants_quantity
from tidal_lens.formats.structured import Form, lattice_points, structured
from tidal_lens.formats.vtk_xml_file import XmlArray, XmlFile, XmlPiece
from tidal_lens.work import checkpoint

_GHOST = "vtkGhostType"
_POLY_VERTEX = 2  # the greatest type of cell that is of vertices
_HIDDEN = 1 | 32  # duplicated in another piece, or hidden
_FORMS: dict[str, Form] = {"ImageData": "uniform", "RectilinearGrid": "rectilinear", "StructuredGrid": "curvilinear"}


def read_data(path: Path, kind: str) -> list[Solid | Sheet | None]:
    """Content of each piece of a file; None for one without cells.

    Parameters
    ----------
    path : Path
        The file.
    kind : str
        Type of data set that it is.

    Raises
    ------
    FileError
        It is damaged, or contradicts itself.
    """
    with XmlFile(path, kind) as file:
        if not file.pieces:
            raise file.fail("There are no pieces in it.")
        facts = _facts(file)
        if kind in _FORMS:
            return [_structured(file, piece, _FORMS[kind], facts) for piece in file.pieces]
        make = _unstructured if kind == "UnstructuredGrid" else _surface
        return [make(file, piece, facts) for piece in file.pieces]


@dataclass(frozen=True, eq=False)
class Vertices:
    """Points (n, 3) of a piece whose cells are vertices, and values at them: (n,), or (n, c)."""

    points: NDArray[np.float64]
    values: dict[str, NDArray[Any]]


def read_vertices(path: Path, kind: str) -> list[Vertices]:
    """Points and values of each piece of a file of particles; none of a piece with other cells than vertices.

    Raises
    ------
    FileError
        It is damaged, or contradicts itself.
    """
    with XmlFile(path, kind) as file:
        return [_vertices(file, piece) for piece in file.pieces if _is_of_vertices(file, piece)]


def _is_of_vertices(file: XmlFile, piece: XmlPiece) -> bool:
    if file.kind == "PolyData":
        return all(_whole(file, piece, f"NumberOf{other}") == 0 for other in ("Lines", "Strips", "Polys"))
    if file.kind != "UnstructuredGrid":
        return False
    count = _whole(file, piece, "NumberOfCells")
    return count == 0 or bool((_listed(file, piece, "Cells", "types", count) <= _POLY_VERTEX).all())


def _vertices(file: XmlFile, piece: XmlPiece) -> Vertices:
    count = _whole(file, piece, "NumberOfPoints")
    cells = _whole(file, piece, "NumberOfVerts" if file.kind == "PolyData" else "NumberOfCells")
    if count == 0:
        return Vertices(np.empty((0, 3)), {})
    claim(24 * count, file.path.name)
    fields, _own = _fields(file, piece, count, cells)
    nodes = _listed(file, piece, "Verts" if file.kind == "PolyData" else "Cells", "connectivity") if cells == count else None
    values = {}
    for field in fields:
        if field.place == "node":
            values[field.name] = field.values
        elif nodes is not None and np.array_equal(nodes, np.arange(count)):  # one vertex a point: its values are the point's
            values.setdefault(field.name, field.values)
    return Vertices(_points(file, piece, count), values)


def _facts(file: XmlFile) -> dict[str, Any]:
    facts: dict[str, Any] = {}
    for array in file.facts:
        if array.kind == "String":
            facts[array.name] = file.texts(array)
        elif (array.tuples or 1) * array.components <= 16:
            values = file.read(array).ravel()
            if 0 < len(values) <= 16:
                facts[array.name] = tuple(float(v) for v in values)
    return facts


def _whole(file: XmlFile, piece: XmlPiece, name: str) -> int:
    try:
        value = int(piece.attributes.get(name) or 0)
    except ValueError:
        value = -1
    if not 0 <= value <= file.size * 1200:
        raise file.fail(f"{name} is {piece.attributes.get(name)!r}, more than {file.size:,} bytes can hold.")
    return value


def _numbers(file: XmlFile, text: str | None, count: int, otherwise: tuple[float, ...] | None = None) -> list[float]:
    try:
        found = [float(n) for n in text.split()] if text is not None else list(otherwise or ())
    except ValueError:
        found = []
    if len(found) != count or not np.isfinite(found).all():
        raise file.fail(f"{count} numbers were expected, not {text!r}.")
    return found


def _fields(file: XmlFile, piece: XmlPiece, n_points: int, n_cells: int) -> tuple[list[Field], NDArray[np.bool_]]:
    fields: list[Field] = []
    own = np.ones(n_cells, dtype=bool)
    for place, section, count in (("node", "PointData", n_points), ("cell", "CellData", n_cells)):
        for number, array in enumerate(piece.sections.get(section, [])):
            if array.kind == "String":
                continue
            if array.name == _GHOST:
                if place == "cell":
                    own = (file.read(array, count).ravel().astype(np.int64) & _HIDDEN) == 0
                continue
            label = array.name or f"array {number + 1}"
            if array.components > 3 or not wants_quantity(label):
                continue
            claim(array.components * count * (4 if array.kind == "Float32" else 8), file.path.name, structured=file.kind in _FORMS)
            found = kept_field(label, place, file.read(array, count), count, file.path.name)
            if found is not None:
                fields.append(found)
    return fields, own


def _note(piece: XmlPiece) -> None:
    note_quantities(a.name for s in ("PointData", "CellData") for a in piece.sections.get(s, []) if a.name not in ("", _GHOST))


def _points(file: XmlFile, piece: XmlPiece, count: int) -> NDArray[np.float64]:
    array = piece.first("Points")
    if array is None or array.components != 3:
        raise file.fail("There are no points in it.")
    return finite_points(file.read(array, count), file.path.name)


# -- structured ------------------------------------------------------------------------------------------------


def _structured(file: XmlFile, piece: XmlPiece, form: Form, facts: dict[str, Any]) -> Solid | Sheet | None:
    text = piece.attributes.get("Extent") or file.attributes.get("WholeExtent")
    extent = [int(n) for n in _numbers(file, text, 6)]
    i, j, k = (b - a + 1 for a, b in zip(extent[::2], extent[1::2], strict=True))
    if min(i, j, k) < 1 or max(abs(e) for e in extent) > 2**31 or i * j * k > file.size * 1200:
        raise file.fail(f"The extent that the file declares makes no sense: {text!r}, {file.size:,} bytes.")
    _note(piece)
    claim(24 * i * j * k, file.path.name, structured=True)
    if form == "uniform":
        points = _uniform(file, extent)
    elif form == "rectilinear":
        axes = [file.read(_axis(file, piece, n), d).ravel() for n, d in enumerate((i, j, k))]
        points = lattice_points(axes)
    else:
        points = _points(file, piece, i * j * k)
    n_cells = max(i - 1, 1) * max(j - 1, 1) * max(k - 1, 1)
    if sum(d > 1 for d in (i, j, k)) < 2:
        return None
    fields, own = _fields(file, piece, i * j * k, n_cells)
    return structured(finite_points(points, file.path.name), (i, j, k), form, fields, own, facts, file.path.name)


def _axis(file: XmlFile, piece: XmlPiece, number: int) -> XmlArray:
    arrays = piece.sections.get("Coordinates", [])
    if len(arrays) != 3 or arrays[number].components != 1:
        raise file.fail("Its coordinates are missing.")
    return arrays[number]


def _uniform(file: XmlFile, extent: list[int]) -> NDArray[np.float64]:
    origin = np.array(_numbers(file, file.attributes.get("Origin"), 3, (0.0, 0.0, 0.0)))
    spacing = _numbers(file, file.attributes.get("Spacing"), 3, (1.0, 1.0, 1.0))
    turn = np.array(_numbers(file, file.attributes.get("Direction"), 9, (1, 0, 0, 0, 1, 0, 0, 0, 1))).reshape(3, 3)
    points = lattice_points([spacing[a] * np.arange(extent[2 * a], extent[2 * a + 1] + 1) for a in range(3)])
    return np.asarray((points if np.array_equal(turn, np.eye(3)) else points @ turn.T) + origin)


# -- unstructured ----------------------------------------------------------------------------------------------


def _unstructured(file: XmlFile, piece: XmlPiece, facts: dict[str, Any]) -> Solid | Sheet | None:
    n_points, n_cells = _whole(file, piece, "NumberOfPoints"), _whole(file, piece, "NumberOfCells")
    if n_points == 0 or n_cells == 0:
        return None
    _note(piece)
    claim(24 * n_points + 33 * n_cells, file.path.name)
    types = _listed(file, piece, "Cells", "types", n_cells)
    if types.min() < 0 or types.max() > 255:
        raise file.fail("Its cell types make no sense.", "types")
    offsets = np.concatenate([[0], _listed(file, piece, "Cells", "offsets", n_cells)])
    faces = _polyhedra(file, piece, types) if (types == POLYHEDRON).any() else None
    fields, own = _fields(file, piece, n_points, n_cells)
    checkpoint()
    points = _points(file, piece, n_points)
    cells = Cells(types.astype(np.uint8), offsets, _listed(file, piece, "Cells", "connectivity"), faces)
    return block_of_cells(points, cells, fields, facts, file.path.name, own, used_up=True)


def _listed(file: XmlFile, piece: XmlPiece, section: str, name: str, count: int | None = None) -> NDArray[Any]:
    array = piece.first(section, name)
    if array is None or array.components != 1:
        raise file.fail("An array is missing.", name)
    values = file.read(array, count)
    if values.dtype.kind not in "iu":
        raise file.fail("Whole numbers were expected.", name)
    return values


def _polyhedra(file: XmlFile, piece: XmlPiece, types: NDArray[Any]) -> Faces:
    """Faces of the polyhedra, as files of either age list them."""
    if piece.first("Cells", "faces") is not None:
        return _streamed(file, _listed(file, piece, "Cells", "faces"), _listed(file, piece, "Cells", "faceoffsets", len(types)), types)
    ends = np.concatenate([[0], _listed(file, piece, "Cells", "face_offsets")])
    nodes = _listed(file, piece, "Cells", "face_connectivity")
    of_cell = np.concatenate([[0], _listed(file, piece, "Cells", "polyhedron_offsets", len(types))])
    ids = _listed(file, piece, "Cells", "polyhedron_to_faces")
    if ((np.diff(of_cell) < 0).any() or of_cell[-1] != len(ids) or (np.diff(ends) < 0).any() or ends[-1] != len(nodes)
            or (len(ids) and not 0 <= ids.min() <= ids.max() < len(ends) - 1)):
        raise file.fail("The faces of its polyhedra make no sense.")
    owner = np.repeat(np.arange(len(types)), np.diff(of_cell))
    sizes = np.diff(ends)[ids]
    begin = np.concatenate([[0], np.cumsum(sizes)])
    at = np.arange(begin[-1]) - np.repeat(begin[:-1], sizes) + np.repeat(ends[ids], sizes)
    return Faces(owner, begin.astype(np.int64), nodes[at])


def _streamed(file: XmlFile, stream: NDArray[np.int64], ends: NDArray[np.int64], types: NDArray[Any]) -> Faces:
    """For each polyhedron the number of its faces, and each face behind its length."""
    listed = stream.tolist()
    owner: list[int] = []
    begins: list[int] = []
    sizes: list[int] = []
    begin = 0
    for cell in np.flatnonzero(types == POLYHEDRON).tolist():
        at, end = begin + 1, int(ends[cell])
        if not begin < end <= len(listed):
            raise file.fail("The faces of its polyhedra make no sense.", "faceoffsets")
        for _ in range(listed[begin]):
            size = listed[at] if at < end else 0
            if size < 3 or at + 1 + size > end:
                raise file.fail("The faces of its polyhedra make no sense.", "faces")
            owner.append(cell)
            begins.append(at + 1)
            sizes.append(size)
            at += 1 + size
        begin = end
    lengths = np.array(sizes, np.int64)
    offsets = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    at_nodes = np.arange(offsets[-1]) - np.repeat(offsets[:-1], lengths) + np.repeat(np.array(begins, np.int64), lengths)
    return Faces(np.array(owner, np.int64), offsets, stream[at_nodes])


# -- surfaces --------------------------------------------------------------------------------------------------


def _surface(file: XmlFile, piece: XmlPiece, facts: dict[str, Any]) -> Sheet | None:
    n_points, n_faces = _whole(file, piece, "NumberOfPoints"), _whole(file, piece, "NumberOfPolys")
    others = sum(_whole(file, piece, f"NumberOf{kind}") for kind in ("Verts", "Lines", "Strips"))
    if n_points == 0 or n_faces == 0:
        return None
    offsets = np.concatenate([[0], _listed(file, piece, "Polys", "offsets", n_faces)])
    nodes = _listed(file, piece, "Polys", "connectivity")
    sizes = np.diff(offsets)
    types = np.where(sizes == 3, 5, np.where(sizes == 4, 9, POLYGON)).astype(np.uint8)
    fields, own = _fields(file, piece, n_points, n_faces + others)
    if others:
        fields, own = [f for f in fields if f.place == "node"], np.ones(n_faces, dtype=bool)
    found = block_of_cells(_points(file, piece, n_points), Cells(types, offsets, nodes), fields, facts, file.path.name, own)
    return found if isinstance(found, Sheet) else None
