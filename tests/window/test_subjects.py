"""Cards made from other cards: chosen, dragged along, lost, brought back, saved."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF
from PyQt6.QtTest import QTest

from driving import LEFT, NONE, click, drag, move, pick, settle
from tidal_lens.study.kinds.streamlines import new_streamlines
from tidal_lens.study.session import open_study

pytestmark = pytest.mark.gui


def lines_on_the_slice(window):
    cut = next(x for x in window.document.study.layers if x.kind == "slice")
    window.document.choose(cut.id)
    window.act("add-seed-card")
    settle(window)
    return window.bench.card.controls["streamlines"].seeds, cut


def began(window):
    layer = window.document.study.layers[-1]
    return window.document.asking.results[layer.id].made.began


def test_seeds_follow_the_card_that_they_lie_on(window, tmp_path):
    document = window.document
    controls, cut = lines_on_the_slice(window)
    lines = document.chosen_layer
    assert (lines.shape.seeds[0].card, lines.shape.seeds[0].off) == (cut.id, 0.0)
    assert not controls.fields["start"][0].isVisible()
    assert controls.fields["count"][0].isVisible()
    assert np.ptp(began(window)[:, cut.shape.axis]) < 1e-6
    assert cut.name in window.deck.cards[lines.id].toolTip()
    document.choose(cut.id)
    settle(window)
    bead = window.view.handles.bead_at("slice")
    drag(window.view, bead, bead + QPointF(60, 25), steps=6)
    settle(window)
    moved = document.study.layer(cut.id).shape.position
    assert moved != cut.shape.position
    assert began(window)[:, cut.shape.axis] == pytest.approx(moved, abs=1e-6)
    assert not document.asking.results[lines.id].draft, "a draft is done properly when the bead is let go"
    window.act("toggle-lamp")
    settle(window)
    assert lines.id in document.asking.results, "what is hidden may be made from"
    assert document.save(tmp_path / "a.tidal")
    assert open_study(tmp_path / "a.tidal").results()[lines.id].made.began == pytest.approx(began(window))


def test_a_lost_card_is_told_and_undo_brings_it_back(window):
    document = window.document
    controls, cut = lines_on_the_slice(window)
    lines, before = document.chosen_layer, began(window)
    document.choose(cut.id)
    window.act("remove")
    settle(window)
    assert "is gone" in document.asking.failures[lines.id]
    document.choose(lines.id)
    assert "is gone" in window.bench.card.trouble.text()
    assert controls.card.currentText() == "a card that is gone"
    window.act("undo")
    settle(window)
    assert lines.id not in document.asking.failures
    assert began(window) == pytest.approx(before)
    assert controls.card.currentText() == cut.name
    walls = next(x for x in document.study.layers if x.kind == "wall")
    pick(controls.card, walls.name)
    settle(window)
    assert np.ptp(began(window)[:, cut.shape.axis]) > 0.0
    assert document.chosen_layer.shape.seeds[0].card == walls.id


def test_what_is_made_from_a_card_is_not_offered_to_it(window):
    controls, _cut = lines_on_the_slice(window)
    walls = next(x for x in window.document.study.layers if x.kind == "wall")
    offered = [controls.card.itemText(n) for n in range(controls.card.count())]
    assert walls.name in offered
    assert window.document.chosen_layer.name not in offered
    window.act("add-mask")
    settle(window)
    mask = window.bench.card.controls["mask"]
    whole = {i: r.geometry for i, r in window.document.asking.results.items()}
    window.bench.scroller.ensureWidgetVisible(mask.everything)
    click(mask.everything, QPointF(8, 8))
    for card, box in mask.cards.items():
        if box.isChecked() != (card == walls.id):
            window.bench.scroller.ensureWidgetVisible(box)
            click(box, QPointF(8, 8))
    settle(window)
    unmasked = [i for i in whole if window.document.asking.results[i].whole is None]
    assert walls.id not in unmasked
    assert len(unmasked) == len(whole) - 1
    assert "in " + walls.name in window.deck.cards[window.document.chosen].toolTip()


def test_a_bead_that_is_held_stays_its_cards(window):
    """A card that was begun before arrives, and is chosen, in the middle of a drag."""
    document = window.document
    cut = next(x for x in document.study.layers if x.kind == "slice")
    document.choose(cut.id)
    settle(window)
    bead = window.view.handles.bead_at("slice")
    QTest.mousePress(window.view, LEFT, NONE, bead.toPoint())
    move(window.view, bead + QPointF(10, 5), button=LEFT)
    first = document.study.layer(cut.id).shape.position
    document.add(new_streamlines(document.evaluator.store))
    lines = document.chosen_layer
    move(window.view, bead + QPointF(50, 20), button=LEFT)
    QTest.mouseRelease(window.view, LEFT, NONE, (bead + QPointF(50, 20)).toPoint())
    settle(window)
    assert document.study.layer(cut.id).shape.position != first
    assert document.study.layer(lines.id) == lines
    assert not document.dragging
