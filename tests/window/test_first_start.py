"""The very first start, recent files, and an end with work under way."""

import pytest
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QApplication, QPushButton
from PyQt6.sip import isdeleted

from driving import click, keys, settle, spin, wait
from small_series import series
from tidal_lens.app.preferences import forget_recent, note_recent, recent, settings

pytestmark = pytest.mark.gui


@pytest.fixture
def fresh():
    """As if it had never been started."""
    settings().remove("welcomed")
    forget_recent()
    yield
    settings().setValue("welcomed", "yes")
    forget_recent()


def test_three_choices_at_the_first_start_and_never_again(fresh, window):
    window.welcome()
    card = window.welcome_card
    assert card.isVisible()
    assert [t.text() for t in card.tiles] == ["Open a result", "Look at the demo", "The first hour"]
    assert window.view.rect().contains(card.geometry())
    click(card.tiles[2])
    settle(window)
    assert isdeleted(card)
    assert window._help.isVisible()
    assert window._help.shown == "first-hour"
    window.act("help")
    before = window.welcome_card
    window.welcome()
    assert window.welcome_card is before, "it is shown once"
    settings().remove("welcomed")
    window.welcome()
    again = window.welcome_card
    keys(again, Qt.Key.Key_Escape)
    spin()
    assert isdeleted(again)
    settle(window)


def test_what_was_opened_is_offered_again(fresh, empty, tmp_path):
    path, _ = series(tmp_path)
    menu = empty.files.recent_menu()
    assert [a.text() for a in menu.actions()] == ["Nothing was opened before"]
    empty.document.open_path(path)
    settle(empty)
    empty.document.save(tmp_path / "mine.tidal")
    assert recent() == [(tmp_path / "mine.tidal").resolve(), path.resolve()]
    menu = empty.files.recent_menu()
    assert menu.actions()[0].text().startswith("mine.tidal")
    menu.actions()[0].trigger()
    settle(empty)
    assert empty.document.file == tmp_path / "mine.tidal"
    path.rename(tmp_path / "gone.cgns")
    assert recent() == [(tmp_path / "mine.tidal").resolve()], "what is gone is not offered"
    next(a for a in empty.files.recent_menu().actions() if a.text() == "Forget them").trigger()
    assert recent() == []


def test_demos_are_not_remembered_and_no_more_than_twelve(fresh, window, tmp_path):
    settle(window)
    forget_recent()
    window.open_demo("mooring.vtm")
    settle(window)
    assert recent() == []
    for n in range(15):
        (tmp_path / f"{n}.cgns").write_text("")
        note_recent(tmp_path / f"{n}.cgns")
    assert [p.stem for p in recent()] == [str(n) for n in range(14, 2, -1)]


def test_closing_with_work_under_way_asks_once(window, tmp_path):
    document = window.document
    study = document.study
    document.edit(study.with_(film=study.film.with_(seconds=60.0)), "Long")
    document.save(tmp_path / "s.tidal")
    asked = []

    def answer(name):
        box = QApplication.activeModalWidget()
        asked.append(box.text())
        click(next(b for b in box.findChildren(QPushButton) if b.text().replace("&", "") == name))

    def choose(name):
        QTimer.singleShot(50, lambda: answer(name))

    window.act("save-film", str(tmp_path / "long.mp4"))
    wait(lambda: document.makers.is_busy("film"), "its beginning", 20)
    choose("Go back")
    assert not window.close()
    assert asked == ["Animation long.mp4 is not done yet; it is given up."]
    assert document.makers.is_busy("film"), "nothing is lost by going back"
    choose("Close")
    assert window.close()
    assert len(asked) == 2
    assert not (tmp_path / "long.mp4").exists()
