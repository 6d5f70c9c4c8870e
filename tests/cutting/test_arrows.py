"""Arrows on surfaces: places evenly apart, arrows of the right length and way."""

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.cutting.arrows import across, along_lines, arrow_lines, even_places, part_of, places_at, shaft_lengths, thinned
from tidal_lens.cutting.contour import axis_slice, isosurface
from tidal_lens.cutting.surface import empty_surface
from tidal_lens.study.dressings import Arrows


def shear(p):
    return np.column_stack([1.0 + p[:, 2], 0 * p[:, 0], 0.5 * p[:, 0]])


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
@pytest.mark.parametrize("n", [4, 31])
def test_places_are_evenly_apart_on_coarse_and_on_fine_faces(kind, n):
    flow = cube_flow(n, kind, velocity=shear)
    cut = axis_slice(flow, 1, 0.37)
    places = even_places(cut, 0.1)
    assert 80 <= len(places.points) <= 121
    assert np.allclose(places.points[:, 1], 0.37)
    assert np.allclose(np.abs(places.normals[:, 1]), 1.0)
    away = np.linalg.norm(places.points[:, None] - places.points[None], axis=2) + 9 * np.eye(len(places.points))
    assert np.median(away.min(axis=1)) == pytest.approx(0.1, rel=0.25)
    linear = cut.stencil.apply(np.ascontiguousarray(flow.points @ [1.0, 2.0, 3.0]))
    assert np.allclose(places.values(linear), places.points @ [1.0, 2.0, 3.0]), "values are those of the place"


def test_places_on_a_round_surface_lie_on_it():
    flow = cube_flow(25, velocity=shear)
    radius = np.linalg.norm(flow.points - 0.5, axis=1)
    ball = isosurface(flow, radius, 0.3)
    places = even_places(ball, 0.08)
    assert np.linalg.norm(places.points - 0.5, axis=1) == pytest.approx(0.3, abs=2e-3)
    out = (places.points - 0.5) / 0.3
    assert np.abs((places.normals * out).sum(axis=1)) == pytest.approx(1.0, abs=0.02)
    assert 0.5 < len(places.points) * 0.08**2 / ball.area < 2.5


def test_a_spacing_that_would_give_too_many_is_widened():
    flow = cube_flow(3, velocity=shear)
    places = even_places(axis_slice(flow, 0, 0.5), 1e-6)
    assert 1000 < len(places.points) < 4_000_000
    assert len(even_places(empty_surface(), 0.1).points) == 0


def arrows(spacing=0.1, **how):
    flow = cube_flow(9, velocity=shear)
    cut = axis_slice(flow, 2, 0.5)
    dressed = Arrows(spacing=spacing, **how).make(flow, cut, lambda _name: shear(flow.points))
    shafts = dressed.points[dressed.offsets[:-1][::2]], dressed.points[dressed.offsets[:-1][::2] + 1]
    return flow, dressed, *shafts


def test_arrows_are_as_long_as_their_vectors_and_the_longest_is_known():
    flow, dressed, start, tip = arrows()
    true = shear(start)
    length = np.linalg.norm(tip - start, axis=1)
    assert length.max() == pytest.approx(1.6 * 0.1 * flow.size)
    assert length / length.max() == pytest.approx(np.linalg.norm(true, axis=1) / np.linalg.norm(true, axis=1).max(), rel=1e-6)
    assert np.allclose((tip - start) / length[:, None], true / np.linalg.norm(true, axis=1)[:, None])
    assert len(dressed.offsets) == 2 * len(start) + 1
    assert dressed.offsets[-1] == len(dressed.points) == 5 * len(start)


def test_arrows_of_even_length_and_along_the_surface():
    flow, _, start, tip = arrows(even=True)
    assert np.linalg.norm(tip - start, axis=1) == pytest.approx(1.6 * 0.1 * flow.size)
    _, dressed, start, tip = arrows(part="along")
    assert np.allclose(tip[:, 2], 0.5)
    assert np.allclose(dressed.points[:, 2], 0.5), "barbs lie in the plane too"


def test_nothing_is_drawn_where_there_is_nothing():
    flow = cube_flow(9, velocity=shear)
    cut = axis_slice(flow, 2, 0.5)
    places = even_places(cut, 0.1)
    vectors = np.zeros((len(places.points), 3))

    def drawn(part):
        shown = part_of(vectors, places.normals, part)
        return arrow_lines(places.points, shown, places.normals, shaft_lengths(shown, 0.1, even=False))

    assert len(drawn("true")[0]) == 0
    vectors[3] = np.nan
    vectors[5] = (0.0, 0.0, 2.0)  # straight out of the surface
    points, offsets, owners = drawn("true")
    assert set(owners) == {5}
    assert len(offsets) == 3
    assert np.isfinite(points).all()
    assert np.allclose(points[1] - points[0], [0, 0, 0.1])
    assert len(drawn("along")[0]) == 0


def test_arrows_across_the_surface_stand_on_it():
    _, _, start, tip = arrows(part="across")
    assert np.allclose(start[:, :2], tip[:, :2])
    assert (np.abs(tip - start)[:, 2] > 0).all()


def turning(p):
    return np.column_stack([-(p[:, 1] - 0.5), p[:, 0] - 0.5, 0 * p[:, 0]])


def test_bent_arrows_follow_circles_and_are_as_long_as_straight_ones():
    flow = cube_flow(17, velocity=turning)
    cut = axis_slice(flow, 2, 0.5)
    dressed = Arrows(spacing=0.1, bent=True, even=True).make(flow, cut, lambda _name: turning(flow.points))
    shafts = [dressed.points[a:b] for a, b in zip(dressed.offsets[:-1:2], dressed.offsets[1::2], strict=True)]
    inner = [s for s in shafts if 0.12 < np.linalg.norm(s[0] - 0.5) < 0.3]
    assert len(inner) > 3
    for shaft in inner:
        away = np.linalg.norm(shaft - 0.5, axis=1)
        assert away == pytest.approx(away[0], rel=0.02), "it stays on its circle"
        assert np.linalg.norm(np.diff(shaft, axis=0), axis=1).sum() == pytest.approx(1.6 * 0.1 * flow.size, rel=0.01)


def test_arrows_only_where_a_quantity_or_its_slope_is_in_a_range():
    flow = cube_flow(17, velocity=shear)
    cut = axis_slice(flow, 2, 0.5)
    fields = {"velocity": shear(flow.points), "p": flow.points[:, 0] ** 2}
    some = Arrows(spacing=0.05, only="p", low=0.25, high=0.49).make(flow, cut, fields.__getitem__)
    start = some.points[::5]
    assert len(start) > 10
    assert (start[:, 0] > 0.499).all()
    assert (start[:, 0] < 0.701).all()
    steep = Arrows(spacing=0.05, only="p", low=1.0, high=9.0, slope=True).make(flow, cut, fields.__getitem__)
    assert (steep.points[::5, 0] > 0.45).all(), "where 2 x ≥ 1"
    assert len(steep.points) > len(some.points)
    coloured = Arrows(spacing=0.05, colour_by="p").make(flow, cut, fields.__getitem__)
    assert coloured.values[::5] == pytest.approx(coloured.points[::5, 0] ** 2, abs=0.01)


def test_old_arrows_along_the_surface_stay_so():
    assert Arrows.model_validate({"along": True}).part == "along"
    assert Arrows.model_validate({"along": False}).part == "true"


def test_places_along_lines_are_evenly_apart():
    straight = np.column_stack([np.concatenate([[0.0, 0.1, 0.7, 1.0], [5.0, 5.5]]), np.zeros(6), np.zeros(6)])
    a, b, t = along_lines(straight, np.array([0, 4, 6]), 0.2)
    places = places_at(straight, a, b, t)
    np.testing.assert_allclose(places.points[:, 0], [0.1, 0.3, 0.5, 0.7, 0.9, 5.1, 5.3, 5.5])
    np.testing.assert_allclose(places.values(straight[:, 0]), places.points[:, 0], err_msg="values go along linearly")
    for none in (along_lines(straight, np.array([0, 4, 6]), 50.0), along_lines(straight[:1], np.array([0, 1]), 0.1)):
        assert len(none[0]) == 0


def test_points_are_thinned_to_one_a_cell():
    points = np.random.default_rng(5).random((500, 3))
    rows = thinned(points, 0.25)
    cells = np.floor((points - points.min(axis=0)) / 0.25).astype(int)
    assert len(np.unique(cells[rows], axis=0)) == len(rows) == len(np.unique(cells, axis=0))
    assert len(thinned(points[:0], 0.25)) == 0


def test_across_is_a_right_angle():
    v = np.random.default_rng(6).normal(size=(50, 3))
    n = across(v)
    np.testing.assert_allclose((v * n).sum(axis=1), 0.0, atol=1e-12)
    np.testing.assert_allclose(np.linalg.norm(n, axis=1), 1.0)
    assert (across(np.zeros((1, 3))) == 0.0).all()
