"""The Trace station: tiles of all forms of seeds, sets, clicks, and how lines are drawn."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt

from driving import choose, click, drag, keys, move, pick, pixels, settle, slide, type_into, wait
from small_series import series
from tidal_lens.app.overlays.keys import KeysOverlay
from tidal_lens.quantities.names import OWN
from tidal_lens.study.files import load_study
from tidal_lens.study.kinds.seeds import SETS, PointSeeds
from tidal_lens.study.words import Words
from tidal_lens.tracing.streamlines import End

pytestmark = pytest.mark.gui
TILES = {"add-streamlines": "line", "add-seed-plane": "plane", "add-seed-disc": "disc", "add-seed-ball": "ball",
         "add-seed-points": "points", "add-seed-boundary": "boundary", "add-seed-card": "card", "add-seed-grid": "grid",
         "add-seed-fill": "fill", "add-particles": "plane"}


def begun(window, tile):
    count = len(window.document.study.layers)
    window.show_station("trace")
    click(window.bench.pages["trace"].tiles[tile])
    wait(lambda: len(window.document.study.layers) > count, "the card")
    settle(window)
    return window.bench.card.controls["streamlines"]


def shape(window):
    return window.document.chosen_layer.shape


def lines(window):
    return window.document.asking.results[window.document.chosen].geometry


def scroll_to(window, widget):
    window.bench.scroller.ensureWidgetVisible(widget)
    settle(window)


@pytest.mark.parametrize("tile", list(TILES))
def test_each_tile_begins_inside_and_comes_back_from_a_file(window, tile, tmp_path):
    controls = begun(window, tile)
    assert [s.form for s in shape(window).seeds] == [TILES[tile]]
    assert not window.document.asking.failures
    assert lines(window).n_lines > 0
    if tile not in ("add-seed-boundary", "add-seed-card"):
        assert lines(window).n_lines == lines(window).n_seeds, "wholly inside"
    assert controls.seeds.which.currentText().endswith(shape(window).seeds[0].title.lower())
    before = window.document.study
    assert window.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layers == before.layers
    window.act("undo")
    assert len(window.document.study.layers) == len(before.layers) - 1


def test_a_plane_is_dragged_sized_and_counted(window):
    controls = begun(window, "add-seed-plane")
    first, view = shape(window).seeds[0], window.view
    bead = view.handles.bead_at("centre")
    drag(view, bead, bead + QPointF(12, 8))
    settle(window)
    assert shape(window).seeds[0].centre != first.centre
    moved = shape(window).seeds[0]
    bead = view.handles.bead_at("size")
    drag(view, bead, bead + QPointF(10, -25))
    settle(window)
    sized = shape(window).seeds[0]
    assert (sized.width, sized.height) != (moved.width, moved.height)
    type_into(controls.seeds.fields["count"][0], "9")
    type_into(controls.seeds.fields["width"][0], "0.02")
    type_into(controls.seeds.fields["height"][0], "0.02")
    settle(window)
    assert len(shape(window).seeds[0].free()) == lines(window).n_seeds == 9
    for _ in range(5):
        window.act("undo")
    assert shape(window).seeds[0] == first


def test_sets_are_added_shown_and_removed(window):
    controls = begun(window, "add-streamlines")
    seeds = controls.seeds
    forms = seeds.more.menu()
    forms.popup(seeds.more.mapToGlobal(QPoint(0, 0)))
    choose(forms, "Ball")
    settle(window)
    assert [s.form for s in shape(window).seeds] == ["line", "ball"]
    assert seeds.which.currentText() == "2: ball"
    assert lines(window).n_seeds == 30 + 60
    assert seeds.fields["radius"][0].isVisible()
    assert not seeds.fields["start"][0].isVisible()
    assert window.view.handles.bead_at("radius:1") is not None
    pick(seeds.which, "1: line")
    assert seeds.fields["start"][0].isVisible()
    click(seeds.less)
    settle(window)
    assert [s.form for s in shape(window).seeds] == ["ball"]
    window.act("undo")
    assert [s.form for s in shape(window).seeds] == ["line", "ball"]
    assert {s.title for s in SETS} == {a.text() for a in forms.actions()}


def test_a_drag_over_what_is_seen_lays_a_row_of_seeds_as_one_step(window):
    controls = begun(window, "add-seed-points")
    before = shape(window)
    scroll_to(window, controls.seeds.click)
    click(controls.seeds.click)
    view, camera = window.view, window.document.camera
    begin, end = QPointF(0.5 * view.width(), 0.4 * view.height()), QPointF(0.62 * view.width(), 0.5 * view.height())
    drag(view, begin, end, steps=3)
    settle(window)
    assert window.document.camera is camera, "the view did not turn"
    laid = np.array(shape(window).seeds[0].points)[1:]
    way = np.hypot(end.x() - begin.x(), end.y() - begin.y())
    assert len(laid) == pytest.approx(way / 18 + 1, abs=2)
    pixel = view.shown_camera.project(laid, view.width(), view.height())[0]
    along = np.array([end.x() - begin.x(), end.y() - begin.y()]) / way
    off = pixel - [begin.x(), begin.y()]
    assert np.abs(off[:, 0] * along[1] - off[:, 1] * along[0]).max() < 2.5, "they lie under the stroke"
    assert np.diff(off @ along) == pytest.approx(18, abs=2.5)
    assert lines(window).n_seeds == len(lines(window).begun) == len(laid) + 1, "on walls they are a little off them, inside"
    click(view, QPointF(0.55 * view.width(), 0.35 * view.height()))
    assert len(shape(window).seeds[0].points) == len(laid) + 2, "still asking"
    keys(view, Qt.Key.Key_Escape)
    window.act("undo")
    window.act("undo")
    assert shape(window) == before


def test_each_click_adds_a_seed_and_is_a_step_of_undo(window):
    controls = begun(window, "add-seed-points")
    scroll_to(window, controls.seeds.click)
    click(controls.seeds.click)
    view = window.view
    places = [QPointF(0.55 * view.width(), 0.35 * view.height()), QPointF(0.6 * view.width(), 0.75 * view.height())]
    for place in places:
        assert view.point_at(place) is not None
        click(view, place)
        settle(window)
    points = np.array(shape(window).seeds[0].points)
    assert len(points) == 3
    for place, point in zip(places, points[1:], strict=True):
        x, y = view.shown_camera.project(point[None], view.width(), view.height())[0][0]
        assert abs(x - place.x()) < 2
        assert abs(y - place.y()) < 2
    keys(view, Qt.Key.Key_Escape)
    assert window.document.clicks.wish is None
    window.act("undo")
    assert len(shape(window).seeds[0].points) == 2
    window.act("redo")
    click(controls.seeds.clear)
    settle(window)
    assert shape(window).seeds == (PointSeeds(points=shape(window).seeds[0].points[:1]),)


def test_listed_seeds_are_thinned_out(window):
    controls = begun(window, "add-seed-points")
    layer = window.document.chosen_layer
    many = tuple((0.4 + 0.01 * n, 0.0, 0.5) for n in range(21))
    window.document.edit_layer(layer.with_(shape=layer.shape.with_(seeds=(PointSeeds(points=many),))), "many")
    settle(window)
    type_into(controls.seeds.thin, "5")
    settle(window)
    assert shape(window).seeds[0].points == many[::5]


def test_lines_become_tubes_ribbons_and_marks(window):
    controls = begun(window, "add-streamlines")
    card = window.document.chosen
    drawn = controls.drawn

    def solid():
        return next((d for d in window.document.asking.results[card].dressed if d.faces is not None), None)

    before = pixels(window.view)
    scroll_to(window, drawn.drawn)
    click(drawn.drawn.button("tube"))
    settle(window)
    tube = solid()
    own = lines(window)
    size = window.document.flow.size
    np.testing.assert_allclose(np.linalg.norm(tube.points - own.points[tube.owners], axis=1), 0.002 * size, rtol=1e-6)
    assert (np.abs(pixels(window.view).astype(int) - before.astype(int)).max(axis=2) > 20).sum() > 300
    slide(drawn.radius, 0.6)
    settle(window)
    assert window.document.chosen_layer.look.tubes.radius > 0.004
    scroll_to(window, drawn.radius_by)
    pick(drawn.radius_by, "Time from the seed")
    settle(window)
    thick = np.linalg.norm(solid().points - own.points[solid().owners], axis=1)
    assert np.ptp(thick) > 0.5 * thick.max()
    scroll_to(window, drawn.drawn)
    click(drawn.drawn.button("ribbon"))
    settle(window)
    assert window.document.chosen_layer.look.tubes is None
    ribbon = solid()
    np.testing.assert_allclose(np.linalg.norm(ribbon.points[1::2] - ribbon.points[::2], axis=1), 0.006 * size, rtol=1e-6)
    scroll_to(window, drawn.turning)
    click(drawn.turning, QPoint(8, 8))
    settle(window)
    assert not np.array_equal(solid().points[:10], ribbon.points[:10]) or len(solid().points) != len(ribbon.points)
    click(drawn.drawn.button("line"))
    scroll_to(window, drawn.marks.on)
    click(drawn.marks.on, QPoint(8, 8))
    settle(window)
    marks = next(d for d in window.document.asking.results[card].dressed if d.mixed is not None)
    a, b, t = marks.mixed
    times = own.time[a] + t * (own.time[b] - own.time[a])
    every = window.document.chosen_layer.look.marks.every
    np.testing.assert_allclose(times / every, np.round(times / every), atol=1e-6)
    assert 5 < len(times) / own.n_lines < 14
    click(drawn.marks.by.button("length"))
    settle(window)
    assert window.document.chosen_layer.look.marks.by == "length"
    while window.document.chosen_layer is not None and window.document.chosen_layer.look.marks is not None:
        window.act("undo")


def test_lines_are_coloured_by_what_is_theirs(window):
    controls = begun(window, "add-streamlines")
    offered = [controls.chooser.itemText(n) for n in range(controls.chooser.count())]
    for text in ("Time from the seed", "Length from the seed", "Number of the line", "Error of the line"):
        assert text in offered
    scroll_to(window, controls.chooser)
    pick(controls.chooser, "Number of the line")
    settle(window)
    assert window.document.chosen_layer.look.colour_by == f"{OWN}number of the line"
    colours = window.document.asking.results[window.document.chosen].colours
    assert set(np.unique(colours)) == set(lines(window).seeds + 1.0)


def test_lines_of_vorticity_and_limits(window):
    controls = begun(window, "add-streamlines")
    scroll_to(window, controls.time)
    type_into(controls.time, "0.0004")
    settle(window)
    assert np.abs(lines(window).time).max() == pytest.approx(0.0004)
    assert "time limit" in controls.fate.text()
    type_into(controls.steps, "10")
    settle(window)
    assert "step limit" in controls.fate.text() or np.diff(lines(window).offsets).max() <= 20
    scroll_to(window, controls.of)
    pick(controls.of, next(t for t in (controls.of.itemText(n) for n in range(controls.of.count())) if t.startswith("Vorticity")))
    settle(window)
    assert shape(window).of == "vorticity"
    assert lines(window).n_lines > 0
    assert "along" in window.deck.cards[window.document.chosen].toolTip()


def test_wall_lines_lie_on_the_wall(window):
    controls = begun(window, "add-wall-lines")
    own, wall = lines(window), next(b for b in window.document.flow.boundaries if b.kind == "wall")
    assert shape(window).of == "wall-shear"
    assert own.n_lines > 500
    low, high = wall.points.min(axis=0) - 1e-9, wall.points.max(axis=0) + 1e-9
    assert ((own.points >= low) & (own.points <= high)).all()
    assert "walls" in window.deck.cards[window.document.chosen].toolTip()
    assert not controls.time.isEnabled()
    type_into(controls.seeds.fields["count"][0], "40")
    settle(window)
    assert lines(window).n_lines == 40
    window.act("undo")
    settle(window)
    assert lines(window).n_lines == own.n_lines


def test_lines_are_bound_to_a_card(window):
    cut = next(x for x in window.document.study.layers if x.kind == "slice")
    controls = begun(window, "add-streamlines")
    scroll_to(window, controls.where)
    click(controls.where.button("card"))
    settle(window)
    scroll_to(window, controls.bound)
    pick(controls.bound, cut.name)
    settle(window)
    assert shape(window).on_card == cut.id
    axis = cut.shape.axis
    assert np.ptp(lines(window).points[:, axis]) < 1e-9, "they stay on the slice"
    scroll_to(window, controls.where)
    click(controls.where.button("space"))
    settle(window)
    assert shape(window).on_card == ""
    assert np.ptp(lines(window).points[:, axis]) > 1e-3


def on_the_screen(window, n):
    """A place on the n-th line that is not covered, and its seed."""
    own, view = lines(window), window.view
    rows = np.arange(own.offsets[n], own.offsets[n + 1])
    pixels_, depth = view.shown_camera.project(own.points[rows], view.width(), view.height())
    for (x, y), far in list(zip(pixels_, depth, strict=True))[len(rows) // 3::7]:
        hit = view.point_at(QPointF(x, y)) if 200 < x < view.width() - 150 and 40 < y < view.height() - 40 else None
        if hit is not None and float(view.shown_camera.project(hit[None], 1, 1)[1][0]) > 0.995 * far:
            return QPointF(float(x), float(y))
    return None


def test_a_line_is_chosen_by_a_click_told_and_taken_away(window, tmp_path):
    begun(window, "add-streamlines")
    card, own, view = window.document.chosen, lines(window), window.view
    place = next(p for p in (on_the_screen(window, n) for n in range(0, own.n_lines, 3)) if p is not None)
    move(view, place + QPointF(30, 0))
    settle(window)
    move(view, place)
    settle(window)
    click(view, place)
    wait(lambda: view.picks.of is not None, "the choice")
    settle(window)
    assert view.picks.of[0] == card
    seed = view.picks.of[1]
    entry = window.ledger.table
    assert window.ledger.isVisible()
    assert entry.isVisible()
    heads = [entry.sorted.headerData(n, Qt.Orientation.Horizontal) for n in range(entry.sorted.columnCount())]
    assert heads[:4] == ["seed", "length", "time", "error estimate"]
    assert heads[6].startswith("least ")
    marked = entry.table.selectionModel().selectedRows()[0]
    assert entry.sorted.data(marked, Qt.ItemDataRole.UserRole) == seed + 1.0
    line = int(np.flatnonzero(own.seeds == seed)[0])
    np.testing.assert_allclose(view.picks.items()[0].points, own.points[own.offsets[line]:own.offsets[line + 1]])
    values = window.document.asking.results[card].colours[own.offsets[line]:own.offsets[line + 1]]
    shown = [entry.sorted.data(entry.sorted.index(marked.row(), n), Qt.ItemDataRole.UserRole) for n in (6, 8)]
    assert shown == [pytest.approx(float(np.nanmin(values))), pytest.approx(float(np.nanmax(values)))]

    # Another row, another line; a head sorts.
    other = entry.sorted.index(0, 0)
    entry.table.scrollTo(other)
    click(entry.table.viewport(), QPointF(entry.table.visualRect(other).center()))
    assert view.picks.of[1] + 1.0 == entry.sorted.data(other, Qt.ItemDataRole.UserRole)
    entry.table.sortByColumn(1, Qt.SortOrder.DescendingOrder)
    assert entry.sorted.data(entry.sorted.index(0, 1), Qt.ItemDataRole.UserRole) == pytest.approx(own.lengths.max())

    # Del takes its seed away, not the card; Esc chooses none.
    keys(view, Qt.Key.Key_Delete)
    settle(window)
    assert window.document.chosen == card
    assert lines(window).n_seeds == own.n_seeds - 1
    assert view.picks.of is None
    window.act("undo")
    settle(window)
    assert lines(window).n_seeds == own.n_seeds
    view.picks.pick(card, 3)
    keys(view, Qt.Key.Key_Escape)
    assert view.picks.of is None
    assert not entry.isVisible()
    window.act("show-table")
    assert entry.isVisible()
    keys(view, Qt.Key.Key_Delete)
    assert window.document.study.layer(card) is None, "no line is chosen: the card goes"


def test_particles_fall_run_and_change(window, tmp_path):
    controls = begun(window, "add-particles")
    card = window.document.chosen
    assert shape(window).particle.diameter == 5e-5
    assert window.document.chosen_layer.look.colour_by == f"{OWN}speed of the particle"
    assert controls.particle.isVisible()
    assert not controls.of.isVisible()
    first = lines(window)
    assert first.n_lines == first.n_seeds
    scroll_to(window, controls.particle.diameter)
    type_into(controls.particle.diameter, "2000")
    settle(window)
    assert shape(window).particle.diameter == pytest.approx(2e-3)
    assert not np.array_equal(lines(window).points, first.points), "heavier ones go another way"
    click(controls.particle.start.button("typed"))
    type_into(controls.particle.velocity[2], "-200")
    settle(window)
    row = lines(window).seed_rows[0]
    way = lines(window).points[row + 1] - lines(window).points[row]
    assert way[2] < 0.0
    click(controls.particle.law.button("ballistic"))
    settle(window)
    assert not controls.particle.diameter.isEnabled()
    scroll_to(window, controls.drawn.marks.running)
    click(controls.drawn.marks.running, QPoint(8, 8))
    wait(lambda: window.view.scenery.phase > 0.1, "the marks to run")
    scene = window.view.scenery.scene(window.document.asking.table(), "#ffffff", "#000000")
    item = next(i for i in scene.items if i.id.startswith("·marks"))
    assert len(item.points) > 0
    click(controls.drawn.marks.running, QPoint(8, 8))
    settle(window)
    assert window.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(card) == window.document.study.layer(card)
    while window.document.study.layer(card) is not None:
        window.act("undo")


def test_particles_bounce_are_warmed_and_tell_where_they_went(window, tmp_path):
    controls = begun(window, "add-particles")
    card, own = window.document.chosen, controls.particle
    scroll_to(window, own.diameter)
    type_into(own.diameter, "2000")
    click(own.start.button("typed"))
    type_into(own.velocity[2], "-300")
    settle(window)
    stopped = lines(window)
    assert (stopped.ends[:, 1] == End.WALL).any(), "they are shot at the body"
    assert not own.restitution.isEnabled()
    walls = {b.name for b in window.document.flow.boundaries if b.kind == "wall"}
    rows = window.document.asking.results[card].made.tables[0].rows
    assert {row[2] for row in rows if row[1] == End.WALL.words} == walls
    assert next(iter(walls)) in controls.fate.text()
    scroll_to(window, own.walls)
    click(own.walls.button("bounce"))
    settle(window)
    thrown = lines(window)
    hit = np.flatnonzero(stopped.ends[:, 1] == End.WALL)
    assert not (thrown.ends[hit, 1] == End.WALL).all(), "thrown back, they go on"
    one = int(hit[(thrown.ends[hit, 1] != End.WALL).argmax()])
    at, was = (x.points[x.offsets[one]:x.offsets[one + 1]] for x in (thrown, stopped))
    assert np.allclose(at[:len(was)], was, atol=1e-9), "until the wall the same"
    assert len(at) > len(was)
    scroll_to(window, own.heated)
    click(own.heated, QPoint(8, 8))
    settle(window)
    assert shape(window).particle.heat.boils == 0.0
    warm = lines(window).more["temperature of the particle"]
    assert warm[lines(window).offsets[:-1]] == pytest.approx(288.15)
    assert warm.max() > 288.2, "the gas before the nose is hot"
    scroll_to(window, own.temperature)
    type_into(own.temperature, "400")
    settle(window)
    assert lines(window).more["temperature of the particle"].max() == pytest.approx(400.0)
    click(own.law.button("ballistic"))
    settle(window)
    assert not own.heated.isEnabled()
    assert "temperature of the particle" not in lines(window).more
    assert window.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(card) == window.document.study.layer(card)
    while window.document.study.layer(card) is not None:
        window.act("undo")


def test_lines_go_through_the_steps_of_a_series(empty, tmp_path):
    """Its wind (1 + z, 0, 0.5) is steady, so that pathlines and streaklines are parabolas whose ends can be told."""
    path, _ = series(tmp_path, times=(0.0, 0.1, 0.3, 0.4))
    window = empty
    window.document.open_path(path)
    settle(window)
    window.document.go_to_step(2)
    settle(window)
    controls = begun(window, "add-seed-points")
    scroll_to(window, controls.seeds)
    place = (0.2, 0.5, 0.1)
    controls.reshape("Seeds", seeds=(PointSeeds(points=(place, (0.2, 0.3, 0.1))),))
    settle(window)
    before = window.document.study
    scroll_to(window, controls.in_time)

    def after(time, start=place):
        t = np.asarray(time)
        return np.column_stack([start[0] + t * (1.0 + start[2]) + 0.25 * t**2, start[1] + 0.0 * t, start[2] + 0.5 * t])

    click(controls.in_time.button("pathlines"))
    settle(window)
    found = lines(window)
    assert found.n_lines == 2
    assert found.time[found.offsets[1] - 1] == pytest.approx(0.1)
    assert found.time[0] == pytest.approx(-0.1900, abs=1e-3), "before, it was not yet in the box"
    one = slice(0, found.offsets[1])
    assert found.points[one] == pytest.approx(after(found.time[one]), abs=1e-4)
    click(controls.in_time.button("streaklines"))
    settle(window)
    found = lines(window)
    one = slice(0, found.offsets[1])
    assert found.time[0] == 0.0
    assert found.time[one].max() == pytest.approx(0.3)
    assert found.points[one] == pytest.approx(after(found.time[one]), abs=1e-4)
    assert shape(window).tell(Words(None)).startswith("streaklines")
    assert window.document.chosen_layer.name == "Streaklines"
    assert not controls.length.isEnabled()
    assert not controls.steps.isEnabled(), "neither means anything here"
    assert "came to the end of the series" in controls.fate.text()
    scroll_to(window, controls.every)
    type_into(controls.every, "0.1")
    settle(window)
    ages = lines(window).time / 0.1
    assert len(ages) < len(found.time), "fewer than the sixty of each that were chosen for the series"
    assert ages * 32 == pytest.approx(np.round(ages * 32)), "every 0.1, and halved where they came to be far from each other"
    click(controls.in_time.button("timelines"))
    settle(window)
    found = lines(window)
    assert found.n_lines == 4
    assert found.points[[found.offsets[-2], -1]] == pytest.approx(np.concatenate([after([0.3]), after([0.3], (0.2, 0.3, 0.1))]), abs=1e-4)
    assert controls.inside.text() == "all 2 are inside"
    time = f"{OWN}time from the seed"
    controls.relook("Colour by", colour_by=time)
    settle(window)
    assert window.document.key(time)[2] == pytest.approx(0.3, abs=0.01)
    controls.reshape("Greatest time", max_time=0.1)
    settle(window)
    assert window.document.key(time)[2] == pytest.approx(0.1, abs=0.01), "what lines bring along has the range that it has now"
    assert time not in window.document.study.ranges
    window.act("undo")
    settle(window)
    window.act("step-on")
    wait(lambda: window.document.flow.step == 3, "the next step")
    settle(window)
    assert lines(window).time.max() == pytest.approx(0.4)
    assert window.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layers == window.document.study.layers
    while window.document.study.layers != before.layers:
        window.act("undo")
    settle(window)
    assert shape(window).in_time == "moment"
    assert window.document.chosen_layer.name == "Streamlines"
    window.document.edit_layer(window.document.chosen_layer.with_(name="Smoke 2"), "Rename")
    scroll_to(window, controls.in_time)
    click(controls.in_time.button("streaklines"))
    settle(window)
    assert window.document.chosen_layer.name == "Smoke 2", "a name of its own stays"
    window.act("undo")
    settle(window)
    assert lines(window).ends[0, 1] != End.LAST


def test_steady_flow_has_no_lines_in_time(window):
    controls = begun(window, "add-streamlines")
    assert not controls.in_time.isVisible()
    controls.reshape("In time", in_time="streaklines")
    settle(window)
    assert "single moment" in str(window.document.asking.failures[window.document.chosen])


def test_doubtful_lines_are_dashed_and_followed_tighter(window):
    controls = begun(window, "add-streamlines")
    scroll_to(window, controls.tolerance)
    assert not controls.tighter.isVisible()
    type_into(controls.tolerance, "0.1")
    controls.reshape("Greatest length", max_length=40.0)
    settle(window)
    rough = lines(window)
    if len(rough.doubtful) == 0:
        pytest.fail("no line is doubtful at the loosest tolerance")
    item = next(i for i in window.view.scenery.scene(window.document.asking.table(), "#ffffff", "#000000").items
                if i.id == window.document.chosen)
    assert item.gaps is not None
    assert item.gaps.any()
    assert f"{len(rough.doubtful)} doubtful, dashed" in controls.fate.text()
    scroll_to(window, controls.tighter)
    click(controls.tighter)
    settle(window)
    assert shape(window).tighter == 1
    finer = lines(window)
    assert len(finer.doubtful) < len(rough.doubtful)
    good = np.setdiff1d(np.arange(rough.n_lines), rough.doubtful)
    for n in good[:3]:
        assert np.array_equal(rough.points[rough.offsets[n]:rough.offsets[n + 1]], finer.points[finer.offsets[n]:finer.offsets[n + 1]])
    window.act("undo")
    settle(window)
    assert len(lines(window).doubtful) == len(rough.doubtful)


def test_places_are_typed_in_lengths_of_the_body(window):
    controls = begun(window, "add-streamlines")
    length = window.document.flow.length
    low, high = window.document.flow.body or window.document.flow.bounds
    assert length == pytest.approx((high - low).max())
    field = controls.seeds.fields["start"][0]
    scroll_to(window, field)
    type_into(field, "−0.25 L")
    settle(window)
    assert shape(window).seeds[0].start[0] == pytest.approx(-0.25 * length)
    type_into(controls.seeds.fields["start"][1], "0,1l")
    settle(window)
    assert shape(window).seeds[0].start[1] == pytest.approx(0.1 * length)
    before = shape(window)
    type_into(controls.seeds.fields["count"][0], "3 L")
    settle(window)
    assert shape(window) == before, "a count is no length"


def test_the_key_of_kinds_of_ends_says_what_they_are(window):
    begun(window, "add-streamlines")
    layer = window.document.chosen_layer
    name = f"{OWN}kind of its end"
    window.document.edit_layer(layer.with_(look=layer.look.with_(colour_by=name)), "Colour")
    settle(window)
    there = {End(e).words for e in lines(window).ends[:, 1].tolist()}
    face = {f.quantity.name: f for f in KeysOverlay.keys(window.view.keys)}[name]
    assert {word for _, word in face.words} == there
    assert all(End(int(code)).words == word for code, word in face.words)
    texts = [m.text for m in face.marks() if hasattr(m, "text")]
    assert there <= set(texts)
    assert not any(t.replace(".", "").isdigit() for t in texts), "no bare numbers"
