"""What masks leave: exact areas and lengths, shared edges, values that are those of the place."""

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.cutting.contour import axis_slice, isosurface
from tidal_lens.cutting.masking import kept_surface
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.mask import MaskShape
from tidal_lens.study.kinds.slice import new_slice
from tidal_lens.study.looks import NoLook
from tidal_lens.study.model import Layer, Study
from tidal_lens.tracing.masking import kept_lines
from tidal_lens.tracing.streamlines import TraceSettings, trace_lines
from tidal_lens.work import Token


def straight(p):
    return np.column_stack([1 + 0 * p[:, 0], 0 * p[:, 0], 0 * p[:, 0]])


@pytest.mark.parametrize("kind", ["structured", "tetrahedra", "wedges"])
def test_half_of_a_plane_is_exactly_half(kind):
    flow = cube_flow(12, kind, velocity=straight)
    cut = axis_slice(flow, 2, 0.5)
    over = cut.points[:, 0] + 0.5 * cut.points[:, 1] - 0.6
    left, right = kept_surface(cut, over), kept_surface(cut, -over)
    assert left.area == pytest.approx(1 - (0.6 + 0.1) / 2, abs=1e-12)
    assert left.area + right.area == pytest.approx(cut.area, abs=1e-12)
    assert (left.points[:, 0] + 0.5 * left.points[:, 1]).min() == pytest.approx(0.6, abs=1e-12)
    for axis in range(3):
        there = left.stencil.apply(np.ascontiguousarray(flow.points[:, axis]))
        assert np.abs(there - left.points[:, axis]).max() < 1e-12


def test_neighbours_share_the_vertices_of_a_cut():
    """Without cracks: an edge inside belongs to two faces, and only the rim to one."""
    flow = cube_flow(15, "tetrahedra", velocity=straight)
    ball = isosurface(flow, np.linalg.norm(flow.points - 0.5, axis=1), 0.37)
    left = kept_surface(ball, ball.points[:, 2] - 0.6)
    f = left.faces
    triangles = np.concatenate([f[:, [0, 1, 2]], f[f[:, 2] != f[:, 3]][:, [0, 2, 3]]])
    edges = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    _, first, counts = np.unique(edges, axis=0, return_index=True, return_counts=True)
    assert set(counts) == {1, 2}
    rim = left.points[edges[first[counts == 1]]]
    assert np.abs(rim[..., 2] - 0.6).max() < 1e-12, "what was not cut has no rim"
    assert left.area == pytest.approx(2 * np.pi * 0.37 * (0.5 + 0.37 - 0.6), rel=0.02), "but for the facets of the ball"


def test_all_nothing_and_places_without_a_number():
    flow = cube_flow(6, velocity=straight)
    cut = axis_slice(flow, 2, 0.5)
    assert kept_surface(cut, np.ones(len(cut.points))).area == pytest.approx(cut.area)
    assert len(kept_surface(cut, -np.ones(len(cut.points))).faces) == 0
    values = np.where(cut.points[:, 0] < 0.41, np.nan, 1.0)
    left = kept_surface(cut, values)
    assert np.isfinite(left.points).all()
    assert left.points[:, 0].min() == pytest.approx(0.6), "a vertex without a number is hidden, and its faces up to those that have one"


def test_lines_end_where_the_value_is_met():
    flow = cube_flow(12, velocity=straight)
    lines = trace_lines(flow, mesh_of(flow), straight(flow.points), np.array([[0.5, 0.3, 0.4], [0.5, 0.7, 0.6]]), TraceSettings("both"))
    x = lines.points[:, 0]
    left = kept_lines(lines, np.abs(x - 0.5) - 0.2)
    assert left.n_lines == 4, "each line is in two pieces"
    ends = [(left.points[a, 0], left.points[b - 1, 0]) for a, b in zip(left.offsets[:-1], left.offsets[1:], strict=True)]
    assert [e for pair in ends for e in pair] == pytest.approx([0.0, 0.3, 0.7, 1.0] * 2, abs=2e-3)
    assert left.seeds.tolist() == [0, 0, 1, 1]
    assert left.n_seeds == 2
    assert np.abs(left.stencil.apply(np.ascontiguousarray(flow.points[:, 1])) - left.points[:, 1]).max() < 1e-9
    assert left.time == pytest.approx(left.points[:, 0] - 0.5, abs=1e-6)
    assert kept_lines(lines, np.full(len(x), -1.0)).n_lines == 0
    assert kept_lines(lines, np.full(len(x), np.nan)).n_lines == 0
    assert len(kept_lines(lines, np.ones(len(x))).points) == len(x)


def mask(name="x", **how):
    return Layer(id=f"mask-{name}", name=name, shape=MaskShape(quantity="file:p", value=1.25, **how), look=NoLook())


def test_masks_are_part_of_what_an_answer_rests_on():
    flow = cube_flow(11, velocity=straight, p=lambda p: 1 + p[:, 0], rho=lambda p: 1 + 0 * p[:, 0])
    evaluator = Evaluator(flow, ReferenceState(1.0, 1.0, (1.0, 0, 0)))
    layer = Study().layer_of(new_slice(evaluator.store, 1))
    whole = evaluator.evaluate(layer, Token())
    above, below = mask("a"), mask("b", keep="below")
    study = Study().adding(layer)
    masked = evaluator.evaluate(layer, Token(), study.adding(above))
    assert masked.geometry.area == pytest.approx(0.75)
    assert masked.unmasked.geometry is whole.geometry, "the shape is not worked out again"
    assert len(masked.colours) == len(masked.geometry.points)
    assert evaluator.evaluate(layer, Token(), study.adding(above)).geometry is masked.geometry
    assert evaluator.evaluate(layer, Token(), study.adding(above).adding(below)).geometry.area == pytest.approx(0.0, abs=1e-12)
    moved = above.with_(shape=above.shape.at_level(0, 1.5))
    assert evaluator.evaluate(layer, Token(), study.adding(moved)).geometry.area == pytest.approx(0.5)
    assert evaluator.wish(layer) != evaluator.wish(layer, study.adding(above)) != evaluator.wish(layer, study.adding(moved))


def test_masks_in_force_are_those_that_are_lit():
    study = Study().adding(mask("a")).adding(mask("b").with_(shown=False))
    assert [m.name for m in study.masks()] == ["a"]
    assert study.with_(alone="mask-b").masks() == study.masks(), "what is shown alone is masked too"
