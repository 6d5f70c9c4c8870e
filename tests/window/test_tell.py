"""Plates and pictures: what is seen is kept, come back to, played, and saved at any size; by real events."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QImage

from driving import click, differing, drag, keys, pixels, settle, type_into, wait
from tidal_lens.quantities.names import OWN
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
    type_into(page.plates.rows[0].name, "Overview")
    page.plates.rows[0].notes.setFocus()
    keys(page.plates.rows[0].notes, "the whole flow")
    page.plates.rows[1].name.setFocus()
    settle(telling)
    assert (document.study.plates[0].name, document.study.plates[0].notes) == ("Overview", "the whole flow")
    click(page.plates.rows[0].later)
    assert [p.name for p in document.study.plates] == ["Plate 2", "Overview"]
    click(page.plates.rows[1].again)
    assert document.study.plates[1].lit == document.study.plates[0].lit
    assert document.study.plates[1].notes == "the whole flow"
    document.save(tmp_path / "plates.tidal")
    assert [p.name for p in load_study(tmp_path / "plates.tidal").plates] == ["Plate 2", "Overview"]
    old = document.study.plates[0].id
    click(page.plates.rows[0].away)
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
    click(telling.bench.pages["tell"].plates.rows[1].again)
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
    click(page.shown.button("picture"))
    for field, number in zip((page.picture.wide, page.picture.tall), size, strict=True):
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


def test_pictures_are_what_the_view_shows_and_as_chosen(telling, tmp_path):
    page = telling.bench.pages["tell"]
    click(page.shown.button("picture"))
    type_into(page.picture.wide, str(telling.view.width()))
    type_into(page.picture.tall, str(telling.view.height()))
    told = []
    telling.document.noticed.connect(lambda n: told.append(n.text))
    telling.document.choose(None)
    settle(telling)
    shown = pixels(telling.view).astype(int)
    telling.act("save-picture", str(tmp_path / "a.png"))
    wait(lambda: told, "the picture", 60)
    image = QImage(str(tmp_path / "a.png")).convertToFormat(QImage.Format.Format_RGB32)
    middle = np.s_[150:-150, 220:-220]
    assert np.abs(rgb(image)[middle].astype(int) - shown[middle]).mean() < 2.0, "the flow as it is seen"
    click(telling.plates.thumbs[0])  # there the ground is seen
    settle(telling)
    click(page.picture.clear, QPointF(12, 9))
    assert telling.document.undo_what == "Pictures"
    telling.act("save-picture", str(tmp_path / "b.png"))
    wait(lambda: len(told) == 2, "the clear one", 60)
    clear = QImage(str(tmp_path / "b.png"))
    assert clear.hasAlphaChannel()
    assert clear.pixelColor(clear.width() - 3, clear.height() - 3).alpha() == 0
    for ending in ("svg", "pdf"):
        telling.act("save-picture", str(tmp_path / f"c.{ending}"))
        wait(lambda e=ending: any(f"c.{e}" in text for text in told), "it", 60)
    assert (tmp_path / "c.pdf").read_bytes().startswith(b"%PDF")
    telling.act("save-picture", str(tmp_path / "c.tiff"))
    wait(lambda: any("not written as .tiff" in text for text in told), "why not", 60)
    settle(telling)


def rgb(image):
    bits = image.constBits()
    bits.setsize(image.sizeInBytes())
    return np.frombuffer(bytes(bits), np.uint8).reshape(image.height(), -1, 4)[:, : image.width(), 2::-1]


def test_an_animation_is_set_looked_through_made_and_given_up(telling, tmp_path):
    page, document, told = telling.bench.pages["tell"], telling.document, []
    document.noticed.connect(lambda n: told.append(n.text))
    click(page.shown.button("film"))
    section = page.film
    assert not section.of_sweep.isVisible()
    for field, number in ((section.seconds, "0.5"), (section.rate, "8"), (section.wide, "200"), (section.tall, "120")):
        type_into(field, number)
    assert "4 pictures" in section.note.text()
    click(section.look)
    settle(telling)
    assert all(not one.pixmap().isNull() for one in section.strip)
    telling.act("save-film", str(tmp_path / "a.gif"))
    wait(lambda: any("a.gif: 4 pictures, 0.5 s" in text for text in told), "the film", 90)
    assert (tmp_path / "a.gif").read_bytes().startswith(b"GIF89a")
    section.what.setCurrentIndex(4)
    section.what.activated.emit(4)
    assert document.study.film.what == "plates"
    section.what.activated.emit(1)
    telling.act("save-film", str(tmp_path / "b.mp4"))
    wait(lambda: any("no time steps" in text for text in told), "why not", 60)
    section.what.activated.emit(2)
    assert section.of_sweep.isVisible()
    assert document.study.film.card == document.chosen, "the chosen card's number runs"
    type_into(section.seconds, "60")
    telling.act("save-film", str(tmp_path / "c.mp4"))
    wait(lambda: document.makers.is_busy("film"), "its beginning", 10)
    study = document.study
    document.edit(study.with_(outline=not study.outline), "Outline")  # the window stays at hand
    document.asking.cancel_work()
    wait(lambda: not document.makers.is_busy("film"), "its end", 30)
    settle(telling)
    assert not (tmp_path / "c.mp4").exists()
    keys(telling.view, Qt.Key.Key_Z, modifiers=CTRL)
    assert document.study == study


def test_a_report_is_set_and_written(telling, tmp_path):
    page, document, told = telling.bench.pages["tell"], telling.document, []
    document.noticed.connect(lambda n: told.append(n.text))
    click(page.shown.button("report"))
    section = page.report
    type_into(section.title, "Wing at sixteen")
    section.words.setFocus()
    keys(section.words, "as asked")
    section.title.setFocus()
    click(section.parts["model"].there, QPointF(8, 9))
    click(section.parts["made"].earlier)
    assert document.study.report.parts == ("facts", "plates", "findings", "measures", "balance", "made", "history")
    telling.act("save-report", str(tmp_path / "r.html"))
    wait(lambda: any("r.html" in text for text in told), "the report", 120)
    body = (tmp_path / "r.html").read_text()
    assert "<h1>Wing at sixteen</h1>" in body
    assert "<p>as asked</p>" in body
    assert body.index("Plate 1") < body.index("How it was made</h2>")
    telling.act("save-report", str(tmp_path / "r.odt"))
    wait(lambda: any("not written as .odt" in text for text in told), "why not", 60)
    telling.act("save-script", str(tmp_path / "s.py"))
    wait(lambda: any("s.py" in text for text in told), "the script", 60)
    compile((tmp_path / "s.py").read_text(), "s.py", "exec")
    settle(telling)


def test_a_run_is_set_made_and_given_up(telling, tmp_path):
    page, document, told = telling.bench.pages["tell"], telling.document, []
    document.noticed.connect(lambda n: told.append(n.text))
    click(page.shown.button("run"))
    section = page.run
    telling.act("run-case", str(tmp_path / "gone.cgns"))
    assert document.study.run.cases == (str(tmp_path / "gone.cgns"),)
    assert len(section.cases) == 1
    type_into(section.steps, "3-1")
    wait(lambda: any("names no steps" in text for text in told), "why not", 10)
    assert document.study.run.steps == "all"
    click(section.kinds["tables"], QPointF(8, 9))
    type_into(section.workers, "2")
    assert (document.study.run.tables, document.study.run.workers) == (False, 2)
    document.edit(document.study.with_(picture=document.study.picture.with_(wide=160, tall=100)), "Small")
    telling.act("run", str(tmp_path / "out"))
    wait(lambda: any("summary.csv" in text for text in told), "the run", 240)
    assert "gone: " in told[-1], "what could not be had is told"
    name = document.flow.path.stem
    assert {p.name for p in (tmp_path / "out" / name).iterdir()} == {"Plate 1.png", "Plate 2.png"}
    assert (tmp_path / "out" / "study.tidal").exists()
    telling.act("run", str(tmp_path / "again"))
    wait(lambda: document.makers.is_busy("run"), "its beginning", 10)
    document.makers.cancel("run")
    wait(lambda: not document.makers.is_busy("run"), "its end", 60)
    settle(telling)


def test_a_note_is_written_moved_pointed_and_undone(telling, tmp_path):
    document, view = telling.document, telling.view
    click(telling.plates.thumbs[0])
    settle(telling)
    before = pixels(view)
    click(telling.bench.pages["tell"].tiles["note-add"])
    page = telling.bench.pages["tell"]
    assert page.notes.isVisible()
    row = page.notes.rows[0]
    assert row.text.hasFocus(), "it is written at once"
    keys(row.text, "Mach {mach}")
    page.notes.rows[0].letters.setFocus()
    settle(telling)
    (note,) = document.study.notes
    assert note.text == "Mach {mach}"
    assert differing(pixels(view), before) > 0.001
    overlay = next(o for o in view._overlays if type(o).__name__ == "NotesOverlay")
    (face,) = overlay.faces()
    begin = QPointF(face.box[0] + 6, face.box[1] + 6)
    drag(view, begin, begin + QPointF(80, 120))
    settle(telling)
    (moved,) = overlay.faces()
    assert (moved.box[0] - face.box[0], moved.box[1] - face.box[1]) == pytest.approx((80, 120), abs=3)
    assert document.undo_what == "Move the note"
    click(row.arrow, QPointF(8, 9))
    settle(telling)
    (face,) = overlay.faces()
    middle = QPointF(view.width() / 2, view.height() / 2)
    drag(view, QPointF(*face.tip), middle + QPointF(0, 10))
    settle(telling)
    at = np.array(document.study.notes[0].at)
    hit = view.point_at(middle + QPointF(0, 10))
    assert at == pytest.approx(hit, abs=0.02 * document.flow.size)
    click(row.hangs, QPointF(8, 9))
    settle(telling)
    place = overlay.faces()[0].box[:2]
    view.eye.move(document.camera.panned(60, 0, view.height()), rest=True)
    settle(telling)
    assert overlay.faces()[0].box[0] - place[0] == pytest.approx(60, abs=2), "it goes with the flow"
    for _ in range(5):
        keys(view, Qt.Key.Key_Z, modifiers=CTRL)
    assert document.study.notes[0].place == note.place
    assert document.study.notes[0].at is None
    type_into(page.notes.rows[0].letters, "30")
    document.save(tmp_path / "n.tidal")
    assert load_study(tmp_path / "n.tidal").notes[0].size == 30.0
    click(page.notes.rows[0].away)
    assert document.study.notes == ()


def test_titles_bars_pictures_and_numbers_are_put_in(telling, tmp_path):
    from PIL import Image

    document, page = telling.document, telling.bench.pages["tell"]
    Image.new("RGB", (60, 30), "red").save(tmp_path / "logo.png")
    (tmp_path / "bad.png").write_bytes(b"no")
    told = []
    document.noticed.connect(lambda n: told.append(n.text))
    telling.act("add-forces")
    settle(telling)
    click(page.shown.button("notes"))
    for command in ("note-title", "note-bar"):
        click(page.notes.adds[command])
    telling.act("note-picture", str(tmp_path / "bad.png"))
    assert any("cannot be read" in text for text in told)
    telling.act("note-picture", str(tmp_path / "logo.png"))
    click(page.notes.adds["note-add"])
    settle(telling)
    assert [n.sort for n in document.study.notes] == ["text", "bar", "picture", "text"]
    assert document.study.notes[0].text.startswith("{case}, Mach {mach}")
    row = page.notes.rows[3]
    row.refresh = None
    page.notes.refresh()
    at = row._offers.index("Forces: CL")
    row.insert.activated.emit(at)
    assert document.study.notes[3].text.endswith("{Forces: CL}")
    overlay = next(o for o in telling.view._overlays if type(o).__name__ == "NotesOverlay")
    shown = overlay.faces()[3].marks[-1].text
    assert "0.4" in shown or "−" in shown, "the number as it is"
    red = (np.abs(pixels(telling.view).astype(int) - [255, 0, 0]).max(axis=-1) < 20).mean()
    assert red > 0.005, "the picture lies over the view"


def test_what_is_made_leaves_the_keys_of_the_view_as_they_are(telling, tmp_path):
    """Lines bring values of their own, which are others at each picture of an animation: the view's key stays that of its own lines."""
    document, told = telling.document, []
    document.noticed.connect(lambda n: told.append(n.text))
    telling.act("add-slice-x")
    settle(telling)
    cut = document.chosen
    telling.act("add-seed-card", f"card {cut}")
    settle(telling)
    lines = document.chosen_layer
    document.edit_layer(lines.with_(look=lines.look.with_(colour_by=f"{OWN}length from the seed")), "Length")
    settle(telling)
    before = document.key(f"{OWN}length from the seed")[1:]
    film = document.study.film.with_(what="sweep", card=cut, seconds=0.4, rate=10.0, wide=120, tall=80)
    document.edit(document.study.with_(film=film), "Film")
    telling.act("save-film", str(tmp_path / "a.gif"))
    wait(lambda: any("a.gif" in text for text in told), "the film", 120)
    settle(telling)
    assert document.key(f"{OWN}length from the seed")[1:] == before
