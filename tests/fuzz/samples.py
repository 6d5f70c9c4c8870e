"""One small good file of every format, in every shape that its reader treats on its own."""

import sys
from pathlib import Path

import h5py
import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkMultiBlockDataSet, vtkRectilinearGrid, vtkUnstructuredGrid
from vtkmodules.vtkIOHDF import vtkHDFWriter
from vtkmodules.vtkIOLegacy import vtkDataSetWriter
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter, vtkXMLUnstructuredGridWriter

sys.path.insert(0, str(Path(__file__).parent.parent))

from cell_checks import filled, honeycomb, linear, polyhedron, stream
from cgns_nodes import node
from making import cells_of, cube_points
from small_series import series
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.formats.export import save_geometry
from tidal_lens.formats.written import Geometry
from vtk_data import structured, to_unstructured, write


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


def _own_nodes(path):
    """Cells that share no nodes."""
    points, corners = cube_points(3), cells_of("hexahedra", 3)[0]
    loose = points[corners].reshape(-1, 3)
    grid = UnstructuredGrid(len(loose), np.arange(len(loose), dtype=np.int32).reshape(-1, 8), np.full(len(corners), 12, np.uint8))
    write(vtkXMLUnstructuredGridWriter(), filled(to_unstructured(loose, grid)), path)
    return path


def _lattice_hdf(path):
    """Structured and rectilinear blocks in one file."""
    lattice = vtkRectilinearGrid()
    lattice.SetDimensions(3, 3, 3)
    for put in (lattice.SetXCoordinates, lattice.SetYCoordinates, lattice.SetZCoordinates):
        put(numpy_to_vtk(np.arange(3.0), deep=1))
    both = vtkMultiBlockDataSet()
    both.SetBlock(0, filled(structured()))
    both.SetBlock(1, filled(lattice))
    return _hdf(path, both)


def _zones(path, *, plane, bars):
    """A zone round an axis: cylindrical coordinates and ranges of faces, or a plane with curves as ranges or as bars."""
    r, a = np.meshgrid(np.linspace(1, 2, 3), np.linspace(0, 2, 5), indexing="ij")
    x, y = r * np.cos(a), r * np.sin(a)
    with h5py.File(path, "w") as file:
        base = node(file, "Base", "CGNSBase_t", np.array([2, 2] if plane else [3, 3], np.int32))
        size = [[15], [8], [0]] if bars else [[5, 3], [4, 2], [0, 0]] if plane else [[5, 3, 2], [4, 2, 1], [0, 0, 0]]
        zone = node(base, "zone", "Zone_t", np.array(size, np.int32))
        node(zone, "ZoneType", "ZoneType_t", "Unstructured" if bars else "Structured")
        grid, sol = node(zone, "GridCoordinates", "GridCoordinates_t"), node(zone, "Sol", "FlowSolution_t")
        coordinates = {"X": x, "Y": y} if plane else {"R": np.stack([r, r]), "Theta": np.stack([a, a]), "Z": np.stack([0 * r, 0 * r + 1])}
        for axis, values in coordinates.items():
            node(grid, f"Coordinate{axis}", "DataArray_t", values.ravel() if bars else values)
            node(sol, f"Velocity{axis}", "DataArray_t", (0 * values + 1).ravel() if bars else 0 * values + 1)
        one = node(node(zone, "ZoneBC", "ZoneBC_t"), "rim", "BC_t", "BCWall")
        if bars:
            index = np.arange(15).reshape(3, 5)
            quads = np.stack([index[:-1, :-1], index[:-1, 1:], index[1:, 1:], index[1:, :-1]], axis=-1).reshape(-1, 4) + 1
            for name, kind, first, table in (("line", 3, 1, np.column_stack([index[0, :-1], index[0, 1:]]) + 1), ("cells", 7, 5, quads)):
                section = node(zone, name, "Elements_t", np.array([kind, 0], np.int32))
                node(section, "ElementRange", "IndexRange_t", np.array([first, first + len(table) - 1], np.int32))
                node(section, "ElementConnectivity", "DataArray_t", table.ravel().astype(np.int32))
        node(one, "GridLocation", "GridLocation_t", "EdgeCenter" if bars else "JFaceCenter")
        ends = [[1, 4]] if bars else [[1, 1], [4, 1]] if plane else [[1, 3, 1], [4, 3, 1]]
        node(one, "PointRange", "IndexRange_t", np.array(ends, np.int32))
    return path


def _ours(folder):
    """A study with plates, notes and how things are made of it; pictures; a record of a run."""
    from PIL import Image

    from tidal_lens.study.files import save_study
    from tidal_lens.study.kinds.kind import Begun
    from tidal_lens.study.kinds.slice import SliceShape
    from tidal_lens.study.looks import SurfaceLook
    from tidal_lens.study.model import KeySetting, Study
    from tidal_lens.study.noted import with_note
    from tidal_lens.study.notes import Note
    from tidal_lens.study.plates import with_plate
    from tidal_lens.study.telling import FilmSetting, ReportSetting, RunSetting
    from tidal_lens.tell.tasks import Done, as_json

    study = Study(case=str(folder / "case.cgns"), keys={"mach": KeySetting(low=0.0, high=2.0)},
                  film=FilmSetting(what="sweep", card="slice-1"), report=ReportSetting(title="A wing"),
                  run=RunSetting(cases=(str(folder / "other.cgns"),)))
    look = SurfaceLook(colour_by="mach")
    study = study.adding(study.layer_of(Begun("Slice", SliceShape(direction=(0.0, 1.0, 0.0), position=0.1), look)))
    study = with_plate(with_note(study, Note(id="note-7", text="{Forces: CL}", at=(0.0, 1.0, 2.0))), "One")
    save_study(study, folder / "study.tidal")
    image = Image.linear_gradient("L").resize((40, 30)).convert("RGB")
    for ending in ("png", "jpg", "webp"):
        image.save(folder / f"logo.{ending}")
    (folder / "done.json").write_text(as_json(Done(("a.png",), {"m: x": 1.5}, 0.5, ("t",), "", 2.0)))


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
    made += [_own_nodes(folder / "own nodes.vtu"), _lattice_hdf(folder / "lattices.vtkhdf")]
    made += [_zones(folder / f"{name}.cgns", plane=plane, bars=bars) for name, plane, bars in (
        ("cylindrical", False, False), ("plane", True, False), ("bars", True, True))]
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
    _ours(folder)
    made += [folder / name for name in ("study.tidal", "logo.png", "logo.jpg", "logo.webp", "done.json", "study.tidal", "study.tidal")]
    return [*made, folder / "body.obj", folder / "facets.stl", folder / "run.csv"]
