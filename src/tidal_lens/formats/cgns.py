"""CGNS files on HDF5: structured zones, steady or as a time series.

Read: vertex or cell-centred solutions, rind layers dropped, boundary conditions with their families and kinds, base iterative data,
reference state. Links to other files are followed here, never by the library, and only inside the file's own folder.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import BoundaryKind, Field, Flow
from tidal_lens.flow.faces import quads_of_sheet
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.formats.assemble import assemble_content
from tidal_lens.formats.content import Sheet, Solid
from tidal_lens.work import Token

_DAMAGED = "Write it again from the solver."
_MOST = 2_000_000_000  # numbers in one array that are believed
_KINDS: tuple[tuple[str, BoundaryKind], ...] = (("BCWall", "wall"), ("BCSymmetry", "symmetry"), ("BCFarfield", "far field"),
                                               ("BCInflow", "inlet"), ("BCTunnelInflow", "inlet"), ("BCOutflow", "outlet"),
                                               ("BCTunnelOutflow", "outlet"))


def sniff(head: bytes) -> bool:
    """Whether the first bytes are those of an HDF5 file."""
    return head.startswith(b"\x89HDF\r\n\x1a\n")


def open_file(path: Path, token: Token, anyway: bool, step: int = 0) -> Flow:
    """Read one step of a CGNS file into a flow."""
    with _Tree(path) as tree:
        base = tree.only(tree.root, "CGNSBase_t", "base")
        dimensions = tree.integers(base)
        if len(dimensions) != 2 or dimensions[0] != 3:
            raise FileError("Its cells are not three-dimensional.", str(path), "Tidal Lens needs the volume of the flow.")
        times = _times(tree, base)
        step = min(step, max(len(times) - 1, 0))
        facts = _facts(tree, base)
        zones = list(tree.children(base, "Zone_t"))
        if not zones:
            raise FileError("There are no zones in it.", str(path), _DAMAGED)
        solids: list[Solid] = []
        sheets: list[tuple[str, Sheet]] = []
        for number, (name, zone) in enumerate(zones):
            token.check()
            solid = _solid(tree, name, zone, facts, step)
            solids.append(solid)
            sheets.extend(_sheets(tree, zone, solid))
            token.report((number + 1) / len(zones))
    return assemble_content(path, solids, sheets, [], anyway, (times, step))


class _Tree:
    """The nodes of a file and of those it links to."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._folder = path.parent.resolve()
        self._open = contextlib.ExitStack()
        self._files: dict[Path, Any] = {}
        self._unfollowed: FileError | None = None
        self.elsewhere: set[str] = set()
        self.root = self._file(path.resolve())

    def __enter__(self) -> _Tree:
        return self

    def __exit__(self, *_what: object) -> None:
        self._open.close()

    def _file(self, path: Path) -> Any:
        import h5py  # loaded when first needed, not before the window is up

        if path not in self._files:
            try:
                self._files[path] = self._open.enter_context(h5py.File(path, "r"))
            except (OSError, RuntimeError) as exc:
                self._open.close()
                raise FileError(f"The file is damaged or cut off: {str(exc).splitlines()[0][:150]}.", str(path),
                                "Copy it again, or write it again from the solver.") from exc
        return self._files[path]

    def _fail(self, what: str, node: Any) -> FileError:
        return FileError(what, f"{self.path.name}, {getattr(node, 'name', '')}", _DAMAGED)

    @staticmethod
    def _text(node: Any, attribute: str) -> str:
        value = node.attrs.get(attribute, b"")
        return bytes(value).split(b"\0")[0].decode("ascii", "replace").strip() if isinstance(value, bytes | np.bytes_) else ""

    def children(self, node: Any, label: str) -> Iterator[tuple[str, Any]]:
        """Nodes below another that carry a label; linked ones come last, and those that lead nowhere are left out.

        Links named in ``elsewhere`` are not followed: they are other moments, in files that need not be opened.
        """
        import h5py

        links = []
        for name in node:
            if name.startswith(" ") or not isinstance(node.get(name, getlink=True), h5py.HardLink):
                continue
            child = node[name]
            if not isinstance(child, h5py.Group):
                continue
            if self._text(child, "type") == "LK":
                links.append(child)
            elif self._text(child, "label") == label:
                yield name, child
        for child in links:
            name = child.name.rsplit("/", 1)[-1]
            if name in self.elsewhere:
                continue
            try:
                target = self._resolved(child, 0)
            except FileError as error:
                self._unfollowed = error
                continue
            if self._text(target, "label") == label:
                yield name, target

    def first(self, node: Any, label: str) -> Any | None:
        """The first node below another that carries a label, or None."""
        found = next(self.children(node, label), None)
        return None if found is None else found[1]

    def named(self, node: Any, name: str) -> Any | None:
        """The node of a name below another, links resolved; None where there is none."""
        import h5py

        if not name or "/" in name or name.startswith(".") or not isinstance(node.get(name, getlink=True), h5py.HardLink):
            return None
        child = node[name]
        return self._resolved(child, 0) if isinstance(child, h5py.Group) else None

    def _resolved(self, node: Any, depth: int) -> Any:
        if self._text(node, "type") != "LK":
            return node
        if depth > 8:
            raise self._fail("Its links go round in a circle.", node)
        file, path = (bytes(self._dataset(node, what)[:4096].astype(np.int8)).split(b"\0")[0].decode("utf-8", "replace")
                      for what in (" file", " path"))
        holder = self.root
        if file:
            there = (self._folder / file).resolve()
            if not there.is_relative_to(self._folder):
                raise FileError(f"It links to {file}, outside its own folder.", str(self.path), "Put the linked files beside it.")
            if not there.is_file():
                raise FileError(f"The linked file {file} does not exist.", str(self.path), "Copy the whole folder.")
            holder = self._file(there)
        import h5py

        for name in path.strip("/").split("/"):
            if not isinstance(holder, h5py.Group) or not isinstance(holder.get(name, getlink=True), h5py.HardLink):
                raise self._fail(f"The link to {path} leads nowhere.", node)
            holder = holder[name]
        return self._resolved(holder, depth + 1)

    def only(self, node: Any, label: str, what: str) -> Any:
        """The first node below that carries a label."""
        self._unfollowed = None
        found = self.first(node, label)
        if found is None:
            self._tell_unfollowed()
            raise self._fail(f"There is no {what} ({label}) in it.", node)
        return found

    def _tell_unfollowed(self) -> None:
        if self._unfollowed is not None:
            raise self._unfollowed

    def _dataset(self, node: Any, name: str = " data") -> Any:
        import h5py

        link = node.get(name, getlink=True)
        data = node[name] if isinstance(link, h5py.HardLink) else None
        if not isinstance(data, h5py.Dataset) or data.dtype.kind not in "iufS" or data.external or data.is_virtual:
            raise self._fail("A node has no data that can be read.", node)
        if data.size > _MOST:
            raise self._fail(f"An array declares {data.size:,} numbers.", node)
        return data

    def numbers(self, node: Any) -> NDArray[Any]:
        """The data of a node, in the machine's byte order."""
        data = self._dataset(node)
        try:
            values = data[()]
        except (OSError, RuntimeError) as exc:
            raise self._fail("Its data cannot be read: the file is damaged.", node) from exc
        return np.asarray(values).astype(data.dtype.newbyteorder("="), copy=False)

    def integers(self, node: Any) -> list[int]:
        """Some whole numbers."""
        values = self.numbers(node).ravel()
        if values.size > 64 or values.dtype.kind not in "iu":
            raise self._fail("Whole numbers were expected.", node)
        return [int(v) for v in values]

    def word(self, node: Any) -> str:
        """The data of a node as text."""
        values = self.numbers(node)
        return bytes(values.ravel()[:1024].astype(np.int8)).split(b"\0")[0].decode("utf-8", "replace").strip()


def _times(tree: _Tree, base: Any) -> tuple[float, ...]:
    steps = tree.first(base, "BaseIterativeData_t")
    if steps is not None:
        for name, node in tree.children(steps, "DataArray_t"):
            if name == "TimeValues":
                values = tree.numbers(node).ravel().astype(float)
                if not np.isfinite(values).all():
                    raise FileError("Its times are not finite.", str(tree.path), _DAMAGED)
                return tuple(float(v) for v in values)
    return ()


def _facts(tree: _Tree, base: Any) -> dict[str, Any]:
    facts: dict[str, Any] = {}
    for _, state in tree.children(base, "ReferenceState_t"):
        found = {name: tree.numbers(node).ravel()[:1].astype(float) for name, node in tree.children(state, "DataArray_t")}
        velocity = [found.get(f"Velocity{a}") for a in "XYZ"]
        if all(v is not None and len(v) for v in velocity):
            facts["ReferenceVelocity"] = tuple(float(v[0]) for v in velocity if v is not None)
        for ours, theirs in (("ReferencePressure", "Pressure"), ("ReferenceDensity", "Density"), ("Gamma", "SpecificHeatRatio")):
            if theirs in found and len(found[theirs]):
                facts[ours] = (float(found[theirs][0]),)
    if any(tree.word(node) == "Dimensional" for _, node in tree.children(base, "DataClass_t")):
        facts["Units"] = "SI"
    return facts


def _solid(tree: _Tree, name: str, zone: Any, facts: dict[str, Any], step: int) -> Solid:
    where = f"{tree.path.name}, {name}"
    kind = tree.word(tree.only(zone, "ZoneType_t", "zone type"))
    if kind != "Structured":
        raise FileError(f"Its zone is {kind.lower()}: of CGNS files only structured zones are opened.", where,
                        "Write unstructured results as VTK XML (.vtu, .vtm).")
    size = tree.integers(zone)
    if len(size) != 9 or min(size[:3]) < 2 or size[3:6] != [s - 1 for s in size[:3]]:
        raise FileError(f"Its size makes no sense: {size}.", where, _DAMAGED)
    dims = (size[0], size[1], size[2])
    grid = tree.only(zone, "GridCoordinates_t", "grid")
    axes = dict(tree.children(grid, "DataArray_t"))
    columns = []
    for axis in "XYZ":
        if f"Coordinate{axis}" not in axes:
            raise FileError(f"There is no Coordinate{axis}.", where, "Only Cartesian coordinates are opened.")
        columns.append(_core(tree, axes[f"Coordinate{axis}"], grid, dims, where).astype(np.float64))
    points = np.column_stack(columns)
    if not np.isfinite(points).all():
        raise FileError("Some coordinates are not finite.", where, _DAMAGED)
    fields: list[Field] = []
    for solution in _solutions(tree, zone, step):
        place = next((tree.word(n) for _, n in tree.children(solution, "GridLocation_t")), "Vertex")
        if place not in ("Vertex", "CellCenter"):
            continue
        shape = dims if place == "Vertex" else (dims[0] - 1, dims[1] - 1, dims[2] - 1)
        for quantity, node in tree.children(solution, "DataArray_t"):
            values = _core(tree, node, solution, shape, f"{where}, {quantity}")
            kept = values if values.dtype.kind == "f" else values.astype(np.float64)
            fields.append(Field(quantity, "node" if place == "Vertex" else "cell", kept))
    return Solid(name, StructuredGrid(dims, "curvilinear"), points, fields, facts)


def _solutions(tree: _Tree, zone: Any, step: int) -> list[Any]:
    pointers = _pointers(tree, zone)
    if not pointers:
        return [node for _, node in tree.children(zone, "FlowSolution_t")]
    tree.elsewhere = set(pointers)
    wanted = pointers[step] if step < len(pointers) else ""
    found = tree.named(zone, wanted)
    if found is None:
        raise FileError(f"The solution {wanted!r} of step {step + 1} is missing.", f"{tree.path.name}, {zone.name}", _DAMAGED)
    return [found]


def _pointers(tree: _Tree, zone: Any) -> list[str] | None:
    data = tree.first(zone, "ZoneIterativeData_t")
    if data is not None:
        for name, node in tree.children(data, "DataArray_t"):
            if name == "FlowSolutionPointers":
                rows = tree.numbers(node)
                if rows.ndim != 2 or rows.shape[1] != 32 or len(rows) > 100_000:
                    raise FileError("Its list of solutions makes no sense.", str(tree.path), _DAMAGED)
                return [bytes(row.astype(np.int8)).split(b"\0")[0].decode("ascii", "replace").strip() for row in rows]
    return None


def _core(tree: _Tree, node: Any, holder: Any, dims: tuple[int, int, int], where: str) -> NDArray[Any]:
    """An array of a zone without its rind layers, i fastest."""
    values = tree.numbers(node)
    rind = next((tree.integers(n) for _, n in tree.children(holder, "Rind_t")), [0] * 6)
    if len(rind) != 6 or min(rind) < 0:
        raise FileError("Its rind makes no sense.", where, _DAMAGED)
    full = tuple(d + rind[2 * a] + rind[2 * a + 1] for a, d in enumerate(dims))
    if values.shape != full[::-1] or values.dtype.kind not in "iuf":
        raise FileError(f"An array has {values.shape[::-1]} numbers where {full} belong.", where, _DAMAGED)
    part = tuple(slice(rind[2 * a], rind[2 * a] + dims[a]) for a in (2, 1, 0))
    return np.ascontiguousarray(values[part]).ravel()


def _sheets(tree: _Tree, zone: Any, solid: Solid) -> Iterator[tuple[str, Sheet]]:
    assert isinstance(solid.grid, StructuredGrid)
    dims = solid.grid.dims
    lattice = np.arange(len(solid.points), dtype=np.int64).reshape(dims[::-1])
    for _, conditions in tree.children(zone, "ZoneBC_t"):
        for name, condition in tree.children(conditions, "BC_t"):
            family = next((tree.word(n) for _, n in tree.children(condition, "FamilyName_t")), "") or name
            word = tree.word(condition)
            kind = next((k for start, k in _KINDS if word.startswith(start)), None)
            for _, node in tree.children(condition, "IndexRange_t"):
                ends = tree.integers(node)
                if len(ends) != 6 or any(not 1 <= min(ends[a], ends[a + 3]) <= max(ends[a], ends[a + 3]) <= dims[a] for a in range(3)):
                    raise FileError("The range of a boundary makes no sense.", f"{tree.path.name}, {solid.name}, {name}", _DAMAGED)
                part = lattice[tuple(slice(min(ends[a], ends[a + 3]) - 1, max(ends[a], ends[a + 3])) for a in (2, 1, 0))].squeeze()
                if part.ndim == 2:
                    yield family, Sheet(solid.points[part.ravel()], quads_of_sheet(np.arange(part.size).reshape(part.shape)), kind=kind)
