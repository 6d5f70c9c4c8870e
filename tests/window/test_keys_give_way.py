"""Keys give way to that of the chosen card, are moved, hidden, named and fitted; values are lit and pinned by them."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt

from driving import click, drag, keys, move, settle, spin, type_into, wait
from tidal_lens.scene.key_faces import SLIM, WIDTH
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui


def faces(window):
    found = window.view.keys.keys()
    return {key.quantity.name: key for key in found}


def two_keys(window):
    """The slice by Mach number, and another by pressure, which is chosen."""
    window.act("add-slice-x")
    settle(window)
    layer = window.document.chosen_layer
    window.act("colour-by", "cp")
    settle(window)
    return layer


def test_keys_of_other_cards_are_slim_until_pointed_at(window):
    two_keys(window)
    assert not faces(window)["cp"].slim
    assert faces(window)["mach"].slim
    assert faces(window)["mach"].width == SLIM
    assert faces(window)["cp"].left == pytest.approx(faces(window)["mach"].left + SLIM + 6)
    key = faces(window)["mach"]
    move(window.view, QPointF(key.left + 0.5 * SLIM, key.top + 100))
    spin(0.02)
    assert faces(window)["mach"].width == WIDTH
    move(window.view, QPointF(600, 500))
    spin(0.02)
    assert faces(window)["mach"].slim
    window.document.choose(next(x.id for x in window.document.study.layers if x.look.colour_by == "mach"))
    assert not faces(window)["mach"].slim
    assert faces(window)["cp"].slim


def test_a_key_is_dragged_by_its_head_and_comes_back(window, tmp_path):
    document = window.document
    two_keys(window)
    head = window.view.keys.grip_at("cp", "head")
    before = faces(window)["cp"]
    drag(window.view, head, head + QPointF(200, 150))
    after = faces(window)["cp"]
    assert (after.left - before.left, after.top - before.top) == (pytest.approx(200, abs=2), pytest.approx(150, abs=2))
    assert faces(window)["mach"].left == pytest.approx(12.0)
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").keys["cp"].place == document.study.keys["cp"].place
    window.act("undo")
    assert faces(window)["cp"].left == before.left


def test_a_key_is_hidden_named_and_told_with_other_digits(window):
    document = window.document
    layer = two_keys(window)
    controls = window.bench.card.controls["slice"].key
    window.bench.scroller.ensureWidgetVisible(controls.shown)
    click(controls.shown, QPointF(8, 8))
    assert "cp" not in faces(window)
    click(controls.shown, QPointF(8, 8))
    assert "cp" in faces(window)
    controls.own_title.setFocus()
    keys(controls.own_title, "Load", Qt.Key.Key_Return)
    assert faces(window)["cp"].title == "Load"
    type_into(controls.digits, "2")
    assert faces(window)["cp"].text_of(1.23456) == "1.2"
    for _ in range(4):
        window.act("undo")
    assert "cp" not in document.study.keys
    assert document.study.layer(layer.id) is not None


def test_a_key_is_fitted_to_what_is_shown(window):
    document = window.document
    layer = two_keys(window)
    values = document.asking.results[layer.id].colours
    controls = window.bench.card.controls["slice"].key
    window.bench.scroller.ensureWidgetVisible(controls.fit)
    click(controls.fit)
    settle(window)
    assert document.study.keys["cp"].low == pytest.approx(np.nanmin(values), rel=1e-3)
    assert document.study.keys["cp"].high == pytest.approx(np.nanmax(values), rel=1e-3)


def test_a_click_in_the_bar_lights_places_until_escape(window):
    document = window.document
    key = faces(window)["mach"]
    value = 0.5 * (key.low + key.high)
    click(window.view, QPointF(key.bar_left + 6, key.y_of(value)))
    wait(lambda: window.view.lights.items, "the lines")
    settle(window)
    _, lit = window.view.lights.of
    assert lit == pytest.approx(value, abs=0.01 * (key.high - key.low))
    layer = next(x for x in document.study.layers if x.look.colour_by == "mach")
    points = np.concatenate([item.points for item in window.view.lights.items if layer.id in item.id])
    assert len(points) > 10
    geometry, colours = document.asking.results[layer.id].geometry, document.asking.results[layer.id].colours
    near = np.array([colours[np.argsort(((geometry.points - p) ** 2).sum(axis=1))[:8]] for p in points[:60]])
    assert ((near.min(axis=1) <= lit + 1e-6) & (near.max(axis=1) >= lit - 1e-6)).mean() > 0.9
    assert document.undo_what == "", "it is no edit"
    keys(window.view, Qt.Key.Key_Escape)
    settle(window)
    assert window.view.lights.of is None
    assert window.view.lights.items == ()


def test_the_least_and_greatest_values_are_pinned(window):
    flow, store = window.document.flow, window.document.evaluator.store
    values = store.values("mach")
    key = faces(window)["mach"]
    for what, value in key.extremes():
        click(window.view, window.view.keys.grip_at("mach", what))
        at = int(np.nanargmin(values) if what == "least" else np.nanargmax(values))
        assert values[at] == pytest.approx(value)
        assert window.view.pin.place == pytest.approx(tuple(flow.points[at]))
    assert key.extremes()
