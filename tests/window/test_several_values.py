"""An isosurface of several values: typed, each a bead on the key, undone, saved."""

import pytest
from PyQt6.QtCore import QPointF

from driving import click, drag, pick, settle, type_into
from tidal_lens.cutting.contour import isosurface
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui


def test_several_values_are_typed_and_each_is_a_bead(window, tmp_path):
    document = window.document
    window.act("add-isosurface", "mach")
    settle(window)
    layer = document.chosen_layer
    low, high = document.evaluator.store.distribution("mach").usual
    controls = window.bench.card.controls["isosurface"]
    values = [float(f"{low + share * (high - low):.3g}") for share in (0.3, 0.6, 0.8)]
    type_into(controls.value, f"{values[0]}")
    type_into(controls.more, f"{values[1]}; {values[2]}")
    settle(window)
    shape = document.study.layer(layer.id).shape
    assert shape.values == tuple(values)
    flow, mach = document.flow, document.evaluator.store.values("mach")
    area = sum(isosurface(flow, mach, value).area for value in values)
    geometry = document.asking.results[layer.id].geometry
    assert geometry.area == pytest.approx(area, rel=1e-9)
    taken = geometry.stencil.apply(mach)
    assert min(abs(taken[:, None] - values).min(axis=1).max(), 1.0) < 1e-4 * high, "each point lies on one of them"
    assert all(f"{v:.3g}" in window.deck.cards[layer.id].toolTip() for v in values)
    bead = window.view.keys.grip_at("mach", f"{layer.id}#2")
    drag(window.view, bead, bead + QPointF(0, 12))
    settle(window)
    moved = document.study.layer(layer.id).shape
    assert moved.values[:2] == tuple(values[:2])
    assert moved.values[2] < values[2]
    assert document.chosen == layer.id
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer.id).shape == moved
    type_into(controls.more, "one")
    assert any("are no numbers" in strip.notice.text for strip in window.strips.live())
    window.act("undo")
    window.act("undo")
    settle(window)
    assert document.study.layer(layer.id).shape.more == ()
    type_into(controls.more, "77")
    settle(window)
    assert "does not take 77" in controls.span.text()


def test_a_run_of_values_is_dragged_by_its_ends_and_cut_to_a_range(window, tmp_path):
    document = window.document
    window.act("add-isosurface", "mach")
    settle(window)
    layer = document.chosen_layer
    low, high = document.evaluator.store.distribution("mach").usual
    controls = window.bench.card.controls["isosurface"]
    type_into(controls.value, f"{low + 0.2 * (high - low):.3g}")
    click(controls.by.button("run"))
    type_into(controls.last, f"{low + 0.8 * (high - low):.3g}")
    type_into(controls.count, "4")
    settle(window)
    shape = document.study.layer(layer.id).shape
    assert len(shape.values) == 4
    mach = document.evaluator.store.values("mach")
    geometry = document.asking.results[layer.id].geometry
    assert geometry.area == pytest.approx(sum(isosurface(document.flow, mach, v).area for v in shape.values), rel=1e-9)
    bead = window.view.keys.grip_at("mach", f"{layer.id}#1")
    drag(window.view, bead, bead + QPointF(0, 12))
    settle(window)
    assert document.study.layer(layer.id).shape.last < shape.last
    window.bench.scroller.ensureWidgetVisible(controls.only)
    pick(controls.only, "Place x")
    type_into(controls.low, "0")
    type_into(controls.high, "1.5")
    settle(window)
    left = document.asking.results[layer.id].geometry.points[:, 0]
    assert left.min() >= -1e-9
    assert left.max() <= 1.5 + 1e-9
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer.id).shape == document.study.layer(layer.id).shape
