"""Contour lines on surfaces: where they lie, that they are whole, what is written on them."""

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.cutting.level_lines import label_places, level_lines
from tidal_lens.cutting.surface import Surface, empty_surface
from tidal_lens.errors import TooManyError
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.dressings import Contours


def sheet(n, *, triangles=False):
    """A square of [-1, 1] in the plane z = 0."""
    x, y = np.meshgrid(np.linspace(-1, 1, n + 1), np.linspace(-1, 1, n + 1), indexing="ij")
    points = np.column_stack([x.ravel(), y.ravel(), np.zeros(x.size)])
    at = np.arange(x.size).reshape(x.shape)
    faces = np.stack([at[:-1, :-1], at[1:, :-1], at[1:, 1:], at[:-1, 1:]], axis=-1).reshape(-1, 4)
    if triangles:
        faces = np.concatenate([faces[:, [0, 1, 2, 2]], faces[:, [0, 2, 3, 3]]])
    return Surface(points, faces, Stencil(np.arange(x.size)[:, None], np.ones((x.size, 1))))


def length(points):
    return float(np.linalg.norm(points[:, 1] - points[:, 0], axis=1).sum())


@pytest.mark.parametrize("triangles", [False, True])
def test_a_straight_line_lies_where_it_belongs(triangles):
    cut = sheet(7, triangles=triangles)
    points, _, level = level_lines(cut, 2.0 * cut.points[:, 0] + 1.0, (0.4, 1.5, 9.0))
    assert set(level) == {0, 1}
    for number, x in ((0, -0.3), (1, 0.25)):
        own = points[level == number]
        assert own[..., 0] == pytest.approx(x, abs=1e-12)
        assert length(own) == pytest.approx(2.0)


def test_lines_through_vertices_are_there_once():
    cut = sheet(4)
    points, _, _ = level_lines(cut, cut.points[:, 0].copy(), (0.0,))
    assert length(points) == pytest.approx(2.0)


def test_a_circle_is_whole_and_has_one_label_on_it():
    cut = sheet(60)
    radius = np.linalg.norm(cut.points[:, :2], axis=1)
    points, edges, level = level_lines(cut, radius, (0.3, 0.7))
    assert [length(points[level == n]) for n in (0, 1)] == pytest.approx([2 * np.pi * 0.3, 2 * np.pi * 0.7], rel=2e-3)
    for number in (0, 1):
        _, met = np.unique(edges[level == number], return_counts=True)
        assert (met == 2).all(), "each end is met by another stroke"
        ends = points[level == number].reshape(-1, 3)
        _, met = np.unique(ends, axis=0, return_counts=True)
        assert (met % 2 == 0).all(), "to the last bit"
    places, of = label_places(points, edges, level, 2.8)
    assert sorted(of.tolist()) == [0, 1]
    assert np.linalg.norm(places, axis=1) == pytest.approx(np.array([0.3, 0.7])[of], abs=2e-3)


def test_where_there_is_no_value_there_is_no_line():
    cut = sheet(10)
    values = cut.points[:, 0].copy()
    values[cut.points[:, 1] > 0.05] = np.nan
    points, _, _ = level_lines(cut, values, (0.1,))
    assert points[..., 1].max() <= 1e-12
    assert length(points) == pytest.approx(1.0)
    points, edges, level = level_lines(empty_surface(), np.empty(0), (0.1,))
    assert label_places(points, edges, level, 1.0)[0].shape == (0, 3)


def test_levels_by_number_step_and_list():
    lines = Contours(of="p", low=1.0, high=2.0, step=0.25)
    assert lines.levels() == (1.0, 1.25, 1.5, 1.75, 2.0)
    assert lines.with_(by="number", number=3).levels() == (1.25, 1.5, 1.75)
    assert lines.with_(by="list", listed=(3.0, 1.0, 3.0)).levels() == (1.0, 3.0)
    assert lines.with_(low=2.0, high=1.0).levels() == lines.levels()
    with pytest.raises(TooManyError, match="more than 200 lines"):
        lines.with_(step=1e-9).levels()


def test_labels_are_the_values_at_their_places():
    flow = cube_flow(11, p=lambda p: 1 + p[:, 0])
    cut = sheet(20)
    dressed = Contours(of="p", low=-1.0, high=1.0, step=0.5).make(flow, cut, lambda _name: cut.points[:, 0] ** 2 + cut.points[:, 1] ** 2)
    assert set(dressed.numbers) == {0.5, 1.0}
    told = np.array(dressed.numbers)
    assert (dressed.places[:, :2] ** 2).sum(axis=1) == pytest.approx(told, abs=0.02)
    plain = Contours(of="p", low=-1.0, high=1.0, step=0.5, labels=False).make(flow, cut, lambda _name: cut.points[:, 0])
    assert plain.numbers == ()
    assert len(plain.offsets) > 1
