"""Every kind of file and cell goes the whole way: opened, cut, contoured, traced, drawn, saved and opened again."""

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkRectilinearGrid
from vtkmodules.vtkIOXML import vtkXMLImageDataWriter, vtkXMLRectilinearGridWriter, vtkXMLUnstructuredGridWriter

from driving import differing, pixels, settle, wait
from making import cells_of, cube_points, pyramids
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.formats.vtk_write import StructuredPiece, write_structured
from tidal_lens.study.kinds.seeds import LineSeeds
from tidal_lens.tracing.streamlines import End
from vtk_data import add, to_unstructured, write

N = 11
KINDS = ("image", "rectilinear", "curvilinear", "hexahedra", "tetrahedra", "wedges", "pyramids")


def swirl(p):
    """A vortex along x in a stream, at rest on the floor z = 0."""
    y, z = p[:, 1] - 0.5, p[:, 2] - 0.5
    return np.column_stack([1 + 0 * y, -3 * z, 3 * y]) * np.minimum(4 * p[:, 2], 1.0)[:, None]


def fields_at(p):
    u = swirl(p)
    return {"Velocity": u, "Density": 1 + 0.1 * p[:, 0], "Pressure": 1 - 0.02 * (u * u).sum(axis=1)}


def grid_data(kind):
    axis = np.linspace(0, 1, N)
    if kind == "image":
        data = vtkImageData()
        data.SetDimensions(N, N, N)
        data.SetSpacing(*(1 / (N - 1),) * 3)
        return data, cube_points(N), vtkXMLImageDataWriter(), ".vti"
    if kind == "rectilinear":
        data = vtkRectilinearGrid()
        data.SetDimensions(N, N, N)
        for put in (data.SetXCoordinates, data.SetYCoordinates, data.SetZCoordinates):
            put(numpy_to_vtk(axis, deep=1))
        return data, cube_points(N), vtkXMLRectilinearGridWriter(), ".vtr"
    if kind == "pyramids":
        points, grid = pyramids(N, 0.03)
    else:
        points, grid = cube_points(N, 0.03), UnstructuredGrid(N**3, *cells_of(kind, N))
    return to_unstructured(points, grid), points, vtkXMLUnstructuredGridWriter(), ".vtu"


def make_file(folder, kind, **changes):
    if kind == "curvilinear":
        points = cube_points(N, 0.03)
        path = folder / "flow.vts"
        write_structured(path, StructuredPiece("b", (N, N, N), points, fields_at(points) | changes), {})
        return path
    data, points, writer, suffix = grid_data(kind)
    for name, values in (fields_at(points) | changes).items():
        array = numpy_to_vtk(np.ascontiguousarray(values), deep=1)
        array.SetName(name)
        data.GetPointData().AddArray(array)
    path = folder / f"flow{suffix}"
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    assert writer.Write() == 1
    return path


@pytest.mark.parametrize("kind", KINDS)
def test_the_whole_way(empty, tmp_path, kind):
    window, document = empty, empty.document
    document.open_path(make_file(tmp_path, kind))
    settle(window)
    assert [layer.kind for layer in document.study.layers] == ["wall", "slice"]
    assert document.study.layers[0].shape.boundaries == ("wall (found)",), "the floor, where the flow is at rest, is a wall"
    floor = document.asking.results[document.study.layers[0].id].geometry
    assert floor.area == pytest.approx(1.0, abs=0.01)
    plane = document.asking.results[document.study.layers[1].id]
    assert plane.geometry.area == pytest.approx(1.0, abs=0.01)
    assert np.isfinite(plane.colours).all()
    window.act("add-isosurface", "speed")
    wait(lambda: document.chosen_layer.kind == "isosurface", "the isosurface")
    settle(window)
    surface = document.asking.results[document.chosen]
    assert surface.geometry.area > 0.1
    assert np.isfinite(surface.colours).all()
    window.act("add-streamlines")
    settle(window)
    layer = document.chosen_layer
    seeds = LineSeeds(start=(0.5, 0.2, 0.5), end=(0.5, 0.8, 0.5), count=9)
    document.edit_layer(layer.with_(shape=layer.shape.with_(seeds=(seeds,))), "seeds")
    settle(window)
    lines = document.asking.results[document.chosen].geometry
    assert lines.n_lines == 9
    assert (lines.ends == End.LEFT).all()
    middle = lines.points[lines.offsets[4]:lines.offsets[5]]
    assert np.abs(middle[:, 1:] - 0.5).max() < 0.02, "the axis of the vortex is a streamline"
    assert not document.asking.failures
    before = pixels(window.view)
    assert document.save(tmp_path / "view.tidal")
    document.open_path(tmp_path / "view.tidal")
    wait(lambda: not document.undo_what, "the study")
    settle(window)
    document.choose(layer.id)
    settle(window)
    assert differing(before, pixels(window.view)) < 0.003


def test_holes_where_values_are_not_finite(empty, tmp_path):
    points = cube_points(N, 0.03)
    density = np.where(np.linalg.norm(points - 0.5, axis=1) < 0.2, np.nan, 1.0)
    empty.document.open_path(make_file(tmp_path, "curvilinear", Density=density), anyway=True)
    settle(empty)
    assert not empty.document.asking.failures
    result = empty.document.asking.results[empty.document.study.layers[-1].id]
    near = np.linalg.norm(result.geometry.points - 0.5, axis=1) < 0.15
    assert np.isnan(result.colours[near]).all()
    assert np.isfinite(result.colours[~near]).sum() > 50
    known = empty.document.key("mach")
    assert known is not None
    assert np.isfinite(known[1:]).all()
    assert known[0].not_finite == np.isnan(density).sum()
    empty.act("add-isosurface", "density-gradient-magnitude")
    settle(empty)
    assert not empty.document.asking.failures


def test_cells_that_do_not_match_are_told(empty, tmp_path):
    n = 5
    points = cube_points(n)
    hexahedra, hex_types = cells_of("hexahedra", n)
    tets, tet_types = cells_of("tetrahedra", n)
    low, high = points[:, 2][hexahedra].mean(axis=1) < 0.5, points[:, 2][tets].min(axis=1) > 0.49
    corners = np.ascontiguousarray(np.concatenate([hexahedra[low], tets[high]]), dtype=np.int32)
    data = to_unstructured(points, UnstructuredGrid(n**3, corners, np.concatenate([hex_types[low], tet_types[high]])))
    add(data.GetPointData(), "Velocity", np.tile([1.0, 0.0, 0.0], (len(points), 1)))
    write(vtkXMLUnstructuredGridWriter(), data, tmp_path / "a.vtu")
    empty.document.open_path(tmp_path / "a.vtu")
    settle(empty)
    wait(lambda: any("hairline gaps" in strip.notice.text for strip in empty.strips.live()), "the notice")
    assert any("16 four-sided faces" in strip.notice.text for strip in empty.strips.live())
