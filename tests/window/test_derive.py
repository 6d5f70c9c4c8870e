"""The Derive station by mouse and keys: formulas typed, completed, kept, renamed, deleted; choices; what is unavailable."""

import json

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel

from driving import click, settle, spin, type_into, wait
from small_series import series
from tidal_lens.app.stations.formula_editor import FormulaEdit


@pytest.fixture
def derive(window):
    click(window.rail.buttons["derive"])
    settle(window)
    return window.bench.pages["derive"]


def write(panel, text, *, take=True):
    panel.text.setFocus()
    panel.text.selectAll()
    QTest.keyClicks(panel.text, text)
    popup = panel.text.completer.popup()
    popup.hide()
    if take:
        QTest.keyClick(panel.text, Qt.Key.Key_Return)
    spin(0.2)


def formulas(window):
    return {f.name: f.text for f in window.document.study.formulas}


def test_a_formula_is_typed_and_colours_the_card(window, derive):
    panel = derive.formula
    type_into(panel.name, "half_q")
    write(panel, "0.25 * density * dot(velocity, velocity)")
    settle(window)
    assert formulas(window) == {"half_q": "0.25 * density * dot(velocity, velocity)"}
    assert derive.chosen == "formula:half_q"
    assert derive.title.text().startswith("half_q")
    store = window.document.evaluator.store
    assert np.allclose(store.values("formula:half_q"), 0.5 * store.values("dynamic-pressure"))
    wait(lambda: "99 % between" in derive.span.text(), "the range")
    window.document.choose(next(x.id for x in window.document.study.layers if x.kind == "slice"))
    click(derive.paint_card)
    settle(window)
    assert window.document.chosen_layer.look.colour_by == "formula:half_q"
    layer = window.document.chosen_layer
    before = window.document.asking.results[layer.id].colours.max()
    derive.formula.show_formula("half_q")
    write(panel, "0.5 * density * dot(velocity, velocity)")
    settle(window)
    assert window.document.asking.results[layer.id].colours.max() == pytest.approx(2 * before, rel=1e-5)
    window.document.undo()
    settle(window)
    assert window.document.asking.results[layer.id].colours.max() == pytest.approx(before, rel=1e-5)
    assert panel.text.toPlainText() == "0.25 * density * dot(velocity, velocity)"


def test_what_is_wrong_is_underlined_while_typing(window, derive):
    panel = derive.formula
    write(panel, "0.5 * density * lenght(velocity)**2", take=False)
    wait(lambda: panel.told.property("role") == "bad", "the error")
    assert "Did you mean length?" in panel.told.text()
    (mark,) = panel.text.extraSelections()
    assert mark.cursor.selectedText() == "lenght"
    QTest.keyClick(panel.text, Qt.Key.Key_Return)
    assert formulas(window) == {}
    write(panel, "0.5 * density * length(velocity)**2", take=False)
    wait(lambda: "a scalar" in panel.told.text() and "…" in panel.told.text() and "0" in panel.told.text(), "the range")
    assert panel.text.extraSelections() == []
    wait(panel.silhouette.isVisible, "the distribution")
    QTest.keyClick(panel.text, Qt.Key.Key_Escape)
    assert panel.text.toPlainText() == ""
    write(panel, "pressure + density", take=False)
    wait(lambda: "Units differ" in panel.told.text(), "the doubt")


def test_what_was_meant_is_put_in_with_a_click(window, derive):
    panel = derive.formula
    write(panel, "2 density * sqr(pressure)", take=False)
    wait(panel.mend.isVisible, "the offer")
    assert panel.mend.text() == "Write 2 * density"
    click(panel.mend)
    wait(lambda: panel.mend.text() == "Write sqrt", "the next offer")
    click(panel.mend)
    assert panel.text.toPlainText() == "2 * density * sqrt(pressure)"
    assert panel.text.hasFocus()
    wait(lambda: "a scalar" in panel.told.text(), "the range")
    assert not panel.mend.isVisible()
    QTest.keyClick(panel.text, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert panel.text.toPlainText() == "2 * density * sqr(pressure)"
    write(panel, "(pressure > 1) & (density < 2)", take=False)
    wait(panel.mend.isVisible, "the offer")
    click(panel.mend)
    assert panel.text.toPlainText() == "(pressure > 1) and (density < 2)"
    width = panel.width()
    write(panel, "(pressure > 1) & (" + "density + " * 40 + "density < 2)", take=False)
    wait(lambda: panel.mend.text() == "Mend it", "the offer")
    assert panel.width() == width


def test_names_are_completed(window, derive):
    edit = derive.formula.text
    edit.setFocus()
    QTest.keyClicks(edit, "1 + vorticity_ma")
    assert edit.completer.popup().isVisible()
    QTest.keyClick(edit.completer.popup(), Qt.Key.Key_Return)
    spin()
    assert edit.toPlainText() == "1 + vorticity_magnitude"
    QTest.keyClicks(edit, " * antis")
    QTest.keyClick(edit.completer.popup(), Qt.Key.Key_Return)
    spin()
    assert edit.toPlainText() == "1 + vorticity_magnitude * antisymmetric("
    QTest.keyClick(edit, Qt.Key.Key_Space, Qt.KeyboardModifier.ControlModifier)
    assert edit.completer.popup().isVisible()
    edit.completer.popup().hide()
    assert isinstance(edit, FormulaEdit)


def test_renaming_reaches_formulas_cards_and_keys(window, derive):
    panel = derive.formula
    type_into(panel.name, "a")
    write(panel, "2 * speed")
    click(panel.new)
    type_into(panel.name, "b")
    write(panel, "a + `Density` * a")
    settle(window)
    derive.show_quantity("formula:a")
    window.document.choose(next(x.id for x in window.document.study.layers if x.kind == "slice"))
    click(derive.paint_card)
    settle(window)
    window.act("add-isosurface", "formula:a")
    wait(lambda: window.document.study.layers[-1].kind == "isosurface", "the isosurface")
    settle(window)
    derive.show_quantity("formula:a")
    type_into(panel.name, "twice")
    settle(window)
    assert formulas(window) == {"twice": "2 * speed", "b": "twice + `Density` * twice"}
    assert {x.look.colour_by for x in window.document.study.layers if x.kind == "slice"} == {"formula:twice"}
    assert window.document.study.layers[-1].shape.quantity == "formula:twice"
    assert window.document.asking.failures == {}
    type_into(panel.name, "mach")
    assert "meant mach_number in earlier studies" in panel.told.text()
    assert set(formulas(window)) == {"twice", "b"}
    window.document.undo()
    settle(window)
    assert set(formulas(window)) == {"a", "b"}


def test_deleting_asks_only_if_something_rests_on_it(window, derive):
    panel = derive.formula
    for name, text in (("alone", "speed"), ("used", "2 * speed"), ("user", "used + 1")):
        click(panel.new)
        type_into(panel.name, name)
        write(panel, text)
    derive.show_quantity("formula:alone")
    panel.ask_to_delete()
    assert set(formulas(window)) == {"used", "user"}
    derive.show_quantity("formula:used")
    panel.ask_to_delete()
    assert set(formulas(window)) == {"used", "user"}
    assert panel.question.text() == "used is used by user."
    click(panel.rather_not)
    assert not panel.question.isVisible()
    panel.ask_to_delete()
    click(panel.surely)
    settle(window)
    assert set(formulas(window)) == {"user"}
    derive.show_quantity("formula:user")
    assert "Not understood" in derive.span.text()
    for _ in range(2):
        window.document.undo()
    settle(window)
    assert set(formulas(window)) == {"alone", "used", "user"}


def menu_action(panel, title):
    panel._fill_menu()
    return next(a for a in panel.menu.actions() if a.text() == title)


def test_sets_of_formulas_go_out_and_come_back(window, derive, tmp_path):
    panel = derive.formula
    type_into(panel.name, "one")
    write(panel, "speed * 2")
    menu_action(panel, "Duplicate").trigger()
    assert (panel.name.text(), panel.text.toPlainText()) == ("one_2", "speed * 2")
    QTest.keyClick(panel.text, Qt.Key.Key_Return)
    settle(window)
    panel.export_to(str(tmp_path / "set"))
    path = tmp_path / "set.tidal-formulas"
    assert [f["name"] for f in json.loads(path.read_text())["formulas"]] == ["one", "one_2"]
    write(panel, "speed * 3")
    panel.import_from(str(path))
    settle(window)
    assert formulas(window) == {"one": "speed * 2", "one_2": "speed * 3", "one_2_2": "speed * 2"}
    for bad in ("{", '{"tidal_lens_formulas": 1, "formulas": [{"name": "a b", "text": "1"}]}',
                '{"tidal_lens_formulas": 2, "formulas": []}'):
        (tmp_path / "bad.tidal-formulas").write_text(bad)
        panel.import_from(str(tmp_path / "bad.tidal-formulas"))
        assert len(formulas(window)) == 3
    assert any("not a set of formulas" in label.text() for label in window.strips.findChildren(QLabel))


def test_examples_are_ready(window, derive):
    panel = derive.formula
    panel._fill_menu()
    shelf = next(a.menu() for a in panel.menu.actions() if a.text() == "Examples")
    assert len(shelf.actions()) >= 8
    for action in shelf.actions():
        action.trigger()
        wait(lambda: panel.told.property("role") != "bad", "the example")
        wait(panel.silhouette.isVisible, action.text())
        QTest.keyClick(panel.text, Qt.Key.Key_Return)
        spin()
    settle(window)
    assert len(formulas(window)) == len(shelf.actions())


def test_a_quantity_is_varied(window, derive):
    derive.show_quantity("mach")
    assert "NACA Report 1135" in derive.notes.text()
    click(derive.vary)
    assert derive.formula.text.toPlainText() == "length(velocity) / sqrt(gamma * pressure / density)"
    derive.show_quantity("vorticity")
    assert not derive.paint_card.isEnabled()
    assert "vector" in derive.span.text()
    derive.show_quantity("acceleration")
    assert "Needs a time series" in derive.span.text()
    type_into(derive.search, "schlieren")
    shown = [derive.list.item(n).text().strip() for n in range(derive.list.count())]
    assert shown[0] == "Schlieren and shadowgraph"
    assert any(text.startswith("Knife edge") for text in shown)


def test_choices_change_what_is_shown_and_can_be_undone(window, derive):
    derive.show_quantity("knife-edge")
    settle(window)
    store = window.document.evaluator.store
    first = store.values("knife-edge").copy()
    assert np.allclose(first, store.values("density-gradient-x"))
    click(derive.choices.section.head)
    type_into(derive.choices.knife[0], "0")
    assert window.document.study.choices.knife == (1.0, 0.0, 0.0)  # a direction needs a length
    type_into(derive.choices.knife[2], "2")
    type_into(derive.choices.knife[0], "0")
    settle(window)
    store = window.document.evaluator.store
    assert np.allclose(store.values("knife-edge"), store.values("density-gradient-z"))
    assert not derive.choices.fourth_note.isVisible()
    click(derive.choices.fourth, derive.choices.fourth.rect().topLeft() + derive.choices.fourth.rect().center() * 0.1)
    settle(window)
    assert window.document.study.choices.fourth_order
    assert derive.choices.fourth_note.isVisible()
    for _ in range(3):
        window.document.undo()
    settle(window)
    assert np.array_equal(window.document.evaluator.store.values("knife-edge"), first)


def test_time_derivatives_in_the_window(empty, tmp_path):
    """Density rises as 1 + x + t: its derivative is 1 at every step of a series."""
    path, _ = series(tmp_path)
    empty.document.open_path(path)
    settle(empty)
    click(empty.rail.buttons["derive"])
    panel = empty.bench.pages["derive"].formula
    type_into(panel.name, "growth")
    write(panel, "rate(density)")
    settle(empty)
    for step in (0, 2, 1):
        empty.document.go_to_step(step)
        wait(lambda s=step: empty.document.flow.step == s, "the step")
        settle(empty)
        assert np.allclose(empty.document.evaluator.store.values("formula:growth"), 1.0)
    assert empty.bench.pages["derive"].chosen == "formula:growth"


def test_formulas_are_kept_in_the_study(window, derive, tmp_path):
    type_into(derive.formula.name, "kept")
    write(derive.formula, "smooth(speed, 2)")
    settle(window)
    window.document.choose(next(x.id for x in window.document.study.layers if x.kind == "slice"))
    derive.show_quantity("formula:kept")
    click(derive.paint_card)
    settle(window)
    key = next(k for k in window.view.keys.keys() if k.quantity.name == "formula:kept")  # noqa: SIM118
    assert key.told == ("m/s · node values,", "smoothed 2×")  # told in full, however narrow the key is
    assert window.document.save(tmp_path / "a.tidal")
    window.document.edit(window.document.study.with_(formulas=(), layers=()), "Clear")
    window.document.openings.take_up(tmp_path / "a.tidal", None)
    wait(lambda: len(window.document.study.layers) > 0, "opening")
    settle(window)
    assert formulas(window) == {"kept": "smooth(speed, 2)"}
    assert window.document.asking.failures == {}
