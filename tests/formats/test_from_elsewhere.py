"""What results of other writers showed: each as a small file or flow that the test makes itself."""

from pathlib import Path

import h5py
import numpy as np
import pytest
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkMultiBlockDataSet, vtkRectilinearGrid
from vtkmodules.vtkIOHDF import vtkHDFWriter
from vtkmodules.vtkIOXML import vtkXMLImageDataWriter

from cgns_nodes import node
from making import cells_of, cube_points, hexahedra
from tidal_lens.errors import FileError
from tidal_lens.flow.case import Field
from tidal_lens.flow.grid import HEXAHEDRON, StructuredGrid, UnstructuredGrid
from tidal_lens.formats.assemble import assemble_content
from tidal_lens.formats.beside import results_of
from tidal_lens.formats.cgns_axes import System
from tidal_lens.formats.content import Sheet, Solid, at_nodes
from tidal_lens.formats.reading import Reading
from tidal_lens.formats.registry import open_flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.beginnings import first_study
from tidal_lens.study.kinds.first_values import best_quantity
from vtk_data import add, structured, write

HERE = Path("made.vtu")


def cube(n=9, velocity=None, place="node", kind="hexahedra", **more):
    points = cube_points(n)
    corners, types = cells_of(kind, n)
    at = points if place == "node" else points[corners].mean(axis=1)
    fields = [Field(name, place, f(at)) for name, f in ({"Velocity": velocity} if velocity else {} | more).items()]
    fields += [Field(name, place, f(at)) for name, f in more.items() if velocity]
    return Solid("cube", UnstructuredGrid(len(points), corners.astype(np.int32), types), points, fields, {})


def wind(p):
    return np.tile([68.0, 0.0, 0.0], (len(p), 1))


# -- the free stream -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("place", ["node", "cell"])
@pytest.mark.parametrize("conserved", [False, True])
def test_the_free_stream_is_read_through_what_roles_are_made_of(place, conserved):
    if conserved:
        made = cube(velocity=None, place=place, Density=lambda p: 1.2 + 0 * p[:, 0], Momentum=lambda p: 1.2 * wind(p),
                    Energy=lambda p: 1e5 / 0.4 + 0.6 * 68.0**2 + 0 * p[:, 0])
    else:
        made = cube(velocity=wind, place=place, Density=lambda p: 1.2 + 0 * p[:, 0], Pressure=lambda p: 1e5 + 0 * p[:, 0])
    flow = assemble_content(HERE, [made], [], [], False)
    state = flow.reference
    np.testing.assert_allclose(state.velocity, [68.0, 0.0, 0.0], atol=1e-9)
    assert (state.density, state.pressure) == pytest.approx((1.2, 1e5))
    assert "guessed" in state.origin
    assert any("γ = 1.4" in text for text in flow.notices) == conserved
    if conserved:
        store = QuantityStore(flow, state)
        np.testing.assert_allclose(store.values("pressure"), 1e5)
        np.testing.assert_allclose(store.values("mach"), 68.0 / np.sqrt(1.4 * 1e5 / 1.2))


# -- boundaries ------------------------------------------------------------------------------------------------------------


def test_polygons_match_by_their_nodes_however_they_were_cut():
    """A hexagon, cut as a fan from one corner by the file's surface and from another by the flow's cells."""
    from tidal_lens.flow.faces import of_polygons

    one = np.array([(0, 1, 2, 2), (0, 2, 3, 3), (0, 3, 4, 4), (0, 4, 5, 5)])
    other = np.array([(3, 4, 5, 5), (3, 5, 0, 0), (3, 0, 1, 1), (3, 1, 2, 2)])
    polygons = np.zeros(4, np.int64)
    assert of_polygons(other, one, polygons).all()
    assert not of_polygons(np.array([(3, 4, 6, 6), (7, 8, 9, 9)]), one, polygons).any()
    two = np.concatenate([one, one + 6])
    both = np.repeat([0, 1], 4)
    assert of_polygons(other + 6, two, both).all()
    assert not of_polygons(np.array([(0, 1, 6, 6)]), two, both).any(), "two polygons' nodes together are none"


def ball(place, through=0.0):
    """A cube with a block of cells left out in its middle; the flow goes round the hole, or partly through its sides."""
    n = 10
    points = cube_points(n)
    corners = hexahedra(n)
    middle = points[corners].mean(axis=1)
    corners = corners[np.abs(middle - 0.5).max(axis=1) > 0.12]
    at = points if place == "node" else points[corners].mean(axis=1)
    r = at - 0.5
    size = np.maximum(np.linalg.norm(r, axis=1), 0.05)[:, None]
    a = 0.2  # potential flow past a sphere of this radius, about the size of the hole
    u = np.array([1.0, 0, 0]) * (1 + 0.5 * (a / size)**3) - 1.5 * (a / size) ** 3 * (r[:, :1] / size) * r / size
    if through:
        u = np.tile([1.0, 0, 0], (len(at), 1))
    return Solid("b", UnstructuredGrid(len(points), corners.astype(np.int32), np.full(len(corners), HEXAHEDRON, np.uint8)), points,
                 [Field("Velocity", place, u)], {})


def test_a_body_inside_the_flow_is_a_wall_unless_the_flow_goes_through_it():
    flow = assemble_content(HERE, [ball("cell")], [], [], False)
    inner = [b for b in flow.boundaries if np.abs(b.points - 0.5).max() < 0.4]
    assert [b.kind for b in inner if "slip" in b.reason or "runs along" in b.reason]
    sides = [b for b in inner if np.ptp(b.points, axis=0)[0] > 0.1]
    assert sides
    assert {b.kind for b in sides} == {"wall"}, "the flow runs along four of its sides"
    flow = assemble_content(HERE, [ball("cell", through=1.0)], [], [], False)
    inner = {b.kind for b in flow.boundaries if np.abs(b.points - 0.5).max() < 0.4}
    assert {"inlet", "outlet"} <= inner, "here it comes out of one side and goes into another"
    assert "far field" not in inner


def test_a_closed_flow_at_cells_has_walls_all_round():
    """Its cells beside the walls move a little, and a little towards them."""
    points, corners = cube_points(24), hexahedra(24)
    x, y, _ = points[corners].mean(axis=1).T * np.pi
    u = np.column_stack([np.sin(x) ** 2 * np.sin(2 * y), -np.sin(2 * x) * np.sin(y) ** 2, np.zeros_like(x)])
    solid = Solid("b", UnstructuredGrid(len(points), corners.astype(np.int32), np.full(len(corners), HEXAHEDRON, np.uint8)), points,
                  [Field("Velocity", "cell", u)], {})
    flow = assemble_content(HERE, [solid], [], [], False)
    kinds = {int(np.ptp(b.points, axis=0).argmin()): b.kind for b in flow.boundaries}
    assert kinds == {0: "wall", 1: "wall", 2: "symmetry"}
    assert flow.reference.velocity == (0.0, 0.0, 0.0), "it runs every way"


def past_sphere(at, radius):
    """Potential flow past a sphere at the middle of the cube; Milne-Thomson, Theoretical Hydrodynamics, 16.30 (from memory)."""
    r = at - 0.5
    size = np.maximum(np.linalg.norm(r, axis=1), 1e-3)[:, None]
    return np.array([1.0, 0, 0]) * (1 + 0.5 * (radius / size) ** 3) - 1.5 * (radius / size) ** 3 * (r[:, :1] / size) * r / size


@pytest.mark.parametrize("place", ["node", "cell"])
@pytest.mark.parametrize("n", [13, 25])
def test_a_body_made_of_cubes_is_one_wall_unless_the_flow_goes_through_it(place, n):
    points, corners = cube_points(n), hexahedra(n)
    corners = corners[np.linalg.norm(points[corners].mean(axis=1) - 0.5, axis=1) > 0.22]

    def inner(velocity):
        at = points if place == "node" else points[corners].mean(axis=1)
        solid = Solid("b", UnstructuredGrid(len(points), corners.astype(np.int32), np.full(len(corners), HEXAHEDRON, np.uint8)), points,
                      [Field("Velocity", place, velocity(at))], {})
        flow = assemble_content(HERE, [solid], [], [], False)
        return [b for b in flow.boundaries if np.abs(b.points - 0.5).max() < 0.4]

    assert [b.kind for b in inner(lambda at: past_sphere(at, 0.22))] == ["wall"]
    assert "wall" not in {b.kind for b in inner(lambda at: np.tile([1.0, 0.2, 0.1], (len(at), 1)))}


def test_a_blunt_face_of_a_body_is_a_wall_though_the_flow_runs_towards_it():
    points, corners = cube_points(10), hexahedra(10)
    middle = points[corners].mean(axis=1)
    corners = corners[np.abs(middle - 0.5).max(axis=1) > 0.2]
    at = points[corners].mean(axis=1)
    towards = np.clip((np.abs(at[:, 0] - 0.5) - 0.2) / 0.3, 0, 1)  # comes to rest before the two blunt faces
    beside = np.abs(at[:, 1:] - 0.5).max(axis=1) > 0.2
    u = np.column_stack([np.where(beside, 1.0, towards), np.zeros(len(at)), np.zeros(len(at))])
    solid = Solid("b", UnstructuredGrid(len(points), corners.astype(np.int32), np.full(len(corners), HEXAHEDRON, np.uint8)), points,
                  [Field("Velocity", "cell", u)], {})
    flow = assemble_content(HERE, [solid], [], [], False)
    inner = [b for b in flow.boundaries if np.abs(b.points - 0.5).max() < 0.4]
    assert len(inner) == 6
    assert {b.kind for b in inner} == {"wall"}


def test_kinds_are_voted_over_a_whole_patch():
    """A wall on which a few corners move: the solver's inlet profile reaches on to it."""
    def profile(p):
        u = np.column_stack([4 * p[:, 2] * (1 - p[:, 2]), 0 * p[:, 0], 0 * p[:, 0]])
        u[(p[:, 0] < 0.05) & (p[:, 1] > 0.4)] = [0.5, 0, 0]
        return u

    flow = assemble_content(HERE, [cube(n=21, velocity=profile)], [], [], False)
    walls = [b for b in flow.boundaries if b.kind == "wall"]
    assert [len(b.faces) for b in walls] == [400, 400]
    assert len(flow.boundaries) == 6


# -- first pictures --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("speed", "best", "scale"), [(30.0, "speed", "even"), (200.0, "mach", "even"), (400.0, "mach", "mach")])
def test_slow_flow_is_first_seen_by_speed_and_its_mach_number_has_no_break(speed, best, scale):
    made = cube(velocity=lambda p: wind(p) / 68.0 * speed * (0.2 + p[:, 2:]), Density=lambda p: 1.2 + 0 * p[:, 0],
                Pressure=lambda p: 1e5 + 0 * p[:, 0])
    flow = assemble_content(HERE, [made], [], [], False)
    store = QuantityStore(flow, flow.reference)
    assert best_quantity(store).name == best
    store.distribution("mach")
    assert store.describe("mach").scale == scale
    assert first_study(flow, store).layers[-1].look.colour_by == best


def test_first_ranges_weigh_by_volume():
    """Half of the nodes stand in a layer of a thousandth of the volume, where the quantity is a hundred times as great."""
    points = cube_points(21)
    points[:, 2] = np.where(points[:, 2] < 0.5, points[:, 2] * 0.002, 0.001 + (points[:, 2] - 0.5) * 1.998)
    corners, types = cells_of("hexahedra", 21)
    values = np.where(points[:, 2] < 0.0009, 100.0, points[:, 0])
    made = Solid("m", UnstructuredGrid(len(points), corners.astype(np.int32), types), points, [Field("f", "node", values)], {})
    flow = assemble_content(HERE, [made], [], [], True)
    spread = QuantityStore(flow, flow.reference).distribution("file:f")
    assert spread.high == 100.0
    assert spread.usual[1] <= 1.01
    assert spread.usual[0] >= 0.0


def test_without_velocity_the_most_telling_array_comes_first():
    made = cube(material_id=lambda p: np.floor(3 * p[:, 0]), phi=lambda p: 0 * p[:, 0] + 3.0, level=lambda p: p[:, 1],
                theta=lambda p: np.sin(3 * p[:, 0]) * p[:, 2])
    flow = assemble_content(HERE, [made], [], [], True)
    assert best_quantity(QuantityStore(flow, flow.reference)).name == "file:theta"


# -- plane flows -----------------------------------------------------------------------------------------------------------


def layer(lid=1.0, lean=0.0, u3=None, n=13):
    """A driven cavity as one layer of hexahedra; ``lean`` tells the two planes apart."""
    y, x = (a.ravel() for a in np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 1, n), indexing="ij"))
    flat = np.column_stack([x, y, 0 * x])
    points = np.concatenate([flat, flat + np.array([0, 0, 0.1])])
    u = np.column_stack([np.where(y == 1, lid, 0.3 * np.sin(np.pi * x) * np.sin(2 * np.pi * y)), 0 * y, 0 * y])
    u[(x == 0) | (x == 1)] = 0
    u = np.concatenate([u, u * (1 + lean)])
    return Solid("cavity", StructuredGrid((n, n, 2)), points, [Field("U", "node", u)], {})


def test_one_layer_of_cells_is_a_plane_flow_and_its_moving_lid_a_wall():
    flow = assemble_content(HERE, [layer()], [], [], False)
    assert flow.normal == (0.0, 0.0, 1.0)
    assert flow.depth == pytest.approx(0.1)
    assert flow.layer_found
    lid = next(b for b in flow.boundaries if b.points[:, 1].min() == 1.0)
    assert lid.kind == "wall"
    assert "moves" in lid.reason
    assert sum(b.kind == "wall" for b in flow.boundaries) == 4
    study = first_study(flow, QuantityStore(flow, flow.reference))
    assert study.layers[-1].shape.axis == 2


def test_layers_whose_sides_differ_and_those_that_the_user_wants_in_space_stay_so(tmp_path):
    assert assemble_content(HERE, [layer(lean=0.2)], [], [], False).normal is None
    solid = layer()
    data = structured(solid.points, (13, 13, 2))
    add(data.GetPointData(), "U", solid.fields[0].values)
    from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

    write(vtkXMLStructuredGridWriter(), data, tmp_path / "cavity.vts")
    assert open_flow(tmp_path / "cavity.vts").normal is not None
    assert open_flow(tmp_path / "cavity.vts", reading=Reading(in_space=True)).normal is None


def cgns(path, cell, phys, size):
    file = h5py.File(path, "w")
    base = node(file, "Base", "CGNSBase_t", np.array([cell, phys], np.int32))
    zone = node(base, "zone", "Zone_t", np.array(size, np.int32))
    return file, base, zone


def ring(n=17, m=7):
    r, a = np.meshgrid(np.linspace(0.5, 3, m), np.linspace(0, -2 * np.pi, n), indexing="ij")  # i runs round
    return r * np.cos(a), r * np.sin(a), r, a


def past_a_cylinder(x, y):
    r2 = x * x + y * y
    return 1 - 0.25 * (x * x - y * y) / r2**2, -0.5 * x * y / r2**2


def test_curves_of_a_plane_structured_zone_are_boundaries(tmp_path):
    x, y, *_ = ring()
    file, _, zone = cgns(tmp_path / "o.cgns", 2, 2, [[17, 7], [16, 6], [0, 0]])
    with file:
        node(zone, "ZoneType", "ZoneType_t", "Structured")
        grid = node(zone, "GridCoordinates", "GridCoordinates_t")
        for name, values in (("CoordinateX", x), ("CoordinateY", y)):
            node(grid, name, "DataArray_t", values)
        sol = node(zone, "Sol", "FlowSolution_t")
        for name, values in zip(("VelocityX", "VelocityY"), past_a_cylinder(x, y), strict=True):
            node(sol, name, "DataArray_t", values)
        bc = node(zone, "ZoneBC", "ZoneBC_t")
        node(node(bc, "surface", "BC_t", "BCWallInviscid"), "PointRange", "IndexRange_t", np.array([[1, 1], [17, 1]], np.int32))
        rim = node(bc, "rim", "BC_t", "BCFarfield")
        node(rim, "GridLocation", "GridLocation_t", "JFaceCenter")
        node(rim, "PointRange", "IndexRange_t", np.array([[1, 7], [16, 7]], np.int32))
    flow = open_flow(tmp_path / "o.cgns")
    by_name = {b.name: b for b in flow.boundaries}
    assert (by_name["surface"].kind, len(by_name["surface"].faces)) == ("wall", 16)
    np.testing.assert_allclose(np.hypot(*by_name["surface"].points[:, :2].T), 0.5)
    assert (by_name["rim"].kind, len(by_name["rim"].faces)) == ("far field", 16)
    assert sum(b.found for b in flow.boundaries) == 2, "nothing is left but the two sides of the layer"


def test_bars_of_a_plane_unstructured_zone_are_boundaries(tmp_path):
    x, y, *_ = ring()
    x, y = x[:, :-1], y[:, :-1]
    index = np.arange(7 * 16).reshape(7, 16)
    nxt = np.roll(index, -1, axis=1)
    quads = np.stack([index[:-1], nxt[:-1], nxt[1:], index[1:]], axis=-1).reshape(-1, 4) + 1
    inner, outer = (np.column_stack([index[k], nxt[k]]) + 1 for k in (0, -1))
    file, base, zone = cgns(tmp_path / "u.cgns", 2, 3, [[112], [96], [0]])
    with file:
        node(zone, "ZoneType", "ZoneType_t", "Unstructured")
        grid = node(zone, "GridCoordinates", "GridCoordinates_t")
        for name, values in (("CoordinateX", x), ("CoordinateY", y), ("CoordinateZ", 0 * x)):
            node(grid, name, "DataArray_t", values.ravel())
        for name, kind, first, table in (("in", 3, 1, inner), ("out", 3, 17, outer), ("cells", 7, 33, quads)):
            section = node(zone, name, "Elements_t", np.array([kind, 0], np.int32))
            node(section, "ElementRange", "IndexRange_t", np.array([first, first + len(table) - 1], np.int32))
            node(section, "ElementConnectivity", "DataArray_t", table.ravel().astype(np.int32))
        sol = node(zone, "Sol", "FlowSolution_t")
        for name, values in zip(("VelocityX", "VelocityY"), past_a_cylinder(x, y), strict=True):
            node(sol, name, "DataArray_t", values.ravel())
        bc = node(zone, "ZoneBC", "ZoneBC_t")
        one = node(bc, "L1", "BC_t", "FamilySpecified")
        node(one, "GridLocation", "GridLocation_t", "EdgeCenter")
        node(one, "FamilyName", "FamilyName_t", "cylinder")
        node(one, "PointRange", "IndexRange_t", np.array([[1, 16]], np.int32))
        two = node(bc, "L2", "BC_t", "BCFarfield")
        node(two, "PointList", "IndexArray_t", (index[-1] + 1).astype(np.int32))
        node(base, "cylinder", "Family_t")
    flow = open_flow(tmp_path / "u.cgns")
    assert {b.name: (b.kind, len(b.faces)) for b in flow.boundaries if not b.found} == {"cylinder": ("wall", 16), "L2": ("far field", 16)}
    assert sum(b.found for b in flow.boundaries) == 2


# -- CGNS ------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("location", "span", "faces"), [
    ("JFaceCenter", [[1, 4, 1], [3, 4, 3]], 9), ("FaceCenter", [[1, 1, 4], [3, 3, 4]], 9), ("Vertex", [[4, 1, 1], [4, 4, 4]], 9),
    ("IFaceCenter", [[1, 2, 1], [1, 3, 2]], 4), ("CellCenter", [[1, 1, 3], [3, 3, 3]], 9), ("KFaceCenter", [[2, 2, 1], [2, 2, 1]], 1)])
def test_ranges_of_faces_are_ranges_of_faces(tmp_path, location, span, faces):
    file, _, zone = cgns(tmp_path / "a.cgns", 3, 3, [[4, 4, 4], [3, 3, 3], [0, 0, 0]])
    points = cube_points(4).reshape(4, 4, 4, 3)
    with file:
        node(zone, "ZoneType", "ZoneType_t", "Structured")
        grid = node(zone, "GridCoordinates", "GridCoordinates_t")
        for n, axis in enumerate("XYZ"):
            node(grid, f"Coordinate{axis}", "DataArray_t", points[..., n])
        sol = node(zone, "Sol", "FlowSolution_t")
        node(sol, "VelocityX", "DataArray_t", points[..., 0])
        node(sol, "VelocityY", "DataArray_t", points[..., 0])
        node(sol, "VelocityZ", "DataArray_t", points[..., 0])
        one = node(node(zone, "ZoneBC", "ZoneBC_t"), "side", "BC_t", "BCWall")
        node(one, "GridLocation", "GridLocation_t", location)
        node(one, "PointRange", "IndexRange_t", np.array(span, np.int32))
    side = next(b for b in open_flow(tmp_path / "a.cgns").boundaries if b.name == "side")
    assert len(side.faces) == faces
    assert np.ptp(side.points, axis=0).min() == 0.0
    assert side.nodes is not None


def test_a_range_of_faces_beyond_the_block_is_refused(tmp_path):
    test_ranges_of_faces_are_ranges_of_faces(tmp_path, "JFaceCenter", [[1, 4, 1], [3, 4, 3]], 9)
    with h5py.File(tmp_path / "a.cgns", "r+") as file:
        file["Base/zone/ZoneBC/side/PointRange/ data"][:] = [[1, 4, 1], [4, 4, 4]]
    with pytest.raises(FileError, match="range of a boundary"):
        open_flow(tmp_path / "a.cgns")


@pytest.mark.parametrize("place", ["Vertex", "CellCenter"])
@pytest.mark.parametrize("degrees", [False, True])
def test_cylindrical_coordinates_are_turned_with_their_vectors(tmp_path, place, degrees):
    """A uniform stream along x, given by radial and tangential components."""
    r, a, z = np.meshgrid(np.linspace(1, 2, 5), np.linspace(0, 1.2, 9), np.linspace(0, 1, 3), indexing="ij")
    r, a, z = (v.T for v in (r, a, z))  # k, j, i
    at = (r, a, z) if place == "Vertex" else tuple(v[:-1, :-1, :-1] + (v[1:, 1:, 1:] - v[:-1, :-1, :-1]) / 2 for v in (r, a, z))
    file, _, zone = cgns(tmp_path / "c.cgns", 3, 3, [[5, 9, 3], [4, 8, 2], [0, 0, 0]])
    with file:
        node(zone, "ZoneType", "ZoneType_t", "Structured")
        grid = node(zone, "GridCoordinates", "GridCoordinates_t")
        for name, values in (("R", r), ("Theta", np.degrees(a) if degrees else a), ("Z", z)):
            made = node(grid, f"Coordinate{name}", "DataArray_t", values)
            if degrees and name == "Theta":
                node(made, "DimensionalUnits", "DimensionalUnits_t", "".join(w.ljust(32) for w in (
                    "Kilogram", "Meter", "Second", "Kelvin", "Degree")))
        sol = node(zone, "Sol", "FlowSolution_t")
        node(sol, "GridLocation", "GridLocation_t", place)
        for name, values in (("R", np.cos(at[1])), ("Theta", -np.sin(at[1])), ("Z", 0 * at[1])):
            node(sol, f"Velocity{name}", "DataArray_t", values)
        node(sol, "Pressure", "DataArray_t", at[0])
    flow = open_flow(tmp_path / "c.cgns")
    np.testing.assert_allclose(np.hypot(flow.points[:, 0], flow.points[:, 1]), r.ravel(), atol=1e-12)
    found = np.column_stack([flow.fields[n].values for n in flow.roles.velocity])
    np.testing.assert_allclose(found, np.tile([1.0, 0, 0], (len(found), 1)), atol=1e-12 if place == "Vertex" else 5e-3)
    assert any("cylindrical" in text and "Velocity" in text for text in flow.notices)


def test_spherical_axes_are_those_of_the_standard():
    """r, θ from the z axis, φ about it: each unit vector is the derivative of the place along its coordinate."""
    system = System("spherical", ("R", "Theta", "Phi"))
    given = np.random.default_rng(3).uniform([1, 0.3, -2], [2, 2.5, 2], (50, 3))
    places = system.points(given)
    for axis, scale in ((0, np.ones(50)), (1, given[:, 0]), (2, given[:, 0] * np.sin(given[:, 1]))):
        step = np.zeros(3)
        step[axis] = 1e-6
        along = (system.points(given + step) - system.points(given - step)) / 2e-6 / scale[:, None]
        np.testing.assert_allclose(system.vectors(np.tile(np.eye(3)[axis], (50, 1)), places), along, atol=1e-8)


def test_the_older_file_layer_is_told_apart(tmp_path):
    (tmp_path / "old.cgns").write_bytes(b"\xc0\xa8\xa3\xa9ADF Database Version A02011>" + bytes(100))
    with pytest.raises(FileError, match="older file layer") as told:
        open_flow(tmp_path / "old.cgns")
    assert "HDF5" in told.value.hint


# -- collections -----------------------------------------------------------------------------------------------------------


def test_values_at_nodes_here_and_at_cells_there_make_one_flow():
    one, other = cube(velocity=wind, p=lambda p: p[:, 0]), cube(velocity=wind, place="cell", p=lambda p: p[:, 0])
    fields = [other.fields[0], Field("p", "cell", other.fields[1].values + 1.0)]
    moved = Solid("other", other.grid, other.points + np.array([1.0, 0, 0]), fields, {})
    flow = assemble_content(HERE, [one, moved], [], [], False)
    assert {n: f.place for n, f in flow.fields.items()} == {"Velocity": "node", "p": "node"}
    inside = np.abs(flow.points[:, 0] - 1.5) < 0.4
    np.testing.assert_allclose(flow.fields["p"].values[inside], flow.points[inside, 0])
    assert any("brought to nodes: Velocity, p" in text for text in flow.notices)


def test_cell_values_come_to_nodes_by_the_plain_mean():
    solid = cube(n=4, place="cell", p=lambda p: p[:, 0] ** 2)
    lattice = Solid("s", StructuredGrid((4, 4, 4)), solid.points, solid.fields, {})
    np.testing.assert_allclose(at_nodes(solid, solid.fields[0]).values, at_nodes(lattice, solid.fields[0]).values)
    assert at_nodes(solid, solid.fields[0]).values[0] == pytest.approx(solid.fields[0].values[0])


def test_one_name_at_nodes_and_at_cells_is_two_arrays():
    made = cube(velocity=wind, p=lambda p: p[:, 0])
    cells = np.arange(made.grid.n_cells, dtype=float)
    both = Solid("b", made.grid, made.points, [*made.fields, Field("p", "cell", cells)], {})
    flow = assemble_content(HERE, [both], [], [], False)
    assert flow.fields["p"].place == "node"
    assert flow.fields["p (cells)"].place == "cell"
    np.testing.assert_array_equal(flow.fields["p (cells)"].values, cells)
    assert flow.roles.pressure == "p"
    names = [q.name for q in QuantityStore(flow, flow.reference).quantities()]
    assert {"file:p", "file:p (cells)"} <= set(names)


def image(path, shift=0.0):
    data = vtkImageData()
    data.SetDimensions(4, 4, 4)
    data.SetOrigin(shift, 0, 0)
    add(data.GetPointData(), "Velocity", np.tile([1.0 + shift, 0, 0], (64, 1)))
    write(vtkXMLImageDataWriter(), data, path)


def collection(folder, files):
    body = "".join(f'<DataSet timestep="{t}" file="{f}"/>' for t, f in files)
    path = folder / "run.pvd"
    path.write_text(f'<VTKFile type="Collection"><Collection>{body}</Collection></VTKFile>')
    return path


def test_missing_moments_at_the_beginning_are_passed_over_and_told(tmp_path):
    path = collection(tmp_path, [(1, "a.vti"), (2, "b.vti"), (3, "c.vti")])
    with pytest.raises(FileError, match="missing"):
        open_flow(path)
    image(tmp_path / "c.vti")
    flow = open_flow(path)
    assert (flow.step, flow.times) == (2, (1.0, 2.0, 3.0))
    assert any("a.vti, is missing" in text and "1 steps after it" in text for text in flow.notices)
    with pytest.raises(FileError, match=r"t = 2, b\.vti, is missing"):
        open_flow(path, step=1)


def test_missing_pieces_and_blocks_are_left_out_and_told(tmp_path):
    image(tmp_path / "a.vti")
    path = tmp_path / "all.vtm"
    path.write_text('<VTKFile type="vtkMultiBlockDataSet"><vtkMultiBlockDataSet><DataSet index="0" file="gone.vti"/>'
                    '<DataSet index="1" file="a.vti"/></vtkMultiBlockDataSet></VTKFile>')
    flow = open_flow(path)
    assert len(flow.blocks) == 1
    assert any("gone.vti is missing" in text and "all.vtm" in text for text in flow.notices)
    (tmp_path / "a.vti").unlink()
    with pytest.raises(FileError, match="None of the 2 files"):
        open_flow(path)


def test_structured_and_rectilinear_blocks_inside_vtkhdf(tmp_path):
    first = structured(dims=(4, 4, 4))
    add(first.GetPointData(), "Velocity", wind(cube_points(4)))
    add(first.GetCellData(), "c", np.arange(27.0))
    second = vtkRectilinearGrid()
    second.SetDimensions(3, 4, 5)
    for n, put in ((3, second.SetXCoordinates), (4, second.SetYCoordinates), (5, second.SetZCoordinates)):
        from vtkmodules.util.numpy_support import numpy_to_vtk

        put(numpy_to_vtk(2.0 + np.arange(n) ** 2.0, deep=1))
    add(second.GetPointData(), "Velocity", np.tile([68.0, 0, 0], (60, 1)))
    both = vtkMultiBlockDataSet()
    both.SetBlock(0, first)
    both.SetBlock(1, second)
    writer = vtkHDFWriter()
    writer.SetFileName(str(tmp_path / "both.vtkhdf"))
    writer.SetInputData(both)
    writer.Write()
    flow = open_flow(tmp_path / "both.vtkhdf")
    assert [b.grid.form for b in flow.blocks] == ["curvilinear", "rectilinear"]
    np.testing.assert_allclose(flow.points[:64], cube_points(4, 0.05), atol=1e-6)
    np.testing.assert_allclose(np.unique(flow.points[64:, 2]), [2, 3, 6, 11, 18])
    with h5py.File(tmp_path / "both.vtkhdf", "r+") as file:
        name = next(n for n in file["VTKHDF"] if file["VTKHDF"][n].attrs.get("Type") == b"RectilinearGrid")
        file["VTKHDF"][name].attrs.modify("Type", np.bytes_("HyperTreeGrid"))
    flow = open_flow(tmp_path / "both.vtkhdf")
    assert len(flow.blocks) == 1
    assert any("HyperTreeGrid" in text for text in flow.notices)


def test_a_file_knows_the_results_that_it_belongs_to(tmp_path):
    (tmp_path / "run" / "boundary").mkdir(parents=True)
    image(tmp_path / "run" / "internal.vti")
    image(tmp_path / "run" / "boundary" / "lid.vti")
    (tmp_path / "run.vtm").write_text('<DataSet file="run/internal.vti"/><DataSet file="run/boundary/lid.vti"/>')
    collection(tmp_path, [(1, "other internal.vti")])
    assert results_of(tmp_path / "run" / "internal.vti") == [tmp_path / "run.vtm"]
    assert results_of(tmp_path / "run" / "boundary" / "lid.vti") == [tmp_path / "run.vtm"]
    assert results_of(tmp_path / "run.vtm") == []


def test_sheets_of_curves_that_bound_nothing_are_left_alone():
    sheet = Sheet(np.zeros((4, 3)), np.array([[0, 1, 2, 3]]), fields=[Field("p", "node", np.zeros(4))])
    with pytest.raises(FileError, match="three-dimensional"):
        assemble_content(HERE, [], [("flat", sheet)], [], False)
