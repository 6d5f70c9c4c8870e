"""Layers that are made from other layers."""

import json

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.errors import LostLayerError, StudyError
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.files import load_study, save_study
from tidal_lens.study.kinds.mask import MaskShape
from tidal_lens.study.kinds.seeds import CardSeeds
from tidal_lens.study.kinds.slice import new_slice
from tidal_lens.study.kinds.streamlines import new_streamlines
from tidal_lens.study.looks import NoLook
from tidal_lens.study.model import Layer, Study, Subject
from tidal_lens.study.value import walk
from tidal_lens.study.words import Words
from tidal_lens.tracing.seeds import seeds_on_faces
from tidal_lens.work import Token


@pytest.fixture
def evaluator():
    flow = cube_flow(11, velocity=straight, p=lambda p: 1 + p[:, 0], rho=lambda p: 1 + 0 * p[:, 0])
    return Evaluator(flow, ReferenceState(1.0, 1.0, (1.0, 0, 0)))


def straight(p):
    return np.column_stack([1 + 0 * p[:, 0], 0 * p[:, 0], 0 * p[:, 0]])


def on_a_slice(evaluator, count=40):
    """A slice at x = 0.5, and lines from seeds on it."""
    study = Study()
    cut = study.layer_of(new_slice(evaluator.store, 0))
    study = study.adding(cut)
    lines = study.layer_of(new_streamlines(evaluator.store))
    lines = lines.with_(shape=lines.shape.with_(seeds=(CardSeeds(card=cut.id, count=count),)))
    return study.adding(lines), cut, lines


def test_seeds_lie_evenly_on_another_card(evaluator):
    study, cut, lines = on_a_slice(evaluator, 64)
    result = evaluator.evaluate(lines, Token(), study)
    assert result.geometry.n_lines == 64
    began = result.made.began
    assert began[:, 0] == pytest.approx(0.5)
    counts, *_ = np.histogram2d(began[:, 1], began[:, 2], bins=2, range=[[0, 1], [0, 1]])
    assert counts == pytest.approx(np.full((2, 2), 16.0), abs=1), "a quarter of the seeds in each quarter of the square"
    counts, *_ = np.histogram2d(began[:, 1], began[:, 2], bins=4, range=[[0, 1], [0, 1]])
    assert counts.min() >= 2, "cells of a tenth do not fit sixteenths of the square"
    assert counts.max() <= 6
    names = study.card_names()
    assert lines.tell(Words(evaluator.store, names)) == f"whole flow, 64 seeds on {cut.name}"
    assert list(walk(lines, "layer")) == [cut.id]


def test_what_is_below_decides_what_an_answer_is(evaluator):
    study, cut, lines = on_a_slice(evaluator)
    first = evaluator.evaluate(lines, Token(), study)
    moved = study.replacing(cut.with_(shape=cut.shape.with_(position=0.3)))
    assert evaluator.wish(lines, moved) != evaluator.wish(lines, study)
    assert evaluator.evaluate(lines, Token(), moved).made.began[:, 0] == pytest.approx(0.3)
    assert evaluator.evaluate(lines, Token(), study).made is first.made, "and it is found again"
    recoloured = study.replacing(cut.with_(look=cut.look.with_(opacity=0.5), shown=False, name="another"))
    assert evaluator.wish(lines, recoloured) == evaluator.wish(lines, study), "how the other card looks is nothing to it"
    mask = Layer(id="mask-9", name="m", shape=MaskShape(quantity="file:p", value=9.0), look=NoLook())
    hidden = study.adding(mask.with_(subject=Subject(card=cut.id)))
    assert len(evaluator.evaluate(cut, Token(), hidden).geometry.points) == 0
    assert evaluator.evaluate(lines, Token(), hidden).made is first.made, "subjects are seen whole"


def test_a_lost_card_is_told_and_comes_back(evaluator):
    study, cut, lines = on_a_slice(evaluator)
    first = evaluator.evaluate(lines, Token(), study)
    without = study.without(cut.id)
    with pytest.raises(LostLayerError, match=r"is made from is gone\. Choose another one, or undo"):
        evaluator.evaluate(lines, Token(), without)
    assert "gone" in evaluator.lacking(lines, without)
    assert lines.tell(Words(None, without.card_names())).endswith("a card that is gone")
    assert evaluator.evaluate(lines, Token(), without.adding(cut)).made is first.made
    other = study.replacing(lines.with_(shape=lines.shape.with_(seeds=(CardSeeds(card=lines.id[:-1] + "77"),))))
    assert evaluator.wish(lines, study) != evaluator.wish(other.layer(lines.id), other)


def test_a_card_without_anything_gives_no_seed(evaluator):
    study, cut, lines = on_a_slice(evaluator)
    study = study.replacing(cut.with_(shape=cut.shape.with_(position=7.0)))
    made = evaluator.evaluate(lines, Token(), study).made
    assert made.geometry.n_lines == 0
    assert lines.shape.handles(evaluator.flow, made).dots.shape == (0, 3)


def test_circles_are_refused(evaluator, tmp_path):
    study, cut, lines = on_a_slice(evaluator)
    with pytest.raises(StudyError, match="would be made from one another"):
        study.replacing(lines.with_(shape=lines.shape.with_(seeds=(CardSeeds(card=lines.id),))))
    second = lines.with_(id=study.new_id("streamlines"), name="More lines", shape=lines.shape.with_(seeds=(CardSeeds(card=lines.id),)))
    study = study.adding(second)
    assert study.rests_on(second) == {lines.id, cut.id}
    with pytest.raises(StudyError, match=f"{lines.name} and More lines would be made from one another"):
        study.replacing(lines.with_(shape=lines.shape.with_(seeds=(CardSeeds(card=second.id),))))
    assert [x.id for x in study.subjects_for(lines, ("surface", "lines"))] == [cut.id], "what is made from it is not offered"
    with pytest.raises(StudyError, match="Its seeds lie on a surface"):
        evaluator.evaluate(second, Token(), study)
    save_study(study, tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal") == study
    raw = json.loads((tmp_path / "a.tidal").read_text())
    raw["layers"][1]["shape"]["seeds"][0]["card"] = second.id
    (tmp_path / "a.tidal").write_text(json.dumps(raw))
    with pytest.raises(StudyError, match="are made from one another"):
        load_study(tmp_path / "a.tidal")


def test_a_mask_hides_in_the_card_that_it_is_of(evaluator):
    study, cut, lines = on_a_slice(evaluator)
    mask = Layer(id="mask-9", name="m", shape=MaskShape(quantity="file:p", value=1.7), look=NoLook(), subject=Subject(card=cut.id))
    study = study.adding(mask)
    assert [len(evaluator.masks(study, layer)) for layer in (cut, lines)] == [1, 0]
    assert mask.tell(Words(None, study.card_names())).endswith(f"in {cut.name}")
    assert [len(evaluator.masks(study.without(cut.id), layer)) for layer in (cut, lines)] == [0, 0]
    with pytest.raises(ValueError, match="a slice is of the whole flow"):
        cut.with_(subject=Subject(card=lines.id))


def test_seeds_on_faces_go_by_area():
    points = np.array([[0.0, 0, 0], [3, 0, 0], [3, 1, 0], [0, 1, 0], [0, 0, 1], [0, 1, 1], [7, 7, 7]])
    faces = np.array([[0, 1, 2, 3], [0, 3, 5, 4], [6, 6, 6, 6]])
    seeds = seeds_on_faces(points, faces, 400)
    on_large = seeds[:, 2] < 1e-12
    assert on_large.sum() == pytest.approx(300, abs=3)
    assert np.abs(seeds[on_large, 0].mean() - 1.5) < 0.1
    assert (seeds[~on_large, 0] == 0).all()
    assert len(np.unique(seeds.round(12), axis=0)) == 400
    assert seeds_on_faces(points, faces[2:], 5).shape == (0, 3)
