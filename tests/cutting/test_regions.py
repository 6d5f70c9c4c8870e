"""Regions: closed, outward, and of the right volume and mass; whole cells too."""

import numpy as np
import pytest

from making import KINDS, cube_flow, cube_points, flow_of
from tidal_lens.cutting.masking import kept_surface, whole_faces
from tidal_lens.cutting.regions import Limit, cells_skin, outside_surface, region_content, region_skin
from tidal_lens.cutting.surface import Surface
from tidal_lens.flow.grid import StructuredGrid


def radius(p):
    return np.linalg.norm(p - 0.5, axis=1)


def made(kind, n):
    if kind == "left-handed":
        return flow_of([(cube_points(n, 0.06) * [-1, 1, 1] + [1, 0, 0], StructuredGrid((n, n, n)))])
    return cube_flow(n, kind, 0.06)


def volume(surface):
    """By the divergence theorem: right only where it is closed and outward."""
    triangles = np.concatenate([surface.faces[:, [0, 1, 2]], surface.faces[:, [0, 2, 3]]])
    a, b, c = (surface.points[triangles[:, k]] for k in range(3))
    return float((a * np.cross(b, c)).sum() / 6)


def open_edges(surface):
    """Edges that two faces do not share, running opposite ways along it; vertices at one place count as one."""
    _, number = np.unique(np.round(surface.points, 9), axis=0, return_inverse=True)
    uses = {}
    for face in number.ravel()[surface.faces].tolist():
        corners = list(dict.fromkeys(face))
        for a, b in zip(corners, corners[1:] + corners[:1], strict=True):
            uses.setdefault((min(a, b), max(a, b)), []).append(a < b)
    return sum(sorted(ways) != [False, True] for ways in uses.values())


@pytest.mark.parametrize("kind", [*KINDS, "left-handed"])
@pytest.mark.parametrize(("level", "above"), [(0.4, False), (0.6, True)])
def test_the_skin_of_one_condition_is_closed_and_outward(kind, level, above):
    flow = made(kind, 13)
    limits = [Limit(radius(flow.points), level, above)]
    skin = region_skin(flow, limits)
    assert open_edges(skin) == 0
    assert volume(skin) == pytest.approx(region_content(flow, limits, None).volume, rel=6e-3)
    assert skin.stencil.apply(flow.points[:, 1]) == pytest.approx(skin.points[:, 1], abs=1e-12)


def conditions(points):
    bent = points[:, 0] + 0.3 * points[:, 1] ** 2
    return [Limit(radius(points), 0.38, False), Limit(bent, 0.55, True), Limit(np.sin(3 * points[:, 2]) + points[:, 1], 0.9, True)]


@pytest.mark.parametrize("kind", [*KINDS, "left-handed"])
def test_the_skin_is_closed_where_two_conditions_meet(kind):
    flow = made(kind, 13)
    limits = conditions(flow.points)[:2]
    skin = region_skin(flow, limits)
    assert open_edges(skin) == 0
    assert volume(skin) == pytest.approx(region_content(flow, limits, None).volume, rel=1e-2)
    assert skin.stencil.apply(flow.points[:, 1]) == pytest.approx(skin.points[:, 1], abs=1e-12)
    rough = region_skin(flow, limits, rough=True)
    assert volume(rough) == pytest.approx(volume(skin), rel=2e-2)
    if kind != "tetrahedra":
        assert open_edges(rough) > 0, "what is drawn while a bead is dragged"


def test_it_is_closed_across_seams_and_where_three_meet():
    """Two blocks whose nodes run opposite ways: both sides of the seam are halved alike, though their nodes are numbered apart."""
    n = 11
    points = cube_points(n)
    halves = [points * [0.5, 1, 1], (points * [0.5, 1, 1])[::-1] * [-1, 1, 1] + [1.0, 0, 0]]
    mirrored = np.concatenate(halves)
    flow = flow_of([(halves[0], StructuredGrid((n, n, n))), (halves[1], StructuredGrid((n, n, n)))])
    limits = conditions(mirrored)
    two = region_skin(flow, [limits[0], limits[2]])
    # The faces of both blocks on the seam are no outside of the flow only where seams are known: they cancel out.
    inner = np.isclose(two.points[two.faces][..., 0], 0.5).all(axis=1)
    assert open_edges(Surface(two.points, two.faces[~inner], two.stencil)) == 0
    whole = cube_flow(13, "hexahedra", 0.06)
    skin = region_skin(whole, conditions(whole.points))
    triangles = np.concatenate([skin.faces[:, [0, 1, 2]], skin.faces[:, [0, 2, 3]]])
    a, b, c = (skin.points[triangles[:, k]] for k in range(3))
    assert np.abs(np.cross(b - a, c - a).sum(axis=0)).max() < 1e-12, "closed: the areas of its faces cancel out"
    assert open_edges(skin) <= 12, "vertices on edges where three meet, and nothing else"


@pytest.mark.parametrize("kind", KINDS)
def test_both_sides_of_a_condition_are_the_whole(kind):
    flow = cube_flow(9, kind, 0.05)
    r = radius(flow.points)
    inside, outside = (region_content(flow, [Limit(r, 0.45, above)], 1 + flow.points[:, 0]) for above in (False, True))
    assert inside.volume + outside.volume == pytest.approx(inside.of_volume, rel=1e-12)
    assert inside.of_volume == pytest.approx(1.0, rel=2e-3)
    everything = region_content(flow, [Limit(r, -1.0, True)], 1 + flow.points[:, 0])
    assert inside.mass + outside.mass == pytest.approx(everything.mass, rel=1e-12)
    assert everything.mass == pytest.approx(1.5, rel=5e-3)
    assert everything.share == pytest.approx(1.0)


def test_a_slab_between_two_planes_is_exact():
    flow = cube_flow(8, "tetrahedra", 0.0)
    place = flow.points[:, 0].copy()
    content = region_content(flow, [Limit(place, 0.23, True), Limit(place, 0.71, False)], 2.0 * np.ones(flow.n_points))
    assert content.volume == pytest.approx(0.48, rel=1e-12)
    assert content.mass == pytest.approx(0.96, rel=1e-12)
    skin = region_skin(flow, [Limit(place, 0.23, True), Limit(place, 0.71, False)])
    assert volume(skin) == pytest.approx(0.48, rel=1e-12)
    assert open_edges(skin) == 0


@pytest.mark.parametrize("kind", [*KINDS, "left-handed"])
def test_whole_cells_have_a_closed_skin_and_its_volume(kind):
    flow = made(kind, 9)
    limits = [Limit(radius(flow.points), 0.42, False)]
    skin = cells_skin(flow, limits)
    content = region_content(flow, limits, None, whole=True)
    assert volume(skin) == pytest.approx(content.volume, rel=2e-3)
    assert 0 < content.volume < 4 / 3 * np.pi * 0.42**3
    assert open_edges(skin) == 0
    assert set(np.unique(skin.stencil.weights)) == {1.0}


def test_a_number_that_is_missing_is_outside():
    flow = cube_flow(6)
    values = np.ones(flow.n_points)
    values[0] = np.nan
    assert region_content(flow, [Limit(values, 0.5, True)], None).volume == pytest.approx(1 - 1 / 125)


def test_nothing_and_everything():
    flow = cube_flow(5)
    place = flow.points[:, 0].copy()
    assert len(region_skin(flow, [Limit(place, 2.0, True)]).faces) == 0
    assert region_content(flow, [Limit(place, 2.0, True)], None).volume == 0.0
    assert region_skin(flow, [Limit(place, 2.0, False)]).area == pytest.approx(6.0)
    assert region_skin(flow, []).area == pytest.approx(6.0)
    assert volume(outside_surface(flow)) == pytest.approx(1.0)


def test_quadrilaterals_are_cut_without_their_diagonal():
    square = cube_flow(2)
    sheet = outside_surface(square)
    left = kept_surface(sheet, 0.6 - sheet.points[:, 0] - 0.3 * sheet.points[:, 1])
    edges = {tuple(np.round(p, 9)) for p in left.points}
    assert all(any(abs(c) < 1e-9 or abs(c - 1) < 1e-9 for c in p[:2]) for p in edges), "new vertices stand on edges"
    assert whole_faces(sheet, 0.75 - sheet.points[:, 0]).area == pytest.approx(5.0)
    assert isinstance(left, Surface)
