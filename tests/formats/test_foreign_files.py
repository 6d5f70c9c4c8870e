"""Files that other programs' libraries wrote: VTK itself, meshio, gmsh, and HDF5 by hand."""

import shutil
from pathlib import Path

import h5py
import meshio
import numpy as np
import pytest
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkMultiBlockDataSet, vtkPartitionedDataSetCollection, vtkRectilinearGrid
from vtkmodules.vtkFiltersCore import vtkAppendFilter
from vtkmodules.vtkIOHDF import vtkHDFWriter
from vtkmodules.vtkIOLegacy import vtkDataSetWriter

from cell_checks import check_whole, filled, honeycomb, linear, polyhedron, stream, volumes
from making import KINDS, cells_of, cube_points, pyramids
from tidal_lens.errors import DoubtfulFlowError, FileError
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.formats.registry import open_flow
from vtk_data import add, structured, to_unstructured

DATA = Path(__file__).parent.parent / "data"
N = 4


def data_sets():
    image = vtkImageData()
    image.SetDimensions(4, 5, 6)
    image.SetOrigin(1.0, 2.0, 3.0)
    image.SetSpacing(0.5, 0.25, 0.125)
    lines = vtkRectilinearGrid()
    lines.SetDimensions(3, 4, 5)
    from vtkmodules.util.numpy_support import numpy_to_vtk

    for n, take in zip((3, 4, 5), (lines.SetXCoordinates, lines.SetYCoordinates, lines.SetZCoordinates), strict=True):
        take(numpy_to_vtk(np.linspace(0, 1, n) ** 2, deep=1))
    made = {"image": image, "rectilinear": lines, "structured": structured()}
    for kind in KINDS[1:]:
        points, grid = pyramids(N) if kind == "pyramids" else (cube_points(N), UnstructuredGrid(N**3, *cells_of(kind, N)))
        made[kind] = to_unstructured(points, grid)
    return made


ALL = ("image", "rectilinear", "structured", *KINDS[1:])


def agrees(flow, data):
    """Points, cells and values as VTK has them."""
    reference = np.array([data.GetPoint(n) for n in range(data.GetNumberOfPoints())])
    np.testing.assert_allclose(flow.points, reference, atol=1e-7)
    assert flow.n_cells == data.GetNumberOfCells()
    for attributes in (data.GetPointData(), data.GetCellData()):
        for n in range(attributes.GetNumberOfArrays()):
            array = attributes.GetArray(n)
            np.testing.assert_allclose(flow.fields[array.GetName()].values, vtk_to_numpy(array), rtol=1e-4)
    grid = flow.blocks[0].grid
    if isinstance(grid, UnstructuredGrid):
        assert volumes(flow.points, grid).sum() == pytest.approx(1.0, rel=1e-6)


@pytest.mark.parametrize("kind", ALL)
@pytest.mark.parametrize("binary", [False, True])
@pytest.mark.parametrize("version", [42, 51])
def test_legacy_files_that_vtk_wrote(tmp_path, kind, binary, version):
    data = filled(data_sets()[kind])
    add(data.GetPointData(), "name with spaces", np.arange(float(data.GetNumberOfPoints())))
    writer = vtkDataSetWriter()
    writer.SetFileName(str(tmp_path / "a.vtk"))
    writer.SetInputData(data)
    writer.SetFileVersion(version)
    (writer.SetFileTypeToBinary if binary else writer.SetFileTypeToASCII)()
    assert writer.Write() == 1
    agrees(open_flow(tmp_path / "a.vtk"), data)


def test_legacy_polyhedra(tmp_path):
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkCommonCore import vtkPoints
    from vtkmodules.vtkCommonDataModel import vtkUnstructuredGrid

    points, cells = honeycomb()
    data = vtkUnstructuredGrid()
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(points, deep=1))
    data.SetPoints(holder)
    for cell in cells:
        polyhedron(data, cell)
    add(data.GetPointData(), "Velocity", stream(points))
    add(data.GetPointData(), "p", linear(points))
    writer = vtkDataSetWriter()
    writer.SetFileName(str(tmp_path / "a.vtk"))
    writer.SetInputData(data)
    writer.SetFileVersion(42)
    writer.Write()
    hexagon = 1.5 * np.sqrt(3.0)
    check_whole(open_flow(tmp_path / "a.vtk"), 48 * hexagon, 32 * hexagon + 90.0)
    hdf = vtkHDFWriter()
    hdf.SetFileName(str(tmp_path / "a.vtkhdf"))
    hdf.SetInputData(data)
    hdf.Write()
    check_whole(open_flow(tmp_path / "a.vtkhdf"), 48 * hexagon, 32 * hexagon + 90.0)


def write_hdf(data, path):
    writer = vtkHDFWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    writer.Write()
    assert path.exists()
    return path


@pytest.mark.parametrize("kind", KINDS[1:])
def test_vtkhdf_that_vtk_wrote(tmp_path, kind):
    data = filled(data_sets()[kind])
    agrees(open_flow(write_hdf(data, tmp_path / "a.vtkhdf")), data)


def halves(kind="hexahedra"):
    points, (corners, types) = cube_points(N + 1), cells_of(kind, N + 1)
    left = points[corners].mean(axis=1)[:, 0] < 0.5
    return [filled(to_unstructured(points, UnstructuredGrid(len(points), corners[own], types[own]))) for own in (left, ~left)]


def test_vtkhdf_sets_of_blocks(tmp_path):
    for made in (vtkMultiBlockDataSet(), vtkPartitionedDataSetCollection()):
        for n, half in enumerate(halves()):
            if isinstance(made, vtkMultiBlockDataSet):
                made.SetBlock(n, half)
                made.GetMetaData(n).Set(vtkMultiBlockDataSet.NAME(), ("left", "right")[n])
            else:
                made.SetPartition(n, 0, half)
                made.GetMetaData(n).Set(vtkMultiBlockDataSet.NAME(), ("left", "right")[n])
        flow = open_flow(write_hdf(made, tmp_path / f"{made.GetClassName()}.vtkhdf"))
        assert [b.name for b in flow.blocks] == ["left", "right"]
        assert flow.n_cells == 64
        assert flow.n_points == 2 * 75, "points that only the other half uses are left out"
        assert len(flow.outside.faces) == 6 * 16
        np.testing.assert_allclose(flow.fields["p"].values, linear(flow.points), rtol=1e-6)


def by_hand(path, steps=0, pieces=1, image=False):
    """A VTKHDF file made with h5py alone, after the published description."""
    points, (corners, types) = cube_points(3), cells_of("hexahedra", 3)
    with h5py.File(path, "w") as file:
        root = file.create_group("VTKHDF")
        root.attrs["Version"] = (2, 0)
        root.attrs.create("Type", b"ImageData" if image else b"UnstructuredGrid", dtype=h5py.string_dtype("ascii", 16))
        times = np.arange(steps) * 0.5
        if image:
            root.attrs["WholeExtent"] = (0, 2, 0, 2, 0, 2)
            root.attrs["Origin"], root.attrs["Spacing"] = (0.0, 0.0, 0.0), (0.5, 0.5, 0.5)
            data = root.create_group("PointData")
            u = np.stack([stream(points) * (1 + t) for t in times]) if steps else stream(points)
            data["Velocity"] = u.reshape((*u.shape[:-2], 3, 3, 3, 3))
            if steps:
                held = root.create_group("Steps")
                held.attrs["NSteps"] = steps
                held["Values"] = times
            return path
        root["NumberOfPoints"] = np.array([27] * pieces * max(steps, 1))
        root["NumberOfCells"] = np.array([8] * pieces * max(steps, 1))
        root["NumberOfConnectivityIds"] = np.array([64] * pieces * max(steps, 1))
        root["Points"] = np.concatenate([points + np.array([float(n), 0, 0]) for n in range(pieces)])
        root["Connectivity"] = np.tile(corners.ravel(), pieces)
        root["Offsets"] = np.tile(np.arange(9) * 8, pieces)
        root["Types"] = np.tile(types, pieces)
        data = root.create_group("PointData")
        own = np.concatenate([stream(points)] * pieces)
        data["Velocity"] = np.concatenate([own * (1 + t) for t in times]) if steps else own
        if steps:
            held = root.create_group("Steps")
            held.attrs["NSteps"] = steps
            held["Values"] = times
            held["PartOffsets"] = np.zeros(steps, int)
            held["NumberOfParts"] = np.full(steps, pieces)
            for name in ("PointOffsets", "CellOffsets", "ConnectivityIdOffsets"):
                held[name] = np.zeros((steps, 1), int) if name != "PointOffsets" else np.zeros(steps, int)
            held.create_group("PointDataOffsets")["Velocity"] = np.arange(steps) * 27 * pieces
    return path


def test_vtkhdf_pieces_and_steps_on_one_mesh(tmp_path):
    path = by_hand(tmp_path / "a.vtkhdf", steps=3, pieces=2)
    for step in range(3):
        flow = open_flow(path, step=step)
        assert flow.times == (0.0, 0.5, 1.0)
        assert flow.step == step
        assert [(b.name, b.grid.n_points, b.grid.n_cells) for b in flow.blocks] == [("a", 45, 16)]  # 27 + 27 - 9 that they share
        own = flow.points[:27, 0] < 0.9  # off the seam, where the two pieces of this file differ
        np.testing.assert_allclose(flow.fields["Velocity"].values[:27][own], (stream(cube_points(3)) * (1 + 0.5 * step))[own])
        assert any("values jump: Velocity" in text for text in flow.notices)
        np.testing.assert_allclose(flow.bounds[1], [2.0, 1.0, 1.0])
    assert open_flow(by_hand(tmp_path / "b.vtkhdf", pieces=3)).n_cells == 24


def test_vtkhdf_images(tmp_path):
    flow = open_flow(by_hand(tmp_path / "a.hdf", image=True))
    assert flow.blocks[0].grid == StructuredGrid((3, 3, 3), "uniform")
    np.testing.assert_allclose(flow.fields["Velocity"].values, stream(cube_points(3)))
    flow = open_flow(by_hand(tmp_path / "b.hdf", image=True, steps=2), step=1)
    np.testing.assert_allclose(flow.fields["Velocity"].values, 1.5 * stream(cube_points(3)))


# -- meshio ----------------------------------------------------------------------------------------------------

MESHIO = {"hexahedra": "hexahedron", "tetrahedra": "tetra", "wedges": "wedge", "pyramids": "pyramid"}
OWN = {"hexahedra": (0, 1, 2, 3, 4, 5, 6, 7), "tetrahedra": (0, 1, 2, 4), "wedges": (0, 1, 2, 4, 5, 6), "pyramids": (0, 1, 2, 3, 4)}


def meshio_mesh(kind):
    points, grid = pyramids(N) if kind == "pyramids" else (cube_points(N), UnstructuredGrid(N**3, *cells_of(kind, N)))
    cells = grid.corners[:, OWN[kind]].astype(np.int64)
    return meshio.Mesh(points, [(MESHIO[kind], cells)], point_data={"Velocity": stream(points), "p": linear(points)},
                       cell_data={"number": [np.arange(len(cells), dtype=float)]})


@pytest.mark.parametrize("kind", KINDS[1:])
@pytest.mark.parametrize(("suffix", "options"), [("vtk", {"binary": True}), ("vtk", {"binary": False}), ("vtu", {"binary": True}),
                                                 ("vtu", {"binary": False}), ("xdmf", {"data_format": "XML"}),
                                                 ("xdmf", {"data_format": "HDF"}), ("xdmf", {"data_format": "Binary"})])
@pytest.mark.filterwarnings("ignore")
def test_what_meshio_writes(tmp_path, kind, suffix, options):
    mesh = meshio_mesh(kind)
    path = tmp_path / f"a.{suffix}"
    mesh.write(path, **options)
    flow = open_flow(path)
    np.testing.assert_allclose(flow.points, mesh.points)
    np.testing.assert_allclose(flow.fields["Velocity"].values, mesh.point_data["Velocity"])
    np.testing.assert_allclose(flow.fields["number"].values, mesh.cell_data["number"][0])
    assert volumes(flow.points, flow.blocks[0].grid).sum() == pytest.approx(1.0)
    assert flow.roles.velocity == ("Velocity",)


def test_mixed_cells_of_meshio_in_xdmf(tmp_path):
    points, corners = cube_points(3), cells_of("hexahedra", 3)[0]
    tets = corners[:1, [0, 1, 2, 6]], corners[:1, [0, 2, 3, 6]], corners[:1, [0, 3, 7, 6]], corners[:1, [0, 7, 4, 6]], corners[
        :1, [0, 4, 5, 6]], corners[:1, [0, 5, 1, 6]]
    mesh = meshio.Mesh(points, [("hexahedron", corners[1:].astype(np.int64)), ("tetra", np.concatenate(tets).astype(np.int64))],
                       point_data={"u": points[:, 0], "v": points[:, 1], "w": points[:, 2]})
    mesh.write(tmp_path / "a.xdmf")
    flow = open_flow(tmp_path / "a.xdmf")
    assert flow.n_cells == 13
    assert volumes(flow.points, flow.blocks[0].grid).sum() == pytest.approx(1.0)
    assert flow.roles.velocity == ("u", "v", "w")


def test_a_time_series_of_meshio_in_xdmf(tmp_path):
    """Its steps share the mesh by an inclusion."""
    mesh = meshio_mesh("tetrahedra")
    with meshio.xdmf.TimeSeriesWriter(str(tmp_path / "a.xdmf")) as writer:
        writer.write_points_cells(mesh.points, mesh.cells)
        for time in (0.0, 0.25, 1.0):
            writer.write_data(time, point_data={"Velocity": mesh.point_data["Velocity"] * (1 + time)})
    # The library names its file of numbers after the working folder's.
    if Path("a.h5").exists():
        shutil.move("a.h5", tmp_path / "a.h5")
    flow = open_flow(tmp_path / "a.xdmf", step=2)
    assert flow.times == (0.0, 0.25, 1.0)
    np.testing.assert_allclose(flow.fields["Velocity"].values, 2.0 * mesh.point_data["Velocity"])


# -- gmsh ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("name", "parts"), [("linear", 1), ("quadratic", 8)])
def test_cgns_that_gmsh_wrote(tmp_path, name, parts):
    """A mesh without a flow is refused at first; with a solution added it opens, and its surfaces have their names."""
    path = tmp_path / "duct.cgns"
    shutil.copy(DATA / f"duct {name}.cgns", path)
    with pytest.raises(DoubtfulFlowError, match="No velocity"):
        open_flow(path)
    with h5py.File(path, "a") as file:
        base = next(g for g in file.values() if isinstance(g, h5py.Group) and g.attrs.get("label", b"").startswith(b"CGNSBase_t"))
        zone = next(g for g in base.values() if g.attrs.get("label", b"").startswith(b"Zone_t"))
        points = np.column_stack([zone["GridCoordinates"][f"Coordinate{a}"][" data"][:] for a in "XYZ"])
        elements = zone["GridCoordinates"]["CoordinateX"].attrs["label"]
        solution = zone.create_group("Flow")
        solution.attrs["label"], solution.attrs["type"] = np.bytes_("FlowSolution_t"), np.bytes_("MT")
        for axis, values in zip("XYZ", stream(points).T, strict=True):
            array = solution.create_group(f"Velocity{axis}")
            array.attrs["label"], array.attrs["type"] = elements, np.bytes_("R8")
            array[" data"] = values
        count = int(zone[" data"][1, 0])
    flow = open_flow(path)
    assert flow.n_cells == parts * count
    assert volumes(flow.points, flow.blocks[0].grid).min() > 0.0
    assert volumes(flow.points, flow.blocks[0].grid).sum() == pytest.approx(2.0)
    named = {b.name: b for b in flow.boundaries}
    assert set(named) == {"inlet", "outlet", "duct wall"}
    assert {n: b.kind for n, b in named.items()} == {"inlet": "inlet", "outlet": "outlet", "duct wall": "wall"}
    assert named["inlet"].nodes is not None
    assert np.ptp(named["inlet"].points, axis=0).min() == 0.0
    velocity = np.column_stack([flow.fields[f"Velocity{a}"].values for a in "XYZ"])
    np.testing.assert_allclose(velocity, stream(flow.points), atol=1e-12)


def test_vtkhdf_and_xdmf_that_make_no_sense(tmp_path):
    path = by_hand(tmp_path / "a.vtkhdf")
    for name, values, match in (("NumberOfPoints", [9999], "ends before"), ("Types", np.full(8, 99), "type 99"),
                                ("Connectivity", np.full(64, 77), "refer to point 77"), ("Offsets", np.arange(9)[::-1], "contradicts"),
                                ("NumberOfCells", [-4], "makes no sense")):
        shutil.copy(path, tmp_path / "b.vtkhdf")
        with h5py.File(tmp_path / "b.vtkhdf", "a") as file:
            del file["VTKHDF"][name]
            file["VTKHDF"][name] = np.array(values)
        with pytest.raises(FileError, match=match):
            open_flow(tmp_path / "b.vtkhdf")
    mesh = meshio_mesh("tetrahedra")
    mesh.write(tmp_path / "a.xdmf", data_format="XML")
    text = (tmp_path / "a.xdmf").read_text()
    for old, new, match in (("</Xdmf>", "", "not well-formed"), ('TopologyType="Tetrahedron"', 'TopologyType="Ring"', "type ring"),
                            ('Format="XML"', 'Format="HDF"', "makes no sense"), ('Dimensions="64 3"', 'Dimensions="640 3"', "are declared"),
                            ('Dimensions="64 3"', 'Dimensions="-1 3"', "Dimensions make no sense"),
                            ("<Xdmf", '<!DOCTYPE x [<!ENTITY a "b">]><Xdmf', "entities")):
        assert old in text
        (tmp_path / "b.xdmf").write_text(text.replace(old, new))
        with pytest.raises(FileError, match=match):
            open_flow(tmp_path / "b.xdmf")
    (tmp_path / "c.xdmf").write_text('<Xdmf><Domain><Grid><Topology TopologyType="Tetrahedron"><DataItem Dimensions="1 4" Format="HDF">'
                                     "../x.h5:/a</DataItem></Topology><Geometry><DataItem Dimensions=\"4 3\" Format=\"HDF\">../x.h5:/b"
                                     "</DataItem></Geometry></Grid></Domain></Xdmf>")
    with pytest.raises(FileError, match="outside its own folder"):
        open_flow(tmp_path / "c.xdmf")


def test_several_pieces_agree_with_the_whole(tmp_path):
    """The library's own joining of the two halves, and ours, hold the same cells and values."""
    left, right = halves("tetrahedra")
    both = vtkAppendFilter()
    both.AddInputData(left)
    both.AddInputData(right)
    both.Update()
    made = vtkMultiBlockDataSet()
    made.SetBlock(0, left)
    made.SetBlock(1, right)
    flow = open_flow(write_hdf(made, tmp_path / "a.vtkhdf"))
    assert flow.n_cells == both.GetOutput().GetNumberOfCells()
    assert sum(volumes(flow.points[b.points], b.grid).sum() for b in flow.blocks) == pytest.approx(1.0)
