"""Slices placed in every way, slice sets, round cuts and grid surfaces, by beads, clicks, buttons and numbers."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt

from driving import choose, click, drag, keys, pick, settle, type_into
from tidal_lens.cutting.planes import plane_axes, unit
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui


def added(window, command):
    window.act(command)
    settle(window)
    layer = window.document.chosen_layer
    return layer, window.bench.card.controls[layer.kind]


def now(window):
    return window.document.chosen_layer.shape


def made(window):
    return window.document.asking.results[window.document.chosen].geometry


def flatness(geometry, shape):
    return np.abs(geometry.points @ unit(shape.direction) - shape.position).max()


def scroll_to(window, widget):
    window.bench.scroller.ensureWidgetVisible(widget)
    settle(window)


def test_a_slice_is_turned_by_numbers_and_tilted_by_its_beads(window, tmp_path):
    layer, controls = added(window, "add-slice-x")
    type_into(controls.direction, "1; 1; 0")
    settle(window)
    assert now(window).axis is None
    assert flatness(made(window), now(window)) < 1e-9
    assert window.document.chosen_layer.name == "Slice", "its name no longer tells an axis"
    type_into(controls.point, "0.3 0.1 0.2")
    settle(window)
    assert now(window).position == pytest.approx(0.4 / np.sqrt(2.0))
    assert now(window).centre == (0.3, 0.1, 0.2)
    before = now(window)
    bead = window.view.handles.bead_at("tilt up")
    drag(window.view, bead, bead + QPointF(-60, 20))
    settle(window)
    tilted = now(window)
    assert tilted.direction != before.direction
    assert unit(tilted.direction) @ plane_axes(before.normal)[0] == pytest.approx(0.0, abs=2e-3), "about its axis to the right"
    assert tilted.middle(window.document.flow) == pytest.approx([0.3, 0.1, 0.2], abs=1e-6), "its middle stays"
    assert flatness(made(window), tilted) < 1e-9
    window.act("undo")
    settle(window)
    assert now(window) == before, "a drag is one step"
    window.act("redo")
    assert window.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer.id).shape == tilted
    type_into(controls.direction, "0 0 0")
    assert any("needs a length" in strip.notice.text for strip in window.strips.live())
    type_into(controls.point, "1 2")
    assert any("Three numbers" in strip.notice.text for strip in window.strips.live())
    assert now(window) == tilted


def test_a_slice_is_limited_to_a_disc_and_a_rectangle(window):
    _layer, controls = added(window, "add-slice-y")
    whole = made(window).area
    for limit, area in (("disc", np.pi * 0.16), ("rectangle", 0.8 * 0.5)):
        scroll_to(window, controls.limit)
        click(controls.limit.button(limit))
        type_into(controls.wide, "0.8")
        if limit == "rectangle":
            type_into(controls.tall, "0.5")
        type_into(controls.point, "-1 0.1 1.2")
        settle(window)
        assert made(window).area < whole
        assert made(window).area == pytest.approx(area, rel=0.01)
        middle = 0.5 * (made(window).points.min(axis=0) + made(window).points.max(axis=0))
        assert middle == pytest.approx([-1.0, 0.1, 1.2], abs=0.02)
    bead = window.view.handles.bead_at("size")
    drag(window.view, bead, bead + 0.4 * (bead - window.view.handles.bead_at("slice")))
    settle(window)
    assert now(window).width > 0.9
    assert made(window).area == pytest.approx(now(window).width * now(window).height, rel=0.05)


def test_a_slice_goes_through_three_clicks_and_faces_the_viewer(window):
    _layer, controls = added(window, "add-slice-z")
    window.document.edit_layer(window.document.study.layers[0].with_(shown=True), "x")
    scroll_to(window, controls.three)
    click(controls.three)
    view = window.view
    places = [p for p in (QPointF(view.width() * (0.25 + 0.05 * i), view.height() * (0.35 + 0.05 * j)) for i in range(10) for j in range(8))
              if view.point_at(p) is not None]
    chosen = [places[0], places[len(places) // 3 + 3], places[-1]]
    wanted = np.array([view.point_at(p) for p in chosen])
    for n, place in enumerate(chosen):
        assert window.document.clicks.wish is not None
        assert len(window.document.clicks.places) == n
        click(view, place)
    assert window.document.clicks.wish is None
    settle(window)
    off = np.abs(wanted @ now(window).normal - now(window).position).max()
    assert off < 2e-3 * window.document.flow.size
    scroll_to(window, controls.facing)
    click(controls.facing)
    settle(window)
    camera = window.document.camera
    assert now(window).normal == pytest.approx(unit(camera.eye - camera.focus), abs=1e-3)


def test_clicks_are_given_up_by_escape(window):
    _layer, controls = added(window, "add-slice-z")
    before = now(window)
    scroll_to(window, controls.at_wall)
    click(controls.at_wall)
    assert window.document.clicks.wish is not None
    keys(window.view, Qt.Key.Key_Escape)
    assert window.document.clicks.wish is None
    assert now(window) == before


def test_a_slice_stands_on_a_wall_across_the_wind(empty):
    window = empty
    window.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(window)
    _layer, controls = added(window, "add-slice-z")
    window.act("toggle-lamp")  # the walls are seen
    settle(window)
    scroll_to(window, controls.at_wall)
    click(controls.at_wall)
    view, flow = window.view, window.document.flow
    pixels, _ = window.document.camera.project(np.array([0.5 * (flow.body[0] + flow.body[1])]), view.width(), view.height())
    place = QPointF(*pixels[0])
    wanted = view.point_at(place)
    assert wanted is not None
    click(view, place)
    settle(window)
    shape = now(window)
    assert shape.normal @ wanted == pytest.approx(shape.position, abs=5e-3)
    wind = unit(window.document.evaluator.store.reference.velocity)
    assert abs(shape.normal @ wind) > 0.8


def test_slices_stand_across_a_line(window):
    window.act("add-streamlines")
    settle(window)
    lines = window.document.chosen_layer
    traced = window.document.asking.results[lines.id].geometry
    _layer, controls = added(window, "add-slice-x")
    scroll_to(window, controls.card)
    pick(controls.card, lines.name)
    type_into(controls.along, "0.5")
    settle(window)
    points = traced.points[traced.offsets[0]:traced.offsets[1]]
    lengths = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    at = np.array([np.interp(0.5, lengths, points[:, k]) for k in range(3)])
    middle, normal = window.document.asking.results[window.document.chosen].made.frame
    assert middle == pytest.approx(at, abs=1e-6)
    assert np.abs((made(window).points - middle) @ normal).max() < 1e-9
    _layer, controls = added(window, "add-slice-set")
    scroll_to(window, controls.card)
    pick(controls.card, lines.name)
    type_into(controls.first, "0.2")
    type_into(controls.last, "0.8")
    type_into(controls.count, "3")
    settle(window)
    assert now(window).places == pytest.approx([0.2, 0.5, 0.8])
    assert np.abs((made(window).points - middle) @ normal).min() < 1e-9


def test_a_slice_set_is_dragged_counted_and_spaced(window):
    layer, controls = added(window, "add-slice-set")
    flow = window.document.flow
    assert len(now(window).places) == 6
    assert set(np.round(made(window).points[:, 0], 6)) == set(np.round(now(window).places, 6))
    assert flow.bounds[0][0] < now(window).first < now(window).last < flow.bounds[1][0]
    type_into(controls.count, "4")
    before = now(window).last
    bead = window.view.handles.bead_at("last")
    drag(window.view, bead, bead + QPointF(70, -15))
    settle(window)
    assert now(window).last > before
    assert len(set(np.round(made(window).points[:, 0], 6))) == 4
    click(controls.by.button("spacing"))
    type_into(controls.spacing, "0.5")
    settle(window)
    assert np.diff(now(window).places) == pytest.approx(0.5)
    assert f"{len(now(window).places)} slices" in window.deck.cards[layer.id].toolTip()
    click(controls.axis.button("1"))
    settle(window)
    assert np.ptp(made(window).points[:, 1]) <= abs(now(window).last - now(window).first) + 1e-9


def test_round_cuts_change_form_and_size(window, tmp_path):
    layer, controls = added(window, "add-round")
    centre = np.array(now(window).centre)
    assert np.linalg.norm(made(window).points - centre, axis=1) == pytest.approx(now(window).radius, rel=1e-9)
    before = now(window).radius
    bead = window.view.handles.bead_at("radius")
    drag(window.view, bead, bead + QPointF(0, 40))
    settle(window)
    assert now(window).radius < before
    click(controls.form.button("cylinder"))
    type_into(controls.axis, "1 0 0")
    settle(window)
    assert np.hypot(*(made(window).points - centre)[:, 1:].T) == pytest.approx(now(window).radius, rel=1e-9)
    assert window.document.chosen_layer.name == "Cylinder"
    click(controls.form.button("cone"))
    type_into(controls.angle, "30")
    settle(window)
    off = made(window).points - centre
    assert (off[:, 0] >= -1e-9).all(), "one half of it"
    assert np.hypot(off[:, 1], off[:, 2]) == pytest.approx(np.tan(np.radians(30)) * off[:, 0], abs=1e-6)
    click(controls.form.button("quadric"))
    type_into(controls.terms, "0 0 1 0 0 0 0 0 0 -0.04")
    settle(window)
    assert np.abs(made(window).points[:, 2]) == pytest.approx(0.2, rel=1e-9)
    type_into(controls.terms, "1 2 3")
    assert any("Ten coefficients" in strip.notice.text for strip in window.strips.live())
    assert window.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer.id).shape == now(window)


def test_a_grid_surface_goes_along_its_lines(window):
    _layer, controls = added(window, "add-grid-surface")
    flow = window.document.flow
    block, grid = now(window).block_of(flow)
    click(controls.direction.button("i"))
    type_into(controls.index, "3")
    settle(window)
    own = flow.points[block.points].reshape(*grid.dims[::-1], 3)
    assert made(window).points == pytest.approx(own[:, :, 3].reshape(-1, 3))
    before = now(window).index
    keys(window.view, "]")
    settle(window)
    assert now(window).index == before + 1
    bead = window.view.handles.bead_at("index")
    line = now(window)._line(flow, block, grid)
    places = line[[before + 1, min(before + 9, len(line) - 1)]]
    pixels, _ = window.document.camera.project(places, window.view.width(), window.view.height())
    drag(window.view, bead, bead + QPointF(*(pixels[1] - pixels[0])))
    settle(window)
    assert now(window).index > before + 1


def test_a_region_tells_what_it_holds_and_is_saved(window, tmp_path):
    layer, controls = added(window, "add-region")
    one = controls.conditions.rows[0]
    pick(one.quantity, "Place x")
    type_into(one.value, "1.02")
    click(one.keep.button("below"))
    settle(window)
    flow, document = window.document.flow, window.document
    result = document.asking.results[layer.id]
    held = {row[0].split(" [")[0]: row[1] for row in result.made.tables[0].rows}
    assert held["share of the flow"] == pytest.approx(0.503, abs=0.01)
    assert made(window).points[:, 0].max() == pytest.approx(1.02)
    assert made(window).points[:, 0].min() == pytest.approx(flow.bounds[0][0])
    assert "% of the flow" in controls.holds.text()
    scroll_to(window, controls.edges)
    click(controls.edges.button("cells"))
    settle(window)
    whole = {row[0].split(" [")[0]: row[1] for row in document.asking.results[layer.id].made.tables[0].rows}
    assert whole["share of the flow"] < held["share of the flow"]
    assert set(np.unique(made(window).stencil.weights)) == {1.0}
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer.id).shape == now(window)
    for _ in range(4):
        window.act("undo")
    settle(window)
    assert now(window) == layer.shape


def ticked(button, name):
    """Open a button's list and tick an entry."""
    menu = button.menu()
    menu.popup(button.mapToGlobal(QPointF(0, 0).toPoint()))
    choose(menu, name)
    menu.close()


def test_cuts_are_of_chosen_blocks(window, tmp_path):
    flow = window.document.flow
    layer, controls = added(window, "add-slice-y")
    whole = made(window).area
    name = flow.blocks[0].name
    ticked(controls.of.button, name)
    settle(window)
    assert now(window).blocks == (name,)
    own = flow.points[flow.blocks[0].points]
    assert 0 < made(window).area < whole
    assert (made(window).points >= own.min(axis=0) - 1e-9).all()
    assert (made(window).points <= own.max(axis=0) + 1e-9).all()
    assert name in window.deck.cards[layer.id].toolTip()
    assert window.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer.id).shape == now(window)
    ticked(controls.of.button, "Whole flow")
    settle(window)
    assert made(window).area == pytest.approx(whole)


def test_the_outside_of_a_block_is_shown_with_the_walls(window):
    flow = window.document.flow
    walls = next(x for x in window.document.study.layers if x.kind == "wall")
    window.document.choose(walls.id)
    settle(window)
    before = made(window).area
    name = flow.blocks[0].name
    ticked(window.bench.card.controls["wall"].of.button, name)
    settle(window)
    own = flow.points[flow.blocks[0].points]
    sizes = own.max(axis=0) - own.min(axis=0)
    box = 2 * (sizes[0] * sizes[1] + sizes[1] * sizes[2] + sizes[0] * sizes[2])
    assert made(window).area - before == pytest.approx(box, rel=0.2)
    assert f"block {name}" in window.deck.cards[walls.id].toolTip()


def test_boundaries_are_clicked_and_grouped(window, tmp_path):
    document = window.document
    flow = document.flow
    walls = next(x for x in document.study.layers if x.kind == "wall")
    document.choose(walls.id)
    settle(window)
    controls = window.bench.card.controls["wall"]
    window.act("outline")
    for other in document.study.layers:
        if other.id != walls.id:
            document.edit_layer(other.with_(shown=False), "Hide")
    settle(window)
    shown = now(window).boundaries
    click(controls.click)
    boundary = next(b for b in flow.boundaries if b.name == shown[0])
    corners = boundary.points[boundary.faces]
    view = window.view
    pixels, depth = document.camera.project(corners.mean(axis=1), view.width(), view.height())
    seen = [n for n, (x, y) in enumerate(pixels) if 20 < x < view.width() - 150 and 40 < y < view.height() - 20
            and (hit := view.point_at(QPointF(x, y))) is not None and np.linalg.norm(hit - corners[n].mean(axis=0)) < 0.02 * flow.size]
    assert seen
    assert (depth > 0).all()
    click(view, QPointF(*pixels[seen[len(seen) // 2]]))
    settle(window)
    assert shown[0] not in now(window).boundaries
    assert document.clicks.wish is not None, "it goes on"
    keys(view, Qt.Key.Key_Escape)
    assert document.clicks.wish is None
    window.act("undo")
    settle(window)
    controls.group.setFocus()
    keys(controls.group, "skin", Qt.Key.Key_Return)
    assert document.study.groups == {"skin": shown}
    assert controls.groups["skin"].isChecked()
    window.bench.scroller.ensureWidgetVisible(controls.groups["skin"])
    click(controls.groups["skin"], QPointF(8, 8))
    settle(window)
    assert now(window).boundaries == ()
    click(controls.groups["skin"], QPointF(8, 8))
    settle(window)
    assert set(now(window).boundaries) == set(shown)
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").groups == {"skin": shown}


def test_boundaries_are_shown_on_chosen_blocks_only(window):
    flow, walls = window.document.flow, next(x for x in window.document.study.layers if x.kind == "wall")
    window.document.choose(walls.id)
    settle(window)
    controls, before = window.bench.card.controls["wall"], made(window).area
    for block in flow.blocks[:2]:
        ticked(controls.only.button, block.name)
        settle(window)
        assert now(window).only == (block.name,)
        own = flow.points[block.points]
        part = made(window)
        assert 0.0 <= part.area <= before
        assert (part.points >= own.min(axis=0) - 1e-9).all()
        assert (part.points <= own.max(axis=0) + 1e-9).all()
        ticked(controls.only.button, "All blocks")
        settle(window)
    assert made(window).area == pytest.approx(before)


def test_a_group_of_boundaries_is_said_to_be_of_a_kind_at_once(window):
    document = window.document
    names = tuple(b.name for b in document.flow.boundaries)
    document.edit(document.study.with_(groups={"all": names}), "Group")
    window.show_station("case")
    settle(window)
    controls = window.bench.pages["case"].boundaries
    pick(controls.group_pickers["all"], "inlet")
    settle(window)
    assert {b.kind for b in document.flow.boundaries} == {"inlet"}
    assert document.study.kinds == dict.fromkeys(names, "inlet")
    window.act("undo")
    settle(window)
    assert document.study.kinds == {}
