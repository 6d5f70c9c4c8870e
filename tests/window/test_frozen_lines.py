"""A frozen copy of lines: it stays as it was, whatever becomes of seeds, steps, and the file."""

import base64
import io
import zipfile

import numpy as np
import pytest

from driving import click, settle, type_into, wait
from small_series import series
from tidal_lens.errors import StudyError
from tidal_lens.quantities.names import OWN
from tidal_lens.study.files import load_study
from tidal_lens.study.packed import pack, unpack

pytestmark = pytest.mark.gui


def begun(window):
    window.show_station("trace")
    count = len(window.document.study.layers)
    click(window.bench.pages["trace"].tiles["add-streamlines"])
    wait(lambda: len(window.document.study.layers) > count, "the card")
    settle(window)
    return window.bench.card.controls["streamlines"]


def kept(window, controls):
    window.bench.scroller.ensureWidgetVisible(controls.freeze)
    settle(window)
    click(controls.freeze)
    settle(window)
    return window.document.chosen_layer


def result(window, layer):
    return window.document.asking.results[layer.id]


def test_a_frozen_copy_stays_when_its_card_changes_and_goes(window, tmp_path):
    controls = begun(window)
    card = window.document.chosen_layer
    was = result(window, card)
    key = window.document.key(card.look.colour_by)
    copy = kept(window, controls)
    assert copy.kind == "frozen"
    assert copy.look.colour_by.startswith(OWN)
    assert window.document.key(copy.look.colour_by)[1:] == pytest.approx(key[1:]), "the same colours"
    shown = result(window, copy)
    assert np.abs(shown.geometry.points - was.geometry.points).max() < 1e-5
    assert shown.colours == pytest.approx(was.colours, rel=1e-5, nan_ok=True)
    assert shown.made.tables[0].rows[0][1:3] == pytest.approx(was.made.tables[0].rows[0][1:3], rel=1e-4)
    window.document.choose(card.id)
    type_into(controls.seeds.fields["count"][0], "3")
    settle(window)
    assert result(window, card).geometry.n_lines == 3
    assert result(window, copy).geometry is shown.geometry
    assert window.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layers == window.document.study.layers
    window.document.edit(window.document.study.without(card.id), "Remove")
    settle(window)
    assert result(window, copy).geometry.n_lines == was.geometry.n_lines
    for _ in range(3):
        window.act("undo")
    assert [x.kind for x in window.document.study.layers].count("frozen") == 0


def test_a_frozen_copy_of_one_step_stays_at_the_others(empty, tmp_path):
    window = empty
    window.document.open_path(series(tmp_path)[0], anyway=True)
    wait(lambda: window.document.flow is not None, "the series")
    settle(window)
    controls = begun(window)
    card, page = window.document.chosen_layer, window.bench.scroller
    assert page.widget().minimumSizeHint().width() <= page.viewport().width(), "nothing is cut off beside"
    copy = kept(window, controls)
    was, colours = result(window, copy).geometry.points.copy(), result(window, copy).colours.copy()
    window.document.go_to_step(2)
    settle(window)
    assert result(window, copy).geometry.points == pytest.approx(was)
    assert result(window, copy).colours == pytest.approx(colours, nan_ok=True)
    assert window.document.study.layer(card.id) is not None
    assert not window.document.asking.failures
    assert " at " in copy.shape.source


def test_what_is_no_array_is_told():
    held = {"a": np.arange(6.0).reshape(2, 3), "b": np.array([1, 2], np.int8)}
    back = unpack(pack(held))
    assert all((back[n] == held[n]).all() and back[n].dtype == held[n].dtype for n in held)
    for broken in ("", "no text of base 64!", pack(held)[:40], base64.b64encode(b"PK\x03\x04" + bytes(60)).decode()):
        with pytest.raises(StudyError, match="cannot be read"):
            unpack(broken)
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.npy", bytes(80_000_000))
    with pytest.raises(StudyError, match="64 MB"):
        unpack(base64.b64encode(bomb.getvalue()).decode())
    objects = io.BytesIO()
    np.savez(objects, a=np.array([{}], object))
    with pytest.raises(StudyError):
        unpack(base64.b64encode(objects.getvalue()).decode())
