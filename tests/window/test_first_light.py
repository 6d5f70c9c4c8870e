"""The whole of a first session, driven by mouse and keys."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QToolButton

from driving import click, differing, drag, keys, move, pick, pixels, settle, spin, type_into, wait
from tidal_lens.app.window import Window

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def tile(window, text):
    return next(b for b in window.bench.findChildren(QToolButton) if b.text() == text and b.isVisible())


def kinds(window):
    return [layer.kind for layer in window.document.study.layers]


def chosen(window):
    return window.document.chosen_layer


def test_opening_shows_walls_outline_and_a_mid_plane_by_mach_number(window):
    study = window.document.study
    assert kinds(window) == ["wall", "slice"]
    assert study.layers[0].shape.boundaries == ("floor (wall)",)
    assert study.layers[1].look.colour_by == "mach"
    assert study.layers[1].shape.axis == 1
    assert study.outline
    seen = pixels(window.view)
    assert differing(seen, np.broadcast_to(seen[5, -5], seen.shape)) > 0.3, "the view is almost empty"
    assert all(card.has_picture for card in window.deck.cards.values())


def test_a_whole_session_and_back(window, tmp_path, qapp):
    """Open, add a slice, drag it, drag a key's end, add a seed line, drag it, undo all, save, open again, same picture."""
    document = window.document
    first, first_study = pixels(window.view), document.study
    click(tile(window, "Slice x"))
    settle(window)
    assert kinds(window) == ["wall", "slice", "slice"]
    assert chosen(window).shape.axis == 0
    begin = window.view.handles.bead_at("slice")
    drag(window.view, begin, begin + QPointF(60, -10))
    settle(window)
    moved = chosen(window).shape.position
    assert moved > 1.1
    cut = document.asking.results[chosen(window).id].geometry.points[:, 0]
    assert np.abs(cut - moved).max() < 1e-6
    top = window.view.keys.grip_at("mach", "high")
    drag(window.view, top, top + QPointF(0, 60))
    settle(window)
    high = document.study.keys["mach"].high
    assert 0.7 < high < 1.1
    window.show_station("trace")
    click(tile(window, "Seed line"))
    settle(window)
    start, traced = chosen(window).shape.seeds[0].start, document.asking.results[chosen(window).id].geometry
    assert traced.n_lines == 30
    bead = window.view.handles.bead_at("start")
    drag(window.view, bead, bead + QPointF(-30, 40))
    settle(window)
    assert chosen(window).shape.seeds[0].start != start
    result = document.asking.results[chosen(window).id]
    assert not result.draft
    last = pixels(window.view)
    assert differing(first, last) > 0.01
    path = tmp_path / "study.tidal"
    assert document.save(path)
    saved_study = document.study
    steps = 0
    while document.undo_what:
        keys(window.view, Qt.Key.Key_Z, modifiers=CTRL)
        steps += 1
        assert steps < 20
    settle(window)
    assert steps == 5, "two cards added, two handles and one grip dragged: a step each"
    no_edit = {"camera": None, "counter": 0}
    assert document.study.model_copy(update=no_edit) == first_study.model_copy(update=no_edit)
    document.choose(first_study.layers[-1].id)
    settle(window)
    assert differing(first, pixels(window.view)) < 0.002
    for _ in range(steps):
        window.act("redo")
    settle(window)
    assert document.study.layers == saved_study.layers
    other = Window()
    other.resize(1280, 800)
    other.show()
    other.document.open_path(path)
    settle(other)
    assert other.document.study.layers == saved_study.layers
    assert other.document.study.keys == saved_study.keys
    assert differing(last, pixels(other.view)) < 0.002
    assert not other.document.is_changed
    other.hide()
    other.close()
    other.deleteLater()


def test_the_lines_follow_while_the_seed_line_is_dragged(window):
    window.act("add-streamlines")
    settle(window)
    layer = chosen(window)
    bead = window.view.handles.bead_at("middle")
    seen = []
    window.document.result_changed.connect(lambda name: seen.append(window.document.asking.results.get(name)))
    QTest.mousePress(window.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, bead.toPoint())

    def drafts():
        return {id(r.geometry) for r in seen if r is not None and r.draft and r.layer.id == layer.id}

    for n in range(1, 5):
        move(window.view, bead + QPointF(8 * n, 6 * n), button=Qt.MouseButton.LeftButton)
        wait(lambda n=n: len(drafts()) >= n, "lines while the drag goes on", 20)
    QTest.mouseRelease(window.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, (bead + QPointF(32, 24)).toPoint())
    settle(window)
    final = window.document.asking.results[layer.id]
    assert not final.draft
    a, b = np.array(layer.shape.seeds[0].start), np.array(chosen(window).shape.seeds[0].start)
    c, d = np.array(layer.shape.seeds[0].end), np.array(chosen(window).shape.seeds[0].end)
    assert np.allclose(b - a, d - c, atol=1e-6), "the middle bead moves both ends alike"
    assert np.abs(b - a).max() > 0.02


def test_slice_by_keys_by_typing_and_snapped(window):
    layer_id = chosen(window).id
    window.view.setFocus()
    before = chosen(window).shape.position
    keys(window.view, Qt.Key.Key_BracketRight)
    stepped = chosen(window).shape.position
    assert stepped == pytest.approx(before + 0.06)
    keys(window.view, Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketLeft)
    assert chosen(window).shape.position == pytest.approx(before - 0.06)
    field = window.bench.card.controls["slice"].position
    type_into(field, "0,42")
    assert chosen(window).shape.position == 0.42
    type_into(field, "nonsense")
    assert chosen(window).shape.position == 0.42
    assert field.property("bad")
    keys(field, Qt.Key.Key_Escape)
    assert not field.property("bad")
    keys(field, Qt.Key.Key_Up)
    assert chosen(window).shape.position == pytest.approx(0.45)
    settle(window)
    bead = window.view.handles.bead_at("slice")
    drag(window.view, bead, bead + QPointF(-30, 5), CTRL)
    nodes = window.document.flow.points[:, 1]
    assert np.abs(nodes - window.document.study.layer(layer_id).shape.position).min() == 0.0
    settle(window)
    bead = window.view.handles.bead_at("slice")
    coarse = window.document.study.layer(layer_id).shape.position
    drag(window.view, bead, bead + QPointF(-20, 3), SHIFT)
    assert 0 < abs(window.document.study.layer(layer_id).shape.position - coarse) < 0.05
    settle(window)
    label = window.view.handles._labels["slice"].center()
    QTest.mouseDClick(window.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, label.toPoint())
    type_into(window.view.typing.editor, "−0.25")
    assert window.document.study.layer(layer_id).shape.position == -0.25
    settle(window)
    assert np.abs(window.document.asking.results[layer_id].geometry.points[:, 1] + 0.25).max() < 1e-6


def test_isosurface_bead_on_the_key_and_typed_value(window):
    click(tile(window, "Isosurface"))
    wait(lambda: chosen(window) is not None and chosen(window).kind == "isosurface")
    settle(window)
    layer = chosen(window)
    assert layer.shape.quantity == "q"
    area = window.document.asking.results[layer.id].geometry.area
    assert area > 0.1
    bead = window.view.keys.grip_at("q", layer.id)
    drag(window.view, bead, bead - QPointF(0, 25))
    settle(window)
    dragged = chosen(window).shape.value
    assert dragged > layer.shape.value
    values = window.document.evaluator.store.values("q")
    surface = window.document.asking.results[layer.id].geometry
    assert np.abs(surface.stencil.apply(values) / dragged - 1).max() < 1e-3
    type_into(window.bench.card.controls["isosurface"].value, str(layer.shape.value))
    settle(window)
    assert window.document.asking.results[layer.id].geometry.area == pytest.approx(area)
    chooser = window.bench.card.controls["isosurface"].quantity
    pick(chooser, "Mach number")
    wait(lambda: chosen(window).shape.quantity == "mach")
    settle(window)
    assert chosen(window).shape.value == 1.0, "an isosurface of the Mach number begins at 1"
    assert chosen(window).name == "Mach number isosurface"


def test_recolouring_never_computes_the_shape_again(window):
    layer = chosen(window)
    before = window.document.asking.results[layer.id].geometry
    chooser = window.bench.card.controls["slice"].chooser
    pick(chooser, "Vorticity magnitude")
    settle(window)
    after = window.document.asking.results[layer.id]
    assert after.layer.look.colour_by == "vorticity-magnitude"
    assert after.geometry is before
    assert [k.quantity.name for k in window.view.keys.keys()] == ["vorticity-magnitude"]  # noqa: SIM118
    pick(chooser, "Plain colour")
    settle(window)
    assert chosen(window).look.colour_by is None
    assert window.view.keys.keys() == []


def test_walls_opacity_and_mesh_lines(window):
    wall = window.document.study.layers[0]
    assert wall.kind == "wall"
    click(window.deck.cards[wall.id], QPointF(40, 30))
    assert chosen(window).id == wall.id
    controls = window.bench.card.controls["wall"]
    plain = pixels(window.view)
    click(controls.mesh, QPointF(8, controls.mesh.height() / 2))
    settle(window)
    assert chosen(window).look.mesh_lines
    meshed = pixels(window.view)
    assert differing(plain, meshed) > 0.005
    controls.opacity.setFocus()
    for key in (Qt.Key.Key_Home, Qt.Key.Key_PageUp, Qt.Key.Key_PageUp):
        QTest.keyClick(controls.opacity, key)
    settle(window)
    assert chosen(window).look.opacity == pytest.approx(0.05 + 0.95 * 0.2)
    assert differing(meshed, pixels(window.view)) > 0.02
    for name, box in controls.boxes.items():
        if name == "outlet (found)":
            click(box, QPointF(8, box.height() / 2))
    settle(window)
    assert chosen(window).shape.boundaries == ("floor (wall)", "outlet (found)")
    assert len(window.document.asking.results[wall.id].geometry.faces) == 3200 + 1280


def test_key_ends_typed_symmetric_and_reset(window):
    window.act("colour-by", "vorticity-x")
    settle(window)
    controls = window.bench.card.controls["slice"].key
    type_into(controls.low, "-100")
    type_into(controls.high, "250")
    settle(window)
    assert (window.document.study.keys["vorticity-x"].low, window.document.study.keys["vorticity-x"].high) == (-100, 250)
    click(controls.symmetric, QPointF(8, controls.symmetric.height() / 2))
    assert window.document.key("vorticity-x")[1:] == (-250, 250)
    click(controls.reset)
    assert "vorticity-x" not in window.document.study.keys
    spread, low, high = window.document.key("vorticity-x")
    assert low == -high
    assert low == pytest.approx(-max(-spread.usual[0], spread.usual[1]), rel=0.01)


def test_each_line_knows_why_it_ended(window):
    window.act("add-streamlines")
    settle(window)
    type_into(window.bench.card.controls["streamlines"].seeds.fields["end"][1], "4.15")
    settle(window)
    controls = window.bench.card.controls["streamlines"]
    lines = window.document.asking.results[chosen(window).id].geometry
    assert controls.inside.text() == f"{lines.n_lines} of 30 seeds are inside"
    assert 10 < lines.n_lines < 30
    assert "left the domain" in controls.fate.text()
    camera = window.view.shown_camera
    seeds = np.isclose(lines.time, 0)
    places, _ = camera.project(lines.points[seeds], window.view.width(), window.view.height())
    told = []
    window.view.pointed.connect(told.append)
    for x, y in places[:: max(1, len(places) // 8)]:
        move(window.view, QPointF(float(x) + 25, float(y)))
        settle(window)  # where lines are is found out in the background
        move(window.view, QPointF(float(x), float(y)))
    assert any("downstream it left the domain" in t and "error estimate" in t for t in told), told
    QTest.mouseClick(controls.direction.button("forward"), Qt.MouseButton.LeftButton)
    settle(window)
    assert window.document.asking.results[chosen(window).id].geometry.ends[:, 0].max() == 0
    type_into(controls.seeds.fields["count"][0], "7")
    settle(window)
    assert window.document.asking.results[chosen(window).id].geometry.n_seeds == 7
    type_into(controls.length, "0.5")
    settle(window)
    lengths = window.document.asking.results[chosen(window).id].geometry.lengths
    assert lengths.max() == pytest.approx(0.5, rel=3e-3)
    assert "length limit" in controls.fate.text()


def test_value_under_the_pointer(window):
    told = []
    window.view.pointed.connect(told.append)
    camera = window.view.shown_camera
    (place,), _ = camera.project(np.array([[3.2, 0.0, 1.8]]), window.view.width(), window.view.height())
    move(window.view, QPointF(*place))
    words = told[-1].replace("−", "-").split()
    assert float(words[1]) == pytest.approx(3.2, abs=0.01)
    assert float(words[3]) == pytest.approx(0, abs=0.01)
    assert "Mach number" in told[-1]
    assert float(words[-1]) == pytest.approx(0.75, abs=0.02)


def test_camera_by_mouse_keys_and_rose(window):
    document = window.document
    before = document.camera
    drag(window.view, QPointF(700, 500), QPointF(760, 520))
    assert not np.allclose(document.camera.eye, before.eye)
    assert np.allclose(document.camera.focus, before.focus)
    assert document.undo_what == "", "looking from elsewhere is no edit"
    eye = document.camera.eye
    drag(window.view, QPointF(700, 500), QPointF(760, 520), SHIFT)
    assert np.allclose(document.camera.eye - eye, document.camera.focus - before.focus)
    keys(window.view, Qt.Key.Key_Plus)
    tip = next(place for _, place, axis, sign in window.view.rose.tips() if (axis, sign) == (1, 1))
    settle(window)
    tip = next(place for _, place, axis, sign in window.view.rose.tips() if (axis, sign) == (1, 1))
    click(window.view, tip)
    settle(window)
    assert np.allclose(document.camera.basis()[2], [0, -1, 0], atol=1e-9)
    keys(window.view, Qt.Key.Key_F)
    settle(window)
    low, high = document.flow.bounds
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    places, depth = window.view.shown_camera.project(corners, window.view.width(), window.view.height())
    assert depth.min() > 0
    assert places.min() > 0
    assert places[:, 0].max() < window.view.width()
    assert places[:, 1].max() < window.view.height()


def test_a_click_on_a_thing_chooses_its_card(window):
    assert chosen(window).kind == "slice"
    camera = window.view.shown_camera
    (place,), _ = camera.project(np.array([[2.5, -1.2, 0.0]]), window.view.width(), window.view.height())
    click(window.view, QPointF(*place))
    wait(lambda: chosen(window) is not None and chosen(window).kind == "wall", "the wall to be chosen", 10)
    (place,), _ = camera.project(np.array([[3.5, 0.0, 2.0]]), window.view.width(), window.view.height())
    click(window.view, QPointF(*place))
    wait(lambda: chosen(window) is not None and chosen(window).kind == "slice", "the slice to be chosen", 10)


def test_both_themes(window):
    window.act("theme")
    settle(window)
    dark = pixels(window)
    assert dark.mean() < 90
    window.act("theme")
    settle(window)
    assert pixels(window).mean() > 170


def test_reference_state_can_be_typed(window):
    window.show_station("case")
    spin()
    window.act("colour-by", "cp")
    settle(window)
    layer_id = chosen(window).id
    before = window.document.asking.results[layer_id].colours
    controls = window.bench.pages["case"].reference
    type_into(controls.pressure, "100000")
    settle(window)
    after = window.document.asking.results[layer_id].colours
    q = 0.5 * 1.225 * window.document.flow.reference.speed ** 2
    assert np.allclose(after - before, 1325 / q, atol=1e-4)
    assert "typed" in controls.origin.text()
    click(controls.reset)
    settle(window)
    assert np.allclose(window.document.asking.results[layer_id].colours, before)
    assert window.document.study.layers[-1].kind == "slice"


def test_seeds_are_shown_with_their_places(window):
    window.act("add-streamlines")
    settle(window)
    layer = chosen(window)
    assert layer.kind == "streamlines"
    window.document.choose(None)
    spin(0.05)
    without = pixels(window.view)
    window.document.choose(layer.id)
    spin(0.05)
    shown = pixels(window.view)
    magenta = (np.abs(shown - [0xB0, 0x24, 0x6B]).max(axis=-1) < 30).sum()
    assert magenta > 300
    assert (np.abs(without - [0xB0, 0x24, 0x6B]).max(axis=-1) < 30).sum() < 20


def test_the_reference_state_by_mach_number_incidence_and_altitude(window):
    """At 11,019 m (11 km of geopotential height) the standard air has 216.65 K and 22,632 Pa (table value from memory)."""
    window.show_station("case")
    controls = window.bench.pages["case"].reference
    type_into(controls.altitude, "11019.07")
    now = window.document.evaluator.store.reference
    assert now.pressure == pytest.approx(22632.0, rel=1e-4)
    assert now.mach == pytest.approx(0.75, rel=1e-6)  # as before
    type_into(controls.mach, "2")
    type_into(controls.incidence, "10")
    now = window.document.evaluator.store.reference
    assert now.speed == pytest.approx(2 * 295.07, abs=0.05)
    assert now.incidence == pytest.approx(10.0)
    assert controls.pressure.value() == pytest.approx(22632.0, rel=1e-4)
    assert controls.altitude.value() == pytest.approx(11019.07, abs=5.0)
    type_into(controls.density, "0.3")
    assert controls.altitude.text() == ""  # no longer the standard air
    window.act("undo")
    assert controls.altitude.value() == pytest.approx(11019.07, abs=5.0)
    for _ in range(3):
        window.act("undo")
    assert window.document.study.reference is None
    assert controls.mach.value() == pytest.approx(0.75, abs=1e-5)


def test_mass_through_the_boundaries(window):
    """The demo's stream comes in on one side and goes out on the others; nothing passes the floor."""
    window.show_station("case")
    controls = window.bench.pages["case"].balance
    assert not controls.rows.isVisible()
    controls.button.click()
    wait(controls.rows.isVisible, "the balance", 20)
    texts = [w.text() for w in controls.rows.findChildren(QLabel)]
    assert "floor (wall)" in texts
    floor = texts[texts.index("floor (wall)") + 1]
    assert floor == "mass in 0, out 0\nenergy in 0, out 0"
    assert "of what flows through" in controls.verdict.text()
    window.document.case_changed.emit()
    assert not controls.rows.isVisible()


def test_a_hidden_card_has_the_ground_of_the_theme_too(window):
    cards = window.deck.cards
    card = next(iter(cards.values()))
    click(card, card.lamp_rect().center())
    settle(window)
    assert not window.document.study.is_drawn(card.layer)

    def grounds():
        return {c._picture.pixelColor(2, 2).name() for c in cards.values()}

    before = grounds()
    assert len(before) == 1
    window.act("theme")
    wait(lambda: not (grounds() & before), "small pictures anew")
    assert len(grounds()) == 1
    window.act("theme")
    wait(lambda: grounds() == before, "small pictures as they were")
