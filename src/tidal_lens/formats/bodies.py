"""Bodies as triangulated surfaces: STL, PLY and OBJ read; STL and PLY written. The layouts are the published ones."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.formats.content import DAMAGED, finite_points
from tidal_lens.formats.written import Geometry, atomically

SUFFIXES = (".stl", ".ply", ".obj")
_LARGEST = 4_000_000_000
_PLY_TYPES = {"char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2", "uint16": "u2",
              "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4", "double": "f8", "float64": "f8"}


def read_body(path: Path) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Points (n, 3) and faces (m, 4) of a surface; a triangle repeats its last corner.

    Raises
    ------
    FileError
        It cannot be read, is damaged, or of another kind.
    """
    try:
        if path.stat().st_size > _LARGEST:
            raise FileError("A body of more than 4 GB is not read.", str(path), "Make it coarser.")
        data = path.read_bytes()
    except OSError as exc:
        raise FileError(f"The body cannot be read: {exc.strerror}.", str(path), "Check its name and permissions.") from exc
    try:
        if data[:3] == b"ply":
            points, faces = _ply(data, path.name)
        elif path.suffix.lower() == ".obj":
            points, faces = _obj(data, path.name)
        else:
            points, faces = _stl(data, path.name)
    except (ValueError, IndexError, OverflowError) as exc:
        raise FileError(f"The body is damaged: {str(exc)[:100]}.", path.name, DAMAGED) from exc
    if len(faces) == 0 or len(points) == 0:
        raise FileError("There are no faces in it.", path.name, DAMAGED)
    if faces.min() < 0 or faces.max() >= len(points):
        raise FileError("Its faces refer to points that are not there.", path.name, DAMAGED)
    return finite_points(points, path.name), faces


def _merged(corners: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Points that triangles (m, 3, 3) share, and their faces."""
    points, place = np.unique(corners.reshape(-1, 3), axis=0, return_inverse=True)
    faces = place.reshape(-1, 3)
    return points, np.column_stack([faces, faces[:, 2]]).astype(np.int64)


def _stl(data: bytes, where: str) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    if len(data) >= 84:
        count = int(np.frombuffer(data, "<u4", 1, 80)[0])
        if len(data) == 84 + 50 * count:
            kind = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("mark", "<u2")])
            return _merged(np.frombuffer(data, kind, count, 84)["corners"].astype(np.float64))
    if not data.lstrip()[:5].lower() == b"solid" or b"vertex" not in data:
        raise FileError("It is no STL file, or it was cut off.", where, DAMAGED)
    words = [line.split()[1:4] for line in data.splitlines() if line.split()[:1] == [b"vertex"]]
    values = np.array(words, dtype=np.float64)
    if values.ndim != 2 or values.shape[1] != 3 or len(values) % 3:
        raise FileError("Its facets do not have three corners.", where, DAMAGED)
    return _merged(values.reshape(-1, 3, 3))


def _fans(polygons: list[list[int]]) -> NDArray[np.int64]:
    faces: list[tuple[int, int, int, int]] = []
    for p in polygons:
        if len(p) == 4:
            faces.append((p[0], p[1], p[2], p[3]))
        else:
            faces.extend((p[0], p[n], p[n + 1], p[n + 1]) for n in range(1, len(p) - 1))
    return np.array(faces, np.int64).reshape(-1, 4)


def _obj(data: bytes, where: str) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    points: list[list[float]] = []
    polygons: list[list[int]] = []
    for line in data.splitlines():
        words = line.split()
        if words[:1] == [b"v"]:
            points.append([float(w) for w in words[1:4]])
        elif words[:1] == [b"f"]:
            own = [int(w.split(b"/")[0]) for w in words[1:]]
            polygons.append([n - 1 if n > 0 else len(points) + n for n in own])
    if not points or any(len(p) != 3 for p in points):
        raise FileError("It is no OBJ file: there are no vertices in it.", where, DAMAGED)
    return np.array(points, np.float64), _fans(polygons)


def _ply(data: bytes, where: str) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    form, elements, body = _ply_header(data, where)
    source = _PlyText(body) if form == "ascii" else _PlyBinary(body, "<" if "little" in form else ">")
    points = np.empty((0, 3))
    polygons: list[list[int]] = []
    for name, count, properties in elements:
        if any(p[0] == "list" for p in properties):
            rows = [source.lists(properties) for _ in range(count)]
            if name == "face":
                at = next(n for n, p in enumerate(properties) if p[0] == "list")
                polygons = [row[at] for row in rows]
            continue
        table = source.table(count, [p[0] for p in properties])
        if name == "vertex":
            labels = [p[-1] for p in properties]
            points = np.column_stack([table[labels.index(a)] for a in "xyz"]).astype(np.float64)
    return points, _fans([p for p in polygons if len(p) > 2])


_Elements = list[tuple[str, int, list[list[str]]]]


def _ply_header(data: bytes, where: str) -> tuple[str, _Elements, bytes]:
    """How numbers are written, what elements there are, and what comes after the header."""
    end = data.find(b"end_header")
    stop = data.find(b"\n", end)
    if end < 0 or stop < 0:
        raise FileError("Its header does not end.", where, DAMAGED)
    form = ""
    elements: _Elements = []
    for line in data[:end].decode("ascii", "replace").splitlines():
        words = line.split()
        if words[:1] == ["format"]:
            form = words[1]
        elif words[:1] == ["element"]:
            elements.append((words[1], int(words[2]), []))
        elif words[:1] == ["property"] and elements:
            elements[-1][2].append(words[1:])
    if form not in ("ascii", "binary_little_endian", "binary_big_endian") or any(not 0 <= n <= len(data) for _, n, _ in elements):
        raise FileError("Its header makes no sense.", where, DAMAGED)
    return form, elements, data[stop + 1:]


class _PlyText:
    """Numbers of a PLY file in text."""

    def __init__(self, data: bytes) -> None:
        self._words = data.split()
        self._at = 0

    def table(self, count: int, kinds: list[str]) -> list[NDArray[Any]]:
        """Columns of an element without lists."""
        n = count * len(kinds)
        if self._at + n > len(self._words):
            raise ValueError("the file ends too soon")
        values = np.array(self._words[self._at:self._at + n], dtype=np.float64).reshape(count, len(kinds))
        self._at += n
        return list(values.T)

    def lists(self, properties: list[list[str]]) -> list[list[int]]:
        """One element with lists."""
        out = []
        for p in properties:
            size = int(self._words[self._at]) if p[0] == "list" else 1
            begin = self._at + (p[0] == "list")
            out.append([int(float(w)) for w in self._words[begin:begin + size]])
            self._at = begin + size
            if size < 0 or self._at > len(self._words):
                raise ValueError("the file ends too soon")
        return out


class _PlyBinary:
    """Numbers of a PLY file as bytes."""

    def __init__(self, data: bytes, order: str) -> None:
        self._data, self._order, self._at = data, order, 0

    def _dtype(self, name: str) -> np.dtype[Any]:
        if name not in _PLY_TYPES:
            raise ValueError(f"numbers of type {name[:20]!r} are not read")
        return np.dtype(self._order + _PLY_TYPES[name])

    def table(self, count: int, kinds: list[str]) -> list[NDArray[Any]]:
        """Columns of an element without lists."""
        row = np.dtype([(f"c{n}", self._dtype(k)) for n, k in enumerate(kinds)])
        values = np.frombuffer(self._data, row, count, self._at)
        self._at += count * row.itemsize
        return [values[f"c{n}"] for n in range(len(kinds))]

    def lists(self, properties: list[list[str]]) -> list[list[int]]:
        """One element with lists."""
        out = []
        for p in properties:
            size = 1
            if p[0] == "list":
                size = int(self._take(1, p[1])[0])
            out.append([int(v) for v in self._take(size, p[2] if p[0] == "list" else p[0])])
        return out

    def _take(self, count: int, kind: str) -> NDArray[Any]:
        dtype = self._dtype(kind)
        if count < 0 or self._at + count * dtype.itemsize > len(self._data):
            raise ValueError("the file ends too soon")
        values = np.frombuffer(self._data, dtype, count, self._at)
        self._at += count * dtype.itemsize
        return values


def _triangles(faces: NDArray[np.int64]) -> NDArray[np.int64]:
    quads = faces[:, 2] != faces[:, 3]
    return np.concatenate([faces[:, :3], faces[quads][:, [0, 2, 3]]])


def write_stl(path: Path, geometry: Geometry) -> None:
    """Write a surface as binary STL; quadrilaterals are cut in two, values are not kept.

    Raises
    ------
    FileError
        The file cannot be written.
    """
    assert geometry.faces is not None
    corners = geometry.points[_triangles(geometry.faces)]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    rows = np.zeros(len(corners), np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("mark", "<u2")]))
    rows["normal"] = normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    rows["corners"] = corners
    head = b"surface in binary".ljust(80) + np.uint32(len(rows)).tobytes()
    atomically(path, lambda scratch: _write_bytes(scratch, head + rows.tobytes()))


def _write_bytes(path: Path, data: bytes) -> None:
    path.write_bytes(data)


def write_ply(path: Path, geometry: Geometry) -> None:
    """Write a surface with its values as binary PLY.

    Raises
    ------
    FileError
        The file cannot be written.
    """
    assert geometry.faces is not None
    columns: list[tuple[str, NDArray[Any]]] = [(a, geometry.points[:, n]) for n, a in enumerate("xyz")]
    for name, values in geometry.values.items():
        plain = "".join(c if c.isascii() and c.isalnum() else "_" for c in name)
        columns += [(plain, values)] if values.ndim == 1 else [(f"{plain}_{a}", values[:, n]) for n, a in enumerate("xyz")]
    vertex = np.zeros(len(geometry.points), np.dtype([(f"c{n}", "<f8" if n < 3 else "<f4") for n in range(len(columns))]))
    for n, (_, values) in enumerate(columns):
        vertex[f"c{n}"] = values
    head = ["ply", "format binary_little_endian 1.0", f"element vertex {len(vertex)}",
            *(f"property {'double' if n < 3 else 'float'} {name}" for n, (name, _) in enumerate(columns))]
    triangle = geometry.faces[:, 2] == geometry.faces[:, 3]
    head += [f"element face {len(geometry.faces)}", "property list uchar int vertex_indices", "end_header", ""]
    parts = []
    for some, size in ((triangle, 3), (~triangle, 4)):
        rows = np.zeros(int(some.sum()), np.dtype([("n", "u1"), ("nodes", "<i4", size)]))
        rows["n"], rows["nodes"] = size, geometry.faces[some][:, :size]
        parts.append(rows.tobytes())
    atomically(path, lambda scratch: _write_bytes(scratch, "\n".join(head).encode() + vertex.tobytes() + b"".join(parts)))
