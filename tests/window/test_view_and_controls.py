"""The finer points of the view and of the controls."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QContextMenuEvent, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMenu
from PyQt6.sip import isdeleted

from driving import choose, click, drag, keys, move, pick, pixels, settle, slide, spin, type_into, wait
from tidal_lens.scene.palettes import palette
from tidal_lens.study.files import load_study
from tidal_lens.study.kinds.isosurface import IsoShape
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.model import KeySetting, Layer

NONE = Qt.KeyboardModifier.NoModifier


def chosen(window):
    return window.document.chosen_layer


def wheel(window, at, steps):
    view = window.view
    event = QWheelEvent(QPointF(at), QPointF(view.mapToGlobal(QPointF(at).toPoint())), QPoint(0, 0), QPoint(0, 120 * steps),
                        Qt.MouseButton.NoButton, NONE, Qt.ScrollPhase.NoScrollPhase, False)
    QApplication.sendEvent(view, event)
    spin()


def test_the_wheel_zooms_to_what_is_under_the_pointer(window):
    camera = window.view.shown_camera
    target = np.array([[3.2, 0.0, 1.8]])
    (place,), _ = camera.project(target, window.view.width(), window.view.height())
    wheel(window, QPointF(*place), 3)
    settle(window)
    near = window.view.shown_camera
    (after,), _ = near.project(target, window.view.width(), window.view.height())
    assert np.abs(after - place).max() < 1.5
    assert np.linalg.norm(near.eye - target) < 0.7 * np.linalg.norm(camera.eye - target)
    wheel(window, QPointF(*place), -3)
    assert np.linalg.norm(window.document.camera.eye - camera.eye) < 0.02


def test_a_double_click_sets_the_pivot(window):
    camera = window.view.shown_camera
    target = np.array([3.2, 0.0, 1.8])
    (place,), _ = camera.project(target[None], window.view.width(), window.view.height())
    QTest.mouseDClick(window.view, Qt.MouseButton.LeftButton, NONE, QPointF(*place).toPoint())
    drag(window.view, QPointF(700, 520), QPointF(800, 540))
    settle(window)
    (after,), _ = window.view.shown_camera.project(target[None], window.view.width(), window.view.height())
    assert np.abs(after - place).max() < 4, "it turned about what was clicked"


def test_the_middle_button_pans(window):
    before = window.document.camera
    drag(window.view, QPointF(700, 520), QPointF(740, 500), button=Qt.MouseButton.MiddleButton)
    after = window.document.camera
    assert np.allclose(after.eye - before.eye, after.focus - before.focus)
    assert np.linalg.norm(after.eye - before.eye) > 0.05


def test_a_slice_seen_end_on_is_still_moved(window):
    window.view.eye.look_from(1, 1)
    settle(window)
    bead = window.view.handles.bead_at("slice")
    drag(window.view, bead, bead - QPointF(0, 60))
    assert chosen(window).shape.position > 0.1
    settle(window)


def test_shift_f_frames_the_chosen_card(window):
    window.document.choose(window.document.study.layers[0].id)
    before = window.document.camera
    keys(window.view, Qt.Key.Key_F, modifiers=Qt.KeyboardModifier.ShiftModifier)
    settle(window)
    points = window.document.asking.results[chosen(window).id].geometry.points
    places, depth = window.view.shown_camera.project(points, window.view.width(), window.view.height())
    assert depth.min() > 0
    assert places.min() > 0
    assert not np.allclose(window.document.camera.eye, before.eye)


def test_coordinates_of_the_seed_line_are_typed_in_the_view(window):
    window.act("add-streamlines")
    settle(window)
    label = window.view.handles._labels["start"].center()
    QTest.mouseDClick(window.view, Qt.MouseButton.LeftButton, NONE, label.toPoint())
    type_into(window.view.typing.editor, "1, -0.5, 1.25")
    assert chosen(window).shape.seeds[0].start == (1.0, -0.5, 1.25)
    settle(window)
    label = window.view.handles._labels["start"].center()
    QTest.mouseDClick(window.view, Qt.MouseButton.LeftButton, NONE, label.toPoint())
    type_into(window.view.typing.editor, "1, 2")
    assert chosen(window).shape.seeds[0].start == (1.0, -0.5, 1.25), "two numbers are no point"
    assert "not a number" in window.status.pointer.text()
    settle(window)


def test_a_seed_line_snaps_to_a_card_and_its_points(window):
    """Onto the slice at y = 0: one of its points if one is within 12 pixels, else where it is seen there."""
    window.act("add-streamlines")
    settle(window)
    card = next(x for x in window.document.study.layers if x.kind == "slice")
    surface = window.document.asking.results[card.id].geometry
    camera, view = window.view.shown_camera, window.view
    pixels, _ = camera.project(surface.points, view.width(), view.height())
    inside = (pixels > 150).all(axis=1) & (pixels[:, 0] < view.width() - 300) & (pixels[:, 1] < view.height() - 150)
    target = next(QPointF(*pixels[n]) for n in np.flatnonzero(inside)[::97]
                  if (seen := view.point_at(QPointF(*pixels[n]))) is not None and abs(seen[1]) < 1e-3)
    bead = view.handles.bead_at("end")
    drag(view, bead, target, Qt.KeyboardModifier.ControlModifier)
    end = np.array(chosen(window).shape.seeds[0].end)
    assert abs(end[1]) < 1e-3, "it lies on the slice"
    assert np.abs(surface.points - end).max(axis=1).min() < 1e-9, "at one of its points"
    window.act("undo")
    settle(window)


def test_a_seed_line_snaps_to_nodes_where_no_card_is(window):
    for card in window.document.study.layers:
        window.document.choose(card.id)
        window.act("remove")
    window.act("add-streamlines")
    settle(window)
    bead = window.view.handles.bead_at("end")
    drag(window.view, bead, bead + QPointF(20, 12), Qt.KeyboardModifier.ControlModifier)
    end = np.array(chosen(window).shape.seeds[0].end)
    assert np.abs(window.document.flow.points - end).max(axis=1).min() < 1e-9
    settle(window)


def test_the_menu_of_a_key(window):
    grip = window.view.keys.grip_at("mach", "low")
    event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, grip.toPoint(), window.view.mapToGlobal(grip.toPoint()))
    QApplication.sendEvent(window.view, event)
    spin(0.05)
    menu = next(m for m in window.view.findChildren(QMenu) if m.isVisible())
    reset = next(a for a in menu.actions() if a.text().startswith("Reset"))
    assert not reset.isEnabled()
    choose(menu, "Symmetric about zero")
    assert window.document.study.keys["mach"] == KeySetting(symmetric=True)
    assert window.document.key("mach")[1:] == (-1.22, 1.22)
    spin()
    assert isdeleted(menu)
    window.act("undo")
    assert window.document.study.keys == {}
    settle(window)


def test_a_surface_is_lit_or_flat(window):
    document = window.document

    def shaded():
        scene = window.view.scenery.scene(document.asking.table(), "#ffffff", "#000000")
        return {item.id: item.shaded for item in scene.items if hasattr(item, "shaded")}

    cut, wall = (next(x.id for x in document.study.layers if x.kind == kind) for kind in ("slice", "wall"))
    assert (shaded()[cut], shaded()[wall]) == (False, True)
    document.choose(cut)
    settle(window)
    lit = window.bench.card.controls["slice"].lit
    assert not lit.isChecked()
    before = pixels(window.view)
    click(lit, QPoint(8, 8))
    settle(window)
    assert shaded()[cut]
    assert np.abs(pixels(window.view) - before).max() > 10
    window.act("undo")
    settle(window)
    assert not shaded()[cut]
    assert not lit.isChecked()


def test_a_logarithmic_key(window):
    document = window.document
    document.choose(next(x.id for x in document.study.layers if x.kind == "slice"))
    settle(window)
    key = window.bench.card.controls["slice"].key
    assert not key.log.isEnabled(), "a palette that breaks at Mach 1 has no logarithm"
    window.cards.colour_by("vorticity-magnitude")
    settle(window)
    click(key.log, QPoint(8, 8))
    settle(window)
    low, high = document.key("vorticity-magnitude")[1:]
    assert 0.0 < low < high
    face = window.view.keys.keys()[0]
    assert face.log
    middle = face.y_of((low * high) ** 0.5)
    assert middle == pytest.approx(0.5 * (face.y_of(low) + face.y_of(high)), abs=0.5)
    assert face.value_at(middle) == pytest.approx((low * high) ** 0.5, rel=1e-6)
    drag(window.view, window.view.keys.grip_at("vorticity-magnitude", "low"),
         window.view.keys.grip_at("vorticity-magnitude", "low") + QPointF(0, -40))
    assert document.key("vorticity-magnitude")[1] > 2.0 * low, "a drag goes by factors"
    window.act("undo")
    window.act("undo")
    settle(window)
    assert not window.view.keys.keys()[0].log


def test_a_keys_bands_palette_and_what_lies_beyond(window, tmp_path):
    document = window.document
    document.choose(next(x.id for x in document.study.layers if x.kind == "slice"))
    settle(window)
    key = window.bench.card.controls["slice"].key
    low, high = document.key("mach")[1:]
    bands = np.unique(palette("mach", low, high, 5)[:, :3], axis=0).astype(int)
    assert len(bands) == 5

    def in_bands():
        return int((np.abs(pixels(window.view)[:, :, None] - bands).max(axis=-1).min(axis=-1) <= 3).sum())

    smooth = in_bands()
    type_into(key.bands, "5")
    settle(window)
    assert in_bands() > max(4 * smooth, 20000)
    type_into(key.low, f"{low + 0.4 * (high - low):.3f}")
    click(key.beyond.button("grey"))
    settle(window)
    grey = (np.abs(pixels(window.view).astype(int) - 158).max(axis=-1) <= 2).sum()
    assert grey > 2000, "what lies below is grey"
    click(key.beyond.button("nothing"))
    settle(window)
    assert (np.abs(pixels(window.view).astype(int) - 158).max(axis=-1) <= 2).sum() < 0.2 * grey
    assert not key.flipped.isEnabled(), "a palette that breaks at Mach 1 is not turned round"
    setting = document.study.keys["mach"]
    assert (setting.bands, setting.beyond) == (5, "nothing")
    drag(window.view, window.view.keys.grip_at("mach", "high"), window.view.keys.grip_at("mach", "high") + QPointF(0, 20))
    assert document.study.keys["mach"].bands == 5, "a drag of an end keeps the rest"
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").keys == document.study.keys
    while document.undo_what:
        window.act("undo")
    settle(window)
    assert document.study.keys == {}


def test_a_key_end_is_typed_in_the_view_and_ends_never_cross(window):
    grip = window.view.keys.grip_at("mach", "high")
    QTest.mouseDClick(window.view, Qt.MouseButton.LeftButton, NONE, grip.toPoint())
    type_into(window.view.typing.editor, "0.9")
    assert window.document.key("mach")[2] == 0.9
    settle(window)
    grip = window.view.keys.grip_at("mach", "low")
    drag(window.view, grip, grip - QPointF(0, 400))
    _, low, high = window.document.key("mach")
    assert low < high == 0.9
    settle(window)


def test_two_isosurfaces_share_one_key(window):
    store = window.document.evaluator.store
    store.distribution("q")
    for value in (3e5, 6e5):
        study = window.document.study
        layer = Layer(id=study.new_id("iso"), name=study.new_name("Q"), shape=IsoShape(quantity="q", value=value), look=SurfaceLook())
        window.document.edit(study.adding(layer), "Add")
    settle(window)
    shown = window.view.keys.keys()
    assert [k.quantity.name for k in shown] == ["mach", "q"]
    assert sorted(v for _, v in shown[1].beads) == [3e5, 6e5]
    ids = [x.id for x in window.document.study.layers if x.kind == "isosurface"]
    bead = window.view.keys.grip_at("q", ids[0])
    drag(window.view, bead, bead - QPointF(0, 8))
    assert window.document.chosen == ids[0]
    assert window.document.study.layer(ids[1]).shape.value == 6e5
    assert window.document.study.layer(ids[0]).shape.value > 3e5
    settle(window)


def test_a_slice_is_turned_and_swept(window):
    controls = window.bench.card.controls["slice"]
    click(controls.axis.button("2"))
    assert chosen(window).shape.axis == 2
    assert chosen(window).name == "Slice z"
    settle(window)
    steps_before = window.document.undo_what
    slide(controls.sweep, 0.8)
    settle(window)
    low, high = (float(b[2]) for b in window.document.flow.bounds)
    assert controls.sweep.value() == pytest.approx(80, abs=3)
    assert chosen(window).shape.position == pytest.approx(low + 0.01 * controls.sweep.value() * (high - low), abs=0.01)
    window.act("undo")
    assert chosen(window).shape.position == pytest.approx(1.3, abs=0.01), "a sweep is one step"
    assert window.document.undo_what == steps_before
    settle(window)


def test_hints_tell_what_can_be_dragged(window):
    told = []
    window.view.pointed.connect(told.append)
    places = {"Drag to move the slice": window.view.handles.bead_at("slice"), "wind": window.view.rose.centre,
              "change the range": window.view.keys.grip_at("mach", "high")}
    for words, at in places.items():
        move(window.view, at)
        assert words in told[-1]
    move(window.view, QPointF(window.view.width() - 3, 3))
    assert told[-1] == ""


def test_folding_the_bench_gives_the_view_its_room(window):
    wide = window.view.width()
    keys(window, Qt.Key.Key_F9)
    settle(window)
    assert window.view.width() == wide + 300
    keys(window, Qt.Key.Key_4, modifiers=Qt.KeyboardModifier.AltModifier)
    settle(window)
    assert window.view.width() == wide
    assert window.bench.station.name == "trace"


def test_saving_by_keys_once_the_study_has_a_name(window, tmp_path):
    assert window.document.save(tmp_path / "view")
    assert window.document.file == tmp_path / "view.tidal"
    window.act("add-slice-x")
    assert window.top.title.text().endswith("*")
    keys(window, Qt.Key.Key_S, modifiers=Qt.KeyboardModifier.ControlModifier)
    assert not window.document.is_changed
    assert "view.tidal" in window.top.title.text()
    assert not window.top.title.text().endswith("*")
    settle(window)


def test_a_save_that_fails_is_told(window, tmp_path):
    (tmp_path / "file").write_text("")
    assert not window.document.save(tmp_path / "file" / "x.tidal")
    wait(window.strips.live, "a strip", 5)
    assert "could not be written" in window.strips.live()[0].text.text()
    window.strips.clear()
    assert window.strips.live() == []


@pytest.mark.gui
def test_another_palette_is_chosen_for_a_key(window, tmp_path):
    document = window.document
    document.choose(next(x.id for x in document.study.layers if x.kind == "slice"))
    settle(window)
    key = window.bench.card.controls["slice"].key
    low, high = document.key("mach")[1:]

    def of(palette_name):
        colours = np.unique(palette(palette_name, low, high)[::8, :3], axis=0).astype(int)
        shown = pixels(window.view)[60:-60:3, 200:-150:3].reshape(-1, 1, 3)
        return int((np.abs(shown - colours).max(axis=-1).min(axis=-1) <= 2).sum())

    before = of("moss")
    pick(key.colours, "Moss")
    settle(window)
    assert document.study.keys["mach"].palette == "moss"
    assert of("moss") > max(3 * before, 2000)
    assert key.flipped.isEnabled(), "it has no break at Mach 1"
    ranged = document.key("mach")
    assert (ranged[1], ranged[2]) == (low, high), "the range is that of the quantity's meaning"
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").keys["mach"].palette == "moss"

    window.view.keys.menu(window.view.keys.grip_at("mach", "high"))
    menu = next(m for m in window.view.findChildren(QMenu) if m.isVisible())
    inner = next(a.menu() for a in menu.actions() if a.text() == "Palette")
    assert [a.text() for a in inner.actions() if a.isChecked()] == ["Moss"]
    next(a for a in inner.actions() if a.text() == "By meaning").trigger()
    menu.close()
    settle(window)
    assert document.study.keys == {}
