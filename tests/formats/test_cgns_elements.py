"""Unstructured CGNS as the standard has it: mixed sections, polyhedra by faces, conditions by elements or nodes, planes, bases."""

import h5py
import numpy as np
import pytest

from cell_checks import check_whole, honeycomb, linear, stream, volumes
from making import cube_points, hexahedra
from tidal_lens.errors import FileError
from tidal_lens.flow.grid import HEXAHEDRON, TETRA, WEDGE, StructuredGrid
from tidal_lens.formats.registry import open_flow

AREA = 1.5 * np.sqrt(3.0)


def node(parent, name, label, data=None):
    group = parent.create_group(name, track_order=True)
    values = np.frombuffer(data.encode(), np.int8) if isinstance(data, str) else data
    kind = {"int8": "C1", "int32": "I4", "int64": "I8", "float32": "R4", "float64": "R8"}[values.dtype.name] if values is not None else "MT"
    for key, text, size in (("name", name, 33), ("label", label, 33), ("type", kind, 3)):
        group.attrs.create(key, np.bytes_(text.ljust(size, "\0")), dtype=f"S{size}")
    if values is not None:
        group[" data"] = values
    return group


def base_of(file, name="Base", cells=3, space=3):
    if "CGNSLibraryVersion" not in file:
        node(file, "CGNSLibraryVersion", "CGNSLibraryVersion_t", np.array([4.2], np.float32))
    return node(file, name, "CGNSBase_t", np.array([cells, space], np.int32))


def zone_of(base, points, count, name="Zone"):
    zone = node(base, name, "Zone_t", np.array([[len(points)], [count], [0]], np.int64))
    node(zone, "ZoneType", "ZoneType_t", "Unstructured")
    grid = node(zone, "GridCoordinates", "GridCoordinates_t")
    for axis, values in zip("XYZ", points.T, strict=False):
        node(grid, f"Coordinate{axis}", "DataArray_t", np.ascontiguousarray(values))
    return zone


def elements(zone, name, kind, first, count, connectivity, offsets=None, parents=None):
    section = node(zone, name, "Elements_t", np.array([kind, 0], np.int32))
    node(section, "ElementRange", "IndexRange_t", np.array([first, first + count - 1], np.int64))
    node(section, "ElementConnectivity", "DataArray_t", np.asarray(connectivity, np.int64))
    if offsets is not None:
        node(section, "ElementStartOffset", "DataArray_t", np.asarray(offsets, np.int64))
    if parents is not None:
        node(section, "ParentElements", "DataArray_t", np.asarray(parents, np.int64))
    return section


def solution(zone, points, cells=None):
    flow = node(zone, "Flow", "FlowSolution_t")
    node(flow, "GridLocation", "GridLocation_t", "Vertex")
    for name, values in zip(("VelocityX", "VelocityY", "VelocityZ", "p"), (*stream(points).T, linear(points)), strict=True):
        node(flow, name, "DataArray_t", np.ascontiguousarray(values))
    if cells is not None:
        own = node(zone, "CellValues", "FlowSolution_t")
        node(own, "GridLocation", "GridLocation_t", "CellCenter")
        node(own, "number", "DataArray_t", np.asarray(cells, float))


def condition(zone, name, kind, span=None, listed=None, place="FaceCenter"):
    holder = zone["ZoneBC"] if "ZoneBC" in zone else node(zone, "ZoneBC", "ZoneBC_t")
    one = node(holder, name, "BC_t", kind)
    if span is not None:
        node(one, "PointRange", "IndexRange_t", np.array([[span[0]], [span[1]]], np.int64))
    if listed is not None:
        node(one, "PointList", "IndexArray_t", np.asarray(listed, np.int64)[:, None])
    node(one, "GridLocation", "GridLocation_t", place)
    return one


def faces_of(cells):
    """Polygons of a mesh, each once, and for each cell the signed numbers (from 1) of its faces."""
    found, polygons, own = {}, [], []
    for cell in cells:
        mine = []
        for face in cell:
            key = tuple(sorted(int(n) for n in face))
            if key in found:
                mine.append(-found[key])
            else:
                polygons.append([int(n) + 1 for n in face])
                found[key] = len(polygons)
                mine.append(len(polygons))
        own.append(mine)
    return polygons, own


def listed(rows, with_lengths):
    flat = [n for row in rows for n in ([len(row), *row] if with_lengths else row)]
    return flat, None if with_lengths else np.concatenate([[0], np.cumsum([len(r) for r in rows])])


@pytest.mark.parametrize("old", [False, True])
@pytest.mark.parametrize("by_parents", [False, True])
def test_polyhedra_by_their_faces(tmp_path, old, by_parents):
    """A honeycomb as NGON_n with NFACE_n sections, or with the parents of its faces; older files put lengths before each."""
    points, cells = honeycomb(3, 2)
    polygons, own = faces_of(cells)
    with h5py.File(tmp_path / "a.cgns", "w", track_order=True) as file:
        zone = zone_of(base_of(file), points, len(cells))
        parents = np.zeros((2, len(polygons)), np.int64)
        for cell, mine in enumerate(own):
            for face in mine:
                parents[0 if face > 0 else 1, abs(face) - 1] = len(polygons) + cell + 1
        elements(zone, "Faces", 22, 1, len(polygons), *listed(polygons, old), parents=parents if by_parents else None)
        if not by_parents:
            elements(zone, "Cells", 23, len(polygons) + 1, len(cells), *listed(own, old))
        solution(zone, points, np.arange(len(cells)))
        # The floor by the numbers of its faces.
        floor = [n + 1 for n, p in enumerate(polygons) if all(points[i - 1, 2] == 0.0 for i in p)]
        condition(zone, "the floor", "BCWall", listed=floor)
    flow = open_flow(tmp_path / "a.cgns")
    # 9 hexagons; (6·9 − sides outside)/2 inner sides: 22 of length 1 are outside.
    sides = sum(1 for p in polygons if len(p) == 4) - sum(1 for mine in own for f in mine if f < 0 and len(polygons[-f - 1]) == 4)
    check_whole(flow, 9 * 2 * AREA, 2 * 9 * AREA + sides)
    assert (np.bincount(flow.fields["number"].values.astype(int)) == 6 + 2 * 4).all()
    floor_found = flow.boundaries[0]
    assert (floor_found.name, floor_found.kind) == ("the floor", "wall")
    np.testing.assert_allclose(floor_found.points[:, 2], 0.0)


@pytest.mark.parametrize("offsets", [False, True])
def test_mixed_sections_with_surfaces_by_range(tmp_path, offsets):
    points = cube_points(3)
    cells, h = [], hexahedra(3)
    cells += [(17, own) for own in h[:4]]
    for own in h[4:6]:
        cells += [(14, own[[0, 1, 2, 4, 5, 6]]), (14, own[[0, 2, 3, 4, 6, 7]])]
    for own in h[6:]:
        cells += [(10, own[list(w)]) for w in ((0, 1, 2, 6), (0, 2, 3, 6), (0, 3, 7, 6), (0, 7, 4, 6), (0, 4, 5, 6), (0, 5, 1, 6))]
    rows = [[kind, *(own + 1)] for kind, own in cells]
    floor = [[a + 1, a + 2, a + 5, a + 4] for a in (0, 1, 3, 4)]
    with h5py.File(tmp_path / "a.cgns", "w", track_order=True) as file:
        base = base_of(file)
        zone = zone_of(base, points, len(cells))
        # Surface elements come first: cells are numbered after them.
        elements(zone, "Floor", 7, 1, 4, np.ravel(floor))
        flat = [n for row in rows for n in row]
        elements(zone, "Volume", 20, 5, len(rows), flat, np.concatenate([[0], np.cumsum([len(r) for r in rows])]) if offsets else None)
        solution(zone, points, np.arange(len(cells)))
        one = condition(zone, "bc1", "FamilySpecified", span=(1, 4))
        node(one, "FamilyName", "FamilyName_t", "ground")
        node(node(base, "ground", "Family_t"), "FamBC", "FamilyBC_t", "BCWallViscous")
    flow = open_flow(tmp_path / "a.cgns")
    grid = flow.blocks[0].grid
    assert sorted(np.unique(grid.types)) == [TETRA, HEXAHEDRON, WEDGE]
    assert volumes(flow.points, grid).sum() == pytest.approx(1.0)
    # Values stay with their cells: the first of the file is the cube at the origin.
    first = int(np.flatnonzero(flow.fields["number"].values == 0.0)[0])
    np.testing.assert_allclose(flow.points[grid.corners[first]].mean(axis=0), 0.25)
    assert (flow.boundaries[0].name, flow.boundaries[0].kind, len(flow.boundaries[0].faces)) == ("ground", "wall", 4)


@pytest.mark.parametrize("with_faces", [False, True])
def test_a_condition_by_nodes(tmp_path, with_faces):
    points, h = cube_points(3), hexahedra(3)
    with h5py.File(tmp_path / "a.cgns", "w", track_order=True) as file:
        zone = zone_of(base_of(file), points, 8)
        elements(zone, "Volume", 17, 1, 8, (h + 1).ravel())
        if with_faces:
            elements(zone, "Skin", 7, 9, 4, np.ravel([[a + 1, a + 2, a + 5, a + 4] for a in (0, 1, 3, 4)]))
        solution(zone, points)
        condition(zone, "floor", "BCSymmetryPlane", listed=np.arange(1, 10), place="Vertex")
    floor = open_flow(tmp_path / "a.cgns").boundaries[0]
    assert (floor.name, floor.kind, len(floor.faces)) == ("floor", "symmetry", 4)
    assert (floor.points[:, 2] == 0.0).all()


def test_plane_zones_and_two_bases(tmp_path):
    points, h = cube_points(3), hexahedra(3)
    with h5py.File(tmp_path / "a.cgns", "w", track_order=True) as file:
        surface = base_of(file, "Surface", 2, 3)
        zone = zone_of(surface, points[:9], 4)
        elements(zone, "Q", 7, 1, 4, np.ravel([[a + 1, a + 2, a + 5, a + 4] for a in (0, 1, 3, 4)]))
        for n, name in enumerate(("One", "Two")):
            moved = points + np.array([float(n), 0.0, 0.0])
            zone = zone_of(base_of(file, name), moved, 8)
            elements(zone, "Volume", 17, 1, 8, (h + 1).ravel())
            solution(zone, moved)
    flow = open_flow(tmp_path / "a.cgns")
    assert [b.name for b in flow.blocks] == ["One Zone", "Two Zone"]
    assert flow.n_cells == 16
    with h5py.File(tmp_path / "plane.cgns", "w", track_order=True) as file:
        base = base_of(file, "Base", 2, 2)
        zone = node(base, "Zone", "Zone_t", np.array([[4, 3], [3, 2], [0, 0]], np.int64))
        node(zone, "ZoneType", "ZoneType_t", "Structured")
        y, x = np.meshgrid(np.linspace(0, 1, 3), np.linspace(0, 2, 4), indexing="ij")
        grid, flow = node(zone, "GridCoordinates", "GridCoordinates_t"), node(zone, "Flow", "FlowSolution_t")
        node(grid, "CoordinateX", "DataArray_t", x)
        node(grid, "CoordinateY", "DataArray_t", y)
        node(flow, "VelocityX", "DataArray_t", y * (1 - y))
        node(flow, "VelocityY", "DataArray_t", 0 * y)
    flow = open_flow(tmp_path / "plane.cgns")
    assert flow.normal == (0.0, 0.0, 1.0)
    assert flow.blocks[0].grid == StructuredGrid((4, 3, 2))
    assert flow.roles.velocity == ("VelocityX", "VelocityY", "VelocityZ")
    assert flow.turned is None
    with h5py.File(tmp_path / "plane.cgns", "a", track_order=True) as file:
        stated = node(file["Base"], "Axisymmetry", "Axisymmetry_t")
        node(stated, "AxisymmetryReferencePoint", "DataArray_t", np.array([0.0, 0.0]))
        node(stated, "AxisymmetryAxisVector", "DataArray_t", np.array([2.0, 0.0]))
    flow = open_flow(tmp_path / "plane.cgns")
    assert flow.turned is not None, "as the file states"
    assert flow.turned.axis == (1.0, 0.0, 0.0)


@pytest.mark.parametrize(("code", "kind", "size"), [(18, 25, 20), (19, 29, 27), (15, 26, 15), (16, 32, 18), (21, 27, 13), (11, 24, 10)])
def test_quadratic_elements_in_the_standard_s_order(tmp_path, code, kind, size):
    """Nodes are placed as SIDS numbers them, edge by edge and face by face; the parts must fill the cell."""
    corners = {25: np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0, 0, 1), (1, 0, 1), (1, 1, 1), (0, 1, 1)], float),
               26: np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1), (1, 0, 1), (0, 1, 1)], float),
               27: np.array([(-1, -1, 0), (1, -1, 0), (1, 1, 0), (-1, 1, 0), (0, 0, 1)], float),
               24: np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], float)}
    # SIDS, figures of the unstructured elements: pairs and faces by corner numbers from 1.
    edges = {25: "12 23 34 41 15 26 37 48 56 67 78 85", 26: "12 23 31 14 25 36 45 56 64", 27: "12 23 34 41 15 25 35 45",
             24: "12 23 31 14 24 34"}
    sides = {29: "1432 1265 2376 3487 1584 5678", 32: "1254 2365 3146"}
    like = {29: 25, 32: 26}.get(kind, kind)
    c = corners[like]
    places = [*c, *(c[[int(e[0]) - 1, int(e[1]) - 1]].mean(axis=0) for e in edges[like].split()),
              *(c[[int(n) - 1 for n in s]].mean(axis=0) for s in sides.get(kind, "").split()), *([c.mean(axis=0)] if kind == 29 else [])]
    points = np.array(places)
    assert len(points) == size
    with h5py.File(tmp_path / "a.cgns", "w", track_order=True) as file:
        zone = zone_of(base_of(file), points, 1)
        elements(zone, "Volume", code, 1, 1, np.arange(1, size + 1))
        solution(zone, points, [5.0])
    flow = open_flow(tmp_path / "a.cgns")
    parts = volumes(flow.points, flow.blocks[0].grid)
    assert parts.min() > 0.0
    assert parts.sum() == pytest.approx({25: 1.0, 26: 0.5, 27: 4 / 3, 24: 1 / 6}[like])
    np.testing.assert_allclose(flow.fields["p"].values, linear(flow.points), atol=1e-12)
    assert (flow.fields["number"].values == 5.0).all()


def test_sections_that_make_no_sense(tmp_path):
    points, h = cube_points(2), hexahedra(2)

    def refused(match, *section, **more):
        with h5py.File(tmp_path / "a.cgns", "w", track_order=True) as file:
            zone = zone_of(base_of(file), points, 1)
            elements(zone, *section, **more)
            solution(zone, points)
        with pytest.raises(FileError, match=match):
            open_flow(tmp_path / "a.cgns")

    refused("refer to point 99", "V", 17, 1, 1, [1, 2, 3, 4, 5, 6, 7, 99])
    refused("nodes are listed where", "V", 17, 1, 2, (h + 1).ravel())
    refused("mixed elements makes no sense", "V", 20, 1, 1, [17, 1, 2, 3])
    refused("mixed elements makes no sense", "V", 20, 1, 1, [99, 1, 2, 3])
    refused("offsets", "V", 22, 1, 2, [1, 2, 3, 4, 5, 6], offsets=[0, 3, 9])
    refused("type 99", "V", 99, 1, 1, [1])
