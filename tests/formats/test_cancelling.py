"""Opening is given up wherever it is: it works for half a second at most after a cancel."""

import random
import threading
import time

import meshio
import numpy as np
import pytest
from vtkmodules.vtkCommonCore import vtkDoubleArray
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkRectilinearGrid
from vtkmodules.vtkIOHDF import vtkHDFWriter
from vtkmodules.vtkIOLegacy import vtkDataSetWriter
from vtkmodules.vtkIOXML import vtkXMLImageDataWriter, vtkXMLRectilinearGridWriter, vtkXMLStructuredGridWriter, vtkXMLUnstructuredGridWriter

from making import cells_of, cube_points
from tidal_lens.errors import CancelledError
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.formats.export import save_flow, save_geometry
from tidal_lens.formats.registry import open_flow
from tidal_lens.formats.written import FlowData, Geometry
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.beginnings import first_study
from tidal_lens.work import Token, working_for
from vtk_data import add, structured, to_unstructured, write

_GIVEN_UP = 0.5  # seconds of the processor: what else runs on the machine does not count
_HUNG = 60.0  # seconds


def with_values(data, points):
    for name, values in (("Velocity", np.column_stack([1 + points[:, 2], points[:, 0], 0 * points[:, 0]])), ("Pressure", points[:, 0])):
        add(data.GetPointData(), name, values)
    return data


def mesh(kind, n=36):
    points = cube_points(n)
    return with_values(to_unstructured(points, UnstructuredGrid(n**3, *cells_of(kind, n))), points)


def loose(n=24):
    corners, types = cells_of("hexahedra", n)
    points = cube_points(n)[corners].reshape(-1, 3)
    return with_values(to_unstructured(points, UnstructuredGrid(len(points), np.arange(len(points), dtype=np.int32).reshape(-1, 8), types)),
                       points)


def legacy(path, data, binary):
    writer = vtkDataSetWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    (writer.SetFileTypeToBinary if binary else writer.SetFileTypeToASCII)()
    writer.Write()


def hdf(path, data):
    writer = vtkHDFWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    writer.Write()


def image(n=80):
    grid = vtkImageData()
    grid.SetDimensions(n, n, n)
    grid.SetSpacing(*[1 / (n - 1)] * 3)
    return with_values(grid, cube_points(n))


def rectilinear(n=80):
    grid = vtkRectilinearGrid()
    grid.SetDimensions(n, n, n)
    for put in (grid.SetXCoordinates, grid.SetYCoordinates, grid.SetZCoordinates):
        axis = vtkDoubleArray()
        for value in np.linspace(0, 1, n):
            axis.InsertNextValue(value)
        put(axis)
    return with_values(grid, cube_points(n))


def plane_flow(path, n=300):
    index = np.arange(n * n).reshape(n, n)
    faces = np.stack([index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]], axis=-1).reshape(-1, 4)
    y, x = (a.ravel() for a in np.mgrid[0:1:n * 1j, 0:1:n * 1j])
    points = np.column_stack([x, y, 0 * x])
    save_geometry(path, Geometry(points, faces, None, {"Velocity": np.column_stack([1 + y, x, 0 * x]), "Pressure": x}))


def pieces(folder, kind, writer, made):
    """A file in pieces of a kind, and a collection of it as three steps."""
    arrays = ('<PPointData><PDataArray type="Float64" Name="Velocity" NumberOfComponents="3"/><PDataArray type="Float64" Name="Pressure"/>'
              '</PPointData><PPoints><PDataArray type="Float64" NumberOfComponents="3"/></PPoints>')
    for name, data in made.items():
        write(writer(), data, folder / name)
    sources = "".join(f'<Piece Source="{name}"/>' for name in made)
    path = folder / "pieces.pvtu"
    path.write_text(f'<VTKFile type="P{kind}" version="0.1"><P{kind} GhostLevel="0">{arrays}{sources}</P{kind}></VTKFile>')
    steps = "".join(f'<DataSet timestep="{t}" file="{path.name}"/>' for t in range(3))
    (folder / "steps.pvd").write_text(f'<VTKFile type="Collection" version="0.1"><Collection>{steps}</Collection></VTKFile>')


def part(low, n=20):
    points = cube_points(n) + np.array([low, 0, 0])
    return with_values(to_unstructured(points, UnstructuredGrid(n**3, *cells_of("tetrahedra", n))), points)


def meshes(folder, forms, n=40):
    corners, _ = cells_of("hexahedra", n)
    points = cube_points(n)
    values = {"Velocity": np.column_stack([1 + points[:, 2], points[:, 0], 0 * points[:, 0]]), "Pressure": points[:, 0]}
    for name, form in forms.items():
        meshio.Mesh(points, [("hexahedron", corners)], point_data=values).write(folder / name, data_format=form)


def written_again(path, suffix):
    flow = open_flow(path)
    save_flow(path.with_suffix(suffix), FlowData(flow, {n: f.values for n, f in flow.fields.items()}, {}))


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    out = tmp_path_factory.mktemp("large")
    write(vtkXMLUnstructuredGridWriter(), mesh("tetrahedra"), out / "binary.vtu", "Binary", True)
    write(vtkXMLUnstructuredGridWriter(), mesh("wedges", 24), out / "text.vtu", "Ascii", False)
    write(vtkXMLUnstructuredGridWriter(), loose(), out / "loose.vtu")
    write(vtkXMLStructuredGridWriter(), with_values(structured(cube_points(80), (80, 80, 80)), cube_points(80)), out / "lattice.vts")
    legacy(out / "binary.vtk", mesh("hexahedra", 40), True)
    legacy(out / "text.vtk", mesh("hexahedra", 28), False)
    hdf(out / "mesh.vtkhdf", mesh("tetrahedra"))
    written_again(out / "binary.vtu", ".cgns")
    written_again(out / "lattice.vts", ".cgns")
    written_again(out / "lattice.vts", ".vtm")
    write(vtkXMLImageDataWriter(), image(), out / "image.vti")
    write(vtkXMLRectilinearGridWriter(), rectilinear(), out / "planes.vtr")
    plane_flow(out / "plane.vtp")
    pieces(out, "UnstructuredGrid", vtkXMLUnstructuredGridWriter, {f"part {n}.vtu": part(float(n)) for n in range(6)})
    meshes(out, {"heavy.xdmf": "HDF", "plain.xdmf": "Binary"})
    meshes(out, {"text.xdmf": "XML"}, 24)
    return out


def whole(path, token):
    """All that opening does before there is a picture."""
    with working_for(token):
        flow = open_flow(path, token)
        first_study(flow, QuantityStore(flow, flow.reference))


@pytest.mark.parametrize("name", ["binary.vtu", "text.vtu", "loose.vtu", "lattice.vts", "binary.vtk", "text.vtk", "mesh.vtkhdf",
                                  "binary.cgns", "lattice.cgns", "lattice.vtm", "image.vti", "planes.vtr", "plane.vtp",
                                  "pieces.pvtu", "steps.pvd", "heavy.xdmf", "plain.xdmf", "text.xdmf"])
def test_opening_is_given_up_at_any_moment(folder, name):
    path, chance = folder / name, random.Random(name)
    whole(path, Token())  # kernels are compiled where that was not done before
    began = time.monotonic()
    whole(path, Token())
    lasts = time.monotonic() - began
    ends, heard, done = [], [], []
    for turn in range(6):
        token = Token()

        def run(token=token):
            try:
                whole(path, token)
                ends.append("opened")
            except CancelledError:
                ends.append("cancelled")
            done.append(time.process_time())

        thread = threading.Thread(target=run)
        thread.start()
        thread.join(chance.uniform(0.0, 0.8) * lasts if turn else 0.1 * lasts)
        heard.append(time.process_time())
        token.cancel()
        thread.join(_HUNG)
        assert not thread.is_alive(), "it is not given up at all"
        assert done[-1] - heard[-1] < _GIVEN_UP, "it went on after the cancel"
    assert set(ends) <= {"cancelled", "opened"}
    assert "cancelled" in ends, "a cancel before its end is heard"
