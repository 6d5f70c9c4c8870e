"""Boxes, dialogs and menus, driven as a user does."""

import csv
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, QTimer
from PyQt6.QtGui import QContextMenuEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QApplication,
    QColorDialog,
    QDialogButtonBox,
    QFileDialog,
    QLineEdit,
    QMenu,
    QMessageBox,
    QPushButton,
)
from PyQt6.sip import isdeleted

from driving import choose, click, fill_in, settle, spin, wait
from tidal_lens.app.commands import BY_ID
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui


def answering(window, text):
    """Close the window; when it asks about unsaved work, click an answer. What it asked."""
    asked = []

    def answer():
        box = QApplication.activeModalWidget()
        assert isinstance(box, QMessageBox)
        asked.append(box.text())
        click(next(b for b in box.findChildren(QPushButton) if b.text() == text))

    QTimer.singleShot(50, answer)
    window.close()
    return asked


def test_unsaved_work_is_asked_about_before_it_is_lost(window, tmp_path):
    document = window.document
    window.act("add-slice-x")
    settle(window)
    assert answering(window, "Go back") == ["The study has changes that are not saved."]
    assert window.isVisible()
    assert len(document.study.layers) == 3
    assert document.save(tmp_path / "a.tidal")
    window.act("add-slice-z")
    settle(window)
    assert answering(window, "Save…")
    assert not window.isVisible(), "it has a name already: it is saved and closed"
    assert load_study(tmp_path / "a.tidal").layers == document.study.layers


def test_work_that_nobody_wants_is_dropped(window, tmp_path):
    window.act("add-slice-x")
    settle(window)
    assert answering(window, "Do not save")
    assert not window.isVisible()


def test_a_study_is_saved_under_a_name(window, tmp_path):
    window.act("add-slice-x")
    settle(window)
    window.act("save-as")
    wait(lambda: window.findChildren(QFileDialog), "the dialog", 5)
    dialog = window.findChildren(QFileDialog)[0]
    fill_in(dialog, tmp_path / "mine")
    wait(lambda: window.document.file is not None, "the saving", 5)
    assert window.document.file == tmp_path / "mine.tidal"
    assert load_study(tmp_path / "mine.tidal").layers == window.document.study.layers
    assert not window.document.is_changed
    assert "mine" in window.top.title.text()


def test_what_a_card_tells_is_saved_as_a_table(window, tmp_path):
    assert not BY_ID["save-table"].enabled(window), "a slice tells nothing"
    window.act("add-streamlines")
    settle(window)
    lines = window.document.asking.results[window.document.chosen].geometry
    window.act("save-table", str(tmp_path / "lines"))
    wait((tmp_path / "lines.csv").exists, "the table", 10)
    settle(window)
    heads, *rows = csv.reader((tmp_path / "lines.csv").read_text(encoding="utf-8").splitlines())
    assert heads == ["seed", "length", "time", "error estimate", "upstream end", "downstream end"]
    assert [float(r[1]) for r in rows] == pytest.approx(lines.lengths, rel=1e-8)
    assert [int(r[0]) for r in rows] == (lines.seeds + 1).tolist()
    assert sum(r[4] == "left the domain" for r in rows) + sum(r[5] == "left the domain" for r in rows) == dict(lines.census).get(
        "left the domain", 0)


def test_the_menu_of_a_card(window):
    document = window.document
    layer = document.study.layers[1]
    card = window.deck.cards[layer.id]
    at = QPoint(30, 30)

    def opened():
        QApplication.sendEvent(card, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, card.mapToGlobal(at)))
        spin(0.05)
        return next(m for m in card.findChildren(QMenu) if m.isVisible())

    choose(opened(), "Duplicate")
    settle(window)
    assert len(document.study.layers) == 3
    assert document.study.layers[2].shape == layer.shape
    choose(opened(), "Show or hide")
    settle(window)
    assert not document.study.layer(layer.id).shown


def test_a_plain_colour_is_chosen(window):
    document = window.document
    layer = next(x for x in document.study.layers if x.kind == "wall")
    document.choose(layer.id)
    spin(0.05)
    click(window.bench.card.controls["wall"].chip)
    wait(lambda: window.findChildren(QColorDialog), "the dialog", 5)
    dialog = window.findChildren(QColorDialog)[0]
    edit = next(e for e in dialog.findChildren(QLineEdit) if e.text().startswith("#"))
    edit.selectAll()
    QTest.keyClicks(edit, "#336699")
    box = dialog.findChild(QDialogButtonBox)
    click(box.button(QDialogButtonBox.StandardButton.Ok))
    settle(window)
    assert isdeleted(dialog), "it goes when it is closed"
    assert document.study.layer(layer.id).look.colour.upper() == "#336699"
    window.act("undo")
    assert document.study.layer(layer.id).look.colour == layer.look.colour


def test_the_guide_is_opened_from_the_help(window):
    window.act("help")
    spin(0.05)
    sheet = window._help
    at = [p.name for p in sheet.pages.values()].index("look")
    click(sheet.list.viewport(), sheet.list.visualItemRect(sheet.list.item(at)).center())
    page = sheet.reader
    assert "Flow texture" in page.toPlainText()
    folder = page.searchPaths()[0]
    for name in ("forms", "texture"):
        assert (Path(folder) / f"../screenshots/{name}.png").exists()
    sheet.search.setFocus()
    QTest.keyClicks(sheet.search, "closed strictness")
    spin(0.05)
    window.act("help")
