"""XDMF files: an XML description with its numbers in it or in HDF5 or raw files beside it.

The layout follows the published XDMF model and format, versions 2 and 3.
"""

from __future__ import annotations

import contextlib
import math
import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as ET

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Field, Flow
from tidal_lens.formats import hdf5
from tidal_lens.formats.assemble import assemble_content
from tidal_lens.formats.cells import Cells, uniform
from tidal_lens.formats.content import DAMAGED, Sheet, Solid, block_of_cells, finite_points, kept_field
from tidal_lens.formats.polyhedra import Faces
from tidal_lens.formats.reading import wants_block, wants_quantity
from tidal_lens.formats.structured import lattice_points, structured
from tidal_lens.formats.xml_safe import linked_file, parse_xml
from tidal_lens.work import Token

# Topology: its number in mixed lists, our cell type, nodes of a cell (0: counted in the list).
_TOPOLOGIES = {"polyvertex": (1, 1, 0), "polyline": (2, 3, 0), "polygon": (3, 7, 0), "triangle": (4, 5, 3), "quadrilateral": (5, 9, 4),
               "tetrahedron": (6, 10, 4), "pyramid": (7, 14, 5), "wedge": (8, 13, 6), "hexahedron": (9, 12, 8), "edge_3": (34, 21, 3),
               "quadrilateral_9": (35, 28, 9), "triangle_6": (36, 22, 6), "quadrilateral_8": (37, 23, 8), "tetrahedron_10": (38, 24, 10),
               "pyramid_13": (39, 27, 13), "wedge_15": (40, 26, 15), "wedge_18": (41, 32, 18), "hexahedron_20": (48, 25, 20),
               "hexahedron_24": (49, 33, 24), "hexahedron_27": (50, 29, 27)}
_BY_NUMBER = {number: (kind, size) for number, kind, size in _TOPOLOGIES.values()}
_POLYHEDRON = 16
_SHORT = {"tet": "tetrahedron", "hex": "hexahedron", "quad": "quadrilateral", "tri": "triangle"}
_LARGEST = 2_000_000_000
_NAME = re.compile(r"@Name\s*=\s*[\"']([^\"']+)[\"']")


def sniff(head: bytes) -> bool:
    """Whether the first bytes are those of an XDMF file."""
    return b"<Xdmf" in head


def open_file(path: Path, token: Token, anyway: bool, step: int = 0) -> Flow:
    """Read one step of an XDMF file into a flow."""
    with _Document(path) as document:
        moments = document.moments()
        times = tuple(t for t, _ in moments)
        step = min(step, len(times) - 1)
        solids: list[Solid] = []
        sheets: list[tuple[str, Sheet]] = []
        notices: list[str] = []
        grids = moments[step][1]
        for number, grid in enumerate(grids):
            token.check()
            name = grid.get("Name") or f"block {number + 1}"
            if not wants_block(name):
                continue
            content = document.content(grid, f"{path.name}, {name}", notices)
            if isinstance(content, Solid):
                solids.append(Solid(name, content.grid, content.points, content.fields, content.facts))
            elif isinstance(content, Sheet):
                sheets.append((name, content))
            token.report((number + 1) / len(grids))
    return assemble_content(path, solids, sheets, notices, anyway, (times, step) if len(times) > 1 else ((), 0))


class _Document:
    """The elements of a file, and the files that hold its numbers."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.root = parse_xml(path, _LARGEST)
        self._open = contextlib.ExitStack()
        self._files: dict[Path, Any] = {}

    def __enter__(self) -> _Document:
        return self

    def __exit__(self, *_what: object) -> None:
        self._open.close()

    def _fail(self, what: str, where: str = "") -> FileError:
        return FileError(what, where or str(self.path), DAMAGED)

    # -- grids -----------------------------------------------------------------------------------------------

    def moments(self) -> list[tuple[float, list[ET.Element]]]:
        """Times in order and the plain grids of each."""
        domain = self.root.find("Domain")
        grids = [] if domain is None else domain.findall("Grid")
        series = [g for g in grids if self._is(g, "Temporal")]
        if not series:
            leaves = [leaf for g in grids for leaf in self._leaves(g, 0)]
            if not leaves:
                raise self._fail("There are no grids in it.")
            return [(0.0, leaves)]
        steps = series[0].findall("Grid")
        if not steps:
            raise self._fail("Its time series has no steps.")
        listed = self._listed_times(series[0], len(steps))
        found = []
        for n, grid in enumerate(steps):
            own = grid.find("Time")
            value = self._number(own.get("Value")) if own is not None and own.get("Value") else listed[n]
            found.append((value, self._leaves(grid, 0)))
        return sorted(found, key=lambda m: m[0])

    @staticmethod
    def _is(grid: ET.Element, kind: str) -> bool:
        return (grid.get("GridType") or "").lower() == "collection" and (grid.get("CollectionType") or "").lower() == kind.lower()

    def _leaves(self, grid: ET.Element, depth: int) -> list[ET.Element]:
        if depth > 30:
            raise self._fail("Its grids are nested more than 30 deep.")
        if (grid.get("GridType") or "Uniform").lower() in ("uniform", "subset"):
            return [grid]
        return [leaf for child in grid.findall("Grid") for leaf in self._leaves(child, depth + 1)]

    def _listed_times(self, collection: ET.Element, count: int) -> list[float]:
        time = collection.find("Time")
        item = time.find("DataItem") if time is not None else None
        if time is None or item is None:
            return [float(n) for n in range(count)]
        values = self.array(item, "times").ravel().astype(float)
        if (time.get("TimeType") or "").lower() == "hyperslab" and len(values) == 3:
            values = values[0] + values[1] * np.arange(count)
        if len(values) < count or not np.isfinite(values).all():
            raise self._fail("Its list of times makes no sense.")
        return [float(v) for v in values]

    def _number(self, text: str | None) -> float:
        try:
            value = float(text or "")
        except ValueError:
            raise self._fail(f"A time is no number: {text!r}.") from None
        if not math.isfinite(value):
            raise self._fail("A time is not finite.")
        return value

    def _part(self, grid: ET.Element, tag: str, where: str) -> ET.Element:
        """The topology or geometry of a grid, or of the one that it refers to."""
        found = grid.find(tag)
        if found is None:
            for include in (child for child in grid if child.tag.endswith("}include")):
                name = _NAME.search(include.get("xpointer") or "")
                if name is None:
                    continue
                for other in self.root.iter("Grid"):
                    if other is not grid and other.get("Name") == name.group(1) and other.find(tag) is not None:
                        found = other.find(tag)
                        break
        if found is not None and found.get("Reference"):
            found = self._referred(str(found.get("Reference")))
        if found is None:
            raise self._fail(f"A grid has no {tag}.", where)
        return found

    def _referred(self, reference: str) -> ET.Element | None:
        path = reference if reference.startswith("/") else ""
        if not path.startswith("/Xdmf/") or len(path) > 500:
            return None
        try:
            return self.root.find("./" + path.removeprefix("/Xdmf/"))
        except SyntaxError:
            return None

    # -- numbers ---------------------------------------------------------------------------------------------

    def array(self, item: ET.Element, where: str, depth: int = 0) -> NDArray[Any]:
        """The numbers of a DataItem in the shape that it declares."""
        if depth > 8:
            raise self._fail("Its data items refer to one another in a circle.", where)
        if item.get("Reference"):
            target = self._referred(str(item.get("Reference") if item.get("Reference") != "XML" else (item.text or "").strip()))
            if target is None:
                raise self._fail("A reference leads nowhere.", where)
            return self.array(target, where, depth + 1)
        kind = (item.get("ItemType") or "Uniform").lower()
        if kind == "hyperslab":
            return self._slab(item, where, depth)
        if kind != "uniform":
            raise self._fail(f"Data items of type {kind} are not read.", where)
        shape = self._shape(item, where)
        form = (item.get("Format") or "XML").upper()
        if form == "HDF":
            return self._from_hdf(item, shape, where)
        if form == "BINARY":
            return self._from_binary(item, shape, where)
        return self._from_text(item, shape, where)

    def _shape(self, item: ET.Element, where: str) -> tuple[int, ...]:
        try:
            shape = tuple(int(n) for n in (item.get("Dimensions") or "").split())
        except ValueError:
            raise self._fail("Dimensions are no whole numbers.", where) from None
        if not shape or len(shape) > 5 or min(shape) < 0 or math.prod(shape) > 4_000_000_000:
            raise self._fail(f"Dimensions make no sense: {item.get('Dimensions')!r}.", where)
        return shape

    def _slab(self, item: ET.Element, where: str, depth: int) -> NDArray[Any]:
        parts = item.findall("DataItem")
        if len(parts) != 2:
            raise self._fail("A hyperslab has no selection and source.", where)
        choice = self.array(parts[0], where, depth + 1).astype(np.int64).reshape(3, -1) if self._shape(parts[0], where) else None
        source = self.array(parts[1], where, depth + 1)
        if choice is None or choice.shape[1] != source.ndim or (choice < 0).any() or (choice[1] < 1).any():
            raise self._fail("A hyperslab makes no sense.", where)
        slices = tuple(slice(int(a), int(a + s * n), int(s)) for a, s, n in choice.T)
        picked = source[slices]
        shape = self._shape(item, where)
        if picked.size != math.prod(shape):
            raise self._fail("A hyperslab reaches beyond its source.", where)
        return picked.reshape(shape)

    def _from_hdf(self, item: ET.Element, shape: tuple[int, ...], where: str) -> NDArray[Any]:
        link, _, inner = (item.text or "").strip().rpartition(":")
        if not link or not inner.startswith("/"):
            raise self._fail(f"The place of its numbers makes no sense: {(item.text or '').strip()[:80]!r}.", where)
        file = linked_file(link, self.path)
        if file not in self._files:
            self._files[file] = self._open.enter_context(hdf5.open_hdf5(file))
        values = hdf5.numbers(hdf5.at_path(self._files[file], inner), f"{where}, {link}:{inner}", kinds="iufb")
        if values.size != math.prod(shape):
            raise self._fail(f"{values.shape} numbers are there where {shape} are declared.", f"{where}, {link}:{inner}")
        return values.reshape(shape)

    def _dtype(self, item: ET.Element, where: str) -> np.dtype[Any]:
        kind = (item.get("NumberType") or item.get("DataType") or "Float").lower()
        size = int(item.get("Precision") or 4) if (item.get("Precision") or "4").isdigit() else 0
        names = {"float": "f", "int": "i", "uint": "u", "char": "i", "uchar": "u"}
        if kind in ("char", "uchar"):
            size = 1
        if kind not in names or size not in (1, 2, 4, 8) or (kind == "float" and size < 4):
            raise self._fail("A type of numbers makes no sense.", where)
        order = {"big": ">", "little": "<"}.get((item.get("Endian") or "").lower(), "=")
        return np.dtype(f"{order}{names[kind]}{size}")

    def _from_binary(self, item: ET.Element, shape: tuple[int, ...], where: str) -> NDArray[Any]:
        if (item.get("Compression") or "Raw").lower() != "raw":
            raise self._fail("Compressed raw files are not read.", where)
        file = linked_file((item.text or "").strip(), self.path)
        dtype, count = self._dtype(item, where), math.prod(shape)
        seek = int(item.get("Seek") or 0) if (item.get("Seek") or "0").isdigit() else -1
        if seek < 0 or file.stat().st_size < seek + count * dtype.itemsize:
            raise self._fail(f"{file.name} ends before its {count:,} numbers.", where)
        return np.fromfile(file, dtype, count, offset=seek).astype(dtype.newbyteorder("="), copy=False).reshape(shape)

    def _from_text(self, item: ET.Element, shape: tuple[int, ...], where: str) -> NDArray[Any]:
        try:
            values = np.array((item.text or "").split(), dtype=np.float64)
        except ValueError:
            raise self._fail("There is something that is no number among its numbers.", where) from None
        if values.size != math.prod(shape):
            raise self._fail(f"{values.size:,} numbers are there where {shape} are declared.", where)
        dtype = self._dtype(item, where)
        if dtype.kind in "iu":
            if len(values) and not (np.isfinite(values).all() and np.abs(values).max() < 2**53):
                raise self._fail("Whole numbers were expected.", where)
            return values.astype(np.int64).reshape(shape)
        return values.astype(dtype.newbyteorder("=") if dtype.itemsize == 4 else np.float64).reshape(shape)

    def _item(self, holder: ET.Element, where: str, at: int = 0) -> NDArray[Any]:
        items = holder.findall("DataItem")
        if at >= len(items):
            raise self._fail(f"A {holder.tag} has no numbers.", where)
        return self.array(items[at], where)

    # -- content ---------------------------------------------------------------------------------------------

    def content(self, grid: ET.Element, where: str, notices: list[str]) -> Solid | Sheet | None:
        """A grid with its values."""
        topology = self._part(grid, "Topology", where)
        name = (topology.get("TopologyType") or topology.get("Type") or "").lower()
        if name.endswith("mesh"):
            return self._lattice(grid, topology, name, where, notices)
        points = self._points(self._part(grid, "Geometry", where), where)
        cells = self._cells(topology, name, where)
        fields = self._fields(grid, len(points), len(cells.types), where, notices)
        return block_of_cells(points, cells, fields, {}, where)

    def _points(self, geometry: ET.Element, where: str) -> NDArray[np.float64]:
        kind = (geometry.get("GeometryType") or geometry.get("Type") or "XYZ").upper()
        if kind in ("XYZ", "XY"):
            flat = self._item(geometry, where).ravel()
            size = len(kind)
            if len(flat) % size:
                raise self._fail("Its coordinates do not come in groups.", where)
            table = flat.reshape(-1, size)
            return finite_points(table if size == 3 else np.column_stack([table, np.zeros(len(table))]), where)
        if kind in ("X_Y_Z", "X_Y"):
            columns = [self._item(geometry, where, a).ravel() for a in range(len(kind) // 2 + 1)]
            if len({len(c) for c in columns}) != 1:
                raise self._fail("Its coordinates are not of one length.", where)
            return finite_points(np.column_stack([*columns, *([np.zeros(len(columns[0]))] if len(columns) == 2 else [])]), where)
        raise self._fail(f"Geometries of type {kind} are not read.", where)

    def _cells(self, topology: ET.Element, name: str, where: str) -> Cells:
        nodes = self._item(topology, where)
        if nodes.dtype.kind not in "iu":
            raise self._fail("Its connectivity is not of whole numbers.", where)
        nodes = nodes.astype(np.int64)
        head, _, tail = name.partition("_")
        long = f"{_SHORT.get(head, head)}_{tail}" if tail else _SHORT.get(head, head)
        if long == "mixed":
            return self._mixed(nodes.ravel(), where)
        if long not in _TOPOLOGIES:
            raise self._fail(f"Topologies of type {name or 'unknown'} are not read.", where)
        _, kind, size = _TOPOLOGIES[long]
        size = size or int(topology.get("NodesPerElement") or 0) if (topology.get("NodesPerElement") or "0").isdigit() else size
        if size < 1 or nodes.size % size:
            raise self._fail("Its connectivity does not come in groups.", where)
        return uniform(kind, nodes.reshape(-1, size))

    def _mixed(self, flat: NDArray[np.int64], where: str) -> Cells:
        """A list in which each cell's kind stands before its nodes; polyhedra by their faces."""
        types: list[int] = []
        spans: list[tuple[int, int]] = []
        faces: list[tuple[int, int, int]] = []
        at, listed = 0, flat.tolist()
        try:
            while at < len(listed):
                number = listed[at]
                at += 1
                if number == _POLYHEDRON:
                    many = listed[at]
                    at += 1
                    for _ in range(many):
                        faces.append((len(types), at + 1, listed[at]))
                        at += 1 + listed[at]
                    types.append(42)
                    spans.append((at, 0))
                    continue
                kind, size = _BY_NUMBER[number]
                if size == 0:
                    size = listed[at]
                    at += 1
                types.append(kind)
                spans.append((at, size))
                at += size
        except (IndexError, KeyError):
            at = -1
        if at != len(listed) or any(n < 0 for _, n in spans) or any(n < 3 for *_, n in faces):
            raise self._fail("Its list of mixed cells makes no sense.", where)
        begin = np.array([s for s, _ in spans], np.int64)
        sizes = np.array([n for _, n in spans], np.int64)
        offsets, nodes = _picked(flat, begin, sizes)
        polygons: Faces | None = None
        if faces:
            face_offsets, face_nodes = _picked(flat, np.array([f[1] for f in faces], np.int64), np.array([f[2] for f in faces], np.int64))
            polygons = Faces(np.array([f[0] for f in faces], np.int64), face_offsets, face_nodes)
        return Cells(np.array(types, np.uint8), offsets, nodes, polygons)

    def _fields(self, grid: ET.Element, n_points: int, n_cells: int, where: str, notices: list[str]) -> list[Field]:
        fields: list[Field] = []
        for number, attribute in enumerate(grid.findall("Attribute")):
            name = attribute.get("Name") or f"array {number + 1}"
            center = (attribute.get("Center") or "Node").lower()
            if center not in ("node", "cell") or not wants_quantity(name):
                continue
            count = n_points if center == "node" else n_cells
            values = self._item(attribute, f"{where}, {name}")
            if count == 0 or values.size % count:
                raise self._fail(f"{name} has {values.size:,} values for {count:,} {center}s.", where)
            found = kept_field(name, center, values.reshape(count, -1), count, where)
            if found is not None:
                fields.append(found)
            elif values.size // count not in (1, 2, 3):
                notices.append(f"{name} has {values.size // count} components and was left out.")
        return fields

    def _lattice(self, grid: ET.Element, topology: ET.Element, name: str, where: str, notices: list[str]) -> Solid | Sheet | None:
        try:
            reverse = [int(n) for n in (topology.get("Dimensions") or topology.get("NumberOfElements") or "").split()]
        except ValueError:
            reverse = []
        if len(reverse) not in (2, 3) or min(reverse) < 1 or math.prod(reverse) > 2_000_000_000:
            raise self._fail("Its dimensions make no sense.", where)
        dims = (*reverse[::-1], 1)[:3]
        geometry = self._part(grid, "Geometry", where)
        if "corect" in name:
            points = self._uniform_points(geometry, dims, where)
        elif "rect" in name:
            axes = [self._item(geometry, where, a).ravel() for a in range(len(reverse))]
            if [len(a) for a in axes] != list(dims[: len(axes)]):
                raise self._fail("Its coordinates do not fit its dimensions.", where)
            points = finite_points(lattice_points([*axes, np.zeros(1)][:3]), where)
        else:
            points = self._points(geometry, where)
        if len(points) != math.prod(dims):
            raise self._fail(f"{math.prod(dims):,} points are declared, {len(points):,} are there.", where)
        n_cells = math.prod(max(d - 1, 1) for d in dims)
        fields = self._fields(grid, len(points), n_cells, where, notices)
        form: Any = "uniform" if "corect" in name else "rectilinear" if "rect" in name else "curvilinear"
        return structured(points, (dims[0], dims[1], dims[2]), form, fields, np.ones(n_cells, dtype=bool), {}, where)

    def _uniform_points(self, geometry: ET.Element, dims: tuple[int, ...], where: str) -> NDArray[np.float64]:
        # Origin and spacing come slowest axis first, as the dimensions do.
        origin, spacing = (self._item(geometry, where, n).ravel().astype(float)[::-1] for n in (0, 1))
        if len(origin) != len(spacing) or len(origin) not in (2, 3):
            raise self._fail("Its origin and spacing make no sense.", where)
        axes = [o + s * np.arange(d) for o, s, d in zip(origin, spacing, dims, strict=False)]
        return finite_points(lattice_points([*axes, np.zeros(1)][:3]), where)


def _picked(flat: NDArray[np.int64], begin: NDArray[np.int64], sizes: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Offsets and content of stretches of a list."""
    offsets = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    at = np.arange(offsets[-1]) - np.repeat(offsets[:-1], sizes) + np.repeat(begin, sizes)
    return offsets, flat[at]
