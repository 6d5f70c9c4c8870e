"""Parts put together: boundaries as surfaces, ghosts, voxels, partial fields, guessed reference states, mutated files."""

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints, vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData, vtkUnstructuredGrid
from vtkmodules.vtkIOXML import vtkXMLPolyDataWriter, vtkXMLUnstructuredGridWriter

from making import cells_of, cube_points
from tidal_lens.errors import CancelledError, TidalLensError
from tidal_lens.flow.grid import HEXAHEDRON, UnstructuredGrid
from tidal_lens.formats.registry import open_flow
from tidal_lens.formats.vtk_write import StructuredPiece, write_multiblock, write_structured
from tidal_lens.work import Token
from vtk_data import to_unstructured

N = 5


def piece(name="b", shift=0.0, **fields):
    points = cube_points(N) + np.array([shift, 0, 0])
    fields = {"U": np.tile([2.0, 0, 0], (N**3, 1)), "p": np.full(N**3, 7.0), "rho": np.full(N**3, 1.2)} | fields
    return StructuredPiece(name, (N, N, N), points, {k: v for k, v in fields.items() if v is not None})


def test_fields_that_are_not_everywhere_are_left_out_and_told(tmp_path):
    write_multiblock(tmp_path / "a.vtm", [piece("one"), piece("two", 1.0, p=None)], [], {})
    flow = open_flow(tmp_path / "a.vtm")
    assert set(flow.fields) == {"U", "rho"}
    assert any("Not in every block, left out: p" in n for n in flow.notices)
    assert flow.seams.n_groups == N * N


def test_the_reference_state_is_guessed_and_says_so(tmp_path):
    write_structured(tmp_path / "a.vts", piece(), {})
    reference = open_flow(tmp_path / "a.vts").reference
    assert reference.velocity == (2.0, 0.0, 0.0)
    assert (reference.pressure, reference.density) == (7.0, 1.2)
    assert reference.origin.startswith("guessed")
    assert (reference.area, reference.length, reference.about) == (None, None, (0.0, 0.0, 0.0))
    write_structured(tmp_path / "c.vts", piece(), {"ReferenceArea": (2.5,), "ReferenceLength": (0.4,), "MomentPoint": (0.1, 0.0, -0.2)})
    sized = open_flow(tmp_path / "c.vts").reference
    assert (sized.area, sized.length, sized.about) == (2.5, 0.4, (0.1, 0.0, -0.2))
    assert sized.velocity == (2.0, 0.0, 0.0), "guessed as before"
    write_structured(tmp_path / "b.vts", piece(), {"ReferenceVelocity": (3.0, 0.0, 4.0), "Gamma": (1.3,)})
    stated = open_flow(tmp_path / "b.vts").reference
    assert stated.speed == 5.0
    assert stated.gamma == 1.3
    assert stated.pressure is None
    assert stated.incidence == pytest.approx(53.13, abs=0.01)


def test_surfaces_in_a_multi_block_file_are_boundaries_with_kinds(tmp_path):
    write_multiblock(tmp_path / "a.vtm", [piece()], [], {})
    sheet = vtkPolyData()
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(cube_points(N)[: N * N], deep=1))
    cells = vtkCellArray()
    for j in range(N - 1):
        for i in range(N - 1):
            a = i + N * j
            cells.InsertNextCell(4, [a, a + 1, a + N + 1, a + N])
    sheet.SetPoints(holder)
    sheet.SetPolys(cells)
    writer = vtkXMLPolyDataWriter()
    writer.SetFileName(str(tmp_path / "a" / "side.vtp"))
    writer.SetInputData(sheet)
    writer.Write()
    text = (tmp_path / "a.vtm").read_text()
    kinds = {"inflow": "inlet", "Symmetry plane": "symmetry", "body surface": "wall", "farfield": "far field", "x1": "far field"}
    for name, kind in kinds.items():
        extra = f'<Block index="9" name="sides"><DataSet index="0" name="{name}" file="a/side.vtp"/></Block></vtkMultiBlockDataSet>'
        (tmp_path / "b.vtm").write_text(text.replace("</vtkMultiBlockDataSet>", extra))
        flow = open_flow(tmp_path / "b.vtm")
        assert (flow.boundaries[0].name, flow.boundaries[0].kind) == (name, kind)
        assert len(flow.boundaries[0].faces) == (N - 1) ** 2
        rest = [b for b in flow.boundaries if b.found]
        assert sum(len(b.faces) for b in rest) == 5 * (N - 1) ** 2, "what is named is not outside a second time"


def write_unstructured(path, data):
    n = data.GetNumberOfPoints()
    array = numpy_to_vtk(np.tile([1.0, 0, 0], (n, 1)), deep=1)
    array.SetName("U")
    data.GetPointData().AddArray(array)
    writer = vtkXMLUnstructuredGridWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    assert writer.Write() == 1


def test_ghost_cells_are_dropped(tmp_path):
    corners, types = cells_of("hexahedra", N)
    data = to_unstructured(cube_points(N), UnstructuredGrid(N**3, corners, types))
    ghosts = vtkUnsignedCharArray()
    ghosts.SetName("vtkGhostType")
    for cell in range(len(corners)):
        ghosts.InsertNextValue(1 if cell < 10 else 0)
    data.GetCellData().AddArray(ghosts)
    write_unstructured(tmp_path / "a.vtu", data)
    flow = open_flow(tmp_path / "a.vtu")
    assert flow.n_cells == len(corners) - 10
    assert "vtkGhostType" not in flow.fields


def test_voxels_are_hexahedra_and_flat_cells_are_passed_over(tmp_path):
    data = vtkUnstructuredGrid()
    holder = vtkPoints()
    for z in (0, 1):
        for y in (0, 1):
            for x in (0, 1):
                holder.InsertNextPoint(x, y, z)
    data.SetPoints(holder)
    data.InsertNextCell(11, 8, list(range(8)))
    data.InsertNextCell(9, 4, [0, 1, 3, 2])
    write_unstructured(tmp_path / "a.vtu", data)
    flow = open_flow(tmp_path / "a.vtu")
    assert flow.n_cells == 1
    assert flow.blocks[0].grid.types.tolist() == [HEXAHEDRON]
    corner = flow.points[flow.blocks[0].grid.corners[0]]
    assert np.linalg.norm(corner[2] - corner[1]) == 1.0
    assert np.linalg.norm(corner[6] - corner[0]) == pytest.approx(np.sqrt(3))


def test_opening_can_be_cancelled(tmp_path):
    write_multiblock(tmp_path / "a.vtm", [piece("one"), piece("two", 1.0)], [], {})
    token = Token()
    token.cancel()
    with pytest.raises(CancelledError):
        open_flow(tmp_path / "a.vtm", token)


def test_mutated_files_never_do_worse_than_a_message(tmp_path):
    """A short fuzz: bytes changed, removed and doubled at random places; each opens or fails with our own error."""
    write_structured(tmp_path / "a.vts", piece(), {})
    whole = (tmp_path / "a.vts").read_bytes()
    rng = np.random.default_rng(7)
    refused = 0
    for _ in range(120):
        data = bytearray(whole)
        for _ in range(int(rng.integers(1, 6))):
            at = int(rng.integers(0, len(data)))
            kind = rng.integers(0, 3)
            if kind == 0:
                data[at] = int(rng.integers(0, 256))
            elif kind == 1:
                del data[at:at + int(rng.integers(1, 30))]
            else:
                data[at:at] = data[at:at + int(rng.integers(1, 30))]
        (tmp_path / "m.vts").write_bytes(bytes(data))
        try:
            flow = open_flow(tmp_path / "m.vts", anyway=True)
        except TidalLensError:
            refused += 1
        else:
            assert np.isfinite(flow.points).all()
            assert all(len(f.values) in (flow.n_points, flow.n_cells) for f in flow.fields.values())
    assert refused > 40
