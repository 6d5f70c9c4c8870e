import numpy as np
import pytest

from making import KINDS, cube_flow, cube_points, flow_of
from tidal_lens.cutting.contour import axis_slice, isosurface
from tidal_lens.cutting.outlines import outline
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.flow.case import Boundary
from tidal_lens.flow.grid import StructuredGrid


def radius(p):
    return np.linalg.norm(p - 0.5, axis=1)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("axis", [0, 1, 2])
def test_a_slice_is_plane_and_whole(kind, axis):
    flow = cube_flow(8, kind, 0.08)
    cut = axis_slice(flow, axis, 0.37)
    assert np.abs(cut.points[:, axis] - 0.37).max() < 1e-6
    assert cut.area == pytest.approx(1.0, abs=1e-6)


def test_slices_on_the_very_border_and_outside():
    flow = cube_flow(6)
    for position in (0.0, 1.0):
        assert axis_slice(flow, 1, position).area == pytest.approx(1.0, abs=1e-6)
    assert len(axis_slice(flow, 1, 1.2).faces) == 0


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra"])
def test_the_area_of_a_sphere_comes_at_second_order(kind):
    wrong = []
    for n in (13, 25):
        flow = cube_flow(n, kind, 0.04, r=radius)
        surface = isosurface(flow, flow.fields["r"].values, 0.3)
        wrong.append(abs(surface.area / (4 * np.pi * 0.09) - 1))
    assert wrong[1] < 0.01
    assert np.log2(wrong[0] / wrong[1]) > 1.7


@pytest.mark.parametrize("kind", KINDS)
def test_vertices_interpolate_any_quantity(kind):
    flow = cube_flow(9, kind, 0.05, r=radius)
    surface = isosurface(flow, flow.fields["r"].values, 0.31)
    assert np.abs(surface.stencil.apply(flow.fields["r"].values) - 0.31).max() < 1e-5
    for axis in range(3):
        found = surface.stencil.apply(np.ascontiguousarray(flow.points[:, axis]))
        assert np.abs(found - surface.points[:, axis]).max() < 1e-6


def test_blocks_are_joined(demo):
    cut = axis_slice(demo, 1, 0.0)
    assert cut.points[:, 0].min() == pytest.approx(-2)
    assert cut.points[:, 0].max() == pytest.approx(4)
    hill = 0.24 * 0.55 * np.sqrt(np.pi)  # the floor's hill takes this from the plane; its ends are far away
    assert cut.area == pytest.approx(6 * 2.6 - hill, rel=1e-3)


def test_places_that_are_not_finite_leave_holes():
    flow = cube_flow(8, r=radius)
    values = flow.fields["r"].values.copy()
    values[flow.points[:, 0] > 0.6] = np.nan
    surface = isosurface(flow, values, 0.3)
    assert len(surface.faces) > 40
    assert surface.points[np.unique(surface.faces), 0].max() < 0.6


def test_a_boundary_off_the_mesh_still_takes_its_values():
    n = 6
    points = cube_points(n)
    sheet = points[np.isclose(points[:, 2], 0)] * [1, 1, 0] + [0.003, 0.0, -0.002]
    quads = np.array([[0, 1, n + 1, n]])
    flow = flow_of([(points, StructuredGrid((n, n, n)))], boundaries=(Boundary("floor", "wall", sheet, quads),))
    surface = boundary_surface(flow, ("floor", "none such"))
    assert len(surface.faces) == 1
    assert np.abs(surface.stencil.apply(np.ascontiguousarray(points[:, 0])) - sheet[:, 0]).max() < 1e-6


def test_the_outline_of_a_cube_is_its_edges():
    edges = outline(cube_flow(5))
    assert np.linalg.norm(edges[:, 1] - edges[:, 0], axis=1).sum() == pytest.approx(12)


def test_the_outline_does_not_show_seams(demo):
    edges = outline(demo)
    middle = edges.mean(axis=1)
    across = (np.abs(edges[:, 1, 1] - edges[:, 0, 1]) > 1e-6) & (middle[:, 2] > 2.59)
    assert set(np.round(middle[across, 0], 3)) == {-2.0, 4.0}


def test_the_outline_does_not_mind_blocks_of_the_other_hand():
    left, right = cube_points(5, low=0.0), cube_points(5, low=0.0)
    mirrored = right * [-1, 1, 1]  # left-handed
    grid = StructuredGrid((5, 5, 5))
    flow = flow_of([(left, grid), (mirrored, grid)], {"p": np.ones(250)})
    edges = outline(flow)
    assert np.linalg.norm(edges[:, 1] - edges[:, 0], axis=1).sum() == pytest.approx(8 * 1 + 4 * 2)
