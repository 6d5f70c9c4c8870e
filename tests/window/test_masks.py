"""A mask: added, moved by its bead, turned, put out, undone and saved; it hides on all cards and is told."""

import pytest
from PyQt6.QtCore import QPointF
from PyQt6.QtTest import QTest

from driving import LEFT, click, drag, move, pick, settle, type_into, wait
from tidal_lens.app import pictures
from tidal_lens.app.commands import BY_ID
from tidal_lens.study.session import open_study

pytestmark = pytest.mark.gui


def area(window, kind="slice"):
    layer = next(x for x in window.document.study.layers if x.kind == kind)
    return window.document.asking.results[layer.id].geometry.area


def with_mask(window):
    window.act("add-mask")
    settle(window)
    return window.bench.card.controls["mask"]


def test_a_mask_hides_on_all_cards_and_is_told(window, tmp_path):
    document = window.document
    whole = area(window)
    controls = with_mask(window)
    layer = document.chosen_layer
    assert layer.shape.conditions[0].quantity == "mach"
    part = area(window)
    assert 0 < part < whole
    assert "some is hidden by Mask" in window.status.facts.text()
    click(controls.conditions.rows[0].keep.button("below"))
    settle(window)
    assert area(window) + part == pytest.approx(whole, rel=1e-9)
    assert document.save(tmp_path / "a.tidal")
    window.act("toggle-lamp")
    settle(window)
    assert area(window) == pytest.approx(whole)
    assert "hidden" not in window.status.facts.text()
    window.act("undo")
    window.act("undo")
    settle(window)
    assert area(window) == pytest.approx(part)
    window.act("undo")
    settle(window)
    assert area(window) == pytest.approx(whole)
    assert len(document.study.layers) == 2
    again = open_study(tmp_path / "a.tidal")
    results = again.results()
    assert layer.id not in results
    assert next(r for r in results.values() if r.layer.kind == "slice").geometry.area == pytest.approx(whole - part, rel=1e-9)


def test_a_masks_value_is_dragged_typed_and_swept(window):
    document = window.document
    controls = with_mask(window)
    layer_id = document.chosen
    before, part = document.chosen_layer.shape.conditions[0].value, area(window)
    bead = window.view.keys.grip_at("mach", layer_id)
    drag(window.view, bead, bead + QPointF(0, -25))
    settle(window)
    assert document.chosen_layer.shape.conditions[0].value > before
    assert area(window) < part
    type_into(controls.conditions.rows[0].value, "0.9")
    settle(window)
    assert document.chosen_layer.shape.conditions[0].value == 0.9
    pick(controls.conditions.rows[0].quantity, "Speed")
    settle(window)
    assert document.chosen_layer.shape.conditions[0].quantity == "speed"
    low, high = document.evaluator.store.distribution("speed").usual
    assert low <= document.chosen_layer.shape.conditions[0].value <= high or document.chosen_layer.shape.conditions[0].value == 0.9
    assert document.asking.failures == {}


def test_all_that_a_mask_hides_on_is_drawn_at_once_while_it_is_dragged(window, monkeypatch):
    """One draft for each move, not one for each card, unless a card takes long."""
    window.act("add-slice-x")
    with_mask(window)
    view, document = window.view, window.document
    monkeypatch.setattr(pictures, "_JUST_BEGUN", 1e9)
    view.pictures._together.setInterval(100_000)
    drawn = []
    show = view.pictures.renderer.show
    monkeypatch.setattr(view.pictures.renderer, "show", lambda scene, *how, **more: (drawn.append(areas()), show(scene, *how, **more))[1])

    def areas():
        return {x.id: document.asking.results[x.id].geometry.area for x in document.study.layers if x.kind == "slice"}

    def moved(by):
        before = areas()
        move(view, bead + QPointF(0, by), button=LEFT)
        wait(lambda: all(area != before[name] for name, area in areas().items()) and not document.jobs.is_busy(), "both slices")

    bead = view.keys.grip_at("mach", document.chosen)
    QTest.mousePress(view, LEFT, pos=bead.toPoint())
    moved(-10)
    drawn.clear()
    for by in (-20, -30, -40):
        moved(by)
        assert drawn[-1] == areas()
    assert len(drawn) == 3
    monkeypatch.setattr(pictures, "_JUST_BEGUN", 0.0)
    moved(-50)
    assert len(drawn) == 3 + 3, "each on its own, the wall too"
    QTest.mouseRelease(view, LEFT, pos=(bead + QPointF(0, -50)).toPoint())
    settle(window)
    assert drawn[-1] == areas()


def test_what_cannot_be_done_with_a_mask_does_no_harm(window):
    with_mask(window)
    study = window.document.study
    for action, given in (("colour-by", ("speed",)), ("frame-card", ()), ("slice-forward", ())):
        window.act(action, *given)
    settle(window)
    assert window.document.study == study
    assert not BY_ID["save-card"].enabled(window)
    window.act("save-card", "nowhere.vtp")
    assert not window.strips.live()


def test_a_mask_whose_quantity_is_gone_hides_nothing_and_says_so(window):
    document = window.document
    whole = area(window)
    with_mask(window)
    layer, part = document.chosen_layer, area(window)
    gone = layer.shape.conditions[0].with_(quantity="formula:gone")
    document.edit_layer(layer.with_(shape=layer.shape.with_(conditions=(gone,))), "Another quantity")
    settle(window)
    assert "gone" in document.asking.failures[layer.id]
    assert "gone" in window.bench.card.trouble.text()
    assert area(window) == pytest.approx(whole)
    document.edit_layer(document.chosen_layer.with_(name="still"), "Rename")
    settle(window)
    assert not window.strips.live(), "it is told on the card, once"
    for _ in range(2):
        window.act("undo")
    settle(window)
    assert document.asking.failures == {}
    assert area(window) == pytest.approx(part)


def test_arrows_are_hidden_with_their_surface(window):
    document = window.document
    layer = next(x for x in document.study.layers if x.kind == "slice")
    document.choose(layer.id)
    settle(window)
    click(window.bench.card.controls["slice"].arrows.on, QPointF(8, 8))
    settle(window)
    many = len(document.asking.results[layer.id].dressed[0].points)
    controls = with_mask(window)
    low, high = document.evaluator.store.distribution("mach").usual
    type_into(controls.conditions.rows[0].value, f"{low + 0.9 * (high - low):.3f}")
    settle(window)
    assert 0 < len(document.asking.results[layer.id].dressed[0].points) < 0.5 * many


def test_several_conditions_are_met_all_or_any_and_each_may_rest(window, tmp_path):
    document = window.document
    whole = area(window)
    controls = with_mask(window)
    one = controls.conditions.rows[0]
    pick(one.quantity, "Place x")
    type_into(one.value, "0")
    settle(window)
    right = area(window)
    assert 0 < right < whole
    click(controls.conditions.more)
    two = controls.conditions.rows[1]
    pick(two.quantity, "Place z")
    click(two.keep.button("below"))
    type_into(two.value, "1")
    settle(window)
    both = area(window)
    assert 0 < both < right
    window.bench.scroller.ensureWidgetVisible(controls.how)
    click(controls.how.button("any"))
    settle(window)
    assert area(window) > right
    click(two.on, QPointF(8, 8))
    settle(window)
    assert area(window) == pytest.approx(right, rel=1e-9)
    click(two.on, QPointF(8, 8))
    click(one.on, QPointF(8, 8))
    settle(window)
    below = area(window)
    click(one.on, QPointF(8, 8))
    settle(window)
    assert area(window) == pytest.approx(right + below - both, rel=1e-3)
    shape = document.chosen_layer.shape
    assert document.save(tmp_path / "a.tidal")
    assert open_study(tmp_path / "a.tidal").study.layer(document.chosen).shape == shape
    click(two.gone)
    settle(window)
    assert len(document.chosen_layer.shape.conditions) == 1


def test_a_quantity_is_compared_with_another(window):
    controls = with_mask(window)
    one = controls.conditions.rows[0]
    pick(one.quantity, "Place x")
    pick(one.than, "Place z")
    settle(window)
    layer = next(x for x in window.document.study.layers if x.kind == "slice")
    left = window.document.asking.results[layer.id].geometry.points
    assert (left[:, 0] >= left[:, 2] - 1e-9).all()
    assert not one.value.isVisible()


def test_whole_cells_are_kept_or_hidden(window):
    controls = with_mask(window)
    layer = next(x for x in window.document.study.layers if x.kind == "slice")
    whole = window.document.asking.results[layer.id].unmasked.geometry
    window.bench.scroller.ensureWidgetVisible(controls.edges)
    click(controls.edges.button("cells"))
    settle(window)
    left = window.document.asking.results[layer.id].geometry
    assert 0 < len(left.faces) < len(whole.faces)
    known = {tuple(p) for p in whole.points}
    assert {tuple(p) for p in left.points} <= known, "nothing is cut"


def test_a_mask_hides_in_chosen_cards(window):
    document = window.document
    whole, walls = area(window), area(window, "wall")
    controls = with_mask(window)
    assert area(window, "wall") < walls
    window.bench.scroller.ensureWidgetVisible(controls.everything)
    click(controls.everything, QPointF(8, 8))
    settle(window)
    first = document.chosen_layer.subject.card
    assert document.study.layer(first).kind == "wall"
    assert area(window) == pytest.approx(whole)
    cut = next(x for x in document.study.layers if x.kind == "slice")
    click(controls.cards[cut.id], QPointF(8, 8))
    settle(window)
    assert document.chosen_layer.subject.cards == (first, cut.id)
    assert area(window) < whole
    click(controls.cards[first], QPointF(8, 8))
    settle(window)
    assert area(window, "wall") == pytest.approx(walls)
    assert area(window) < whole
