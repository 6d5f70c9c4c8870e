"""Measures: cards whose numbers and charts stand in the ledger; by real events."""

import csv

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from driving import click, drag, keys, pick, settle, type_into, wait
from tidal_lens.app.jobs import Slot
from tidal_lens.cli import main
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.study.conditions import Condition
from tidal_lens.study.files import load_study
from tidal_lens.work import Token
from windows import open_short_gust

pytestmark = pytest.mark.gui
TAPS = ASSETS / "pressure taps (simulated).csv"


@pytest.fixture
def opened(empty):
    empty.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(empty)
    empty.show_station("measure")
    return empty


def added(window, kind):
    """A measure by its tile."""
    click(window.bench.pages["measure"].tiles[f"add-{kind}"])
    wait(lambda: window.document.chosen_layer is not None and window.document.chosen_layer.kind == kind, kind)
    settle(window)
    return window.document.chosen_layer


def made(window):
    return window.document.asking.results[window.document.chosen].unmasked


def told(window):
    return {row[0]: row[1:] for row in next(t for t in made(window).tables if t.heads[0] == "what").rows}


def test_a_section_stands_in_the_ledger_and_moves_with_its_bead(opened):
    added(opened, "section")
    ledger = opened.ledger.measure
    assert ledger.isVisible()
    (view,) = [v for v in ledger.charts if v.isVisible()]
    assert [c.name for c in view.chart.curves] == ["upper", "lower"]
    assert view.chart.down, "the axis of Cp points down"
    assert "upper" in view.legend.text()
    before = made(opened).geometry.points
    assert np.abs(before[:, 1]).max() < 1e-6
    keys(opened.view, Qt.Key.Key_BracketRight)
    settle(opened)
    moved = opened.document.chosen_layer.shape.position
    assert moved > 0.0
    assert made(opened).geometry.points[:, 1] == pytest.approx(moved, abs=1e-6)
    assert view.chart is made(opened).charts[0], "the chart follows"
    keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    assert np.array_equal(made(opened).geometry.points, before)


def test_a_section_over_what_and_where_and_with_taps(opened, tmp_path):
    added(opened, "section")
    controls = opened.bench.card.controls["section"]
    type_into(controls.more, "0.05; 0.1")
    settle(opened)
    assert len(made(opened).charts[0].curves) == 6
    type_into(controls.more, "")
    settle(opened)
    opened.act("lay-taps", str(TAPS))
    settle(opened)
    dots = [c for c in made(opened).charts[0].curves if c.dots]
    assert len(dots) == 1
    assert np.abs(dots[0].places[:, 1]).max() < 0.03, "those near the plane"
    upper = made(opened).charts[0].curves[0]
    top = dots[0].places[:, 2] > np.interp(dots[0].at, *_middle(made(opened).charts[0]))
    order = np.argsort(upper.at[np.isfinite(upper.at)])
    own = np.interp(dots[0].at[top], upper.at[np.isfinite(upper.at)][order], upper.values[np.isfinite(upper.at)][order])
    inner = (dots[0].at[top] > 0.1) & (dots[0].at[top] < 0.9)
    assert np.abs(own - dots[0].values[top])[inner].mean() < 0.05, "they were made from this flow"
    assert controls.without.isVisible()
    opened.act("save-table", str(tmp_path / "cp.csv"))
    wait((tmp_path / "cp.csv").exists, "the file")
    with (tmp_path / "cp.csv").open(encoding="utf-8-sig") as file:
        rows = list(csv.DictReader(file))
    assert len([r for r in rows if r["curve"] == upper.name]) == int(np.isfinite(upper.values).sum())
    click(controls.without)
    settle(opened)
    assert not any(c.dots for c in made(opened).charts[0].curves)


def _middle(chart):
    """Height half way between the upper and the lower side, over x."""
    x = np.linspace(0.02, 0.98, 40)
    sides = []
    for curve in chart.curves[:2]:
        good = np.isfinite(curve.at)
        order = np.argsort(curve.at[good])
        sides.append(np.interp(x, curve.at[good][order], curve.places[good][order, 2]))
    return x, np.mean(sides, axis=0)


def test_a_section_goes_by_a_slice(opened):
    opened.show_station("look")
    click(opened.bench.pages["look"].tiles["add-slice-y"])
    settle(opened)
    cut = opened.document.chosen_layer
    opened.document.edit_layer(cut.with_(shape=cut.shape.with_(position=0.04)), "Slice")
    settle(opened)
    opened.show_station("measure")
    added(opened, "section")
    controls = opened.bench.card.controls["section"]
    names = [controls.by.itemText(n) for n in range(controls.by.count())]
    controls.by.activated.emit(names.index(cut.name))
    settle(opened)
    assert opened.document.chosen_layer.shape.card == cut.id
    assert made(opened).geometry.points[:, 1] == pytest.approx(0.04, abs=1e-6)
    cut = opened.document.study.layer(cut.id)
    opened.document.edit_layer(cut.with_(shape=cut.shape.with_(position=0.02)), "Slice")
    settle(opened)
    assert made(opened).geometry.points[:, 1] == pytest.approx(0.02, abs=1e-6), "it follows"
    assert not controls.position.isEnabled()
    controls.by.activated.emit(0)
    settle(opened)
    assert controls.position.isEnabled()
    assert opened.document.chosen_layer.shape.card == ""


def test_a_wrong_table_of_taps_is_told(opened, tmp_path):
    added(opened, "section")
    (tmp_path / "bad.csv").write_text("a,b\n1,2\n")
    opened.act("lay-taps", str(tmp_path / "bad.csv"))
    settle(opened)
    assert "columns x, y and z" in opened.bench.card.trouble.text()
    keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    assert not opened.bench.card.trouble.text()
    assert made(opened).charts


def test_a_plane_that_misses_the_walls_is_told(opened):
    added(opened, "section")
    type_into(opened.bench.card.controls["section"].position, "3")
    settle(opened)
    assert "does not meet" in opened.bench.card.trouble.text()


def test_a_profile_is_dragged_by_its_ends_and_has_a_chart_for_each_quantity(opened):
    added(opened, "profile")
    controls = opened.bench.card.controls["profile"]
    start = opened.view.handles.bead_at("start")
    before = opened.document.chosen_layer.shape
    drag(opened.view, start, start + QPointF(30, -10))
    settle(opened)
    after = opened.document.chosen_layer.shape
    assert after.start != before.start
    assert after.end == before.end
    assert made(opened).geometry.points[0] == pytest.approx(after.start)
    names = [controls.second.itemText(n) for n in range(controls.second.count())]
    controls.second.setCurrentIndex(names.index("Pressure coefficient"))
    controls.second.activated.emit(names.index("Pressure coefficient"))
    settle(opened)
    assert len(made(opened).charts) == 2
    assert len([v for v in opened.ledger.measure.charts if v.isVisible()]) == 2
    type_into(controls.start, "1.2; 0; -0.3")
    settle(opened)
    assert opened.document.chosen_layer.shape.start == (1.2, 0.0, -0.3)


def test_pointing_links_chart_and_view(opened):
    added(opened, "profile")
    (view,) = [v for v in opened.ledger.measure.charts if v.isVisible()]
    box = view.plot.getPlotItem().getViewBox()
    curve = view.chart.curves[0]
    spot = opened.view.spot
    where = view.plot.mapFromScene(box.mapViewToScene(QPointF(float(curve.at[100]), float(curve.values[100]))))
    QTest.mouseMove(view.plot.viewport(), where)
    view.point(box.mapViewToScene(QPointF(float(curve.at[100]), float(curve.values[100]))))
    assert "profile:" in view.reading.text()
    assert spot.place == pytest.approx(curve.places[100], abs=0.02)
    before = opened.view.grab().toImage()
    view.point(QPointF(-50, -50))
    assert view.reading.text() == ""
    assert spot.place is None
    assert opened.view.grab().toImage() != before, "the ring is gone"
    camera = opened.view.shown_camera
    (x, y), *_ = camera.project(curve.places[150][None], opened.view.width(), opened.view.height())[0]
    QTest.mouseMove(opened.view, QPointF(x, y).toPoint())
    opened.view.seen.emit(curve.places[150])
    assert "profile:" in view.reading.text()
    assert float(view.spot.xData[0]) == pytest.approx(curve.at[150])
    opened.view.seen.emit(None)
    assert view.reading.text() == ""


def test_charts_are_logarithmic_lifted_and_saved(opened, tmp_path):
    added(opened, "profile")
    entry = opened.ledger.measure
    (view,) = [v for v in entry.charts if v.isVisible()]
    low, tall = view.plot.height(), opened.view.height()
    layer = opened.document.chosen_layer
    opened.document.edit_layer(layer.with_(look=layer.look.with_(colour="#117733")), "Colour")
    settle(opened)
    assert view.plot.listDataItems()[1].opts["pen"].color().name() == "#117733", "a curve alone has the colour of its card"
    for axis in ("left", "bottom"):
        assert view.plot.getPlotItem().getAxis(axis).autoSIPrefixScale == 1.0, "numbers as they are"
    click(view.log_up, QPointF(8, 8))
    assert view.plot.getPlotItem().ctrl.logYCheck.isChecked()
    click(view.log_up, QPointF(8, 8))
    keys(opened.view, Qt.Key.Key_U)
    settle(opened)
    assert opened.lifted.isVisible()
    assert view.plot.height() > 1.2 * low or opened.view.height() < tall
    assert opened.view.height() < 0.75 * tall, "half of the view is theirs"
    opened.act("save-charts", str(tmp_path / "a.png"))
    opened.act("save-charts", str(tmp_path / "a.svg"))
    assert QImage(str(tmp_path / "a.png")).width() > 600
    vector = (tmp_path / "a.svg").read_text()
    assert vector.count("<polyline") + vector.count("<path") > 5
    assert "length along it" in vector
    click(entry.lift)
    settle(opened)
    assert not opened.lifted.isVisible()
    assert view.isVisible()
    assert view.plot.height() == low
    opened.document.choose(opened.document.study.layers[0].id)
    settle(opened)
    assert not opened.lifted.isVisible()
    opened.act("save-charts", str(tmp_path / "none.png"))
    assert not (tmp_path / "none.png").exists(), "there is no chart to save"


def test_forces_go_by_their_reference_and_their_walls(opened):
    added(opened, "forces")
    controls = opened.bench.card.controls["forces"]
    case = opened.bench.pages["case"].reference
    opened.show_station("case")
    assert case.area.text(), "the file says it"
    type_into(case.length, "2")
    settle(opened)
    type_into(case.about, "0.1; 0; 0")
    settle(opened)
    assert told(opened)["reference length"][2] == 2.0
    assert made(opened).frame[0] == pytest.approx([0.1, 0.0, 0.0])
    opened.act("undo")
    opened.act("undo")
    settle(opened)
    opened.show_station("measure")
    first = told(opened)
    type_into(controls.area, str(2.0 * first["reference area"][2]))
    settle(opened)
    assert told(opened)["CL"][2] == pytest.approx(0.5 * first["CL"][2])
    assert told(opened)["force z [N]"] == first["force z [N]"]
    type_into(controls.about, "0.6; 0; 0")
    settle(opened)
    arm = told(opened)["moment y [N m]"][2] - first["moment y [N m]"][2]
    assert arm == pytest.approx(0.6 * first["force z [N]"][2], rel=1e-6), "the moment about a point farther aft"
    assert "CD" in opened.ledger.measure.numbers.text()
    click(controls.walls.boxes["Kittiwake (wall)"], QPointF(8, 8))
    settle(opened)
    assert "None of these boundaries" in opened.bench.card.trouble.text()


def test_forces_on_a_card_and_by_momentum_through_one(opened):
    """A ball round the body's rear, within the flow: what pushes, rubs and flows there; an open one is told."""
    opened.act("add-region")
    wait(lambda: opened.document.chosen_layer.kind == "region", "a region")
    settle(opened)
    region = opened.document.chosen_layer
    sides = (("place-x", -0.06, 1.12), ("place-y", -0.38, 0.38), ("place-z", -0.12, 0.14))
    limits = tuple(Condition(quantity=q, value=v, keep=k) for q, low, high in sides for v, k in ((low, "above"), (high, "below")))
    opened.document.edit_layer(region.with_(shape=region.shape.with_(conditions=limits)), "A box")
    settle(opened)
    added(opened, "forces")
    controls = opened.bench.card.controls["forces"]
    by_walls, far = told(opened)["CD"], told(opened)["CD by momentum"][2]
    pick(controls.through, region.name)
    settle(opened)
    near = told(opened)["CD by momentum"][2]
    assert abs(near / by_walls[2] - 1) < abs(far / by_walls[2] - 1), "nearer round the body it is nearer to the walls' own"
    assert opened.document.chosen_layer.shape.through == region.id
    pick(controls.over, region.name)
    settle(opened)
    assert made(opened).tables[0].heads == ("what", "pressure", "friction", "both", "momentum", "total")
    assert told(opened)["CD"][-1] == pytest.approx(near, rel=1e-9)
    assert not controls.through.isEnabled()
    assert not controls.walls.isVisible()
    slice_name = next(x.name for x in opened.document.study.layers if x.kind == "slice")
    pick(controls.over, slice_name)
    settle(opened)
    assert "from the side that the surface looks to" in made(opened).told
    for _ in range(2):
        opened.act("undo")
        settle(opened)
    assert told(opened)["CD"] == by_walls
    assert told(opened)["CD by momentum"][2] == near


def test_a_mean_follows_the_card_that_it_is_over(opened):
    opened.show_station("look")
    click(opened.bench.pages["look"].tiles["add-slice-x"])
    settle(opened)
    cut = opened.document.chosen_layer
    opened.show_station("measure")
    layer = added(opened, "over")
    assert layer.shape.card == cut.id
    assert opened.document.study.layer(cut.id) is not None
    first = told(opened)
    opened.document.edit_layer(cut.with_(shape=cut.shape.with_(position=1.6)), "Slice")
    settle(opened)
    second = told(opened)
    assert second["mean by area"] != first["mean by area"]
    assert second["greatest at x"][0] == pytest.approx(1.6)
    assert len(made(opened).geometry.points) == 2
    opened.act("undo")
    settle(opened)
    assert told(opened) == first
    controls = opened.bench.card.controls["over"]
    names = [controls.over.itemText(n) for n in range(controls.over.count())]
    controls.over.activated.emit(names.index("Boundaries"))
    settle(opened)
    assert opened.document.chosen_layer.shape.boundaries, "those that the flow goes through"
    assert told(opened)["mass flow, net [kg/s]"][0] == pytest.approx(0.0, abs=0.02 * told(opened)["mass flow along the normal [kg/s]"][0])
    opened.document.edit(opened.document.study.with_(layers=tuple(x for x in opened.document.study.layers if x.id != cut.id)), "Remove")
    settle(opened)
    assert told(opened), "it stands on boundaries now"


def test_measures_are_saved_and_opened_and_go_with_the_steps(opened, tmp_path):
    for kind in ("section", "profile", "forces"):
        added(opened, kind)
    shapes = [x.shape for x in opened.document.study.layers]
    opened.files.save_as(str(tmp_path / "a.tidal"))
    assert [x.shape for x in load_study(tmp_path / "a.tidal").layers] == shapes


def test_a_measure_at_another_step_is_that_of_the_step(empty):
    open_short_gust(empty)
    empty.show_station("measure")
    added(empty, "forces")
    first = told(empty)["CL"][2]
    empty.document.clock.go_to_step(3)
    settle(empty)
    assert told(empty)["CL"][2] != first
    assert "CL by momentum" not in told(empty), "which is for steady flows"


def test_a_series_is_told_over_time_without_asking(empty):
    """At the station of numbers, before anything is asked for; kept as a card by one click, and put away while a measure is looked at."""
    open_short_gust(empty)
    course = empty.ledger.course
    assert not course.isVisible()
    click(empty.rail.buttons["measure"])
    wait(lambda: empty.document.jobs.is_busy(Slot("course")), "its job")
    empty.document.jobs.cancel(Slot("course"))
    wait(lambda: not empty.document.jobs.is_busy(Slot("course")), "its end")
    assert course.made is None
    click(empty.rail.buttons["look"])
    click(empty.rail.buttons["measure"])
    wait(lambda: course.made is not None, "the steps: what was given up is asked for anew")
    settle(empty)
    assert course.isVisible()
    assert empty.ledger.isVisible()
    assert [c.up.removesuffix(" (found)") for c in course.made.charts] == ["greatest speed", "mass flow in through far field"]
    speed = empty.document.evaluator.store.values("speed", Token())
    assert course.charts[0].chart.curves[0].values[0] == pytest.approx(float(np.nanmax(speed)), rel=1e-6)
    before = empty.document.study
    click(empty.rail.buttons["look"])
    assert not course.isVisible()
    click(empty.rail.buttons["measure"])
    assert course.isVisible()
    assert empty.document.study is before, "looking changes nothing"
    found = course.made
    empty.document.clock.go_to_step(5)
    settle(empty)
    assert course.made is found, "the same at every step: not worked out again"
    empty.document.clock.go_to_step(0)
    settle(empty)
    click(course.keep)
    wait(lambda: empty.ledger.measure.is_wanted, "the card")
    settle(empty)
    assert empty.document.chosen_layer.kind == "over-time"
    assert not course.isVisible(), "the card tells it"
    assert [c.up for c in made(empty).charts] == [c.up for c in course.made.charts]
    empty.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(empty)
    assert not course.isVisible(), "one step has no course"


def test_numbers_over_time_are_those_of_the_steps(empty):
    open_short_gust(empty)
    empty.show_station("measure")
    added(empty, "forces")
    first = told(empty)["CL"][2]
    layer = added(empty, "over-time")
    (chart,) = made(empty).charts
    assert chart.up == "CL"
    assert len(chart.curves[0].values) == 6
    assert chart.curves[0].values[0] == pytest.approx(first)
    before = made(empty)
    empty.document.clock.go_to_step(3)
    settle(empty)
    assert made(empty).charts[0].curves[0].values == pytest.approx(before.charts[0].curves[0].values), "whichever step is shown"
    controls = empty.bench.card.controls["over-time"]
    click(controls.boxes["CD"], QPointF(8, 8))
    settle(empty)
    assert [c.up for c in made(empty).charts] == ["CL", "CD"]
    click(controls.spectrum, QPointF(8, 8))
    settle(empty)
    assert len(made(empty).charts) == 4
    click(controls.boxes["CL"], QPointF(8, 8))
    settle(empty)
    assert made(empty).charts[0].up == "CD"
    names = [controls.of.itemText(n) for n in range(controls.of.count())]
    controls.of.activated.emit(names.index("the flow"))
    settle(empty)
    ups = [c.up for c in made(empty).charts]
    assert ups[0] == "greatest speed"
    assert any(u.startswith("mass flow in through") for u in ups)
    for _ in range(4):
        empty.act("undo")
    settle(empty)
    assert empty.document.chosen_layer == layer
    assert [c.up for c in made(empty).charts] == ["CL"]


def test_a_volume_is_that_of_the_chosen_region(opened):
    opened.show_station("look")
    click(opened.bench.pages["look"].tiles["add-region"])
    settle(opened)
    region = opened.document.chosen_layer
    inside = told(opened)
    opened.show_station("measure")
    layer = added(opened, "volume")
    assert layer.shape.card == region.id
    assert told(opened)["volume [m³]"][0] == pytest.approx(inside["volume [m³]"][0], rel=1e-9)
    assert told(opened)["mass [kg]"][0] == pytest.approx(inside["mass [kg]"][0], rel=1e-9)
    small = told(opened)["mean by volume"][0]
    controls = opened.bench.card.controls["volume"]
    names = [controls.over.itemText(n) for n in range(controls.over.count())]
    controls.over.activated.emit(names.index("the flow"))
    settle(opened)
    assert told(opened)["volume [m³]"][0] > inside["volume [m³]"][0]
    assert told(opened)["mean by volume"][0] != small
    type_into(controls.bins, "20")
    settle(opened)
    assert {c.name: len(c.at) for c in made(opened).charts[0].curves} == {"by volume": 20, "by mass": 20}


def test_probes_are_laid_by_clicks_and_numbers_and_read_on_walls(opened):
    layer = added(opened, "probe")
    assert len(told(opened)) > 40
    controls = opened.bench.card.controls["probe"]
    type_into(controls.place, "0.5; 0; 0.3")
    settle(opened)
    assert opened.document.chosen_layer.shape.places == ((0.5, 0.0, 0.3),)
    assert told(opened)["x"][0] == 0.5
    click(controls.click)
    click(opened.view, QPointF(opened.view.width() / 2, opened.view.height() / 2))
    settle(opened)
    assert len(opened.document.chosen_layer.shape.places) == 2
    keys(opened.view, Qt.Key.Key_Escape)
    assert opened.document.clicks.wish is None
    click(controls.snap.button("wall"))
    settle(opened)
    assert len(told(opened)["x"]) == 2
    assert any(name.startswith("Wall shear stress") for name in told(opened))
    height = told(opened)["z"][0]
    assert 0.0 < height < 0.2, "the top of the body"
    click(controls.less)
    settle(opened)
    assert opened.document.chosen_layer.shape.places == ((0.5, 0.0, 0.3),)
    for _ in range(4):
        opened.act("undo")
    settle(opened)
    assert opened.document.chosen_layer.shape == layer.shape


def test_a_probe_over_time_is_a_curve(empty):
    open_short_gust(empty)
    empty.show_station("measure")
    added(empty, "probe")
    here = told(empty)["Pressure coefficient"][0]
    added(empty, "over-time")
    controls = empty.bench.card.controls["over-time"]
    click(controls.boxes["Pressure coefficient"], QPointF(8, 8))
    settle(empty)
    curve = next(c for c in made(empty).charts if c.up == "Pressure coefficient").curves[0]
    assert curve.values[0] == pytest.approx(here)
    assert np.ptp(curve.values) > 0.0


def test_a_path_goes_along_the_chosen_lines(opened):
    opened.show_station("trace")
    opened.act("add-streamlines")
    settle(opened)
    lines = opened.document.chosen_layer
    opened.show_station("measure")
    layer = added(opened, "path")
    assert layer.shape.card == lines.id
    (chart,) = made(opened).charts
    assert [c.name.startswith("line ") for c in chart.curves] == [True]
    controls = opened.bench.card.controls["path"]
    type_into(controls.count, "3")
    settle(opened)
    assert len(made(opened).charts[0].curves) == 3
    controls.against.activated.emit(1)
    settle(opened)
    assert made(opened).charts[0].across.startswith("time")
    type_into(controls.line, "2")
    settle(opened)
    assert made(opened).charts[0].curves[0].name == "line 2"
    opened.document.edit(opened.document.study.with_(layers=tuple(x for x in opened.document.study.layers if x.id != lines.id)), "Remove")
    settle(opened)
    assert opened.bench.card.trouble.text(), "its lines are gone"


def test_a_boundary_layer_is_laid_by_a_click_and_over_stations(opened):
    added(opened, "boundary-layer")
    assert told(opened)["H"][0] > 1.0
    controls = opened.bench.card.controls["boundary-layer"]
    before = opened.document.chosen_layer.shape
    click(controls.click)
    click(opened.view, QPointF(opened.view.width() / 2, opened.view.height() / 2))
    settle(opened)
    assert opened.document.chosen_layer.shape.place != before.place
    type_into(controls.place, "0.3; 0; 0.2")
    settle(opened)
    assert [c.up for c in made(opened).charts][-1] == "u⁺", "wall units"
    type_into(controls.stations, "4")
    settle(opened)
    shape = opened.document.chosen_layer.shape
    assert shape.to[0] > shape.place[0], "downstream"
    thick = made(opened).charts[0]
    assert [c.name for c in thick.curves] == ["δ99 [m]", "δ* [m]", "θ [m]"]
    assert np.isfinite(thick.curves[0].values).sum() >= 2
    click(controls.edge.button("total pressure"))
    settle(opened)
    assert made(opened).charts
    own = opened.document.chosen
    added(opened, "section")
    opened.document.choose(own)
    settle(opened)
    controls.along.activated.emit(1)
    settle(opened)
    assert opened.document.chosen_layer.shape.stations == 12
    feet = made(opened).charts[0].curves[0].places
    assert np.abs(feet[:, 1]).max() < 0.01, "on the section's plane"
    assert np.ptp(feet[:, 2]) > 0.05, "all round the body"
    assert not controls.place.isEnabled()


def test_boundaries_stand_side_by_side_and_a_depth_needs_a_sound_quantity(opened):
    added(opened, "boundaries")
    rows = made(opened).tables[0].rows
    assert {row[0] for row in rows} == {"Kittiwake (wall)", "far field", "all"}
    drag_force = told(opened)["force x [N]"]
    added(opened, "forces")
    assert told(opened)["force x [N]"][2] == pytest.approx(drag_force[0], rel=1e-6), "the walls' own"
    added(opened, "layer-depth")
    controls = opened.bench.card.controls["layer-depth"]
    type_into(controls.between.start, "2.2; 0; -0.2")
    type_into(controls.between.end, "2.2; 0; 0.6")
    settle(opened)
    assert len(made(opened).charts[0].curves) >= 1
    controls.quantity.picked.emit("helicity")
    settle(opened)
    assert "not positive" in opened.bench.card.trouble.text()


def test_expected_values_are_judged_and_kept(opened, tmp_path):
    added(opened, "forces")
    entry = opened.ledger.measure.expected
    found = told(opened)["CL"][2]
    names = [entry.number.itemText(n) for n in range(entry.number.count())]
    entry.number.setCurrentIndex(names.index("CL"))
    type_into(entry.value, str(1.01 * found))
    type_into(entry.source, "a tunnel")
    click(entry.add)
    (one,) = entry.judged
    assert one.verdict == "within"
    assert one.share == pytest.approx(-0.01 / 1.01, rel=1e-3)
    type_into(entry.tolerance, "0.5")
    click(entry.add)
    assert [j.verdict for j in entry.judged] == ["outside"], "the newer one takes the place of the older"
    opened.files.save_as(str(tmp_path / "a.tidal"))
    kept = load_study(tmp_path / "a.tidal").layers[-1].expected
    assert [(e.number, e.source, e.tolerance) for e in kept] == [("CL", "a tunnel", 0.005)]
    opened.act("undo")
    assert [j.verdict for j in entry.judged] == ["within"]
    opened.document.open_path(ASSETS / "kittiwake coarse history.csv")
    wait(lambda: opened.histories.history is not None, "the history")
    settle(opened)
    assert "the solver's history" in entry.told.text()
    assert entry.told.text().count("within") == 2, "CL and CD"


def test_an_experiment_lies_over_a_profile_with_the_difference(opened, tmp_path):
    added(opened, "profile")
    curve = made(opened).charts[0].curves[0]
    rows = "\n".join(f"{z},{v + 0.1}" for z, v in zip(curve.places[20:280:20, 2], curve.values[20:280:20], strict=True) if np.isfinite(v))
    (tmp_path / "probe.csv").write_text("z,Mach number,other\n" + "\n".join(f"{line},7" for line in rows.splitlines()))
    opened.act("lay-taps", str(tmp_path / "probe.csv"))
    settle(opened)
    assert [c.dots for c in made(opened).charts[0].curves] == [False, True]
    assert told(opened)["computed less measured, mean"][0] == pytest.approx(-0.1, abs=1e-3)
    assert told(opened)["its root mean square"][0] == pytest.approx(0.1, abs=1e-3)
    taps = opened.bench.card.controls["profile"].taps
    wait(lambda: taps.up.count() == 4, "the columns")
    taps.up.activated.emit(3)
    settle(opened)
    assert made(opened).charts[0].curves[1].values == pytest.approx(7.0)
    taps.across.activated.emit(2)
    settle(opened)
    assert opened.document.chosen_layer.shape.taps_across == "Mach number"
    click(taps.without)
    settle(opened)
    assert len(made(opened).charts[0].curves) == 1


def test_a_table_and_its_numbers_are_saved_side_by_side(opened, tmp_path):
    added(opened, "volume")
    opened.act("save-table", str(tmp_path / "a.csv"))
    wait((tmp_path / "a, in a volume.csv").exists, "both files")
    assert (tmp_path / "a.csv").read_text(encoding="utf-8-sig").startswith("quantity,curve")


def test_how_sure_a_number_is_can_be_tried(opened):
    added(opened, "forces")
    trust = opened.ledger.measure.trust
    assert "second order" in trust.how.text()
    assert not trust.step.isEnabled(), "there is no step before"
    click(trust.mesh)
    wait(lambda: trust.doubt is not None, "the coarse mesh")
    pairs = {name: (now, then) for name, now, then in trust.doubt[1].pairs}
    assert pairs["CL"][0] == told(opened)["CL"][2]
    assert pairs["CL"][1] == pytest.approx(pairs["CL"][0], rel=0.1)
    assert pairs["CL"][1] != pairs["CL"][0]
    assert "on half the mesh" in trust.told.text()
    type_into(opened.bench.card.controls["forces"].length, "3")
    settle(opened)
    assert not trust.told.isVisible(), "it was of other numbers"


def test_a_step_before_is_told(empty):
    open_short_gust(empty)
    empty.show_station("measure")
    added(empty, "forces")
    first = told(empty)["CL"][2]
    empty.document.clock.go_to_step(1)
    settle(empty)
    trust = empty.ledger.measure.trust
    click(trust.step)
    wait(lambda: trust.doubt is not None, "the step before")
    assert {n: then for n, _, then in trust.doubt[1].pairs}["CL"] == pytest.approx(first)


def test_numbers_are_copied_and_expected_by_tiles(opened):
    added(opened, "forces")
    click(opened.ledger.measure.copy)
    rows = [line.split("\t") for line in QApplication.clipboard().text().splitlines()]
    assert rows[0] == ["what", "pressure", "friction", "total"]
    assert float(next(r for r in rows if r[0] == "CL")[3]) == pytest.approx(told(opened)["CL"][2])
    click(opened.bench.pages["measure"].tiles["expect"])
    assert opened.focusWidget() is opened.ledger.measure.expected.value


def test_measures_are_written_without_a_window(opened, tmp_path, capsys):
    added(opened, "forces")
    added(opened, "section")
    opened.files.save_as(str(tmp_path / "a.tidal"))
    assert main(["measures", str(tmp_path / "a.tidal"), "--to", str(tmp_path / "out")]) == 0
    assert "Forces: CL" in capsys.readouterr().out
    assert {f.name for f in (tmp_path / "out").iterdir()} == {"Forces.csv", "Section.csv", "Section, curves in numbers.csv"}
    with (tmp_path / "out" / "Forces.csv").open(encoding="utf-8-sig") as file:
        rows = {row[0]: row for row in csv.reader(file)}
    assert float(rows["CL"][3]) == pytest.approx(told_of(opened, "forces")["CL"][2], rel=1e-6)
    assert main(["measures", str(tmp_path / "none.tidal")]) == 2
    assert "none.tidal" in capsys.readouterr().err


def told_of(window, kind):
    layer = next(x for x in window.document.study.layers if x.kind == kind)
    return {row[0]: row[1:] for row in window.document.asking.results[layer.id].unmasked.tables[0].rows}


def test_a_number_of_a_line_beyond_all_is_not_taken(opened):
    opened.act("add-streamlines")
    settle(opened)
    opened.act("add-path")
    settle(opened)
    faults = []
    opened.document.noticed.connect(lambda n: faults.append(n.text))
    field = opened.bench.card.controls["path"].line
    type_into(field, "1e9")
    settle(opened)
    assert opened.document.chosen_layer.shape.line <= 1_000_000
    assert not [text for text in faults if "went wrong" in text]
