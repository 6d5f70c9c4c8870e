"""Areas, volumes and masses of cuts against closed forms of solid geometry (elementary geometry, any table of integrals)."""

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.cutting.contour import plane_cut, quadric_cut
from tidal_lens.cutting.planes import plane_axes, within_disc, within_rectangle
from tidal_lens.cutting.regions import Limit, region_content, region_skin

CELLS = ["structured", "hexahedra", "tetrahedra", "wedges"]


def radius(p):
    return np.linalg.norm(p - 0.5, axis=1)


def order(wrong):
    return np.log2(wrong[0] / wrong[1])


@pytest.mark.parametrize("kind", CELLS)
def test_the_volume_of_a_ball_comes_at_second_order(kind):
    """4/3 π r³; its mass with a density 1 + x is that times 3/2."""
    wrong, heavy = [], []
    true = 4 / 3 * np.pi * 0.3**3
    for n in (13, 25):
        flow = cube_flow(n, kind, 0.04)
        found = region_content(flow, [Limit(radius(flow.points), 0.3, False)], 1 + flow.points[:, 0])
        wrong.append(abs(found.volume / true - 1))
        heavy.append(abs(found.mass / (1.5 * true) - 1))
    assert wrong[1] < 0.01
    assert order(wrong) > 1.7
    assert heavy[1] < 0.012


@pytest.mark.parametrize("kind", CELLS)
def test_the_volume_of_a_cap_comes_at_second_order(kind):
    """A ball and a half space have in common a cap of π h² (3 r − h) / 3, h its height."""
    r, h = 0.37, 0.21
    true = np.pi * h**2 * (3 * r - h) / 3
    wrong = []
    for n in (13, 25):
        flow = cube_flow(n, kind, 0.03)
        limits = [Limit(radius(flow.points), r, False), Limit(flow.points[:, 0].copy(), 0.5 + r - h, True)]
        wrong.append(abs(region_content(flow, limits, None).volume / true - 1))
        skin = region_skin(flow, limits)
        area = 2 * np.pi * r * h + np.pi * h * (2 * r - h)
        assert skin.area == pytest.approx(area, rel=0.06)
    assert wrong[1] < 0.02
    assert order(wrong) > 1.6


@pytest.mark.parametrize("kind", CELLS)
def test_a_half_space_of_a_cube_is_exact(kind):
    """The part of the unit cube with x + y + z ≤ 1 is 1/6."""
    flow = cube_flow(9, kind)
    found = region_content(flow, [Limit(flow.points.sum(axis=1), 1.0, False)], None)
    assert found.volume == pytest.approx(1 / 6, rel=1e-12)


@pytest.mark.parametrize("kind", CELLS)
def test_the_area_of_a_sphere_cut_comes_at_second_order(kind):
    wrong = []
    for n in (13, 25):
        cut = quadric_cut(cube_flow(n, kind, 0.04), (1, 1, 1, 0, 0, 0, -1, -1, -1), 0.09 - 0.75)
        wrong.append(abs(cut.area / (4 * np.pi * 0.09) - 1))
    assert order(wrong) > 1.7


@pytest.mark.parametrize("kind", CELLS)
def test_an_oblique_slice_of_a_cube_is_a_hexagon(kind):
    """The plane across the diagonal through the middle of the unit cube cuts a regular hexagon of area 3 √3 / 4."""
    flow = cube_flow(10, kind, 0.05)
    cut = plane_cut(flow, (0.5, 0.5, 0.5), (1, 1, 1))
    assert cut.area == pytest.approx(0.75 * np.sqrt(3.0), rel=1e-9)
    middle, normal = np.full(3, 0.5), np.ones(3) / np.sqrt(3.0)
    assert within_disc(cut, middle, 0.3).area == pytest.approx(np.pi * 0.09, rel=3e-3)
    assert within_rectangle(cut, middle, plane_axes(normal), 0.5, 0.3).area == pytest.approx(0.15, rel=1e-9)
