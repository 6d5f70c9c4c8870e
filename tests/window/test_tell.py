"""Plates and pictures: what is seen is kept, come back to, played, and saved at any size; by real events."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QImage

from driving import click, differing, keys, pixels, settle, type_into, wait
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui
CTRL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def telling(window):
    """A window with two plates: of everything, and of a slice alone from nearer."""
    click(window.rail.buttons["tell"])
    settle(window)
    page = window.bench.pages["tell"]
    click(page.tiles["plate-add"])
    settle(window)
    window.act("add-slice-z")
    settle(window)
    for layer in window.document.study.layers[:-1]:
        window.document.edit_layer(layer.with_(shown=False), "Hide")
    window.view.eye.zoom(0.5, QPointF(300, 300))
    window.view.redraw()
    settle(window)
    click(window.rail.buttons["tell"])
    click(page.tiles["plate-add"])
    settle(window)
    return window


def test_a_plate_brings_back_camera_cards_and_keys_in_one_step_of_undo(telling):
    document, strip = telling.document, telling.plates
    assert [p.name for p in document.study.plates] == ["Plate 1", "Plate 2"]
    assert strip.isVisible()
    near, lit = document.camera, [x.shown for x in document.study.layers]
    before = pixels(telling.view)
    click(strip.thumbs[0])
    settle(telling)
    assert [x.shown for x in document.study.layers] == [*[True] * (len(lit) - 1), False]
    assert document.camera.distance > 1.5 * near.distance
    assert document.undo_what == "Go to plate Plate 1"
    assert differing(pixels(telling.view), before) > 0.1
    keys(telling.view, Qt.Key.Key_Z, modifiers=CTRL)
    settle(telling)
    assert [x.shown for x in document.study.layers] == lit
    assert document.camera.eye == pytest.approx(near.eye)
    assert differing(pixels(telling.view), before) < 0.01, "the same picture"
    keys(telling.view, Qt.Key.Key_Z, modifiers=CTRL | Qt.KeyboardModifier.ShiftModifier)
    settle(telling)
    assert document.camera.distance > 1.5 * near.distance
    name = next(iter({x.look.colour_by for x in document.study.layers if x.shown and x.look.on == "surface" and x.look.colour_by}))
    document.edit(document.study.with_key(name, document.study.keys.get(name) or _setting(bands=5)), "Bands")
    click(strip.thumbs[1])
    settle(telling)
    assert name not in document.study.keys, "keys are those of the plate"


def _setting(**what):
    from tidal_lens.study.model import KeySetting

    return KeySetting(**what)


def test_plates_are_named_noted_ordered_changed_and_removed(telling, tmp_path):
    document, page = telling.document, telling.bench.pages["tell"]
    type_into(page.rows[0].name, "Overview")
    page.rows[0].notes.setFocus()
    keys(page.rows[0].notes, "the whole flow")
    page.rows[1].name.setFocus()
    settle(telling)
    assert (document.study.plates[0].name, document.study.plates[0].notes) == ("Overview", "the whole flow")
    click(page.rows[0].later)
    assert [p.name for p in document.study.plates] == ["Plate 2", "Overview"]
    click(page.rows[1].again)
    assert document.study.plates[1].lit == document.study.plates[0].lit
    assert document.study.plates[1].notes == "the whole flow"
    document.save(tmp_path / "plates.tidal")
    assert [p.name for p in load_study(tmp_path / "plates.tidal").plates] == ["Plate 2", "Overview"]
    old = document.study.plates[0].id
    click(page.rows[0].away)
    click(page.tiles["plate-add"])
    assert [p.name for p in document.study.plates] == ["Overview", "Plate 1"]
    assert document.study.plates[1].id != old, "ids are never used again"
    keys(telling.view, Qt.Key.Key_Z, modifiers=CTRL)
    keys(telling.view, Qt.Key.Key_Z, modifiers=CTRL)
    assert [p.name for p in document.study.plates] == ["Plate 2", "Overview"]


def test_a_plate_survives_cards_that_come_and_go(telling):
    document = telling.document
    last = document.study.layers[-1]
    document.edit(document.study.without(last.id), "Remove")
    telling.act("add-slice-x")
    settle(telling)
    new = document.chosen
    click(telling.rail.buttons["tell"])
    click(telling.plates.thumbs[1])
    settle(telling)
    assert document.study.layer(last.id) is None
    assert not document.study.layer(new).shown, "what has come since is dark"


def test_the_picture_of_a_plate_is_that_of_what_it_shows(telling):
    document, strip = telling.document, telling.plates
    plate = document.study.plates[1].id
    assert strip.here == plate
    taken = strip.images[plate]
    telling.view.eye.orbit(60, 20)
    telling.view.redraw()
    settle(telling)
    assert strip.here == "", "it is seen from elsewhere now"
    assert strip.images[plate] is taken
    click(strip.thumbs[1])
    settle(telling)
    assert strip.here == plate
    document.edit(document.study.with_(outline=not document.study.outline), "Outline")
    settle(telling)
    assert strip.here == ""
    old = strip.images[plate]
    click(telling.bench.pages["tell"].rows[1].again)
    settle(telling)
    assert strip.here == plate
    assert strip.images[plate] is not old, "it is of another view now"
    keys(telling.view, Qt.Key.Key_Z, modifiers=CTRL)
    settle(telling)
    assert strip.here == ""
    assert plate not in strip.images, "what it looked like is not known until it is gone to"


def test_plates_are_played_one_after_another(telling):
    strip = telling.plates
    strip.show_timer.setInterval(50)
    seen = []
    strip.go = lambda plate, go=strip.go: (seen.append(plate), go(plate))
    click(telling.bench.pages["tell"].tiles["plates-play"])
    wait(lambda: len(set(seen)) == 2, "both plates", 20)
    click(telling.bench.pages["tell"].tiles["plates-play"])
    assert not strip.show_timer.isActive()
    settle(telling)


@pytest.mark.parametrize("size", [(900, 300), (400, 640)])
def test_a_picture_of_any_size_holds_keys_and_no_handles(telling, tmp_path, size):
    page, told = telling.bench.pages["tell"], []
    telling.document.noticed.connect(lambda n: told.append(n.text))
    for field, number in zip((page.wide, page.tall), size, strict=True):
        type_into(field, str(number))
    path = tmp_path / "picture.png"
    telling.act("save-picture", str(path))
    wait(lambda: any("picture.png" in text for text in told), "the picture", 60)
    image = QImage(str(path)).convertToFormat(QImage.Format.Format_RGBX8888)
    assert (image.width(), image.height()) == size
    bits = image.constBits()
    bits.setsize(image.sizeInBytes())
    rgb = np.frombuffer(bytes(bits), np.uint8).reshape(size[1], -1, 4)[:, : size[0], :3].astype(int)
    assert len(np.unique(rgb.reshape(-1, 3), axis=0)) > 300, "something is drawn"
    magenta = (np.abs(rgb - np.array([176, 36, 107])).max(axis=-1) < 12).sum()
    shown = (np.abs(pixels(telling.view) - np.array([176, 36, 107])).max(axis=-1) < 12).sum()
    assert shown > 100, "beads in the window"
    assert magenta < 0.1 * shown, "none in the picture"
    settle(telling)


def test_a_picture_that_cannot_be_is_told(telling, tmp_path):
    told = []
    telling.document.noticed.connect(lambda n: told.append(n.text))
    telling.act("save-picture", str(tmp_path / "no" / "such" / "folder.png"))
    wait(lambda: any("cannot be written" in text for text in told), "the notice", 60)
    settle(telling)
