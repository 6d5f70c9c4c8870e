"""Several cards chosen at once are restyled, hidden and taken away in one step; stacks have one lamp."""

import pytest
from PyQt6.QtCore import QPointF, Qt

from driving import click, keys, pick, settle, slide
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui
CTRL = Qt.KeyboardModifier.ControlModifier


def three(window):
    for axis in "xyz":
        window.act(f"add-slice-{axis}")
    settle(window)
    return [x.id for x in window.document.study.layers][-3:]


def choose_all(window, ids):
    click(window.deck.cards[ids[0]], QPointF(40, 90))
    for one in ids[1:]:
        click(window.deck.cards[one], QPointF(40, 90), CTRL)
    assert [x.id for x in window.document.chosen_layers] == list(ids)


def looks(window, ids):
    return [window.document.study.layer(one).look for one in ids]


def test_chosen_cards_are_restyled_in_one_step(window):
    document = window.document
    ids = three(window)
    before = looks(window, ids)
    choose_all(window, ids)
    controls = window.bench.card.controls["slice"]
    window.bench.scroller.ensureWidgetVisible(controls.chooser)
    pick(controls.chooser, "Pressure coefficient")
    settle(window)
    assert {look.colour_by for look in looks(window, ids)} == {"cp"}
    window.bench.scroller.ensureWidgetVisible(controls.opacity)
    slide(controls.opacity, 0.5)
    settle(window)
    assert len({look.opacity for look in looks(window, ids)}) == 1
    assert looks(window, ids)[0].opacity < 0.9
    window.act("undo")
    window.act("undo")
    assert looks(window, ids) == before
    walls = next(x for x in document.study.layers if x.kind == "wall")
    assert walls.look.colour_by is None, "others are left alone"


def test_one_is_let_go_and_all_are_removed(window):
    document = window.document
    ids = three(window)
    choose_all(window, ids)
    click(window.deck.cards[ids[1]], QPointF(40, 90), CTRL)
    assert [x.id for x in document.chosen_layers] == [ids[0], ids[2]]
    click(window.deck.cards[ids[0]], QPointF(40, 90), CTRL)
    assert document.chosen == ids[2]
    click(window.deck.cards[ids[0]], QPointF(40, 90), CTRL)
    count = len(document.study.layers)
    keys(window.deck.cards[ids[0]], Qt.Key.Key_Delete)
    settle(window)
    assert len(document.study.layers) == count - 2
    assert document.study.layer(ids[1]) is not None
    window.act("undo")
    assert len(document.study.layers) == count


def test_a_stack_has_one_lamp_and_comes_apart(window, tmp_path):
    document = window.document
    ids = three(window)
    choose_all(window, [ids[2], ids[0]])
    keys(window.deck.cards[ids[0]], Qt.Key.Key_G, modifiers=CTRL)
    settle(window)
    stacked = [x.id for x in document.study.layers if x.stack]
    assert stacked == [ids[0], ids[2]], "side by side, in their order"
    at = [x.id for x in document.study.layers].index(ids[0])
    assert document.study.layers[at + 1].id == ids[2]
    head, = window.deck.heads.values()
    document.choose(ids[1])
    click(head, QPointF(15, 20))
    assert [x.id for x in document.chosen_layers] == stacked
    click(head, QPointF(head.lamp_rect().center()))
    settle(window)
    assert not any(document.study.is_drawn(document.study.layer(x)) for x in stacked)
    assert document.study.is_drawn(document.study.layer(ids[1]))
    click(head, QPointF(head.lamp_rect().center()))
    assert all(document.study.is_drawn(document.study.layer(x)) for x in stacked)
    assert document.save(tmp_path / "a.tidal")
    assert [x.stack for x in load_study(tmp_path / "a.tidal").layers] == [x.stack for x in document.study.layers]
    window.act("unstack")
    assert window.deck.heads == {}
    window.act("undo")
    assert len(window.deck.heads) == 1
