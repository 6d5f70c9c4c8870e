"""Cards, stations, the command field, help, cancel and autosave."""

import inspect
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QWidget

from driving import click, drag, keys, move, pixels, settle, spin, type_into, wait
from tidal_lens.app import autosave, theme
from tidal_lens.app.commands import COMMANDS
from tidal_lens.app.deck import PICTURE, WIDTH
from tidal_lens.study.files import load_study, save_study
from tidal_lens.work import Token

CTRL = Qt.KeyboardModifier.ControlModifier


def many(shape, count):
    """The same with so many seeds."""
    return shape.with_(seeds=(shape.seeds[0].with_(count=count),))


def names(window):
    return [layer.name for layer in window.document.study.layers]


def card(window, at):
    return window.deck.cards[window.document.study.layers[at].id]


def test_lamp_shows_hides_and_shows_alone(window):
    lamp = QPointF(card(window, 1).lamp_rect().center())
    click(card(window, 1), lamp)
    assert not window.document.study.layers[1].shown
    click(card(window, 1), lamp)
    assert window.document.study.layers[1].shown
    spin(0.7)
    click(card(window, 1), lamp)
    QTest.mouseDClick(card(window, 1), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, lamp.toPoint())
    spin()
    study = window.document.study
    assert study.alone == study.layers[1].id
    assert [study.is_drawn(x) for x in study.layers] == [False, True]
    assert all(x.shown for x in study.layers)
    assert window.document.undo_what == "Show alone"
    window.act("show-alone")
    assert window.document.study.alone is None


def test_rename_duplicate_remove_and_undo(window):
    click(card(window, 1), QPointF(40, 30))
    keys(window, Qt.Key.Key_F2)
    type_into(card(window, 1)._editor, "Mid plane")
    assert names(window) == ["Walls", "Mid plane"]
    keys(window, Qt.Key.Key_D, modifiers=CTRL)
    assert names(window) == ["Walls", "Mid plane", "Mid plane 2"]
    settle(window)
    keys(window, Qt.Key.Key_Delete)
    assert names(window) == ["Walls", "Mid plane"]
    keys(window, Qt.Key.Key_Z, modifiers=CTRL)
    assert names(window) == ["Walls", "Mid plane", "Mid plane 2"]
    for _ in range(5):
        keys(window, Qt.Key.Key_Z, modifiers=CTRL)
    assert names(window) == ["Walls", "Slice y"]
    settle(window)


def test_cards_are_reordered_by_drag_and_by_keys(window):
    window.act("add-slice-z")
    settle(window)
    drag(card(window, 2), QPointF(40, 30), QPointF(40 - 2 * (WIDTH + 8), 30), steps=10)
    assert names(window)[0] == "Slice z"
    assert window.document.undo_what == "Reorder"
    window.deck.cards[window.document.chosen].setFocus()
    keys(window.deck.cards[window.document.chosen], Qt.Key.Key_Right, modifiers=Qt.KeyboardModifier.AltModifier)
    assert names(window)[1] == "Slice z"
    here = window.deck.cards[window.document.chosen]
    keys(here, Qt.Key.Key_Space)
    assert not window.document.chosen_layer.shown
    keys(here, Qt.Key.Key_Left)
    assert window.document.chosen_layer.name == "Walls"
    settle(window)


def test_removing_while_it_computes(window):
    window.act("add-streamlines")
    window.document.edit_layer(window.document.chosen_layer.with_(
        shape=many(window.document.chosen_layer.shape, 3000).with_(tolerance=1e-7)), "many")
    spin(0.05)
    keys(window, Qt.Key.Key_Delete)
    settle(window)
    assert names(window) == ["Walls", "Slice y"]
    assert set(window.document.asking.results) == {layer.id for layer in window.document.study.layers}


def test_the_command_field_finds_actions_and_quantities(window):
    keys(window.view, Qt.Key.Key_K, modifiers=CTRL)
    keys(window.command, "slice z")
    assert window.command.popup.isVisible()
    assert window.command.popup.item(0).text().startswith("Add slice z")
    keys(window.command, Qt.Key.Key_Return)
    assert names(window)[-1] == "Slice z"
    window.act("command")
    keys(window.command, "pressure coef", Qt.Key.Key_Return)
    assert window.document.chosen_layer.look.colour_by == "cp"
    window.act("command")
    keys(window.command, "laplac", Qt.Key.Key_Down, Qt.Key.Key_Return)
    assert window.bench.station.name == "derive"
    assert window.bench.pages["derive"].chosen == "density-laplacian"
    settle(window)
    assert "kg/m⁵" in window.bench.pages["derive"].title.text()
    window.act("command")
    keys(window.command, "zzzz")
    assert "Nothing fits" in window.command.popup.item(0).text()
    keys(window.command, Qt.Key.Key_Escape)
    assert not window.command.popup.isVisible()
    settle(window)


def test_every_quantity_of_the_issue_is_on_offer_and_finite(window):
    store = window.document.evaluator.store
    wanted = {"speed", "vorticity", "vorticity-magnitude", "vorticity-x", "vorticity-y", "vorticity-z", "q", "divergence",
              "density-gradient-magnitude", "density-laplacian", "mach", "cp"}
    offered = {q.name: q for q in store.quantities()}
    assert wanted <= set(offered)
    for name in wanted:
        assert np.isfinite(store.values(name)).all(), name
        assert not offered[name].missing


def test_derive_shows_range_and_does_what_its_buttons_say(window):
    window.show_station("derive")
    derive = window.bench.pages["derive"]
    type_into(derive.search, "vorticity mag")
    settle(window)
    assert derive.chosen == "vorticity-magnitude"
    assert "99 % between" in derive.span.text()
    click(derive.paint_card)
    assert window.document.chosen_layer.look.colour_by == "vorticity-magnitude"
    click(derive.surface)
    wait(lambda: "Vorticity magnitude isosurface" in names(window), "the isosurface")
    settle(window)
    assert window.document.asking.results[window.document.chosen].geometry.area > 0.1


def test_case_station_tells_what_there_is(window):
    keys(window, Qt.Key.Key_1, modifiers=Qt.KeyboardModifier.AltModifier)
    settle(window)
    assert window.bench.station.name == "case"
    case = window.bench.pages["case"]
    assert "112,299 points, 102,400 cells in 3 blocks" in case.facts.text()
    told = " ".join(x.text() for x in case.findChildren(QLabel))
    for words in ("upstream", "curvilinear, 37 × 41 × 33 points", "floor (wall)", "node, vector", "Mach 0.75",
                  "stated in the file", "Velocity"):
        assert words in told
    low, high = window.document.flow.fields["Pressure"].values.min(), window.document.flow.fields["Pressure"].values.max()
    assert f"{low:.3g} … {high:.3g}".replace("e+0", "e") in told
    click(case.outline, QPointF(8, case.outline.height() / 2))
    assert not window.document.study.outline
    settle(window)


def test_the_actions_are_a_sound_table():
    assert len({a.id for a in COMMANDS}) == len(COMMANDS)
    with_keys = [a.keys for a in COMMANDS if a.keys]
    assert len(set(with_keys)) == len(with_keys)
    for action in COMMANDS:
        assert action.title
        assert action.help.endswith(".")
        assert all(isinstance(t, type) for t in action.takes)
        wanted = list(inspect.signature(action.run).parameters.values())[1:]
        assert len(wanted) == len(action.takes) or not action.takes
        assert all(p.default is not p.empty for p in wanted), "a shortcut gives nothing"


def test_a_command_takes_what_it_says(window):
    with pytest.raises(TypeError, match="undo takes"):
        window.act("undo", "twice")
    with pytest.raises(TypeError, match="slice-forward takes"):
        window.act("slice-forward", "far")
    position = window.document.chosen_layer.shape.position
    window.act("slice-forward", 2.0)
    two = window.document.chosen_layer.shape.position - position
    window.act("undo")
    window.act("slice-forward")
    assert two == pytest.approx(2 * (window.document.chosen_layer.shape.position - position))
    settle(window)


def test_what_a_flow_does_not_have_greys_its_tile(window):
    tile = window.bench.pages["trace"].tiles["add-streamlines"]
    assert tile.isEnabled()
    assert "seeds" in tile.toolTip()
    document = window.document
    document.edit(document.study.with_(roles={"velocity": (), "momentum": ()}), "No velocity")
    settle(window)
    assert not tile.isEnabled()
    assert "velocity" in tile.toolTip()
    assert window.bench.pages["look"].tiles["add-walls"].isEnabled()
    window.act("undo")
    settle(window)
    assert tile.isEnabled()


def test_help_lists_every_key(window):
    window.act("help")
    told = window._help.reader.toPlainText()
    assert all(a.keys in told and a.title in told for a in COMMANDS if a.keys)
    window.act("help")
    assert not window._help.isVisible()
    window.act("about")
    assert "GPL-3.0-or-later" in window._help.reader.toPlainText()
    window.act("help")
    assert not window._help.isVisible()


def test_every_control_has_a_name_and_a_tip(window):
    from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLineEdit, QSlider

    window.act("add-streamlines")
    settle(window)
    for kind in (QAbstractButton, QComboBox, QLineEdit, QSlider):
        for widget in window.findChildren(kind):
            if widget.objectName().startswith("qt_") or isinstance(widget.parent(), QComboBox):
                continue
            if isinstance(widget, QLineEdit) and widget.parent() is window.view:
                continue
            told = widget.accessibleName() or (widget.text() if isinstance(widget, QAbstractButton) else "")
            assert told, f"{widget} has no name"
            assert widget.toolTip(), f"{told} has no tooltip"


@pytest.mark.parametrize("chosen", list(theme.THEMES.values()), ids=lambda t: t.name)
def test_text_has_enough_contrast(chosen):
    def light(colour):
        parts = [int(colour[n:n + 2], 16) / 255 for n in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    def contrast(a, b):
        high, low = sorted((light(a), light(b)), reverse=True)
        return (high + 0.05) / (low + 0.05)

    for text in (chosen.ink, chosen.soft, chosen.sea, chosen.magenta, chosen.amber, chosen.red):
        for ground in (chosen.paper, chosen.panel):
            assert contrast(text, ground) >= 4.5, (text, ground)
    assert contrast(chosen.on_sea, chosen.sea) >= 4.5
    assert contrast(chosen.ink, chosen.shoal) >= 4.5


def test_the_fonts_can_write_what_is_on_screen(qapp):
    from PyQt6.QtGui import QRawFont

    from tidal_lens.quantities.catalogue import CATALOGUE

    assert "Source Sans 3" in theme.load_fonts()
    fonts = [QRawFont.fromFont(f) for f in (theme.font(13), theme.font(13))]
    extra = theme.font(13)
    extra.setFamilies(["Tidal Symbols"])
    fonts.append(QRawFont.fromFont(extra))
    text = "".join(d.title + d.symbol + d.unit + d.told + d.sign + d.misleads + d.source for d in CATALOGUE) + "−×·…∞ργ°→≤½²³⁴⁵ "
    lacking = {c for c in text if not any(f.supportsCharacter(c) for f in fonts)}
    assert not lacking


CORE = ("flow", "formats", "sampling", "quantities", "cutting", "tracing", "measures")


def in_core(frame):
    """Whether the innermost of our own functions on a stack is one that computes."""
    while frame is not None:
        parts = Path(frame.f_code.co_filename).parts
        if "tidal_lens" in parts:
            return parts[len(parts) - parts[::-1].index("tidal_lens")] in CORE
        frame = frame.f_back
    return False


@pytest.mark.alone
def test_heavy_work_is_never_the_windows(window):
    """What the window's thread is at while 5,000 lines are followed and four quantities worked out, looked up every two milliseconds."""
    window.act("add-streamlines")
    layer = window.document.chosen_layer
    settle(window)
    main, over, seen = threading.get_ident(), threading.Event(), []

    def watch():
        while not over.wait(0.002):
            seen.append(in_core(sys._current_frames()[main]))

    watcher = threading.Thread(target=watch)
    watcher.start()
    window.document.edit_layer(layer.with_(shape=many(layer.shape, 5000).with_(tolerance=1e-6)), "many lines")
    for name in ("q", "density-laplacian", "vorticity-magnitude", "divergence"):
        window.document.asking.ask_quantity(name)
    wait(lambda: not window.document.jobs.is_busy(), "the work", 120)
    over.set()
    watcher.join()
    assert len(seen) > 100, "the work was too light to tell anything"
    assert np.mean(seen) < 0.15, "but for a lookup here and there, the window's thread computes nothing"
    assert window.document.asking.results[layer.id].geometry.n_seeds == 5000


def test_cancel_gives_up_and_compute_again_takes_it_up(window):
    started, may_end = threading.Event(), threading.Event()
    layer = window.document.study.layers[1]
    evaluator = window.document.evaluator
    real = evaluator.evaluate

    def slow(layer, token: Token, study, *, draft=False):
        started.set()
        while not may_end.is_set():
            token.check()
            time.sleep(0.01)
        return real(layer, token, study, draft=draft)

    evaluator.evaluate = slow
    window.document.edit_layer(layer.with_(shape=layer.shape.with_(position=0.5)), "move")
    assert started.wait(5)
    spin(0.4)
    assert window.status.cancel.isVisible()
    assert window.status.job.text() == layer.name
    click(window.status.cancel)
    wait(lambda: not window.document.jobs.is_busy(), "the cancel", 5)
    assert "Cancelled" in window.document.asking.failures[layer.id]
    assert window.document.asking.results[layer.id].layer.shape.position == 0.0, "what was there stays"
    may_end.set()
    keys(window, Qt.Key.Key_F5)
    settle(window)
    assert layer.id not in window.document.asking.failures
    assert window.document.asking.results[layer.id].layer.shape.position == 0.5


def test_a_failing_card_says_why(window):
    layer = window.document.study.layers[1]
    window.document.edit_layer(layer.with_(look=layer.look.with_(colour_by="file:gone")), "colour by something that is not there")
    settle(window)
    assert "gone" in window.document.asking.failures[layer.id]
    assert "gone" in window.bench.card.trouble.text()
    keys(window, Qt.Key.Key_Z, modifiers=CTRL)
    settle(window)
    assert not window.document.asking.failures


def test_autosave_and_taking_up_after_a_crash(window, qapp):
    folder = autosave.state_folder()
    window.act("add-slice-z")
    settle(window)
    wait(lambda: list(folder.glob("autosave-*")), "the autosave", 10)
    own = next(iter(folder.glob("autosave-*")))
    assert autosave.leftovers() == [], "one's own study is no leftover"
    assert len(load_study(own).layers) == 3
    dead = folder / "autosave-999999-1.tidal"
    save_study(window.document.study, dead)
    assert autosave.leftovers() == [dead]
    while window.document.undo_what:
        window.act("undo")
    window.autosave.offer_leftovers()
    strip = window.strips.live()[0]
    assert "did not end properly" in strip.text.text()
    click(strip.buttons[0])
    wait(lambda: len(window.document.study.layers) == 3, "the study", 20)
    settle(window)
    assert not dead.exists()
    window.autosave.end()
    assert not own.exists()


def test_nothing_is_cut_off_at_any_size(window):
    for size in ((1280, 800), (1920, 1080)):
        window.resize(*size)
        for station in ("case", "derive", "look", "trace"):
            window.show_station(station)
            settle(window)
            page = window.bench.scroller.widget()
            assert page.width() <= window.bench.scroller.viewport().width()
            for widget in page.findChildren(QWidget):
                if widget.isVisible() and widget.parentWidget() is page:
                    assert widget.geometry().right() <= page.width()
                    assert widget.minimumSizeHint().width() <= widget.width() + 1, (station, widget)


def test_the_card_picture_is_live(window):
    before = card(window, 1)._picture.copy()
    window.act("colour-by", "cp")
    settle(window)
    assert card(window, 1)._picture != before
    assert card(window, 1).height() > PICTURE


def test_dragging_the_view_in_the_middle_of_a_computation(window):
    window.act("add-streamlines")
    layer = window.document.chosen_layer
    window.document.edit_layer(layer.with_(shape=many(layer.shape, 2000)), "many")
    eye = window.document.camera.eye.copy()
    drag(window.view, QPointF(800, 500), QPointF(860, 540))
    for _ in range(3):
        window.act("undo")
    settle(window)
    assert not np.allclose(window.document.camera.eye, eye)
    assert names(window) == ["Walls", "Slice y"]
    move(window.view, QPointF(500, 400))


def test_a_hidden_card_is_the_same_picture_fainter(window):
    card = next(iter(window.deck.cards.values()))
    before = pixels(card)[8:60, 8:140].astype(float)
    window.act("toggle-lamp", card.layer_id)
    settle(window)
    after = pixels(card)[8:60, 8:140].astype(float)
    panel = np.array(theme.colour("panel").getRgb()[:3], float)
    assert np.abs(after - (0.35 * before + 0.65 * panel)).max() < 3
