"""Planar two-dimensional results: one layer of cells, in which all that works in space works."""

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkUnstructuredGrid
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter, vtkXMLUnstructuredGridWriter

from tidal_lens.errors import FileError
from tidal_lens.flow.grid import HEXAHEDRON, WEDGE, StructuredGrid
from tidal_lens.formats.registry import open_flow
from tidal_lens.quantities.gradients import flow_gradient, flow_vortices
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.streamlines import TraceSettings, trace_lines
from vtk_data import add, structured, write

NX, NY = 21, 11


def plane(turn=None):
    y, x = np.meshgrid(np.linspace(0, 1, NY), np.linspace(0, 3, NX), indexing="ij")
    return np.column_stack([x.ravel(), y.ravel(), np.full(x.size, 2.0)]) @ (np.eye(3) if turn is None else turn.T)


def channel(points):
    """Plane Poiseuille flow."""
    y = points[:, 1]
    return np.column_stack([4 * y * (1 - y), 0 * y, 0 * y])


def check(flow, axis_across=2):
    assert flow.normal == tuple(np.eye(3)[axis_across])
    assert flow.depth > 0.0
    velocity = np.column_stack([flow.fields[n].values for n in flow.roles.velocity])
    gradient, (vorticity, _) = flow_gradient(flow, velocity), flow_vortices(flow, velocity)
    y = flow.points[:, 1]
    np.testing.assert_allclose(gradient[:, 0, 1], 4 - 8 * y, atol=0.05)
    np.testing.assert_allclose(np.abs(vorticity[:, axis_across]), np.abs(4 - 8 * y), atol=0.05)
    np.testing.assert_allclose(gradient[:, :, axis_across], 0.0, atol=1e-6)
    seed = flow.points.mean(axis=0)
    seed[0], seed[1] = 0.5, 0.3
    lines = trace_lines(flow, mesh_of(flow), velocity, seed[None], TraceSettings("forward", 50.0, 1e-6))
    assert lines.points[-1, 0] == pytest.approx(3.0, abs=2e-3)
    np.testing.assert_allclose(lines.points[:, 1], 0.3, atol=1e-6)
    kinds = sorted(b.kind for b in flow.boundaries)
    assert kinds == ["inlet", "outlet", "symmetry", "symmetry", "wall", "wall"]


def test_a_structured_plane(tmp_path):
    points = plane()
    data = structured(points, (NX, NY, 1))
    add(data.GetPointData(), "Velocity", channel(points))
    add(data.GetCellData(), "rho", np.arange((NX - 1) * (NY - 1), dtype=float))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "a.vts")
    flow = open_flow(tmp_path / "a.vts")
    assert flow.blocks[0].grid == StructuredGrid((NX, NY, 2))
    np.testing.assert_array_equal(flow.fields["rho"].values, np.arange(200.0))
    check(flow)


@pytest.mark.parametrize("flip", [False, True])
def test_triangles_and_quadrilaterals_with_two_components(tmp_path, flip):
    """Cells run round either way, and velocity comes as u and v only."""
    points = plane()
    lattice = np.arange(NX * NY).reshape(NY, NX)
    quads = np.stack([lattice[:-1, :-1], lattice[:-1, 1:], lattice[1:, 1:], lattice[1:, :-1]], axis=-1).reshape(-1, 4)
    data = vtkUnstructuredGrid()
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(points, deep=1))
    data.SetPoints(holder)
    for number, q in enumerate(quads):
        own = [int(n) for n in (q[::-1] if flip and number % 2 else q)]
        if number % 3:
            data.InsertNextCell(9, 4, own)
        else:
            data.InsertNextCell(5, 3, own[:3])
            data.InsertNextCell(5, 3, [own[0], own[2], own[3]])
    add(data.GetPointData(), "u", channel(points)[:, 0])
    add(data.GetPointData(), "v", channel(points)[:, 1])
    add(data.GetCellData(), "number", np.arange(data.GetNumberOfCells(), dtype=float))
    write(vtkXMLUnstructuredGridWriter(), data, tmp_path / "a.vtu")
    flow = open_flow(tmp_path / "a.vtu")
    assert set(flow.blocks[0].grid.types) == {HEXAHEDRON, WEDGE}
    assert flow.roles.velocity == ("u", "v", "w")
    np.testing.assert_array_equal(flow.fields["number"].values, np.arange(flow.n_cells))
    check(flow)


def test_a_plane_across_another_axis_with_two_component_names(tmp_path):
    turn = np.array([[1.0, 0, 0], [0, 0, 1.0], [0, 1.0, 0]])  # the channel's y becomes z
    points = plane(turn)
    data = structured(points, (NX, NY, 1))
    z = points[:, 2]
    add(data.GetPointData(), "VelocityX", 4 * z * (1 - z))
    add(data.GetPointData(), "VelocityZ", 0 * z)
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "a.vts")
    flow = open_flow(tmp_path / "a.vts")
    assert flow.normal == (0.0, 1.0, 0.0)
    assert flow.roles.velocity == ("VelocityX", "VelocityY", "VelocityZ")
    assert not flow.fields["VelocityY"].values.any()


def test_a_plane_that_stands_askew(tmp_path):
    c, s = np.cos(0.4), np.sin(0.4)
    turn = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]]) @ np.array([[1, 0, 0], [0, c, -s], [0, s, c]])
    points = plane(turn)
    data = structured(points, (NX, NY, 1))
    add(data.GetPointData(), "Velocity", channel(plane()) @ turn.T)
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "a.vts")
    flow = open_flow(tmp_path / "a.vts")
    np.testing.assert_allclose(np.abs(np.array(flow.normal) @ turn[:, 2]), 1.0, atol=1e-9)
    assert sorted(b.kind for b in flow.boundaries) == ["inlet", "outlet", "symmetry", "symmetry", "wall", "wall"]


def test_curved_surfaces_and_planes_without_values_are_refused(tmp_path):
    points = plane()
    points[:, 2] += 0.1 * np.sin(points[:, 0])
    data = structured(points, (NX, NY, 1))
    add(data.GetPointData(), "Velocity", channel(points))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "bent.vts")
    write(vtkXMLStructuredGridWriter(), structured(plane(), (NX, NY, 1)), tmp_path / "bare.vts")
    for name in ("bent", "bare"):
        with pytest.raises(FileError, match="no three-dimensional cells"):
            open_flow(tmp_path / f"{name}.vts")
