import re

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkRectilinearGrid
from vtkmodules.vtkIOXML import (
    vtkXMLImageDataWriter,
    vtkXMLRectilinearGridWriter,
    vtkXMLStructuredGridWriter,
    vtkXMLUnstructuredGridWriter,
)

from making import KINDS, cells_of, cube_points, pyramids
from tidal_lens.errors import DoubtfulFlowError, FileError
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.formats import unpacking_kernels
from tidal_lens.formats.registry import open_flow
from vortex_tank import demo_file, velocity
from vtk_data import N, add, structured, to_unstructured, write


def with_flow(data, dtype=np.float32):
    """Adds a node velocity and pressure, and a cell density."""
    n, m = data.GetNumberOfPoints(), data.GetNumberOfCells()
    add(data.GetPointData(), "Velocity", np.arange(3 * n, dtype=dtype).reshape(n, 3))
    add(data.GetPointData(), "p", np.arange(n, dtype=dtype))
    add(data.GetCellData(), "rho", 1 + np.arange(m, dtype=dtype))
    return data


def check_fields(flow, dtype=np.float32):
    n, m = flow.n_points, flow.n_cells
    assert flow.fields["Velocity"].values.dtype == dtype
    assert np.array_equal(flow.fields["Velocity"].values, np.arange(3 * n).reshape(n, 3))
    assert np.array_equal(flow.fields["p"].values, np.arange(n))
    assert flow.fields["rho"].place == "cell"
    assert np.array_equal(flow.fields["rho"].values, 1 + np.arange(m))
    assert flow.roles.velocity == ("Velocity",)
    assert flow.roles.pressure == "p"
    assert flow.roles.density == "rho"


@pytest.mark.parametrize("mode", ["Ascii", "Binary", "Appended"])
@pytest.mark.parametrize("compress", [True, False])
def test_structured_in_every_encoding(tmp_path, mode, compress):
    write(vtkXMLStructuredGridWriter(), with_flow(structured()), tmp_path / "a.vts", mode, compress)
    flow = open_flow(tmp_path / "a.vts")
    assert flow.blocks[0].grid == StructuredGrid((N, N, N))
    assert np.allclose(flow.points, cube_points(N, 0.05), atol=1e-6)
    check_fields(flow)


def test_big_endian_is_swapped(tmp_path):
    writer = vtkXMLStructuredGridWriter()
    writer.SetByteOrderToBigEndian()
    write(writer, with_flow(structured(), np.float64), tmp_path / "a.vts")
    check_fields(open_flow(tmp_path / "a.vts"), np.float64)


def test_image(tmp_path):
    image = vtkImageData()
    image.SetExtent(2, 5, 0, 3, -1, 2)
    image.SetOrigin(1, 2, 3)
    image.SetSpacing(0.5, 1, 2)
    write(vtkXMLImageDataWriter(), with_flow(image), tmp_path / "a.vti")
    flow = open_flow(tmp_path / "a.vti")
    check_fields(flow)
    assert flow.blocks[0].grid == StructuredGrid((4, 4, 4), "uniform")
    assert np.array_equal(flow.bounds[0], [2, 2, 1])
    assert np.array_equal(flow.bounds[1], [3.5, 5, 7])


def test_rectilinear(tmp_path):
    grid = vtkRectilinearGrid()
    grid.SetDimensions(N, N, N)
    axis = np.array([0, 0.1, 0.5, 2.0])
    for put in (grid.SetXCoordinates, grid.SetYCoordinates, grid.SetZCoordinates):
        put(numpy_to_vtk(axis, deep=1))
    write(vtkXMLRectilinearGridWriter(), with_flow(grid), tmp_path / "a.vtr")
    flow = open_flow(tmp_path / "a.vtr")
    check_fields(flow)
    assert np.array_equal(flow.points[:4, 0], axis)


@pytest.mark.parametrize("kind", [k for k in KINDS if k != "structured"])
def test_unstructured_cells_come_back(tmp_path, kind):
    if kind == "pyramids":
        points, grid = pyramids(N)
    else:
        points, grid = cube_points(N), UnstructuredGrid(N**3, *cells_of(kind, N))
    write(vtkXMLUnstructuredGridWriter(), with_flow(to_unstructured(points, grid)), tmp_path / "a.vtu")
    flow = open_flow(tmp_path / "a.vtu")
    check_fields(flow)
    assert np.array_equal(flow.blocks[0].grid.corners, grid.corners)
    assert np.array_equal(flow.blocks[0].grid.types, grid.types)


def test_the_demo_is_three_blocks_with_a_wall(demo):
    assert [b.name for b in demo.blocks] == ["upstream", "middle", "downstream"]
    assert 90_000 < demo.n_points < 120_000
    assert [(b.name, b.kind) for b in demo.boundaries if not b.found] == [("floor (wall)", "wall")]
    assert sorted(b.kind for b in demo.boundaries if b.found) == ["far field", "far field", "far field", "inlet", "outlet"]
    assert demo.boundaries[0].nodes is not None
    exact = velocity(demo.points)
    assert np.abs(demo.fields["Velocity"].values - exact).max() < 1e-3
    assert demo.reference.mach == pytest.approx(0.75)
    assert demo.si_units


def test_the_name_does_not_matter(tmp_path):
    write(vtkXMLStructuredGridWriter(), with_flow(structured()), tmp_path / "result.dat")
    check_fields(open_flow(tmp_path / "result.dat"))


# -- bad input -------------------------------------------------------------------------------------------------


def good_file(tmp_path, mode="Appended"):
    path = tmp_path / "good.vts"
    write(vtkXMLStructuredGridWriter(), with_flow(structured()), path, mode)
    return path


def test_missing_empty_foreign_and_folder(tmp_path):
    with pytest.raises(FileError, match="does not exist"):
        open_flow(tmp_path / "no.vtu")
    (tmp_path / "empty.vtu").touch()
    with pytest.raises(FileError, match="empty"):
        open_flow(tmp_path / "empty.vtu")
    (tmp_path / "text.vtu").write_text("hello, world")
    with pytest.raises(FileError, match="not a kind of file"):
        open_flow(tmp_path / "text.vtu")
    with pytest.raises(FileError, match="folder"):
        open_flow(tmp_path)


@pytest.mark.parametrize("mode", ["Ascii", "Binary", "Appended"])
def test_truncated_anywhere(tmp_path, mode):
    whole = good_file(tmp_path, mode).read_bytes()
    for share in np.linspace(0.02, 0.995, 25):
        cut = tmp_path / "cut.vts"
        cut.write_bytes(whole[: int(share * len(whole))])
        with pytest.raises(FileError):
            open_flow(cut)


@pytest.mark.parametrize("compiled", [True, False])
def test_a_damaged_compressed_block_is_told(tmp_path, monkeypatch, compiled):
    """Both ways of unpacking: by the system's library from compiled code, and by Python's own."""
    monkeypatch.setattr(unpacking_kernels, "READY", compiled and unpacking_kernels.READY)
    n = 24
    path = tmp_path / "a.vts"
    write(vtkXMLStructuredGridWriter(), with_flow(structured(cube_points(n), (n, n, n))), path, "Binary")
    np.testing.assert_allclose(open_flow(path).points, cube_points(n))
    whole = path.read_bytes()
    at = whole.index(b"<DataArray", whole.index(b"<Points>")) + 20_000
    path.write_bytes(whole[:at] + bytes(ord("A") if b != ord("A") else ord("B") for b in whole[at:at + 8]) + whole[at + 8:])
    with pytest.raises(FileError, match=r"compressed block|cannot be unpacked") as told:
        open_flow(path)
    assert "a.vts" in told.value.where


def test_bytes_lost_in_the_middle(tmp_path):
    whole = good_file(tmp_path).read_bytes()
    for begin in np.linspace(0.3, 0.9, 12):
        at = int(begin * len(whole))
        (tmp_path / "hole.vts").write_bytes(whole[:at] + whole[at + 60:])
        try:
            flow = open_flow(tmp_path / "hole.vts", anyway=True)
        except FileError:
            continue
        assert flow.n_points == N**3  # a hole in the compressed numbers may go unseen, but never breaks the shape


def test_enormous_declared_sizes_are_not_believed(tmp_path):
    whole = good_file(tmp_path).read_bytes()
    path = tmp_path / "big.vts"
    path.write_bytes(re.sub(rb'(WholeExtent|Extent)="[^"]*"', rb'\1="0 99999 0 99999 0 99999"', whole))
    with pytest.raises(FileError, match=r"more than|makes no sense"):
        open_flow(path)


def test_connectivity_out_of_range(tmp_path):
    corners, types = cells_of("hexahedra", N)
    data = with_flow(to_unstructured(cube_points(N), UnstructuredGrid(N**3, corners, types)))
    write(vtkXMLUnstructuredGridWriter(), data, tmp_path / "a.vtu", "Ascii")
    text = (tmp_path / "a.vtu").read_text()
    head, rest = text.split('Name="connectivity"', 1)
    begin, numbers = rest.split(">", 1)
    (tmp_path / "b.vtu").write_text(head + 'Name="connectivity"' + begin + ">" + re.sub(r"\b1\b", "99999", numbers, count=1))
    with pytest.raises(FileError, match="refer to point"):
        open_flow(tmp_path / "b.vtu")


def test_not_finite_values_and_missing_velocity_can_be_opened_anyway(tmp_path):
    data = with_flow(structured())
    values = np.arange(N**3, dtype=np.float32)
    values[7] = np.nan
    add(data.GetPointData(), "q factor", values)
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "nan.vts")
    with pytest.raises(DoubtfulFlowError, match=r"q factor has 1 values that are not finite, the first at node 7"):
        open_flow(tmp_path / "nan.vts")
    flow = open_flow(tmp_path / "nan.vts", anyway=True)
    assert "not finite" in flow.notices[0]
    bare = structured()
    add(bare.GetPointData(), "temperature", np.ones(N**3))
    write(vtkXMLStructuredGridWriter(), bare, tmp_path / "bare.vts")
    with pytest.raises(DoubtfulFlowError, match=r"temperature \(1\)"):
        open_flow(tmp_path / "bare.vts")
    assert not open_flow(tmp_path / "bare.vts", anyway=True).roles.has_velocity


def test_points_that_are_not_finite_are_refused(tmp_path):
    points = cube_points(N)
    points[3, 1] = np.inf
    write(vtkXMLStructuredGridWriter(), with_flow(structured(points)), tmp_path / "a.vts", "Binary")
    with pytest.raises(FileError, match="point 3"):
        open_flow(tmp_path / "a.vts", anyway=True)


@pytest.fixture
def own_demo(tmp_path):
    return demo_file(tmp_path)


def test_links_out_of_the_folder_and_missing_pieces(own_demo):
    text = own_demo.read_text()
    own_demo.write_text(text.replace("vortex tank/vortex tank_0.vts", "../../../../etc/passwd"))
    with pytest.raises(FileError, match="outside its own folder"):
        open_flow(own_demo)
    own_demo.write_text(text.replace("vortex tank_0.vts", "gone.vts"))
    assert any("gone.vts is missing and was left out" in told for told in open_flow(own_demo).notices)
    own_demo.write_text(text.replace("vortex tank/vortex tank_0.vts", own_demo.name))
    with pytest.raises(FileError, match="inside an index"):
        open_flow(own_demo)
    own_demo.write_text(text.replace("<DataSet", "<DataSet <"))
    with pytest.raises(FileError, match="not well-formed"):
        open_flow(own_demo)


def test_a_file_that_becomes_shorter_while_it_is_read(tmp_path, monkeypatch):
    """A solver writes its file anew in place: a message, not the end of the program."""
    from tidal_lens.formats.vtk_xml_file import XmlFile

    path = tmp_path / "a.vtu"
    grid = UnstructuredGrid(N**3, *cells_of("hexahedra", N))
    write(vtkXMLUnstructuredGridWriter(), with_flow(to_unstructured(cube_points(N), grid)), path, compress=False)
    parse = XmlFile._parse

    def cut(self):
        parse(self)
        with path.open("r+b") as stream:
            stream.truncate(3000)

    monkeypatch.setattr(XmlFile, "_parse", cut)
    with pytest.raises(FileError):
        open_flow(path)


def test_numbers_as_text_are_passed_over_wherever_a_tag_is_cut(tmp_path):
    """The frame is read in parts of 65,536 bytes: each way that a part may end within the tags around long numbers."""
    rows = np.random.default_rng(4).normal(size=(21**3, 3))
    points = " ".join(f"{x:.6f}" for x in (rows + np.indices((21, 21, 21)).reshape(3, -1).T[:, ::-1]).ravel())
    body = ('<VTKFile type="StructuredGrid"><!--{fill}--><StructuredGrid WholeExtent="0 20 0 20 0 20">'
            '<Piece Extent="0 20 0 20 0 20"><Points>'
            f'<DataArray type="Float64" NumberOfComponents="3">{points}</DataArray></Points><PointData>'
            f'<DataArray type="Float64" Name="Velocity" NumberOfComponents="3">{points}</DataArray></PointData>'
            '</Piece></StructuredGrid></VTKFile>')
    end = body.index("</DataArray>") - len("{fill}")
    for cut in (-1, 0, 1, 5, 11, 12, 13, 30, 70):
        fill = "x" * (-(end + cut) % 65536)
        (tmp_path / "a.vts").write_text(body.replace("{fill}", fill))
        flow = open_flow(tmp_path / "a.vts", anyway=True)
        assert np.allclose(flow.fields["Velocity"].values, np.array(points.split(), float).reshape(-1, 3))
        assert np.array_equal(flow.points, flow.fields["Velocity"].values)
