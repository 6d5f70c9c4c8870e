"""Rarer spellings of open formats: compressors, byte orders, older lists of polyhedra, lattices in XDMF."""

import numpy as np
import pytest
from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridWriter

from cell_checks import check_whole, honeycomb, linear, stream
from making import cells_of, cube_points
from tidal_lens.errors import FileError
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.formats.registry import open_flow
from vtk_data import add, to_unstructured

N = 5


def mesh():
    data = to_unstructured(cube_points(N), UnstructuredGrid(N**3, *cells_of("tetrahedra", N)))
    add(data.GetPointData(), "Velocity", stream(cube_points(N)))
    add(data.GetPointData(), "p", linear(cube_points(N)).astype(np.float32))
    return data


@pytest.mark.parametrize("compressor", ["None", "ZLib", "LZ4", "LZMA"])
@pytest.mark.parametrize("order", ["Little", "Big"])
@pytest.mark.parametrize("mode", ["appended raw", "appended base64", "binary"])
@pytest.mark.parametrize("header", [32, 64])
def test_vtk_xml_of_every_encoding(tmp_path, compressor, order, mode, header):
    writer = vtkXMLUnstructuredGridWriter()
    writer.SetFileName(str(tmp_path / "a.vtu"))
    writer.SetInputData(mesh())
    getattr(writer, f"SetCompressorTypeTo{compressor}")()
    writer.SetBlockSize(1024)  # several blocks an array
    getattr(writer, f"SetByteOrderTo{order}Endian")()
    (writer.SetHeaderTypeToUInt64 if header == 64 else writer.SetHeaderTypeToUInt32)()
    if mode == "binary":
        writer.SetDataModeToBinary()
    else:
        writer.SetDataModeToAppended()
        writer.SetEncodeAppendedData(mode == "appended base64")
    assert writer.Write() == 1
    flow = open_flow(tmp_path / "a.vtu")
    np.testing.assert_array_equal(flow.points, cube_points(N))
    np.testing.assert_array_equal(flow.fields["Velocity"].values, stream(cube_points(N)))
    np.testing.assert_array_equal(flow.fields["p"].values, linear(cube_points(N)).astype(np.float32))
    assert flow.n_cells == 6 * (N - 1) ** 3


def xml(points, cells, faces, ends):
    def text(values):
        return " ".join(str(v) for v in np.ravel(values))

    own = [sorted({int(n) for f in cell for n in f}) for cell in cells]
    return f"""<?xml version="1.0"?><VTKFile type="UnstructuredGrid" version="0.1" byte_order="LittleEndian"><UnstructuredGrid>
<Piece NumberOfPoints="{len(points)}" NumberOfCells="{len(cells)}"><PointData>
<DataArray type="Float64" Name="Velocity" NumberOfComponents="3" format="ascii">{text(stream(points))}</DataArray>
<DataArray type="Float64" Name="p" format="ascii">{text(linear(points))}</DataArray></PointData>
<Points><DataArray type="Float64" NumberOfComponents="3" format="ascii">{text(points)}</DataArray></Points><Cells>
<DataArray type="Int64" Name="connectivity" format="ascii">{text([n for o in own for n in o])}</DataArray>
<DataArray type="Int64" Name="offsets" format="ascii">{text(np.cumsum([len(o) for o in own]))}</DataArray>
<DataArray type="UInt8" Name="types" format="ascii">{text([42] * len(cells))}</DataArray>
<DataArray type="Int64" Name="faces" format="ascii">{text(faces)}</DataArray>
<DataArray type="Int64" Name="faceoffsets" format="ascii">{text(ends)}</DataArray></Cells></Piece></UnstructuredGrid></VTKFile>"""


def streamed(cells):
    flat, ends = [], []
    for cell in cells:
        flat.append(len(cell))
        for face in cell:
            flat += [len(face), *(int(n) for n in face)]
        ends.append(len(flat))
    return flat, ends


def test_polyhedra_as_older_files_list_them(tmp_path):
    points, cells = honeycomb()
    (tmp_path / "a.vtu").write_text(xml(points, cells, *streamed(cells)))
    hexagon = 1.5 * np.sqrt(3.0)
    check_whole(open_flow(tmp_path / "a.vtu"), 48 * hexagon, 32 * hexagon + 90.0)
    flat, ends = streamed(cells)
    for broken in (flat[:-3], [99, *flat[1:]], [flat[0], 2, *flat[2:]]):
        (tmp_path / "b.vtu").write_text(xml(points, cells, broken, ends))
        with pytest.raises(FileError, match="polyhedra"):
            open_flow(tmp_path / "b.vtu")


def xdmf(topology, geometry, points, extra=""):
    u = " ".join(f"{v:.12g}" for v in stream(points).ravel())
    return (f'<Xdmf Version="2.0"><Domain><Grid Name="g"><Topology {topology}</Topology><Geometry {geometry}</Geometry>'
            f'<Attribute Name="U" AttributeType="Vector" Center="Node"><DataItem Dimensions="{len(points)} 3" Precision="8">{u}</DataItem>'
            f"</Attribute>{extra}</Grid></Domain></Xdmf>")


def item(values):
    return f'<DataItem Dimensions="{np.size(values)}" Precision="8">{" ".join(f"{v:.12g}" for v in np.ravel(values))}</DataItem>'


def test_lattices_in_xdmf(tmp_path):
    """Dimensions, origin and spacing come slowest axis first."""
    axes = np.linspace(0, 1, 3), np.linspace(2, 5, 4), np.linspace(-1, 1, 5)
    z, y, x = (a.ravel() for a in np.meshgrid(axes[2], axes[1], axes[0], indexing="ij"))
    points = np.column_stack([x, y, z])
    spellings = {
        "uniform": ('TopologyType="3DCoRectMesh" Dimensions="5 4 3">',
                    'GeometryType="ORIGIN_DXDYDZ">' + item([-1, 2, 0]) + item([0.5, 1, 0.5])),
        "rectilinear": ('TopologyType="3DRectMesh" Dimensions="5 4 3">', 'GeometryType="VXVYVZ">' + "".join(item(a) for a in axes)),
        "curvilinear": ('TopologyType="3DSMesh" Dimensions="5 4 3">', 'GeometryType="XYZ">' + item(points))}
    for form, (topology, geometry) in spellings.items():
        (tmp_path / "a.xmf").write_text(xdmf(topology, geometry, points))
        flow = open_flow(tmp_path / "a.xmf")
        assert flow.blocks[0].grid == StructuredGrid((3, 4, 5), form)
        np.testing.assert_allclose(flow.points, points, atol=1e-12)
        np.testing.assert_allclose(flow.fields["U"].values, stream(points), atol=1e-9)
    (tmp_path / "a.xmf").write_text(xdmf('TopologyType="3DSMesh" Dimensions="5 4 3">', 'GeometryType="X_Y_Z">'
                                         + "".join(item(points[:, a]) for a in range(3)), points))
    np.testing.assert_allclose(open_flow(tmp_path / "a.xmf").points, points, atol=1e-12)


def test_polyhedra_hyperslabs_and_references_in_xdmf(tmp_path):
    points, cells = honeycomb(2, 1)
    flat = [n for cell in cells for n in [16, len(cell), *(m for f in cell for m in [len(f), *(int(k) for k in f)])]]
    connectivity = f'<DataItem Dimensions="{len(flat)}" NumberType="Int">{" ".join(map(str, flat))}</DataItem>'
    twice = np.column_stack([linear(points), 7.0 + 0 * points[:, 0]])
    slab = (f'<Attribute Name="p" Center="Node"><DataItem ItemType="HyperSlab" Dimensions="{len(points)} 1">'
            f'<DataItem Dimensions="3 2" NumberType="Int">0 0 1 1 {len(points)} 1</DataItem>'
            f'<DataItem Dimensions="{len(points)} 2" Precision="8">'
            f'{" ".join(f"{v:.12g}" for v in twice.ravel())}</DataItem></DataItem></Attribute>'
            f'<Attribute Name="again" Center="Node"><DataItem Reference="/Xdmf/Domain/Grid/Geometry/DataItem"/></Attribute>')
    (tmp_path / "a.xdmf").write_text(xdmf(f'TopologyType="Mixed" NumberOfElements="{len(cells)}">{connectivity}',
                                          'GeometryType="XYZ">' + item(points), points, slab))
    flow = open_flow(tmp_path / "a.xdmf")
    hexagon = 1.5 * np.sqrt(3.0)
    np.testing.assert_allclose(flow.fields["p"].values, linear(flow.points), atol=1e-9)
    np.testing.assert_allclose(flow.fields["again"].values, flow.points, atol=1e-9)
    from cell_checks import volumes

    assert volumes(flow.points, flow.blocks[0].grid).sum() == pytest.approx(4 * hexagon)
