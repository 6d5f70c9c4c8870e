"""CGNS files on HDF5: structured and unstructured zones of one or several bases, steady or as a time series.

Read: vertex or cell-centred solutions, rind layers dropped, boundary conditions with their families and kinds, base iterative data,
reference state and units. Links to other files are followed here, never by the library, and only inside the file's own folder.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import BoundaryKind, Field, Flow
from tidal_lens.flow.faces import quads_of_sheet
from tidal_lens.formats import cgns_axes, cgns_elements
from tidal_lens.formats.assemble import assemble_content
from tidal_lens.formats.cgns_tree import Tree
from tidal_lens.formats.content import Sheet, Solid, block_of_cells, finite_points, kept_field
from tidal_lens.formats.hdf5 import DAMAGED
from tidal_lens.formats.reading import claim, note_quantities, wants_block, wants_quantity
from tidal_lens.formats.structured import structured
from tidal_lens.work import Token

_KINDS: tuple[tuple[str, BoundaryKind], ...] = (("BCWall", "wall"), ("BCAxisymmetric", "axis"), ("BCSymmetry", "symmetry"),
                                               ("BCFarfield", "far field"),
                                               ("BCInflow", "inlet"), ("BCTunnelInflow", "inlet"), ("BCOutflow", "outlet"),
                                               ("BCTunnelOutflow", "outlet"))
_SI = {"Kilogram": "Mass", "Meter": "Length", "Second": "Time"}
_Content = Solid | Sheet
_Sheets = list[tuple[str, Sheet]]


ADF = b"ADF Database Version"


def refuse_adf(path: Path, _token: Token, _anyway: bool, _step: int = 0) -> Flow:
    """Tell of a file on the older of the two layers that CGNS has been written on.

    Raises
    ------
    FileError
        Always.
    """
    raise FileError("This CGNS file is on the older file layer (ADF), and only those on HDF5 are opened.", str(path),
                    "Convert it with adf2hdf, which comes with the CGNS library, or write it again with HDF5 chosen.")


def open_file(path: Path, token: Token, anyway: bool, step: int = 0) -> Flow:
    """Read one step of a CGNS file into a flow."""
    with Tree(path) as tree:
        bases = list(tree.children(tree.root, "CGNSBase_t"))
        if not bases:
            tree.only(tree.root, "CGNSBase_t", "base")
        sizes = {name: _dimensions(tree, base) for name, base in bases}
        deepest = max(cells for cells, _ in sizes.values())
        if deepest < 2:
            raise FileError("Its cells are not three-dimensional.", str(path), "Tidal Lens needs the volume of the flow.")
        times = next((t for _, b in bases if (t := _times(tree, b))), ())
        step = min(step, max(len(times) - 1, 0))
        contents: list[tuple[str, _Content]] = []
        sheets: _Sheets = []
        zones = [(base_name, base, name, zone) for base_name, base in bases if sizes[base_name][0] == deepest
                 for name, zone in tree.children(base, "Zone_t")]
        if not zones:
            raise FileError("There are no zones in it.", str(path), DAMAGED)
        several = len({z[0] for z in zones}) > 1
        facts = {name: _facts(tree, base) for name, base in bases}
        for number, (base_name, base, name, zone) in enumerate(zones):
            token.check()
            label = f"{base_name} {name}" if several else name
            if not wants_block(label):
                continue
            families = _families(tree, base)
            content, found = _zone(tree, label, zone, sizes[base_name], {**facts[base_name], **_rotation(tree, zone)}, families, step)
            if content is not None:
                contents.append((label, content))
            sheets += found
            token.report((number + 1) / len(zones))
    solids = [c for _, c in contents if isinstance(c, Solid)]
    flat = [(name, c) for name, c in contents if isinstance(c, Sheet)]
    return assemble_content(path, solids, sheets if solids else flat, [], anyway, (times, step))


def _dimensions(tree: Tree, base: Any) -> tuple[int, int]:
    found = tree.integers(base)
    if len(found) != 2 or not 1 <= found[0] <= found[1] <= 3:
        raise tree.fail("The dimensions of its base make no sense.", base)
    return found[0], found[1]


def _times(tree: Tree, base: Any) -> tuple[float, ...]:
    steps = tree.first(base, "BaseIterativeData_t")
    if steps is not None:
        for name, node in tree.children(steps, "DataArray_t"):
            if name == "TimeValues":
                values = tree.numbers(node).ravel().astype(float)
                if not np.isfinite(values).all():
                    raise FileError("Its times are not finite.", str(tree.path), DAMAGED)
                return tuple(float(v) for v in values)
    return ()


def _facts(tree: Tree, base: Any) -> dict[str, Any]:
    facts: dict[str, Any] = {}
    for _, state in tree.children(base, "ReferenceState_t"):
        facts.update(_stated(tree, state))
    for _, node in tree.children(base, "Axisymmetry_t"):
        found = {name: tuple(float(v) for v in tree.numbers(part).ravel()[:3]) for name, part in tree.children(node, "DataArray_t")}
        facts["Axisymmetry"] = (*found.get("AxisymmetryReferencePoint", (0.0, 0.0)), *found.get("AxisymmetryAxisVector", ()))
    facts |= _rotation(tree, base)
    for _, equations in tree.children(base, "FlowEquationSet_t"):
        for _, gas in tree.children(equations, "GasModel_t"):
            for name, node in tree.children(gas, "DataArray_t"):
                if name == "SpecificHeatRatio":
                    facts.setdefault("Gamma", (float(tree.numbers(node).ravel()[:1].astype(float).sum()),))
    if any(tree.word(node) == "Dimensional" for _, node in tree.children(base, "DataClass_t")) and _is_si(tree, base):
        facts["Units"] = "SI"
    return facts


def _rotation(tree: Tree, node: Any) -> dict[str, Any]:
    """Centre and rate vector [rad/s] of the rotating coordinates of a base or a zone."""
    for turning in tree.own(node, "RotatingCoordinates_t"):  # links, to other moments, are not followed for that
        found = {name: tuple(float(v) for v in tree.numbers(part).ravel()[:3]) for name, part in tree.children(turning, "DataArray_t")}
        return {"Rotation": (*found.get("RotationCenter", (0.0, 0.0, 0.0)), *found.get("RotationRateVector", ()))}
    return {}


def _stated(tree: Tree, state: Any) -> dict[str, Any]:
    """The facts of a reference state."""
    facts: dict[str, Any] = {}
    found = {name: tree.numbers(node).ravel()[:1].astype(float) for name, node in tree.children(state, "DataArray_t")}
    for ours, theirs in (("ReferencePressure", "Pressure"), ("ReferenceDensity", "Density"), ("Gamma", "SpecificHeatRatio"),
                         ("ReferenceLength", "LengthReference"), ("ReferenceArea", "AreaReference")):
        if theirs in found and len(found[theirs]):
            facts[ours] = (float(found[theirs][0]),)
    for ours, theirs in (("ReferenceVelocity", "Velocity"), ("MomentPoint", "MomentPoint")):
        # Of a plane flow no third component is written.
        parts = [found.get(f"{theirs}{a}", np.zeros(1) if a == "Z" and f"{theirs}X" in found else None) for a in "XYZ"]
        if all(v is not None and len(v) for v in parts):
            facts[ours] = tuple(float(v[0]) for v in parts if v is not None)
    return facts


def _is_si(tree: Tree, base: Any) -> bool:
    """Whether the units that the base names, if it names any, are those of the SI."""
    for _, node in tree.children(base, "DimensionalUnits_t"):
        words = bytes(tree.numbers(node).ravel()[:320].astype(np.int8)).decode("ascii", "replace")
        named = [words[n:n + 32].strip("\0 ") for n in range(0, len(words), 32)]
        return all(unit in named for unit in _SI)
    return True


_Families = dict[str, tuple[str, str]]


def _families(tree: Tree, base: Any) -> _Families:
    """Boundary condition of each family, empty where it has none, and the name of the greater family that it belongs to, or its own."""
    found: _Families = {}
    for name, family in tree.children(base, "Family_t"):
        condition = tree.first(family, "FamilyBC_t")
        word = tree.word(condition) if condition is not None and tree.has_data(condition) else ""
        found[name] = word, next((tree.word(n) for _, n in tree.children(family, "FamilyName_t")), "") or name
    return found


def _zone(tree: Tree, name: str, zone: Any, dimensions: tuple[int, int], facts: dict[str, Any], families: _Families,
          step: int) -> tuple[_Content | None, _Sheets]:
    kind = tree.word(tree.only(zone, "ZoneType_t", "zone type"))
    if kind == "Structured":
        return _structured(tree, name, zone, dimensions, facts, families, step)
    if kind == "Unstructured":
        return _unstructured(tree, name, zone, facts, families, step)
    raise FileError(f"Its zone is of type {kind!r}.", f"{tree.path.name}, {name}", DAMAGED)


# -- structured ------------------------------------------------------------------------------------------------


def _structured(tree: Tree, name: str, zone: Any, dimensions: tuple[int, int], facts: dict[str, Any], families: _Families,
                step: int) -> tuple[_Content | None, _Sheets]:
    where = f"{tree.path.name}, {name}"
    size, cells = tree.integers(zone), dimensions[0]
    if len(size) != 3 * cells or min(size[:cells]) < 2 or size[cells:2 * cells] != [s - 1 for s in size[:cells]]:
        raise FileError(f"Its size makes no sense: {size}.", where, DAMAGED)
    dims = (size[0], size[1], size[2] if cells == 3 else 1)
    _note(tree, zone)
    claim(24 * dims[0] * dims[1] * dims[2], where, structured=True)
    points = _coordinates(tree, zone, where, dims)
    fields: list[Field] = []
    for solution, place in _solutions(tree, zone, step):
        shape = dims if place == "node" else (dims[0] - 1, dims[1] - 1, max(dims[2] - 1, 1))
        for quantity, node in tree.children(solution, "DataArray_t"):
            if not wants_quantity(quantity):
                continue
            claim(8 * int(np.prod(shape)), where, structured=True)
            values = _core(tree, node, solution, shape, f"{where}, {quantity}")
            found = kept_field(quantity, place, values, len(values), where)
            if found is not None:
                fields.append(found)
    own = np.ones(int(np.prod([max(d - 1, 1) for d in dims])), dtype=bool)
    content = structured(points, dims, "curvilinear", fields, own, facts, where)
    system = cgns_axes.system_of(tree, zone)
    patches = list(_patches(tree, zone, points, dims, families, where))
    if isinstance(content, Solid):
        named = Solid(name, content.grid, content.points, content.fields, content.facts)
        return cgns_axes.cartesian(named, system), [(label, sheet) for label, sheet, _ in patches if isinstance(sheet, Sheet)]
    if content is not None:
        curves = [(label, kind, edges) for label, edges, kind in patches if not isinstance(edges, Sheet)]
        content = cgns_axes.cartesian(replace(content, curves=curves), system)
    return content, []


def _coordinates(tree: Tree, zone: Any, where: str, dims: tuple[int, int, int] | int) -> NDArray[np.float64]:
    grid = tree.only(zone, "GridCoordinates_t", "grid")
    axes = dict(tree.children(grid, "DataArray_t"))
    system = cgns_axes.system_of(tree, zone)
    columns: list[NDArray[Any]] = []
    for axis in system.axes:
        node = axes.get(f"Coordinate{axis}")
        if node is None:
            if axis != system.axes[2] or not columns:
                raise FileError(f"There is no Coordinate{axis}.", where,
                                "Cartesian (X, Y, Z), cylindrical (R, Theta, Z) and spherical (R, Theta, Phi) coordinates are opened.")
            columns.append(np.zeros_like(columns[0]))
        elif isinstance(dims, int):
            columns.append(_listed(tree, node, dims, f"{where}, Coordinate{axis}"))
        else:
            columns.append(_core(tree, node, grid, dims, where))
    return system.points(finite_points(np.column_stack(columns), where))


def _listed(tree: Tree, node: Any, count: int, where: str) -> NDArray[Any]:
    """An array of an unstructured zone; values beyond the zone's own are rind."""
    values = tree.numbers(node).ravel()
    if values.dtype.kind not in "iuf" or len(values) < count:
        raise FileError(f"An array has {len(values):,} numbers where {count:,} belong.", where, DAMAGED)
    return values[:count]


def _note(tree: Tree, zone: Any) -> None:
    """Names of the arrays of its solutions that stand in this file: links to other moments are not followed for that."""
    for solution in tree.own(zone, "FlowSolution_t"):
        note_quantities(name.rsplit("/", 1)[-1] for name in (array.name for array in tree.own(solution, "DataArray_t")))


def _solutions(tree: Tree, zone: Any, step: int) -> Iterator[tuple[Any, str]]:
    """Solutions of a step, those at nodes first, and where their values stand."""
    pointers = _pointers(tree, zone)
    found: list[Any] = []
    if not pointers:
        found = [node for _, node in tree.children(zone, "FlowSolution_t")]
    else:
        tree.elsewhere = set(pointers)
        wanted = pointers[step] if step < len(pointers) else ""
        named = tree.named(zone, wanted)
        if named is None:
            raise FileError(f"The solution {wanted!r} of step {step + 1} is missing.", f"{tree.path.name}, {zone.name}", DAMAGED)
        found = [named]
    places = [next((tree.word(n) for _, n in tree.children(s, "GridLocation_t")), "Vertex") for s in found]
    for location, place in (("Vertex", "node"), ("CellCenter", "cell")):
        yield from ((s, place) for s, own in zip(found, places, strict=True) if own == location)


def _pointers(tree: Tree, zone: Any) -> list[str] | None:
    data = tree.first(zone, "ZoneIterativeData_t")
    if data is not None:
        for name, node in tree.children(data, "DataArray_t"):
            if name == "FlowSolutionPointers":
                rows = tree.numbers(node)
                if rows.ndim != 2 or rows.shape[1] != 32 or len(rows) > 100_000:
                    raise FileError("Its list of solutions makes no sense.", str(tree.path), DAMAGED)
                return [bytes(row.astype(np.int8)).split(b"\0")[0].decode("ascii", "replace").strip() for row in rows]
    return None


def _core(tree: Tree, node: Any, holder: Any, dims: tuple[int, int, int], where: str) -> NDArray[Any]:
    """An array of a structured zone without its rind layers, i fastest; of a plane zone the last of dims is 1."""
    values = tree.numbers(node)
    flat = values.ndim == 2
    axes = 2 if flat else 3
    rind = next((tree.integers(n) for _, n in tree.children(holder, "Rind_t")), [0] * 2 * axes)
    if len(rind) != 2 * axes or min(rind) < 0 or (flat and dims[2] != 1):
        raise FileError("Its rind makes no sense.", where, DAMAGED)
    full = tuple(d + rind[2 * a] + rind[2 * a + 1] for a, d in enumerate(dims[:axes]))
    if values.shape != full[::-1] or values.dtype.kind not in "iuf":
        raise FileError(f"An array has {values.shape[::-1]} numbers where {full} belong.", where, DAMAGED)
    part = tuple(slice(rind[2 * a], rind[2 * a] + dims[a]) for a in range(axes)[::-1])
    return np.ascontiguousarray(values[part]).ravel()


def _conditions(tree: Tree, zone: Any, families: _Families) -> Iterator[tuple[str, str, BoundaryKind | None, Any]]:
    """Boundary conditions of a zone: name, name of the family or its own, kind if it is told, node."""
    for _, holder in tree.children(zone, "ZoneBC_t"):
        for name, condition in tree.children(holder, "BC_t"):
            family = next((tree.word(n) for _, n in tree.children(condition, "FamilyName_t")), "")
            word = tree.word(condition) if tree.has_data(condition) else ""
            by_family, greater = families.get(family, ("", family))
            word = by_family or word if word in ("FamilySpecified", "") else word
            yield name, greater or name, next((k for start, k in _KINDS if word.startswith(start)), None), condition


def _patches(tree: Tree, zone: Any, points: NDArray[np.float64], dims: tuple[int, int, int], families: _Families,
             where: str) -> Iterator[tuple[str, Sheet | NDArray[np.int64], BoundaryKind | None]]:
    """Boundaries of a structured zone: surfaces, or, of a plane one, edges (k, 2) between its points."""
    lattice = np.arange(len(points), dtype=np.int64).reshape(dims[::-1])
    for name, label, kind, condition in _conditions(tree, zone, families):
        location = next((tree.word(n) for _, n in tree.children(condition, "GridLocation_t")), "Vertex")
        for _, node in tree.children(condition, "IndexRange_t"):
            span = _span(tree.integers(node), dims, location)
            if span is None:
                raise FileError("The range of a boundary makes no sense.", f"{where}, {name}", DAMAGED)
            part = lattice[tuple(slice(a, b) for a, b in span[::-1])].squeeze()
            if part.ndim == 2:
                yield label, Sheet(points[part.ravel()], quads_of_sheet(np.arange(part.size).reshape(part.shape)), kind=kind), kind
            elif part.ndim == 1 and dims[2] == 1 and len(part) > 1:
                yield label, np.column_stack([part[:-1], part[1:]]), kind


def _span(ends: list[int], dims: tuple[int, int, int], location: str) -> list[tuple[int, int]] | None:
    """Half-open ranges of nodes along i, j, k that a range of nodes, faces or cells covers; None where it makes no sense."""
    axes = 3 if len(ends) == 6 else 2
    if len(ends) != 2 * axes or (axes == 2 and dims[2] != 1):
        return None
    low = [min(ends[a], ends[a + axes]) for a in range(axes)]
    high = [max(ends[a], ends[a + axes]) for a in range(axes)]
    if location.endswith("Center"):
        normal = "IJK".find(location[0]) if location[1:] in ("FaceCenter", "EdgeCenter") else -1
        if normal < 0:  # the direction in which it is one deep, at an end of the block if there are several
            thin = [a for a in range(axes) if low[a] == high[a]]
            normal = next((a for a in thin if low[a] in (1, dims[a], dims[a] - 1)), thin[0] if thin else -1)
        if not 0 <= normal < axes:
            return None
        if location == "CellCenter" and low[normal] == dims[normal] - 1 > 1:
            low[normal] = high[normal] = dims[normal]
        high = [h if a == normal else h + 1 for a, h in enumerate(high)]
    if any(not 1 <= low[a] <= high[a] <= dims[a] for a in range(axes)):
        return None
    return [(low[a] - 1, high[a]) if a < axes else (0, 1) for a in range(3)]


# -- unstructured ----------------------------------------------------------------------------------------------


def _unstructured(tree: Tree, name: str, zone: Any, facts: dict[str, Any], families: _Families,
                  step: int) -> tuple[_Content | None, _Sheets]:
    where = f"{tree.path.name}, {name}"
    size = tree.integers(zone)
    if len(size) != 3 or min(size) < 0:
        raise FileError(f"Its size makes no sense: {size}.", where, DAMAGED)
    _note(tree, zone)
    claim(24 * size[0] + 33 * size[1], where)
    points = _coordinates(tree, zone, where, size[0])
    sections = cgns_elements.read_sections(tree, zone, size[0], where)
    cells, numbers = cgns_elements.cells_of(sections)
    # Values at cells stand in the order of the elements of the highest dimension.
    volume = cgns_elements.is_volume(cells.types)
    chosen = volume if volume.any() else cgns_elements.is_face(cells.types)
    rank = np.full(len(cells.types), -1, np.int64)
    rank[chosen] = np.argsort(np.argsort(numbers[chosen], kind="stable"), kind="stable")
    fields: list[Field] = []
    for solution, place in _solutions(tree, zone, step):
        count = size[0] if place == "node" else int(chosen.sum())
        for quantity, node in tree.children(solution, "DataArray_t"):
            if not wants_quantity(quantity):
                continue
            claim(8 * count, where)
            values = _listed(tree, node, count, f"{where}, {quantity}")
            if place == "cell":
                spread = np.full(len(cells.types), np.nan)
                spread[chosen] = values[rank[chosen]]
                values = spread
            found = kept_field(quantity, place, values, len(values), where)
            if found is not None:
                fields.append(found)
    content = block_of_cells(points, cells, fields, facts, where, chosen)
    system = cgns_axes.system_of(tree, zone)
    if isinstance(content, Sheet):
        curves = cgns_elements.Curves(sections, content.faces)
        return cgns_axes.cartesian(replace(content, curves=list(_element_curves(tree, zone, curves, families))), system), []
    if content is None:
        return None, []
    turned = cgns_axes.cartesian(content, system)
    named = Solid(name, turned.grid, turned.points, turned.fields, turned.facts, turned.notices)
    faces = cgns_elements.Surfaces(sections, cells, numbers, points, content)
    return named, list(_element_patches(tree, zone, faces, families))


def _element_curves(tree: Tree, zone: Any, curves: cgns_elements.Curves,
                    families: _Families) -> Iterator[tuple[str, BoundaryKind | None, NDArray[np.int64]]]:
    """Boundaries of a plane zone: name, kind if it is told, edges (k, 2)."""
    for label, kind, numbers, by_element in _chosen(tree, zone, families):
        edges = curves.of_elements(numbers) if by_element else curves.of_nodes(numbers)
        if len(edges):
            yield label, kind, edges
    yield from ((name, None, edges) for name, edges in curves.unnamed())


def _element_patches(tree: Tree, zone: Any, faces: cgns_elements.Surfaces, families: _Families) -> Iterator[tuple[str, Sheet]]:
    used: set[int] = set()
    for label, kind, numbers, by_element in _chosen(tree, zone, families):
        sheet = faces.of_elements(numbers, kind, used) if by_element else faces.of_nodes(numbers, kind)
        if sheet is not None:
            yield label, sheet
    yield from faces.unnamed(used)


def _chosen(tree: Tree, zone: Any, families: _Families) -> Iterator[tuple[str, BoundaryKind | None, NDArray[np.int64], bool]]:
    """Boundary conditions of an unstructured zone: name, kind, numbers of elements or of nodes, and whether of elements."""
    for _, label, kind, condition in _conditions(tree, zone, families):
        location = next((tree.word(n) for _, n in tree.children(condition, "GridLocation_t")), "")
        chosen: list[NDArray[np.int64]] = []
        by_element = location in ("FaceCenter", "CellCenter", "EdgeCenter")
        for what in ("IndexRange_t", "IndexArray_t"):
            for list_name, node in tree.children(condition, what):
                if list_name not in ("PointRange", "PointList", "ElementRange", "ElementList"):
                    continue
                values = tree.numbers(node).ravel()
                if values.dtype.kind not in "iu" or (what == "IndexRange_t" and len(values) != 2):
                    raise tree.fail("The extent of a boundary makes no sense.", node)
                by_element |= list_name.startswith("Element")
                chosen.append(np.asarray(values, np.int64) if what == "IndexArray_t"
                              else cgns_elements.span(int(values[0]), int(values[1])))
        if chosen:
            yield label, kind, np.concatenate(chosen), by_element
