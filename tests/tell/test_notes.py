"""Notes: texts with numbers that stay true, where they stand, what they point to, how long bars are."""

from dataclasses import replace

import numpy as np
import pytest
from PIL import Image

from tidal_lens import api
from tidal_lens.errors import FileError
from tidal_lens.formats.pictures import kept_picture, read_picture
from tidal_lens.scene.camera import first_camera
from tidal_lens.scene.marks import Path, Picture, Plate, Words
from tidal_lens.scene.note_marks import note_face, round_length
from tidal_lens.study.noted import with_note, without_note
from tidal_lens.study.notes import Known, Note, filled, renamed
from tidal_lens.study.plates import at_plate, with_plate
from tidal_lens.tell.lettering import measure
from tidal_lens.tell.studio import Look

CAMERA = first_camera(np.full(3, -1.0), np.full(3, 1.0), 1.5)
SIZE = (960.0, 640.0)


def known(**numbers):
    return Known({"case": "wing", "mach": "0.8"}, lambda card, finding: numbers.get(f"{card}|{finding}"))


@pytest.mark.parametrize(("text", "told"), [
    ("{case} at Mach {mach}", "wing at Mach 0.8"), ("{time}", "…"), ("{nothing} {}", "{nothing} {}"), ("CL {Forces: CL}", "CL 0.4463"),
    ("{Forces: lift}", "…"), ("{Vortices V1: circulation}", "12.5"), ("{Vortices V9: circulation}", "…"), ("{Big one V1: radius}", "0.02"),
    ("{a: b: c}", "3"), ("no {braces\n}", "no {braces\n}")])
def test_texts_are_filled_with_what_is_known(text, told):
    numbers = {"Forces|": {"CL": 0.44632}, "Vortices|V1": {"circulation": 12.5}, "Big one|V1": {"radius": 0.02}, "a: b|": {"c": 3.0}}
    assert filled(text, known(**numbers)) == told


def test_a_card_that_is_renamed_is_called_so_in_notes():
    notes = (Note(id="note-1", text="{Forces: CL}, {Forces 2: CL}, Forces"), Note(id="note-2", text="x"))
    out = renamed(notes, "Forces", "Loads")
    assert out[0].text == "{Loads: CL}, {Loads 2: CL}, Forces"
    assert out[1] is notes[1]
    assert renamed(notes, "None", "Other") is notes


@pytest.mark.parametrize(("length", "rounded"), [
    (1.0, 1.0), (1.99, 1.0), (2.0, 2.0), (49.9, 20.0), (0.0051, 0.005), (7e-7, 5e-7), (0.0, 1.0)])
def test_bars_have_round_lengths(length, rounded):
    assert round_length(length) == pytest.approx(rounded, rel=1e-12)


@pytest.mark.parametrize("span", [0.0, 1.2])
def test_a_bar_is_as_long_as_it_says(span):
    """Two places that far apart across the view are as many pixels apart as the bar is long."""
    camera = replace(CAMERA, span=span)
    face = note_face(Note(id="note-1", sort="bar", wide=0.5, frame=False), "", camera, SIZE, measure, lambda _p: None, "m")
    bars = [m for m in face.marks if isinstance(m, Plate)]
    right = camera.basis()[0]
    places, _ = camera.project(np.array([camera.focus, camera.focus + 0.5 * right]), *SIZE)
    assert sum(m.box[2] for m in bars) == pytest.approx(places[1, 0] - places[0, 0], rel=1e-9)
    (words,) = (m for m in face.marks if isinstance(m, Words))
    assert words.text == "0.5 m"
    near = note_face(Note(id="note-1", sort="bar", frame=False), "", camera, SIZE, measure, lambda _p: None, "m")
    assert near.box[2] < 0.26 * SIZE[0]


def test_an_arrow_ends_at_its_place_and_a_hanging_note_goes_with_it():
    note = Note(id="note-1", text="here", at=(0.2, 0.3, 0.1), place=(0.1, 0.8))
    where, _ = CAMERA.project(np.array([note.at]), *SIZE)
    face = note_face(note, note.text, CAMERA, SIZE, measure, lambda _p: None)
    assert face.tip == pytest.approx(where[0])
    head = [m for m in face.marks if isinstance(m, Path)][1]
    assert head.places[0] == pytest.approx(where[0])
    assert face.box[:2] == pytest.approx((96.0, 512.0))
    hanging = note_face(note.with_(hangs=True, off=(30.0, -50.0)), note.text, CAMERA, SIZE, measure, lambda _p: None)
    assert hanging.box[:2] == pytest.approx((where[0, 0] + 30.0, where[0, 1] - 50.0))
    twice = note_face(note.with_(hangs=True, off=(30.0, -50.0)), note.text, CAMERA, (1920.0, 1280.0), measure, lambda _p: None)
    assert twice.box[0] - twice.tip[0] == pytest.approx(60.0), "offsets grow with the view"
    behind = note_face(note.with_(at=tuple(2 * CAMERA.eye - CAMERA.focus)), note.text, CAMERA, SIZE, measure, lambda _p: None)
    assert behind.tip is None
    assert not [m for m in behind.marks if isinstance(m, Path)]


def test_pictures_keep_their_shape_and_broken_ones_are_told(tmp_path):
    Image.fromarray(np.full((40, 80, 3), 200, np.uint8)).save(tmp_path / "logo.png")
    pixels = kept_picture(str(tmp_path / "logo.png"))
    note = Note(id="note-1", sort="picture", path=str(tmp_path / "logo.png"), wide=0.25, frame=False)
    face = note_face(note, "", CAMERA, SIZE, measure, kept_picture)
    (mark,) = (m for m in face.marks if isinstance(m, Picture))
    assert mark.box[2:] == pytest.approx((240.0, 120.0))
    assert mark.pixels is pixels
    (tmp_path / "bad.png").write_bytes(b"\x89PNG\r\n\x1a\nnonsense")
    for name in ("bad.png", "none.png"):
        with pytest.raises(FileError, match="cannot be read"):
            read_picture(tmp_path / name)
        assert kept_picture(str(tmp_path / name)) is None
    lost = note_face(note.with_(path="none"), "", CAMERA, SIZE, measure, kept_picture)
    assert [m.text for m in lost.marks if isinstance(m, Words)] == ["no picture"]


def test_a_saved_picture_holds_a_measure_that_is_dark(tmp_path):
    """The number of a card whose lamp is out is worked out for the note that asks for it."""
    with api.demo("mooring") as case:
        card = case.add("forces", name="Forces", shown=False)
        note = Note(id="note-9", text="drag {Forces: CD}", place=(0.3, 0.4), size=20.0)
        case.study = with_note(case.study, note)
        shot = case._own_studio().shot(case.study, Look(600, 400))
        told = next(m.text for m in shot.marks if isinstance(m, Words) and m.text.startswith("drag"))
        value = next(row[-1] for row in case.table(card)[0].rows if row[0] == "CD")
        assert told == f"drag {value:.4g}"
        left, top = 0.3 * 600, 0.4 * 400
        panel = shot.pixels[int(top) + 3, int(left) + 4, :3].astype(int)
        assert np.abs(panel - [251, 249, 244]).max() < 30, "its plate stands there"
        case.change(card, name="Loads")
        assert case.study.notes[0].text == "drag {Loads: CD}"
        bare = case._own_studio().shot(case.study, Look(600, 400, notes=False))
        assert not [m for m in bare.marks if isinstance(m, Words) and "drag" in m.text]


def test_plates_remember_which_notes_are_shown():
    with api.demo("mooring") as case:
        study = with_plate(with_note(case.study, Note(id="note-3", text="a")), "with")
        study = with_plate(with_note(study, Note(id="note-3", text="a", shown=False)), "without")
        later = with_note(study, Note(id="note-7", text="new"))
        assert [n.shown for n in at_plate(later, study.plates[0]).notes] == [True, False]
        assert [n.shown for n in at_plate(later, study.plates[1]).notes] == [False, False]
        gone = without_note(later, "note-7")
        assert gone.new_id("note") == f"note-{max(int(gone.new_id('note').split('-')[1]), 8)}", "ids are never used again"
