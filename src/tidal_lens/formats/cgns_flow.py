"""Write a flow with its boundaries as CGNS: structured and unstructured zones, values at vertices and in cells."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import h5py
import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.flow.case import SOLID, Block, Boundary, Flow
from tidal_lens.flow.grid import HEXAHEDRON, OWN_CORNERS, PYRAMID, TETRA, WEDGE, StructuredGrid, UnstructuredGrid
from tidal_lens.formats.cgns_write import add_node, add_turning, root_of
from tidal_lens.formats.written import FlowData, atomically

_ELEMENTS = {TETRA: (10, "Tetrahedra"), PYRAMID: (12, "Pyramids"), WEDGE: (14, "Wedges"), HEXAHEDRON: (17, "Hexahedra")}
_KINDS = {**dict.fromkeys(SOLID, "BCWall"), "symmetry": "BCSymmetryPlane", "inlet": "BCInflow", "outlet": "BCOutflow",
          "far field": "BCFarfield", "periodic": "BCGeneral", "open": "BCGeneral", "axis": "BCAxisymmetricWedge"}
_QUAD, _TRIANGLE = 7, 5
_STANDARD = {"velocity": "Velocity", "momentum": "Momentum"}
_SCALARS = {"pressure": "Pressure", "density": "Density", "temperature": "Temperature", "viscosity": "ViscosityMolecular",
            "energy": "EnergyStagnationDensity"}


def write_flow(path: Path, data: FlowData) -> None:
    """Write a flow as one CGNS file.

    Fields that play a role get the standard's data names; cells are sorted by kind, and their values with them.

    Raises
    ------
    FileError
        The file cannot be written.
    """
    atomically(path, lambda scratch: _write(scratch, data))


def _write(path: Path, data: FlowData) -> None:
    flow = data.flow
    names: set[str] = set()
    with h5py.File(path, "w", track_order=True) as file:
        base = root_of(file)
        if flow.si_units:
            add_node(base, "DataClass", "DataClass_t", "Dimensional")
        _reference(base, flow)
        for block in flow.blocks:
            _zone(base, data, block, _short(block.name, names))


def _short(name: str, used: set[str]) -> str:
    """A name of at most 32 letters that nothing else has."""
    plain = "".join(c if 32 <= ord(c) < 127 and c not in "/\"" else "_" for c in name).strip(". ")[:32] or "Zone"
    one, n = plain, 2
    while one in used:
        one, n = f"{plain[:28]} {n}", n + 1
    used.add(one)
    return one


def _reference(base: Any, flow: Flow) -> None:
    state = flow.reference
    values = {**({f"Velocity{a}": v for a, v in zip("XYZ", state.velocity, strict=True)} if state.speed > 0.0 else {}),
              "Pressure": state.pressure, "Density": state.density, "SpecificHeatRatio": state.gamma,
              "LengthReference": state.length, "AreaReference": state.area,
              **({f"MomentPoint{a}": v for a, v in zip("XYZ", state.about, strict=True)} if any(state.about) else {})}
    node = add_node(base, "ReferenceState", "ReferenceState_t")
    for name, value in values.items():
        if value is not None:
            add_node(node, name, "DataArray_t", np.array([value], np.float64))


def _named(data: FlowData, values: Mapping[str, NDArray[Any]]) -> dict[str, NDArray[Any]]:
    """Scalars by name: vectors by component, roles by the standard's names."""
    roles = data.flow.roles
    standard: dict[str, str] = {}
    for role, word in _STANDARD.items():
        own = roles.fields(role)
        if len(own) == 1:
            standard[own[0]] = word
        elif len(own) == 3:
            standard.update({name: f"{word}{axis}" for name, axis in zip(own, "XYZ", strict=True)})
    standard.update({own[0]: word for role, word in _SCALARS.items() if (own := roles.fields(role))})
    out: dict[str, NDArray[Any]] = {}
    used: set[str] = set()
    for name, array in values.items():
        label = standard.get(name, name)
        if array.ndim == 1:
            out[_short(label, used)] = array
        else:
            for c, axis in enumerate("XYZ"):
                out[_short(f"{label[:30]}{axis}", used)] = array[:, c]
    return out


def _zone(base: Any, data: FlowData, block: Block, name: str) -> None:
    grid, points = block.grid, data.flow.points[block.points]
    structured = isinstance(grid, StructuredGrid)
    if isinstance(grid, StructuredGrid):
        size = np.array([grid.dims, [d - 1 for d in grid.dims], [0, 0, 0]], np.int64)
    else:
        size = np.array([[grid.n_points], [grid.n_cells], [0]], np.int64)
    zone = add_node(base, name, "Zone_t", size)
    add_node(zone, "ZoneType", "ZoneType_t", "Structured" if structured else "Unstructured")
    turning = data.flow.turning.of_block(block.name) if data.flow.turning is not None else None
    if turning is not None:
        add_turning(zone, turning.point, [turning.rate * a for a in turning.axis])
    node_shape = grid.dims[::-1] if isinstance(grid, StructuredGrid) else (grid.n_points,)
    cell_shape = tuple(d - 1 for d in node_shape) if structured else (grid.n_cells,)
    coordinates = add_node(zone, "GridCoordinates", "GridCoordinates_t")
    for c, axis in enumerate("XYZ"):
        add_node(coordinates, f"Coordinate{axis}", "DataArray_t", np.ascontiguousarray(points[:, c]).reshape(node_shape))
    order = np.arange(grid.n_cells)
    if isinstance(grid, UnstructuredGrid):
        order = np.argsort(grid.types, kind="stable")
        last = _elements(zone, grid)
        _boundary_elements(zone, data.flow, block, last)
    else:
        _boundary_ranges(zone, data.flow, block, grid)
    for title, place, values, part, shape in (("FlowSolution", "Vertex", data.nodes, block.points, node_shape),
                                              ("CellSolution", "CellCenter", data.cells, block.cells, cell_shape)):
        if not values:
            continue
        solution = add_node(zone, title, "FlowSolution_t")
        add_node(solution, "GridLocation", "GridLocation_t", place)
        for label, array in _named(data, values).items():
            own = array[part] if place == "Vertex" else array[part][order]
            add_node(solution, label, "DataArray_t", np.ascontiguousarray(own).reshape(shape))


def _section(zone: Any, name: str, kind: int, first: int, nodes: NDArray[np.int64]) -> int:
    """Elements of one kind; the number of the last."""
    node = add_node(zone, name, "Elements_t", np.array([kind, 0], np.int32))
    last = first + len(nodes) - 1
    add_node(node, "ElementRange", "IndexRange_t", np.array([first, last], np.int64))
    add_node(node, "ElementConnectivity", "DataArray_t", (nodes + 1).ravel())
    return last


def _elements(zone: Any, grid: UnstructuredGrid) -> int:
    last = 0
    for kind in distinct(grid.types):
        code, title = _ELEMENTS[int(kind)]
        own = grid.corners[grid.types == kind][:, OWN_CORNERS[int(kind)]].astype(np.int64)
        last = _section(zone, title, code, last + 1, own)
    return last


def _of_block(flow: Flow, block: Block) -> list[tuple[Boundary, NDArray[np.int64]]]:
    """Faces of the file's boundaries that lie on a block, by the block's own nodes."""
    out = []
    for boundary in flow.boundaries:
        if boundary.found or boundary.nodes is None:
            continue
        faces = boundary.nodes[boundary.faces] - block.first_point
        own = faces[((faces >= 0) & (faces < block.grid.n_points)).all(axis=1)]
        if len(own):
            out.append((boundary, own))
    return out


def _condition(holder: Any, name: str, boundary: Boundary, span: NDArray[np.int64], place: str) -> None:
    node = add_node(holder, name, "BC_t", _KINDS[boundary.kind])
    add_node(node, "PointRange", "IndexRange_t", span)
    add_node(node, "GridLocation", "GridLocation_t", place)
    add_node(node, "FamilyName", "FamilyName_t", "".join(c if ord(c) < 128 else "_" for c in boundary.name))


def _boundary_elements(zone: Any, flow: Flow, block: Block, last: int) -> None:
    found = _of_block(flow, block)
    if not found:
        return
    holder = add_node(zone, "ZoneBC", "ZoneBC_t")
    used: set[str] = set()
    for boundary, faces in found:
        triangle = faces[:, 2] == faces[:, 3]
        for some, kind, corners, mark in ((triangle, _TRIANGLE, 3, "t"), (~triangle, _QUAD, 4, "q")):
            if some.any():
                name = _short(f"{boundary.name[:28]} {mark}", used)
                first = last + 1
                last = _section(zone, name, kind, first, faces[some][:, :corners])
                _condition(holder, name, boundary, np.array([[first], [last]], np.int64), "FaceCenter")


def _boundary_ranges(zone: Any, flow: Flow, block: Block, grid: StructuredGrid) -> None:
    """Of a structured block the rectangles on its sides that belong to a boundary."""
    holder = None
    used: set[str] = set()
    for boundary, faces in _of_block(flow, block):
        at = np.stack([faces % grid.dims[0], faces // grid.dims[0] % grid.dims[1], faces // (grid.dims[0] * grid.dims[1])], axis=-1)
        for axis in range(3):
            others = [a for a in range(3) if a != axis]
            for side in (0, grid.dims[axis] - 1):
                own = at[(at[:, :, axis] == side).all(axis=1)].min(axis=1)[:, others]
                for low, high in _rectangles(own, tuple(grid.dims[a] - 1 for a in others)):
                    span = np.empty((2, 3), np.int64)
                    span[:, axis], span[0, others], span[1, others] = side + 1, low + 1, high + 2
                    holder = holder if holder is not None else add_node(zone, "ZoneBC", "ZoneBC_t")
                    _condition(holder, _short(boundary.name, used), boundary, span, "Vertex")


def _rectangles(cells: NDArray[np.int64], shape: tuple[int, ...]) -> Iterator[tuple[NDArray[np.int64], NDArray[np.int64]]]:
    """Cells (k, 2) of a lattice as rectangles: the first and the last cell of each."""
    there = np.zeros(shape, bool)
    there[cells[:, 0], cells[:, 1]] = True
    while there.any():
        row, column = (int(n) for n in np.unravel_index(int(there.argmax()), shape))
        wide = int(np.append(there[row, column:], False).argmin())
        tall = int(np.append(there[row:, column:column + wide].all(axis=1), False).argmin())
        there[row:row + tall, column:column + wide] = False
        yield np.array([row, column]), np.array([row + tall - 1, column + wide - 1])
