"""An isosurface of several values: typed, each a bead on the key, undone, saved."""

import pytest
from PyQt6.QtCore import QPointF

from driving import drag, settle, type_into
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
