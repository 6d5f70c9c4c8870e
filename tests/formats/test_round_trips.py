"""What is written and read back is what it was: over all formats that are written, with the library's own readers as a second opinion."""

import csv

import h5py
import meshio
import numpy as np
import pytest
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkIOHDF import vtkHDFReader
from vtkmodules.vtkIOXML import vtkXMLMultiBlockDataReader, vtkXMLPolyDataReader

from cell_checks import linear, stream
from making import KINDS, cells_of, cube_points, flow_of, pyramids
from tidal_lens.cutting.contour import axis_slice
from tidal_lens.errors import FileError
from tidal_lens.flow.case import Boundary
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.formats.bodies import read_body
from tidal_lens.formats.export import save_flow, save_geometry
from tidal_lens.formats.registry import open_flow
from tidal_lens.formats.written import Geometry, flow_data

N = 4
STATE = ReferenceState(1e5, 1.2, (10.0, 1.0, -2.0), 1.3, "typed", area=2.5, length=0.4, about=(0.1, 0.0, -0.2))


def block(kind):
    if kind == "pyramids":
        return pyramids(N)
    grid = StructuredGrid((N, N, N)) if kind == "structured" else UnstructuredGrid(N**3, *cells_of(kind, N))
    return cube_points(N), grid


def floor_of(points, first):
    """The faces at z = 0 of a block whose lowest layer of nodes is a lattice."""
    lattice = first + np.arange(N * N).reshape(N, N)
    faces = np.stack([lattice[:-1, :-1], lattice[:-1, 1:], lattice[1:, 1:], lattice[1:, :-1]], axis=-1).reshape(-1, 4)
    nodes, compact = np.unique(faces, return_inverse=True)
    return Boundary("the floor", "wall", points[nodes], compact.reshape(-1, 4).astype(np.int64), nodes, "the file says so")


def made(*kinds):
    blocks, at = [], 0.0
    for kind in kinds:
        points, grid = block(kind)
        blocks.append((points + np.array([at, 0.0, 0.0]), grid))
        at += 1.0
    points = np.concatenate([p for p, _ in blocks])
    cells = sum(g.n_cells for _, g in blocks)
    return flow_of(blocks, {"U": stream(points), "p": linear(points).astype(np.float32), "number@cell": np.arange(float(cells))}, STATE)


def same(flow, back, *, cells_sorted=False):
    assert len(back.blocks) == len(flow.blocks)
    np.testing.assert_allclose(back.points, flow.points, rtol=0, atol=1e-12)
    for a, b in zip(flow.blocks, back.blocks, strict=True):
        if isinstance(b.grid, StructuredGrid):
            assert b.grid.dims == a.grid.dims
        elif isinstance(a.grid, UnstructuredGrid):
            order = np.argsort(a.grid.types, kind="stable") if cells_sorted else slice(None)
            np.testing.assert_array_equal(b.grid.corners, a.grid.corners[order])
            np.testing.assert_array_equal(b.grid.types, a.grid.types[order])
            number = flow.fields["number"].values[a.cells][order]
            np.testing.assert_array_equal(back.fields["number"].values[b.cells], number)
    assert back.reference.velocity == STATE.velocity
    assert (back.reference.pressure, back.reference.density, back.reference.gamma) == (1e5, 1.2, 1.3)
    assert (back.reference.area, back.reference.length, back.reference.about) == (STATE.area, STATE.length, STATE.about)


def values_of(flow, role):
    return np.column_stack([flow.fields[n].values for n in flow.roles.fields(role)])


SETS = [("structured",), ("hexahedra",), ("tetrahedra",), ("pyramids",), ("wedges",), ("structured", "hexahedra"),
        ("tetrahedra", "wedges", "structured")]


@pytest.mark.parametrize("kinds", SETS)
@pytest.mark.parametrize("suffix", [".vtm", ".vtkhdf", ".cgns"])
def test_flows_come_back(tmp_path, kinds, suffix):
    flow = made(*kinds)
    derived = {"twice p": 2.0 * flow.fields["p"].values.astype(float), "a vector": stream(flow.points) * 3.0}
    path = tmp_path / f"flow{suffix}"
    save_flow(path, flow_data(flow, derived))
    back = open_flow(path)
    if suffix == ".vtkhdf":  # it holds no reference state
        np.testing.assert_array_equal(back.points, flow.points)
        assert back.n_cells == flow.n_cells
    else:
        same(flow, back, cells_sorted=suffix == ".cgns")
    np.testing.assert_array_equal(values_of(back, "velocity"), values_of(flow, "velocity"))
    np.testing.assert_array_equal(values_of(back, "pressure"), values_of(flow, "pressure"))
    assert back.fields[back.roles.pressure].values.dtype == np.float32
    np.testing.assert_array_equal(back.fields["twice p"].values, derived["twice p"])
    names = ["a vector"] if suffix != ".cgns" else [f"a vector{a}" for a in "XYZ"]
    np.testing.assert_array_equal(np.column_stack([back.fields[n].values for n in names]), derived["a vector"])
    assert not list(tmp_path.glob(".*")), "nothing is left behind"


@pytest.mark.parametrize(("kind", "suffix"), [("structured", ".vts"), *((k, ".vtu") for k in KINDS[1:])])
def test_single_blocks_come_back(tmp_path, kind, suffix):
    flow = made(kind)
    save_flow(tmp_path / f"a{suffix}", flow_data(flow, {}))
    same(flow, open_flow(tmp_path / f"a{suffix}"))
    if suffix == ".vtu":
        mesh = meshio.read(tmp_path / "a.vtu")
        np.testing.assert_array_equal(mesh.point_data["U"], flow.fields["U"].values)


@pytest.mark.parametrize("kind", ["structured", "hexahedra"])
@pytest.mark.parametrize("suffix", [".vtm", ".cgns"])
def test_boundaries_come_back_with_their_kind(tmp_path, kind, suffix):
    plain = made(kind)
    flow = flow_of([block(kind)], {"U": stream(plain.points)}, STATE, (floor_of(plain.points, 0),))
    save_flow(tmp_path / f"a{suffix}", flow_data(flow, {}))
    back = next(b for b in open_flow(tmp_path / f"a{suffix}").boundaries if not b.found)
    assert back.name == "the floor"
    assert len(back.faces) == 9
    assert (back.points[:, 2] == 0.0).all()
    assert back.kind == "wall"


def test_vtk_reads_what_was_written(tmp_path):
    flow = made("structured", "tetrahedra")
    save_flow(tmp_path / "a.vtm", flow_data(flow, {}))
    reader = vtkXMLMultiBlockDataReader()
    reader.SetFileName(str(tmp_path / "a.vtm"))
    reader.Update()
    for n, part in enumerate(flow.blocks):
        data = reader.GetOutput().GetBlock(n)
        np.testing.assert_array_equal(vtk_to_numpy(data.GetPointData().GetArray("U")), flow.fields["U"].values[part.points])
        assert data.GetNumberOfCells() == part.grid.n_cells
    save_flow(tmp_path / "a.vtkhdf", flow_data(flow, {}))
    reader = vtkHDFReader()
    reader.SetFileName(str(tmp_path / "a.vtkhdf"))
    reader.Update()
    found = reader.GetOutputDataObject(0)
    assert found.GetNumberOfCells() == flow.n_cells
    assert found.GetNumberOfPoints() == flow.n_points


def test_cgns_follows_the_standard(tmp_path):
    """Labels and names as SIDS and its mapping to HDF5 have them (cgns.org)."""
    save_flow(tmp_path / "a.cgns", flow_data(made("wedges", "structured"), {}))
    with h5py.File(tmp_path / "a.cgns") as file:
        found = {}

        def note(name, node):
            if isinstance(node, h5py.Group):
                found[name] = bytes(node.attrs["label"]).split(b"\0")[0].decode()

        file.visititems(note)
        assert found["Base"] == "CGNSBase_t"
        assert found["Base/block 0/Wedges"] == "Elements_t"
        assert found["Base/block 0/Wedges/ElementRange"] == "IndexRange_t"
        assert found["Base/block 1/GridCoordinates/CoordinateX"] == "DataArray_t"
        assert {"VelocityX", "VelocityY", "VelocityZ", "Pressure"} <= set(file["Base/block 1/FlowSolution"])
        assert file["Base/block 1/FlowSolution/Pressure/ data"].shape == (N, N, N)
        assert list(file["Base/block 0/Wedges/ data"]) == [14, 0]
        assert all(len(name.rsplit("/", 1)[-1]) <= 32 for name in found)


def surface(flow):
    cut = axis_slice(flow, 0, 0.4)
    velocity = np.column_stack([cut.stencil.apply(flow.fields["U"].values[:, a].copy()) for a in range(3)])
    return Geometry(cut.points, cut.faces, None, {"p": cut.stencil.apply(flow.fields["p"].values), "U": velocity})


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
def test_surfaces_come_back(tmp_path, kind):
    cut = surface(made(kind))
    for suffix in (".vtp", ".stl", ".ply"):
        save_geometry(tmp_path / f"a{suffix}", cut)
    reader = vtkXMLPolyDataReader()
    reader.SetFileName(str(tmp_path / "a.vtp"))
    reader.Update()
    data = reader.GetOutput()
    np.testing.assert_array_equal(vtk_to_numpy(data.GetPoints().GetData()), cut.points)
    np.testing.assert_array_equal(vtk_to_numpy(data.GetPointData().GetArray("U")), cut.values["U"])
    assert data.GetNumberOfCells() == len(cut.faces)
    points, faces = read_body(tmp_path / "a.ply")
    np.testing.assert_array_equal(points, cut.points)
    assert len(faces) == len(cut.faces)
    mesh = meshio.read(tmp_path / "a.ply")
    np.testing.assert_allclose(mesh.point_data["p"], cut.values["p"], rtol=1e-6)
    for path, exact in ((tmp_path / "a.stl", 1e-6), (tmp_path / "a.ply", 1e-12)):
        points, faces = read_body(path)
        a, b, c, d = (points[faces[:, k]] for k in range(4))
        area = 0.5 * (np.linalg.norm(np.cross(b - a, c - a), axis=1) + np.linalg.norm(np.cross(c - a, d - a), axis=1)).sum()
        assert area == pytest.approx(1.0, rel=exact)
    assert len(meshio.read(tmp_path / "a.stl").cells_dict["triangle"]) == len(read_body(tmp_path / "a.stl")[1])


def test_lines_come_back(tmp_path):
    points = np.random.default_rng(1).random((7, 3))
    lines = Geometry(points, None, np.array([0, 4, 7]), {"speed": np.arange(7.0)})
    save_geometry(tmp_path / "a.vtp", lines)
    reader = vtkXMLPolyDataReader()
    reader.SetFileName(str(tmp_path / "a.vtp"))
    reader.Update()
    assert reader.GetOutput().GetNumberOfLines() == 2
    np.testing.assert_array_equal(vtk_to_numpy(reader.GetOutput().GetPointData().GetArray("speed")), np.arange(7.0))
    save_geometry(tmp_path / "a.csv", lines)
    rows = list(csv.reader((tmp_path / "a.csv").read_text().splitlines()))
    assert rows[0] == ["line", "x", "y", "z", "speed"]
    assert [float(r[0]) for r in rows[1:]] == [1, 1, 1, 1, 2, 2, 2]
    np.testing.assert_allclose([[float(c) for c in r[1:4]] for r in rows[1:]], points, rtol=1e-8)
    with pytest.raises(FileError, match=r"cannot be written as \.stl"):
        save_geometry(tmp_path / "a.stl", lines)


@pytest.mark.parametrize("form", [{"binary": True}, {"binary": False}])
@pytest.mark.parametrize("suffix", ["ply", "stl", "obj"])
def test_bodies_that_meshio_wrote(tmp_path, suffix, form):
    points = np.array([(0, 0, 0), (2, 0, 0), (2, 1, 0), (0, 1, 0), (1, 0.5, 3.0)])
    cells = [("triangle", np.array([(0, 1, 4), (1, 2, 4), (2, 3, 4), (3, 0, 4)]))]
    meshio.Mesh(points, cells).write(tmp_path / f"a.{suffix}", **(form if suffix != "obj" else {}))
    found, faces = read_body(tmp_path / f"a.{suffix}")
    assert len(faces) == 4
    assert len(found) == 5
    np.testing.assert_allclose(np.sort(found, axis=0), np.sort(points, axis=0))


def test_what_cannot_be_written_is_told(tmp_path):
    flow = made("structured", "hexahedra")
    with pytest.raises(FileError, match="holds one"):
        save_flow(tmp_path / "a.vtu", flow_data(flow, {}))
    with pytest.raises(FileError, match=r"cannot be written as \.xyz"):
        save_flow(tmp_path / "a.xyz", flow_data(flow, {}))
    with pytest.raises(FileError, match="could not be"):
        save_flow(tmp_path / "none" / "a.vtm", flow_data(flow, {}))
    (tmp_path / "a.cgns").write_text("what was there")
    with pytest.raises(FileError, match="could not be written"):
        save_flow(tmp_path / "none" / "a.cgns", flow_data(flow, {}))
    assert (tmp_path / "a.cgns").read_text() == "what was there"


@pytest.mark.parametrize(("name", "content"), [
    ("a.stl", b"solid nothing\nendsolid"), ("a.stl", b"\0" * 84 + b"x"), ("a.stl", b"solid a\nvertex 1 2\nvertex"),
    ("a.ply", b"ply\nformat ascii 1.0"),
    ("a.ply", b"ply\nformat ascii 1.0\nelement vertex 99999999\nproperty float x\nend_header\n1"), ("a.obj", b"f 1 2 3"),
    ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9"),
    ("a.ply", b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float q\nend_header\n1\n"),
])
def test_broken_bodies(tmp_path, name, content):
    (tmp_path / name).write_bytes(content)
    with pytest.raises(FileError):
        read_body(tmp_path / name)
