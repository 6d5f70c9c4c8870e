"""Results in many pieces, partitioned sets and time collections, as parallel solvers write them."""

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkStructuredGrid
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter, vtkXMLUnstructuredGridWriter

from making import cube_points, hexahedra
from tidal_lens.cutting.contour import axis_slice
from tidal_lens.errors import FileError
from tidal_lens.flow.grid import HEXAHEDRON, UnstructuredGrid
from tidal_lens.formats.numbered import siblings
from tidal_lens.formats.registry import open_flow
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines
from vtk_data import to_unstructured

N = 9


def fill(data, points, time=0.0):
    for name, values in (("U", np.column_stack([np.ones(len(points)), 0.2 + 0 * points[:, 0], points[:, 0]])),
                         ("p", points[:, 0] + 2 * points[:, 1] + time)):
        array = numpy_to_vtk(np.ascontiguousarray(values), deep=1)
        array.SetName(name)
        data.GetPointData().AddArray(array)
    return data


def flag(data, ghost):
    array = numpy_to_vtk(ghost.astype(np.uint8), deep=1)
    array.SetName("vtkGhostType")
    data.GetCellData().AddArray(array)


def write(writer, path, data):
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    assert writer.Write() == 1


def unstructured_pieces(folder, ghosts):
    """A cube in three slabs along x, with a layer of the neighbours' cells flagged as duplicates."""
    points, corners = cube_points(N), hexahedra(N)
    middle = points[corners].mean(axis=1)[:, 0]
    borders = [0.0, 0.25, 0.625, 1.0]
    names = []
    for n in range(3):
        reach = 0.13 if ghosts else 0.0
        chosen = (middle > borders[n] - reach) & (middle < borders[n + 1] + reach)
        nodes, compact = np.unique(corners[chosen], return_inverse=True)
        grid = UnstructuredGrid(len(nodes), compact.reshape(-1, 8).astype(np.int32), np.full(chosen.sum(), HEXAHEDRON, np.uint8))
        data = fill(to_unstructured(points[nodes], grid), points[nodes])
        if ghosts:
            flag(data, (middle[chosen] < borders[n]) | (middle[chosen] > borders[n + 1]))
        names.append(f"run_{n}.vtu")
        write(vtkXMLUnstructuredGridWriter(), folder / names[-1], data)
    index(folder / "run.pvtu", "PUnstructuredGrid", "".join(f'<Piece Source="{name}"/>' for name in names))
    return folder / "run.pvtu"


def index(path, kind, content):
    path.write_text(f'<?xml version="1.0"?>\n<VTKFile type="{kind}" version="0.1">\n<{kind}>{content}</{kind}>\n</VTKFile>\n')
    return path


def structured(path, box, ghost=None, time=0.0):
    """A part (i, i, j, j, k, k) of the cube as a structured piece."""
    part = cube_points(N).reshape(N, N, N, 3)[box[4]:box[5] + 1, box[2]:box[3] + 1, box[0]:box[1] + 1]
    data = vtkStructuredGrid()
    data.SetExtent(*box)
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(np.ascontiguousarray(part.reshape(-1, 3)), deep=1))
    data.SetPoints(holder)
    fill(data, part.reshape(-1, 3), time)
    if ghost is not None:
        i = np.arange(box[0], box[1])
        shape = (box[5] - box[4], box[3] - box[2], len(i))
        flag(data, np.broadcast_to((i < ghost[0]) | (i >= ghost[1]), shape).ravel())
    write(vtkXMLStructuredGridWriter(), path, data)
    return path


def whole_as_one(flow):
    assert flow.n_cells == (N - 1) ** 3
    assert sum(len(b.faces) for b in flow.boundaries) == 6 * (N - 1) ** 2  # no face of a cut is outside
    lines = trace_lines(flow, mesh_of(flow), flow.fields["U"].values, np.array([[0.02, 0.3, 0.1], [0.05, 0.5, 0.3]]), TraceSettings())
    assert (lines.ends[:, 1] == End.LEFT).all()
    for n in range(2):
        assert lines.points[lines.offsets[n + 1] - 1, 0] == pytest.approx(1.0, abs=1e-3)
    values = flow.fields["p"].values
    assert np.abs(values - flow.points[:, 0] - 2 * flow.points[:, 1]).max() < 1e-12


@pytest.mark.parametrize("ghosts", [False, True])
def test_unstructured_pieces_are_one_flow(tmp_path, ghosts):
    flow = open_flow(unstructured_pieces(tmp_path, ghosts))
    assert [(b.name, b.grid.n_points, b.grid.origin) for b in flow.blocks] == [("run", N**3, "joined from 3 pieces")]
    whole_as_one(flow)


@pytest.mark.parametrize("ghosts", [False, True])
def test_structured_pieces_are_one_flow(tmp_path, ghosts):
    if ghosts:
        structured(tmp_path / "a.vts", (0, 5, 0, 8, 0, 8), (0, 4))
        structured(tmp_path / "b.vts", (3, 8, 0, 8, 0, 8), (4, 8))
    else:
        structured(tmp_path / "a.vts", (0, 4, 0, 8, 0, 8))
        structured(tmp_path / "b.vts", (4, 8, 0, 8, 0, 8))
    flow = open_flow(index(tmp_path / "run.pvts", "PStructuredGrid", '<Piece Extent="" Source="a.vts"/><Piece Source="b.vts"/>'))
    assert [b.grid.dims for b in flow.blocks] == [(5, 9, 9), (5, 9, 9)]
    whole_as_one(flow)


def test_a_piece_that_is_all_ghosts_is_left_out(tmp_path):
    structured(tmp_path / "a.vts", (0, 8, 0, 8, 0, 8))
    structured(tmp_path / "b.vts", (3, 5, 0, 8, 0, 8), (8, 8))
    flow = open_flow(index(tmp_path / "run.pvts", "PStructuredGrid", '<Piece Source="a.vts"/><Piece Source="b.vts"/>'))
    assert len(flow.blocks) == 1
    assert any("left out" in text for text in flow.notices)


def test_hidden_cells_inside_a_block_are_left_out(tmp_path):
    path = tmp_path / "hole.vts"
    box = (0, 8, 0, 8, 0, 8)
    structured(path, box, (0, 8))
    from vtkmodules.vtkIOXML import vtkXMLStructuredGridReader

    reader = vtkXMLStructuredGridReader()
    reader.SetFileName(str(path))
    reader.Update()
    data = reader.GetOutput()
    ghost = np.zeros((8, 8, 8), np.uint8)
    ghost[3:5, 3:5, 3:5] = 32
    flag(data, ghost.ravel())
    write(vtkXMLStructuredGridWriter(), path, data)
    flow = open_flow(path)
    assert flow.n_cells == 512 - 8
    hole = axis_slice(flow, 0, 0.5 * sum(flow.bounds)[0] + 1e-3)
    low, high = flow.bounds
    whole = (high - low)[1] * (high - low)[2]
    assert hole.area == pytest.approx(whole * (1 - 4 / 64), rel=1e-6)


def test_a_partitioned_collection(tmp_path):
    structured(tmp_path / "a.vts", (0, 4, 0, 8, 0, 8))
    structured(tmp_path / "b.vts", (4, 8, 0, 8, 0, 8))
    content = ('<Partitions index="0" name="front"><DataSet index="0" file="a.vts"/></Partitions>'
               '<Partitions index="1" name="rear"><DataSet index="0" file="b.vts"/></Partitions>')
    flow = open_flow(index(tmp_path / "run.vtpc", "vtkPartitionedDataSetCollection", content))
    assert [b.name for b in flow.blocks] == ["front", "rear"]
    whole_as_one(flow)


def test_a_partitioned_set(tmp_path):
    structured(tmp_path / "a.vts", (0, 4, 0, 8, 0, 8))
    structured(tmp_path / "b.vts", (4, 8, 0, 8, 0, 8))
    content = '<DataSet index="0" file="a.vts"/><DataSet index="1" file="b.vts"/>'
    whole_as_one(open_flow(index(tmp_path / "run.vtpd", "vtkPartitionedDataSet", content)))


def series(folder, times=(0.5, 0.0, 2.0)):
    rows = []
    for n, time in enumerate(times):
        for side, box in (("a", (0, 4, 0, 8, 0, 8)), ("b", (4, 8, 0, 8, 0, 8))):
            structured(folder / f"{side}{n}.vts", box, time=time)
            rows.append(f'<DataSet timestep="{time}" part="0" name="{side}" file="{side}{n}.vts"/>')
    return index(folder / "run.pvd", "Collection", "".join(rows))


def test_a_collection_is_a_time_series_in_order(tmp_path):
    path = series(tmp_path)
    for step, time in enumerate((0.0, 0.5, 2.0)):
        flow = open_flow(path, step=step)
        assert (flow.times, flow.step) == ((0.0, 0.5, 2.0), step)
        assert [b.name for b in flow.blocks] == ["a", "b"]
        assert np.abs(flow.fields["p"].values - flow.points[:, 0] - 2 * flow.points[:, 1] - time).max() < 1e-12
        assert flow.path == path
    assert open_flow(path, step=99).step == 2


def test_a_missing_moment_harms_no_other(tmp_path):
    path = series(tmp_path)
    (tmp_path / "b0.vts").unlink()  # of time 0.5
    flow = open_flow(path, step=1)
    assert [b.name for b in flow.blocks] == ["a"]
    assert any("b0.vts is missing and was left out" in text for text in flow.notices)
    (tmp_path / "a0.vts").unlink()
    with pytest.raises(FileError, match=r"t = 0\.5, \w0\.vts, is missing"):
        open_flow(path, step=1)
    assert open_flow(path, step=2).step == 2


def test_a_collection_of_pieces(tmp_path):
    unstructured_pieces(tmp_path, True)
    flow = open_flow(index(tmp_path / "run.pvd", "Collection", '<DataSet timestep="3" file="run.pvtu"/>'))
    assert flow.times == (3.0,)
    whole_as_one(flow)


@pytest.mark.parametrize(("kind", "content", "match"), [
    ("PUnstructuredGrid", '<Piece Source="../out.vtu"/>', "outside its own folder"),
    ("PUnstructuredGrid", '<Piece Source="gone.vtu"/>', "not even gone.vtu"),
    ("PUnstructuredGrid", '<Piece Source="a.vts"/>', "holds StructuredGrid"),
    ("PUnstructuredGrid", "", "names no pieces"),
    ("PStructuredGrid", '<Piece Source="run.x"/>', "holds PStructuredGrid"),
    ("Collection", '<DataSet timestep="soon" file="a.vts"/>', "no number"),
    ("Collection", '<DataSet timestep="nan" file="a.vts"/>', "not finite"),
    ("Collection", '<DataSet timestep="1" file="../../etc/passwd"/>', "outside its own folder"),
    ("Collection", '<DataSet timestep="1" file="run.x"/>', "inside a time series"),
    ("Collection", "<Nothing/>", "names no files"),
    ("Collection", "<DataSet", "not well-formed"),
    ("vtkPartitionedDataSetCollection", '<Partitions><DataSet file="run.x"/></Partitions>', "inside an index"),
])
def test_indexes_that_cannot_be_followed(tmp_path, kind, content, match):
    structured(tmp_path / "a.vts", (0, 4, 0, 8, 0, 8))
    with pytest.raises(FileError, match=match):
        open_flow(index(tmp_path / "run.x", kind, content))


def numbered(folder, numbers=("8", "09", "10", "120")):
    for n, number in enumerate(numbers):
        structured(folder / f"run 2.5_{number}.vts", (0, 8, 0, 8, 0, 8), time=float(n))
    return folder / f"run 2.5_{numbers[2]}.vts"


def test_numbered_files_are_found_in_the_order_of_their_numbers(tmp_path):
    path = numbered(tmp_path)
    for other in ("run 2.6_11.vts", "run 2.5_11.vtu", "run 2.5_x.vts", "run 2.5_12 copy.vts"):
        (tmp_path / other).write_text("")
    (tmp_path / "run 2.5_13.vts").mkdir()
    assert [number for number, _ in siblings(path)] == [8, 9, 10, 120]
    assert siblings(tmp_path / "alone.vts") == []


def test_numbered_files_are_one_series_if_wanted(tmp_path):
    path = numbered(tmp_path)
    assert open_flow(path).times == ()
    flow = open_flow(path, step=None, numbered=True)
    assert (flow.times, flow.step, flow.path) == ((8.0, 9.0, 10.0, 120.0), 2, path)
    for step in range(4):
        moment = open_flow(path, step=step, numbered=True)
        assert np.abs(moment.fields["p"].values - moment.points[:, 0] - 2 * moment.points[:, 1] - step).max() < 1e-12
    structured(tmp_path / "single_1.vts", (0, 8, 0, 8, 0, 8))
    with pytest.raises(FileError, match="no other files"):
        open_flow(tmp_path / "single_1.vts", numbered=True)
