"""Numbers run between their limits, without an edit, and come back."""

import gc
import weakref

import numpy as np
import pytest
from PyQt6.QtCore import QPointF

from driving import choose, click, settle, spin, wait
from tidal_lens.app.play_button import PlayButton
from tidal_lens.app.player import place_of

pytestmark = pytest.mark.gui


def test_where_a_number_is():
    assert [place_of("once", t) for t in (0.0, 0.5, 1.0, 1.7)] == [(0.0, False), (0.5, False), (1.0, True), (1.0, True)]
    assert [place_of("round", t)[0] for t in (0.25, 1.25)] == [0.25, 0.25]
    assert [place_of("fro", t)[0] for t in (0.25, 1.0, 1.75, 2.5)] == pytest.approx([0.25, 1.0, 0.25, 0.5])


def button_of(window, kind):
    found = next(b for b in window.bench.card.controls[kind].findChildren(PlayButton) if b.isVisible())
    window.bench.scroller.ensureWidgetVisible(found)
    return found


def test_a_slice_sweeps_and_comes_back(window):
    document = window.document
    window.act("add-slice-x")
    settle(window)
    layer, what = document.chosen_layer, document.undo_what
    button = button_of(window, "slice")
    document.player.pace = 1.0
    click(button)
    seen = []
    document.result_changed.connect(lambda _id: seen.append(document.asking.results[layer.id].geometry.points[:, 0].mean()))
    wait(lambda: len({round(x, 3) for x in seen}) > 5, "some slices")
    assert document.undo_what == what, "running is no edit"
    click(button)
    settle(window)
    assert document.study.layer(layer.id) == layer
    assert np.ptp(seen) > 0.2 * np.ptp(document.flow.points[:, 0])
    assert not document.dragging


def test_an_edit_stops_it_and_stays(window):
    document = window.document
    window.act("add-isosurface", "mach")
    settle(window)
    layer = document.chosen_layer
    click(button_of(window, "isosurface"))
    wait(lambda: document.study.layer(layer.id).shape != layer.shape, "it to run")
    document.edit_layer(document.study.layer(layer.id).with_(shape=layer.shape.with_(value=1.05)), "Value")
    spin(0.2)
    settle(window)
    assert document.study.layer(layer.id).shape.value == 1.05
    assert not document.player.runs(layer.id, button_of(window, "isosurface"))


def test_once_ends_by_itself_and_undo_is_harmless(window):
    document = window.document
    window.act("add-slice-y")
    settle(window)
    layer = document.chosen_layer
    button = button_of(window, "slice")
    menu = button.ways()
    menu.popup(button.mapToGlobal(QPointF(4, 4).toPoint()))
    choose(menu, "Once")
    menu.close()
    assert document.player.way == "once"
    document.player.pace = 0.4
    click(button)
    wait(lambda: not document.player.runs(layer.id, button), "its end")
    settle(window)
    assert document.study.layer(layer.id) == layer
    click(button)
    wait(lambda: document.study.layer(layer.id).shape != layer.shape, "it to run")
    window.act("undo")
    settle(window)
    assert document.study.layer(layer.id) is None
    window.act("redo")
    settle(window)
    assert document.study.layer(layer.id) == layer, "not where it ran to"


def test_an_edit_of_something_else_leaves_the_number_where_it_was(window):
    document = window.document
    window.act("add-slice-x")
    settle(window)
    layer = document.chosen_layer
    click(button_of(window, "slice"))
    wait(lambda: document.study.layer(layer.id).shape != layer.shape, "it to run")
    window.act("colour-by", "cp")
    settle(window)
    now = document.study.layer(layer.id)
    assert (now.shape, now.look.colour_by) == (layer.shape, "cp")
    window.act("undo")
    settle(window)
    assert document.study.layer(layer.id) == layer


def test_what_ran_holds_nothing_of_its_case(window, demo_path):
    window.act("add-slice-x")
    settle(window)
    window.document.player.pace = 0.3
    button = button_of(window, "slice")
    click(button)
    spin(0.2)
    click(button)
    settle(window)
    store = weakref.ref(window.document.evaluator.store)
    window.document.open_path(demo_path)
    wait(lambda: window.document.evaluator.store is not store(), "the other case")
    settle(window)
    gc.collect()
    assert store() is None
