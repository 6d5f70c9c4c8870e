"""Particles from files: points with values of their own, whole, in pieces, step by step."""

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData, vtkUnstructuredGrid
from vtkmodules.vtkIOParallelXML import vtkXMLPPolyDataWriter
from vtkmodules.vtkIOXML import vtkXMLPolyDataWriter, vtkXMLUnstructuredGridWriter

from tidal_lens.cutting.points import scalars_of
from tidal_lens.errors import FileError
from tidal_lens.formats.clouds import is_cloud, moment_at, moments_of, read_cloud
from tidal_lens.formats.export import save_geometry
from tidal_lens.formats.written import Geometry
from tidal_lens.quantities.names import OWN
from tidal_lens.study.kinds.cloud import first_choice
from vtk_data import add, write

N = 7
PLACES = np.random.default_rng(3).random((N, 3))
SPEED = np.random.default_rng(4).random((N, 3)).astype(np.float32)


def cells(sizes):
    out = vtkCellArray()
    offsets = np.concatenate([[0], np.cumsum(sizes)])
    out.SetData(numpy_to_vtkIdTypeArray(offsets, deep=1), numpy_to_vtkIdTypeArray(np.arange(offsets[-1]), deep=1))
    return out


def laid(data):
    points = vtkPoints()
    points.SetData(numpy_to_vtk(PLACES, deep=1))
    data.SetPoints(points)
    add(data.GetPointData(), "d", np.arange(1.0, N + 1))
    add(data.GetPointData(), "U", SPEED)
    return data


def polygons(sizes=(1,) * N):
    data = laid(vtkPolyData())
    data.SetVerts(cells(list(sizes)))
    return data


def grid(kind=1, sizes=(1,) * N):
    data = laid(vtkUnstructuredGrid())
    data.SetCells(numpy_to_vtk(np.full(len(sizes), kind, np.uint8), deep=1), cells(list(sizes)))
    return data


def check(cloud):
    np.testing.assert_allclose(cloud.points, PLACES)
    np.testing.assert_array_equal(cloud.values["d"], np.arange(1.0, N + 1))
    np.testing.assert_array_equal(cloud.values["U"], SPEED)


@pytest.mark.parametrize("mode", ["Ascii", "Binary", "Appended"])
def test_vertices_of_both_kinds_of_files(tmp_path, mode):
    write(vtkXMLPolyDataWriter(), polygons(), tmp_path / "a.vtp", mode)
    write(vtkXMLUnstructuredGridWriter(), grid(), tmp_path / "a.vtu", mode)
    for name in ("a.vtp", "a.vtu"):
        assert is_cloud(tmp_path / name)
        check(read_cloud(tmp_path / name))


def test_one_cell_of_many_vertices_and_none(tmp_path):
    write(vtkXMLPolyDataWriter(), polygons((N,)), tmp_path / "one.vtp")
    write(vtkXMLUnstructuredGridWriter(), grid(2, (N,)), tmp_path / "one.vtu")
    write(vtkXMLPolyDataWriter(), laid(vtkPolyData()), tmp_path / "none.vtp")
    for name in ("one.vtp", "one.vtu", "none.vtp"):
        check(read_cloud(tmp_path / name))


def test_values_of_single_vertices_are_those_of_their_points(tmp_path):
    data = polygons()
    add(data.GetCellData(), "mass", np.arange(N) + 10.0)
    write(vtkXMLPolyDataWriter(), data, tmp_path / "a.vtp")
    np.testing.assert_array_equal(read_cloud(tmp_path / "a.vtp").values["mass"], np.arange(N) + 10.0)
    write(vtkXMLPolyDataWriter(), polygons((N,)), tmp_path / "b.vtp")
    assert "mass" not in read_cloud(tmp_path / "b.vtp").values


def test_pieces_are_one_cloud(tmp_path):
    writer = vtkXMLPPolyDataWriter()
    writer.SetNumberOfPieces(2)
    writer.SetStartPiece(0)
    writer.SetEndPiece(1)
    write(writer, polygons(), tmp_path / "a.pvtp")
    cloud = read_cloud(tmp_path / "a.pvtp")
    assert len(cloud.points) % N == 0
    assert set(cloud.values) == {"d", "U"}


def test_columns_of_a_table_are_values_and_vectors(tmp_path):
    rows = "\n".join(f"{n};{x};{y};{z};{n * 0.5};1;2;{n}" for n, (x, y, z) in enumerate(PLACES))
    (tmp_path / "a.csv").write_text(f"id;x [m];y [m];z [m];d;vel x;vel y;vel z\n{rows}\n9;nan;0;0;1;1;1;1\n")
    cloud = read_cloud(tmp_path / "a.csv")
    np.testing.assert_allclose(cloud.points, PLACES)
    assert list(cloud.values) == ["id", "d", "vel"]
    np.testing.assert_array_equal(cloud.values["vel"], np.column_stack([np.ones(N), np.full(N, 2.0), np.arange(N)]))
    scalars = scalars_of(cloud.values)
    assert list(scalars) == ["id", "d", "vel size", "vel x", "vel y", "vel z"]
    np.testing.assert_allclose(scalars["vel size"] ** 2, 5.0 + np.arange(N) ** 2)
    assert first_choice(cloud) == (f"{OWN}d", f"{OWN}vel size")


def test_what_is_no_cloud_is_told(tmp_path):
    save_geometry(tmp_path / "faces.vtp", Geometry(PLACES, np.array([[0, 1, 2, 2]]), None, {}))
    piece = '<Piece NumberOfPoints="9" NumberOfVerts="9"/>'
    (tmp_path / "broken.vtp").write_text(f'<VTKFile type="PolyData"><PolyData>{piece}</PolyData></VTKFile>')
    (tmp_path / "a.csv").write_text("x,y,p\n1,2,3\n")
    (tmp_path / "a.stl").write_text("solid a")
    for name, what in (("faces.vtp", "no particles"), ("broken.vtp", "missing"), ("a.csv", "no columns x, y and z"),
                       ("a.stl", "no file of particles"), ("gone.vtp", "cannot be read")):
        with pytest.raises(FileError, match=what):
            read_cloud(tmp_path / name)
        assert not is_cloud(tmp_path / name)


def test_steps_go_with_those_of_the_flow(tmp_path):
    for n in (0, 5, 10):
        save_geometry(tmp_path / f"spray_{n:03}.vtp", Geometry(PLACES + n, None, None, {}))
    moments = moments_of(tmp_path / "spray_005.vtp")
    assert [(t, p.name) for t, p in moments] == [(0.0, "spray_000.vtp"), (5.0, "spray_005.vtp"), (10.0, "spray_010.vtp")]
    assert [moment_at(moments, (0.0, 5.0, 10.0), n) for n in range(3)] == [0, 1, 2], "the same time"
    assert [moment_at(moments, (0.1, 0.2, 0.3), n) for n in range(3)] == [0, 1, 2], "as many steps"
    assert [moment_at(moments, (0.0, 2.0, 4.0, 9.0), n) for n in range(4)] == [0, 0, 1, 2], "the nearest"
    assert moment_at(moments, (), 0) == 0
    sets = "".join(f'<DataSet timestep="{t}" file="spray_{n:03}.vtp"/>' for t, n in ((0.5, 10), (0.25, 5)))
    (tmp_path / "all.pvd").write_text(f'<VTKFile type="Collection"><Collection>{sets}</Collection></VTKFile>')
    assert [(t, p.name) for t, p in moments_of(tmp_path / "all.pvd")] == [(0.25, "spray_005.vtp"), (0.5, "spray_010.vtp")]
    assert moments_of(tmp_path / "alone.vtp") == [(0.0, tmp_path / "alone.vtp")]
