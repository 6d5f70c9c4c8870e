"""Contour lines as a dressing: ticked, set in three ways, labelled where they can be seen, undone, saved."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint

from driving import click, pick, settle, type_into
from tidal_lens.app.overlays.labels import LabelsOverlay
from tidal_lens.scene.label_marks import label_marks
from tidal_lens.scene.marks import Words, rough_measure
from tidal_lens.study.dressings import Arrows
from tidal_lens.study.files import load_study
from tidal_lens.study.words import number_text

pytestmark = pytest.mark.gui


def on_the_slice(window):
    document = window.document
    layer = next(x for x in document.study.layers if x.kind == "slice")
    document.choose(layer.id)
    settle(window)
    controls = window.bench.card.controls["slice"].contours
    click(controls.on, QPoint(8, 8))
    settle(window)
    return layer.id, controls


def dressed(window, layer_id):
    return window.document.asking.results[layer_id].dressed[0]


def levels_on(window, layer_id):
    """Values of the lines, from the flow at their points."""
    lines, flow = dressed(window, layer_id), window.document.flow
    values = window.document.evaluator.store.values(window.document.study.layer(layer_id).look.contours.of)
    from tidal_lens.sampling.mesh import mesh_of

    stencil, inside = mesh_of(flow).locate(lines.points, slack=1e-6)
    return stencil.apply(values)[inside]


def test_lines_are_ticked_set_undone_and_saved(window, tmp_path):
    document = window.document
    layer_id, controls = on_the_slice(window)
    look = document.study.layer(layer_id).look
    assert look.contours.of == look.colour_by
    assert 4 <= len(look.contours.levels()) <= 30
    assert len(dressed(window, layer_id).points) > 50
    found, wanted = levels_on(window, layer_id), np.array(look.contours.levels())
    off = np.abs(found[:, None] - wanted).min(axis=1)
    assert np.median(off) < 0.02 * (wanted[1] - wanted[0]), "they lie where the flow has their values"
    click(controls.by.button("number"))
    type_into(controls.number, "5")
    settle(window)
    assert len(document.study.layer(layer_id).look.contours.levels()) == 5
    click(controls.by.button("list"))
    assert controls.listed.isVisible()
    assert not controls.low.isVisible()
    low, high = document.evaluator.store.distribution(look.colour_by).usual
    type_into(controls.listed, f"{0.5 * (low + high):.4g}; {0.7 * high + 0.3 * low:.4g}")
    settle(window)
    assert len(document.study.layer(layer_id).look.contours.levels()) == 2
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer_id).look == document.study.layer(layer_id).look
    type_into(controls.listed, "one two")
    assert any("are no numbers" in strip.notice.text for strip in window.strips.live())
    for _ in range(5):
        window.act("undo")
    settle(window)
    assert document.study.layer(layer_id).look.contours is None
    assert not controls.more.isVisible()


def test_labels_are_written_where_they_can_be_seen(window):
    layer_id, controls = on_the_slice(window)
    overlay = next(o for o in window.view._overlays if isinstance(o, LabelsOverlay))
    texts = [mark.text for mark in overlay.marks() if isinstance(mark, Words)]
    assert texts
    assert set(texts) <= {number_text(v) for v in dressed(window, layer_id).numbers}
    click(controls.labels, QPoint(8, 8))
    settle(window)
    assert overlay.marks() == []
    window.act("undo")
    settle(window)
    window.document.edit(window.document.study.with_(alone=next(x.id for x in window.document.study.layers if x.kind == "wall")), "alone")
    settle(window)
    assert overlay.marks() == [], "what is not drawn has no labels"


def test_labels_give_way_to_one_another_and_to_what_is_before_them(window):
    camera = window.view.shown_camera
    place = camera.focus
    taken = []
    marks = label_marks(np.array([place, place]), ("1", "2"), camera, (800, 600), None, rough_measure, taken)
    assert [m.text for m in marks if isinstance(m, Words)] == ["1"]
    away = camera.project(place[None], 800, 600)[1][0]
    for front, seen in ((0.5 * away, 0), (1.5 * away, 2), (np.nan, 2)):
        assert len(label_marks(place[None], ("1",), camera, (800, 600), np.full((3, 4), front), rough_measure, [])) == seen


def test_another_quantity_brings_its_own_range_and_too_many_lines_are_told(window):
    document = window.document
    layer_id, controls = on_the_slice(window)
    pick(controls.of, "Vorticity magnitude")
    settle(window)
    contours = document.study.layer(layer_id).look.contours
    assert contours.of == "vorticity-magnitude"
    low, high = document.evaluator.store.distribution("vorticity-magnitude").usual
    assert contours.high == pytest.approx(high, rel=0.05)
    assert 4 <= len(contours.levels()) <= 30
    type_into(controls.step, f"{(high - low) / 1e6:.3g}")
    settle(window)
    assert "more than 200 lines" in document.asking.failures[layer_id]
    assert document.asking.results[layer_id].geometry is not None, "the slice is there all the same"
    window.act("undo")
    settle(window)
    assert layer_id not in document.asking.failures


def test_a_dressing_is_drawn_as_its_own_look_says(window):
    """Before the answer for a look with two dressings is there, the lines that are there belong to the one that they were made for."""
    document = window.document
    layer_id, _controls = on_the_slice(window)
    layer = document.study.layer(layer_id)
    both = layer.with_(look=layer.look.with_(contours=None, arrows=Arrows(colour="#123456")))
    document.edit(document.study.replacing(both), "arrows instead")
    scene = window.view.scenery.scene(document.asking.table(), "#ffffff", "#000000")
    assert not any(item.id.startswith("·") and layer_id in item.id for item in scene.items), "contour lines are not drawn as arrows"
    settle(window)
    scene = window.view.scenery.scene(document.asking.table(), "#ffffff", "#000000")
    assert [item.colour for item in scene.items if item.id.startswith("·") and layer_id in item.id] == ["#123456"]
