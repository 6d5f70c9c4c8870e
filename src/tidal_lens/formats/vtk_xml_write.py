"""VTK XML files with raw numbers appended: blocks, sets of blocks with their boundaries, surfaces and lines."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Block, Boundary
from tidal_lens.flow.grid import OWN_CORNERS, StructuredGrid, UnstructuredGrid
from tidal_lens.formats.written import FlowData, Geometry, atomic_folder, atomically

_NAMES = {"i1": "Int8", "u1": "UInt8", "i4": "Int32", "i8": "Int64", "f4": "Float32", "f8": "Float64"}
Arrays = Mapping[str, NDArray[Any]]


class _Writer:
    """Collects elements and the numbers behind them."""

    def __init__(self, kind: str) -> None:
        self.kind = kind
        self.lines: list[str] = []
        self.arrays: list[NDArray[Any]] = []
        self.size = 0

    def array(self, name: str, values: NDArray[Any]) -> None:
        """An array of numbers, shape (n,) or (n, c)."""
        flat = np.ascontiguousarray(values)
        if flat.dtype.kind == "b":
            flat = flat.astype(np.uint8)
        code = flat.dtype.newbyteorder("<").str[1:]
        components = 1 if flat.ndim == 1 else flat.shape[1]
        self.lines.append(f'<DataArray type="{_NAMES[code]}" Name={quoteattr(name)} NumberOfComponents="{components}" '
                          f'format="appended" offset="{self.size}"/>')
        self.arrays.append(flat.astype(flat.dtype.newbyteorder("<"), copy=False))
        self.size += 8 + flat.nbytes

    def section(self, name: str, arrays: Arrays) -> None:
        """An element with arrays."""
        self.lines.append(f"<{name}>")
        for label, values in arrays.items():
            self.array(label, values)
        self.lines.append(f"</{name}>")

    def facts(self, facts: Mapping[str, str | Sequence[float]]) -> None:
        """What is known of the case."""
        self.lines.append("<FieldData>")
        for name, value in facts.items():
            if isinstance(value, str):
                codes = " ".join(str(c) for c in value.encode() + b"\0")
                self.lines.append(f'<Array type="String" Name={quoteattr(name)} NumberOfTuples="1" format="ascii">{codes}</Array>')
            else:
                numbers = " ".join(repr(float(v)) for v in value)
                self.lines.append(f'<DataArray type="Float64" Name={quoteattr(name)} NumberOfTuples="{len(value)}" '
                                  f'format="ascii">{numbers}</DataArray>')
        self.lines.append("</FieldData>")

    def write(self, path: Path) -> None:
        """The whole file."""
        head = (f'<?xml version="1.0"?>\n<VTKFile type="{self.kind}" version="1.0" byte_order="LittleEndian" header_type="UInt64">\n'
                + "\n".join(self.lines) + '\n<AppendedData encoding="raw">\n_')
        with path.open("wb") as stream:
            stream.write(head.encode())
            for values in self.arrays:
                stream.write(np.uint64(values.nbytes).tobytes())
                stream.write(values.data if values.nbytes else b"")
            stream.write(b"\n</AppendedData>\n</VTKFile>\n")


def _facts(data: FlowData) -> dict[str, str | Sequence[float]]:
    flow, state = data.flow, data.flow.reference
    found: dict[str, str | Sequence[float]] = {}
    if state.speed > 0.0:
        found["ReferenceVelocity"] = state.velocity
        found["Gamma"] = (state.gamma,)
        if state.pressure is not None:
            found["ReferencePressure"] = (state.pressure,)
        if state.density is not None:
            found["ReferenceDensity"] = (state.density,)
    if state.area is not None:
        found["ReferenceArea"] = (state.area,)
    if state.length is not None:
        found["ReferenceLength"] = (state.length,)
    if any(state.about):
        found["MomentPoint"] = state.about
    if flow.si_units:
        found["Units"] = "SI"
    return found


def cells_of(grid: UnstructuredGrid) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Connectivity and the end of each cell in it."""
    sizes = np.zeros(256, np.int64)
    for kind, own in OWN_CORNERS.items():
        sizes[kind] = len(own)
    ends = np.cumsum(sizes[grid.types])
    nodes = np.empty(int(ends[-1]) if len(ends) else 0, np.int64)
    for kind, own in OWN_CORNERS.items():
        some = np.flatnonzero(grid.types == kind)
        nodes[(ends[some] - len(own))[:, None] + np.arange(len(own))] = grid.corners[some][:, own]
    return nodes, ends


def _block(data: FlowData, block: Block) -> _Writer:
    flow, grid = data.flow, block.grid
    structured = isinstance(grid, StructuredGrid)
    out = _Writer("StructuredGrid" if structured else "UnstructuredGrid")
    extent = " ".join(f"0 {d - 1}" for d in grid.dims) if isinstance(grid, StructuredGrid) else ""
    out.lines.append(f'<StructuredGrid WholeExtent="{extent}">' if structured else "<UnstructuredGrid>")
    out.facts(_facts(data))
    counts = f'NumberOfPoints="{grid.n_points}" NumberOfCells="{grid.n_cells}"'
    out.lines.append(f'<Piece Extent="{extent}">' if structured else f"<Piece {counts}>")
    out.section("PointData", {name: values[block.points] for name, values in data.nodes.items()})
    out.section("CellData", {name: values[block.cells] for name, values in data.cells.items()})
    out.section("Points", {"Points": flow.points[block.points]})
    if isinstance(grid, UnstructuredGrid):
        nodes, ends = cells_of(grid)
        out.section("Cells", {"connectivity": nodes, "offsets": ends, "types": grid.types})
    out.lines += ["</Piece>", f"</{out.kind}>"]
    return out


def write_single(path: Path, data: FlowData) -> None:
    """Write a flow of one block as ``.vts`` or ``.vtu``.

    Raises
    ------
    FileError
        There are more blocks, the block is of the other kind, or the file cannot be written.
    """
    wanted = StructuredGrid if path.suffix.lower() == ".vts" else UnstructuredGrid
    if len(data.flow.blocks) != 1 or not isinstance(data.flow.blocks[0].grid, wanted):
        raise FileError(f"A {path.suffix} file holds one {'' if wanted is StructuredGrid else 'un'}structured block, the flow has "
                        f"{len(data.flow.blocks)}, or of another kind.", str(path), "Write it as .vtm, .vtkhdf or .cgns.")
    atomically(path, _block(data, data.flow.blocks[0]).write)


def write_multiblock(path: Path, data: FlowData) -> None:
    """Write all blocks and named boundaries as ``.vtm`` with a folder beside it.

    Raises
    ------
    FileError
        A file cannot be written.
    """
    flow = data.flow
    lines: list[str] = []
    folder = path.with_suffix("")

    def fill(scratch: Path) -> None:
        for n, block in enumerate(flow.blocks):
            writer = _block(data, block)
            file = f"block_{n}.{'vts' if writer.kind == 'StructuredGrid' else 'vtu'}"
            writer.write(scratch / file)
            lines.append(f'<DataSet index="{n}" name={quoteattr(block.name)} file={quoteattr(f"{folder.name}/{file}")}/>')
        for n, boundary in enumerate(b for b in flow.boundaries if not b.found and len(b.faces)):
            file = f"boundary_{n}.vtp"
            _polygons(boundary).write(scratch / file)
            lines.append(f'<DataSet index="{len(flow.blocks) + n}" name={quoteattr(boundary.name)} '
                         f'file={quoteattr(f"{folder.name}/{file}")}/>')

    atomic_folder(folder, fill)
    text = ('<?xml version="1.0"?>\n<VTKFile type="vtkMultiBlockDataSet" version="1.0" byte_order="LittleEndian" header_type="UInt64">\n'
            "<vtkMultiBlockDataSet>\n" + "\n".join(lines) + "\n</vtkMultiBlockDataSet>\n</VTKFile>\n")
    atomically(path, lambda scratch: _write_text(scratch, text))


def _write_text(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8")


def _polygons(boundary: Boundary) -> _Writer:
    return _geometry(Geometry(boundary.points, boundary.faces, None))


def _geometry(geometry: Geometry) -> _Writer:
    out = _Writer("PolyData")
    lines = 0 if geometry.offsets is None else len(geometry.offsets) - 1
    polygons = 0 if geometry.faces is None else len(geometry.faces)
    out.lines.append("<PolyData>")
    vertices = len(geometry.points) if geometry.offsets is None and geometry.faces is None else 0
    out.lines.append(f'<Piece NumberOfPoints="{len(geometry.points)}" NumberOfVerts="{vertices}" NumberOfLines="{lines}" '
                     f'NumberOfStrips="0" NumberOfPolys="{polygons}">')
    out.section("PointData", geometry.values)
    out.section("Points", {"Points": geometry.points})
    if vertices:
        out.section("Verts", {"connectivity": np.arange(vertices), "offsets": np.arange(1, vertices + 1)})
    if geometry.offsets is not None:
        out.section("Lines", {"connectivity": np.arange(len(geometry.points)), "offsets": geometry.offsets[1:]})
    if geometry.faces is not None:
        keep = np.ones(geometry.faces.shape, dtype=bool)
        keep[:, 3] = geometry.faces[:, 3] != geometry.faces[:, 2]
        out.section("Polys", {"connectivity": geometry.faces[keep], "offsets": np.cumsum(keep.sum(axis=1))})
    out.lines += ["</Piece>", "</PolyData>"]
    return out


def write_geometry(path: Path, geometry: Geometry) -> None:
    """Write a surface, lines or points as ``.vtp``.

    Raises
    ------
    FileError
        The file cannot be written.
    """
    atomically(path, _geometry(geometry).write)
