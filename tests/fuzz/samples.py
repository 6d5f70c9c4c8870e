"""One small good file of every format, in every shape that its reader treats on its own."""

import sys
from pathlib import Path

import h5py
import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkUnstructuredGrid
from vtkmodules.vtkIOHDF import vtkHDFWriter
from vtkmodules.vtkIOLegacy import vtkDataSetWriter
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter, vtkXMLUnstructuredGridWriter

sys.path.insert(0, str(Path(__file__).parent.parent))

from cell_checks import filled, honeycomb, linear, polyhedron, stream
from making import cells_of, cube_points
from small_series import series
from tidal_lens.cutting.contour import to_unstructured
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.formats.export import Geometry, save_geometry
from vtk_data import structured, write


def _polyhedra():
    points, cells = honeycomb(2, 1)
    data = vtkUnstructuredGrid()
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(points, deep=1))
    data.SetPoints(holder)
    for cell in cells:
        polyhedron(data, cell)
    return filled(data)


def _mesh(kind="hexahedra"):
    return filled(to_unstructured(cube_points(4), UnstructuredGrid(64, *cells_of(kind, 4))))


def _legacy(path, data, binary, version):
    writer = vtkDataSetWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    writer.SetFileVersion(version)
    (writer.SetFileTypeToBinary if binary else writer.SetFileTypeToASCII)()
    writer.Write()
    return path


def _hdf(path, data):
    writer = vtkHDFWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    writer.Write()
    return path


def _xdmf(path):
    points, corners = cube_points(3), cells_of("hexahedra", 3)[0]
    with h5py.File(path.with_suffix(".h5"), "w") as file:
        file["x"], file["c"], file["u"] = points, corners, stream(points)

    def item(inner, shape, kind="Float"):
        return f'<DataItem Format="HDF" NumberType="{kind}" Precision="8" Dimensions="{shape}">{path.stem}.h5:/{inner}</DataItem>'

    text = " ".join(f"{v:.3f}" for v in linear(points))
    path.write_text('<?xml version="1.0"?><Xdmf Version="3.0"><Domain><Grid Name="g"><Topology TopologyType="Hexahedron">'
                    f'{item("c", "8 8", "Int")}</Topology>'
                    f'<Geometry GeometryType="XYZ">{item("x", "27 3")}</Geometry><Attribute Name="Velocity" Center="Node">'
                    f'{item("u", "27 3")}</Attribute><Attribute Name="p" Center="Node"><DataItem Dimensions="27">{text}</DataItem>'
                    "</Attribute></Grid></Domain></Xdmf>")
    return path


def make_samples(folder):
    """Good files of all formats; the files that a file links to stand beside it."""
    made = []
    for mode, compress in (("Ascii", False), ("Binary", True), ("Appended", False), ("Appended", True)):
        for kind in ("hexahedra", "tetrahedra"):
            path = folder / f"{kind}-{mode}-{compress}.vtu"
            write(vtkXMLUnstructuredGridWriter(), _mesh(kind), path, mode, compress)
            made.append(path)
        path = folder / f"{mode}-{compress}.vts"
        write(vtkXMLStructuredGridWriter(), filled(structured()), path, mode, compress)
        made.append(path)
    path = folder / "polyhedra.vtu"
    write(vtkXMLUnstructuredGridWriter(), _polyhedra(), path)
    made.append(path)
    for binary in (False, True):
        made += [_legacy(folder / f"mesh-{binary}-{version}.vtk", _mesh("wedges"), binary, version) for version in (42, 51)]
        made.append(_legacy(folder / f"block-{binary}.vtk", filled(structured()), binary, 51))
        made.append(_legacy(folder / f"polyhedra-{binary}.vtk", _polyhedra(), binary, 42))
    made += [_hdf(folder / "mesh.vtkhdf", _mesh()), _hdf(folder / "polyhedra.vtkhdf", _polyhedra()), _xdmf(folder / "mesh.xdmf")]
    made.append(series(folder)[0])
    made.append(folder / "run 01.cgns")
    data = Path(__file__).parent.parent / "data"
    for name in ("duct linear.cgns",):
        path = folder / name
        path.write_bytes((data / name).read_bytes())
        made.append(path)
    body = Geometry(cube_points(3), np.array([(0, 1, 4, 3), (1, 2, 5, 5), (3, 4, 7, 6)]), None, {"p": np.arange(27.0)})
    for suffix in (".stl", ".ply"):
        save_geometry(folder / f"body{suffix}", body)
        made.append(folder / f"body{suffix}")
    (folder / "body.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 2 3\nf 1/1 2/2 4/3\nf -1 -2 -3\n")
    facet = "facet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\n"
    (folder / "facets.stl").write_text(f"solid a\n{facet * 3}endsolid")
    (folder / "run.csv").write_text("iteration,residual,CL\n" + "".join(f"{n},{10 ** (-n / 9):.4e},0.5\n" for n in range(40)))
    return [*made, folder / "body.obj", folder / "facets.stl", folder / "run.csv"]
