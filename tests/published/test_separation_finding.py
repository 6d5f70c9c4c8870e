"""Separation and attachment lines of wall shear fields in closed form, and indices of critical points against Euler's number.

Poincaré–Hopf: on a closed wall the indices add up to its Euler number, 2 for a ball. Method of lines: Kenwright 1998 names the patterns;
here they are ridges of the drawing together of wall lines.
"""

from dataclasses import replace

import numpy as np
import pytest

from making import cube_flow
from shells import shell
from tidal_lens.features.finding import USUAL
from tidal_lens.features.separation import find_separation
from tidal_lens.features.wall_points import indices, wall_points
from tidal_lens.features.wall_sheet import WallSheet
from tidal_lens.flow.case import Boundary


def floor(n, kind="structured", jitter=0.0):
    """A flow over a wall z = −1, from −1 to 1; inner nodes of the wall are moved about by a share of a cell."""
    flow = cube_flow(n, kind, 0.0, None, -1.0, 1.0, one=lambda p: p[:, 0])
    points = flow.points.copy()
    inner = (points[:, 2] == -1.0) & (np.abs(points[:, :2]) < 0.999).all(axis=1)
    rng = np.random.default_rng(1)
    points[inner, :2] += jitter * 2 / (n - 1) * (rng.random((int(inner.sum()), 2)) - 0.5)
    flow = replace(flow, points=points)
    faces = flow.outside.faces[(flow.points[flow.outside.faces][:, :, 2] == -1.0).all(axis=1)]
    return replace(flow, boundaries=(Boundary("floor", "wall", flow.points, faces, np.arange(flow.n_points)),))


def drawn(p, curve=lambda x: 0 * x, slope=lambda x: 0 * x, rate=3.0):
    """Shear that draws together at y = curve(x), and less away from there."""
    off = 0.3 * np.tanh((p[:, 1] - curve(p[:, 0])) / 0.3)
    return np.column_stack([1 + 0 * p[:, 0], slope(p[:, 0]) - rate * off, 0 * p[:, 0]])


def lines(flow, shear, sort):
    found = find_separation(flow, shear).findings
    return [f for f in found if f.sort == sort and f.score >= USUAL]


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
@pytest.mark.parametrize("n", [25, 61])
@pytest.mark.parametrize("noise", [0.0, 0.02])
def test_a_straight_separation_line_is_one_line_in_its_place(kind, n, noise):
    flow = floor(n, kind, jitter=0.3) if n < 60 or kind == "structured" else floor(41, kind, jitter=0.3)
    width = 2 / (round(flow.n_points ** (1 / 3)) - 1)
    shear = drawn(flow.points) * (1 + noise * np.random.default_rng(2).standard_normal((flow.n_points, 3)))
    (one,) = lines(flow, shear, "separation line")
    assert np.abs(one.line[:, 1]).mean() < 0.5 * width
    assert one.size > 1.5
    assert one.line[0, 0] < one.line[-1, 0], "in the sense of the shear"
    assert lines(flow, shear, "attachment line") == []


def test_a_curved_one_is_where_it_is():
    flow = floor(61, jitter=0.2)
    shear = drawn(flow.points, lambda x: 0.3 * np.sin(2 * x), lambda x: 0.6 * np.cos(2 * x), 4.0)
    (one,) = lines(flow, shear, "separation line")
    off = one.line[:, 1] - 0.3 * np.sin(2 * one.line[:, 0])
    assert np.abs(off).mean() < 0.5 * 2 / 60
    assert one.size > 1.5


def test_reversed_shear_has_attachment_where_there_was_separation():
    flow = floor(41)
    (one,) = lines(flow, -drawn(flow.points), "attachment line")
    assert np.abs(one.line[:, 1]).mean() < 0.5 * 2 / 40
    assert lines(flow, -drawn(flow.points), "separation line") == []


@pytest.mark.parametrize("field", [lambda p: np.column_stack([p[:, 0] + 2.5, p[:, 1], 0 * p[:, 0]]),
                                   lambda p: np.column_stack([1 + 0.5 * p[:, 1], 0 * p[:, 0], 0 * p[:, 0]]),
                                   lambda p: np.column_stack([1 + 0 * p[:, 0], 0.3 * np.cos(6 * p[:, 0]), 0 * p[:, 0]])],
                         ids=["fan", "shear", "waves"])
def test_no_separation_is_found_where_lines_do_not_draw_together(field):
    flow = floor(41)
    assert lines(flow, field(flow.points), "separation line") == []


BALL_FIELDS = {
    "a stream": lambda p: np.tile([1.0, 0.2, 0.1], (len(p), 1)),
    "a strain": lambda p: np.column_stack([p[:, 0] + 0.1, -0.7 * p[:, 1], 0.3 * p[:, 2] + 0.05]),
    "a turn": lambda p: np.column_stack([-p[:, 1] + 0.2, p[:, 0], 0.1 + 0 * p[:, 0]]),
    "waves": lambda p: np.column_stack([np.sin(3 * p[:, 1]), np.cos(2 * p[:, 2] + 1), np.sin(4 * p[:, 0]) + 0.3]),
}


@pytest.mark.parametrize("name", BALL_FIELDS)
@pytest.mark.parametrize("noise", [0.0, 0.2])
def test_indices_on_a_ball_add_up_to_two(name, noise):
    flow = shell()
    rng = np.random.default_rng(4)
    sheet = WallSheet.of(flow, BALL_FIELDS[name](flow.points) + noise * rng.standard_normal((flow.n_points, 3)))
    assert sheet.is_closed
    assert sheet.euler == 2
    assert indices(sheet).sum() == 2


def test_a_stream_over_a_ball_begins_in_one_node_and_ends_in_another():
    flow = shell(25)
    way = np.array([1.0, 0.2, 0.1]) / np.linalg.norm([1.0, 0.2, 0.1])
    points = wall_points(WallSheet.of(flow, np.tile(way, (flow.n_points, 1))))
    assert [p.kind for p in points] == ["node", "node"]
    begins, ends = sorted(points, key=lambda p: p.leaving)
    assert begins.place == pytest.approx(-way, abs=2e-3)
    assert ends.place == pytest.approx(way, abs=2e-3)


def test_a_strain_has_its_saddles_where_its_middle_axis_is():
    """Of x ∂x − 0.7 y ∂y + 0.3 z ∂z nodes lie on the axes of the greatest and least rate, saddles on that between."""
    flow = shell(25)
    points = wall_points(WallSheet.of(flow, flow.points * np.array([1.0, -0.7, 0.3])))
    by_kind = {kind: [p.place for p in points if p.kind == kind] for kind in ("node", "saddle")}
    assert len(by_kind["node"]) == 4
    assert len(by_kind["saddle"]) == 2
    assert {int(np.abs(p).argmax()) for p in by_kind["saddle"]} == {2}
    assert {int(np.abs(p).argmax()) for p in by_kind["node"]} == {0, 1}
    for place in [*by_kind["node"], *by_kind["saddle"]]:
        assert np.abs(place).max() > 0.999


def test_the_list_says_whether_the_indices_add_up():
    flow = shell()
    found = find_separation(flow, BALL_FIELDS["a strain"](flow.points))
    assert (found.index_sum, found.euler) == (2, 2)
    point = next(f for f in found.findings if f.sort == "saddle")
    assert "add up to 2" in point.told[-1]
