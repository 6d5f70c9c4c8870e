"""Find: one action each, a list with trust, what is said of findings, and what is laid at them; by real events."""

import csv
import gc
import weakref

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt

from driving import click, drag, keys, settle, type_into, wait
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.features.finding import USUAL
from tidal_lens.study.files import load_study
from tidal_lens.study.model import ReadingSetting

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(empty):
    empty.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(empty)
    return empty


def found(window, kind):
    """Find one sort by its tile; the card with its list."""
    window.show_station("find")
    click(window.bench.pages["find"].tiles[f"find-{kind}"])
    wait(lambda: any(c.layer.kind == kind for c in window.view.findings.cards()), kind)
    settle(window)
    return card(window, kind)


def card(window, kind):
    return next(c for c in window.view.findings.cards() if c.layer.kind == kind)


def choose(window, name):
    listed = window.ledger.found.list
    click(listed, listed.place_of(name))
    settle(window)
    return window.view.findings.chosen[1]


def names(card):
    return [x.name for x in card.shown]


def test_vortices_are_listed_drawn_and_named(opened):
    own = found(opened, "vortices")
    assert opened.ledger.isVisible()
    assert names(own)[:2] == ["V1", "V2"]
    one, two = (x.finding for x in own.shown[:2])
    assert one.number("circulation") == pytest.approx(two.number("circulation"), rel=0.05), "left and right agree"
    assert one.line[len(one.line) // 2] * [1, -1, 1] == pytest.approx(two.line[len(two.line) // 2], abs=0.1)
    assert all(x.finding.score >= USUAL for x in own.shown)
    assert len(own.listed) > len(own.shown), "candidates that do not pass are kept"
    geometry = own.result.geometry
    assert sorted(set(geometry.seeds)) == [x.number for x in own.shown]
    told = [m.text for m in opened.view.names.marks() if hasattr(m, "text")]
    assert "V1" in told


def test_strictness_sifts_without_computing_again(opened):
    own = found(opened, "vortices")
    before, whole = len(own.shown), own.result.unmasked
    slider = opened.bench.card.controls["vortices"].sieve.strictness
    middle = QPointF(slider.width() / 2, slider.height() / 2)
    drag(slider, middle, middle + QPointF(0.4 * slider.width(), 0))
    settle(opened)
    strict = card(opened, "vortices")
    assert len(strict.shown) < before
    assert strict.result.unmasked is whole, "the candidates are the same objects"
    assert names(strict) == [x.name for x in own.listed if x.number in {y.number for y in strict.shown}], "names stay"
    assert "of" in opened.bench.card.controls["vortices"].sieve.count.text()
    keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    assert len(card(opened, "vortices").shown) == before, "one drag is one step of undo"
    least = opened.bench.card.controls["vortices"].sieve.least
    drag(least, QPointF(8, least.height() / 2), QPointF(0.96 * least.width(), least.height() / 2))
    settle(opened)
    shown = card(opened, "vortices").shown
    assert shown
    assert min(x.finding.size for x in shown) > min(x.finding.size for x in own.shown)


def test_what_is_said_of_a_finding_is_remembered_by_its_place(opened, tmp_path):
    own = found(opened, "vortices")
    gone = choose(opened, names(own)[-1])
    detail = opened.ledger.found.detail
    click(detail.buttons["dismiss"])
    settle(opened)
    now = card(opened, "vortices")
    assert gone.name not in names(now)
    assert now.listed[gone.number].verdict == "dismiss"
    click(detail.buttons["dismiss"])
    settle(opened)
    assert gone.name in names(card(opened, "vortices")), "brought back"
    choose(opened, "V1")
    type_into(detail.name, "port wake")
    settle(opened)
    assert names(card(opened, "vortices"))[0] == "port wake"
    assert opened.document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").said == opened.document.study.said
    # Another card of the same sort, and a stricter one, know it by its place.
    opened.document.edit(opened.document.study.without(now.layer.id), "Remove")
    again = found(opened, "vortices")
    assert "port wake" in names(again)


def test_del_dismisses_the_chosen_finding_and_not_the_card(opened):
    own = found(opened, "vortices")
    choose(opened, "V1")
    keys(opened.view, Qt.Key.Key_Delete)
    settle(opened)
    assert opened.document.study.layer(own.layer.id) is not None
    assert "V1" not in names(card(opened, "vortices"))


def test_a_finding_is_gone_to_cut_across_seeded_around_and_drawn_along(opened, tmp_path):
    found(opened, "vortices")
    eye = opened.document.camera
    one = choose(opened, "V1")
    assert opened.document.camera is not eye, "a click goes there"
    focus = opened.document.camera.focus
    assert np.linalg.norm(one.finding.line - focus, axis=1).min() < 0.3
    detail = opened.ledger.found.detail
    click(detail.buttons["cut"])
    settle(opened)
    cut = opened.document.study.layers[-1]
    assert cut.shape.kind == "slice"
    middle, normal = opened.document.asking.results[cut.id].unmasked.frame
    near = int(np.linalg.norm(one.finding.line - middle, axis=1).argmin())
    way = one.finding.line[min(near + 1, len(one.finding.line) - 1)] - one.finding.line[max(near - 1, 0)]
    assert abs(normal @ way) / np.linalg.norm(way) > 0.95, "across the core"
    click(detail.buttons["seed"])
    settle(opened)
    ribbons = opened.document.study.layers[-1]
    assert ribbons.look.ribbons is not None
    lines = opened.document.asking.results[ribbons.id].geometry
    assert lines.n_lines > 12
    click(detail.buttons["curve"])
    at, values = detail.chart.chart.curves[0].at, detail.chart.chart.curves[0].values
    assert at[-1] == pytest.approx(one.finding.size, rel=1e-6)
    assert np.nanmedian(values) == pytest.approx(one.finding.number("circulation"), rel=0.1)
    opened.act("save-finding-curve", str(tmp_path / "along.csv"))
    wait((tmp_path / "along.csv").exists, "the file")
    settle(opened)
    with (tmp_path / "along.csv").open() as file:
        rows = list(csv.reader(file))
    assert rows[0][:4] == ["x", "y", "z", "length along it"]
    assert len(rows) == len(one.finding.line) + 1
    opened.document.choose(card(opened, "vortices").layer.id)
    opened.act("save-table", str(tmp_path / "list.csv"))
    wait((tmp_path / "list.csv").exists, "the file")
    with (tmp_path / "list.csv").open() as file:
        assert [row[0] for row in csv.reader(file)][1:] == names(card(opened, "vortices"))


def test_a_profile_through_a_shock_jumps_as_its_numbers_say(opened):
    """One click: along the stream across the sheet, Mach number and pressure, with the shock half way."""
    found(opened, "shocks")
    shock = choose(opened, "K1").finding
    click(opened.ledger.found.detail.buttons["profile"])
    wait(lambda: opened.ledger.measure.is_wanted, "the profile")
    settle(opened)
    layer = opened.document.chosen_layer
    assert layer.name == "Profile of K1"
    mach, pressure = (view.chart for view in opened.ledger.measure.charts[:2])
    assert mach.up.startswith("Mach number")
    assert pressure.up.startswith("Pressure")
    one, two = mach.curves[0], pressure.curves[0]
    assert np.nanmax(one.values) > 1.0, "before it the flow is supersonic"
    steepest = int(np.nanargmax(np.abs(np.diff(two.values))))
    assert abs(steepest - 150) < 60, "it stands half way"
    assert two.values[np.isfinite(two.values)][-1] > two.values[np.isfinite(two.values)][0], "and the pressure rises along the stream"
    middle = 0.5 * (np.array(layer.shape.start) + np.array(layer.shape.end))
    assert middle == pytest.approx(shock.place, abs=1e-3)
    keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    assert [x.kind for x in opened.document.study.layers].count("profile") == 0


def test_a_click_on_a_line_or_a_name_chooses_its_finding(opened):
    own = found(opened, "vortices")
    opened.document.edit(opened.document.study.with_(alone=own.layer.id), "Alone")
    settle(opened)
    opened.view.names.marks()
    box, _, number = next(b for b in opened.view.names._boxes if own.listed[b[2]].name == "V2")
    click(opened.view, QPointF(0.5 * (box[0] + box[2]), 0.5 * (box[1] + box[3])))
    assert opened.view.findings.chosen[1].number == number
    line = own.listed[0].finding.line
    pixels, _ = opened.view.shown_camera.project(line[len(line) // 3][None], opened.view.width(), opened.view.height())
    wait(lambda: opened.view.under.line_at(QPointF(*pixels[0])) is not None, "the line under the pointer")
    click(opened.view, QPointF(*pixels[0]))
    assert opened.view.findings.chosen[1].number == 0


def test_all_four_are_one_step_and_what_is_there_stays(opened):
    first = found(opened, "vortices").layer
    opened.act("find-all")
    settle(opened)
    kinds = [x.kind for x in opened.document.study.layers if x.shape.finds]
    assert kinds == ["vortices", "separation", "shocks", "recirculation"]
    assert opened.document.study.layer(first.id) is not None
    shocks = [x.finding for x in card(opened, "shocks").shown if x.finding.sort == "shock"]
    assert len(shocks) >= 2
    bow = min(shocks, key=lambda f: f.place[0])
    assert bow.number("pressure ratio") == pytest.approx(bow.number("pressure ratio by the Mach number before it"), rel=0.15)
    (bubble,) = [x.finding for x in card(opened, "recirculation").shown if x.finding.sort == "recirculation"]
    assert bubble.told[0].startswith("Open")
    assert 0.9 < bubble.place[0] < 1.3, "behind the base"
    lines = [x.finding for x in card(opened, "separation").shown if x.finding.sort == "separation line"]
    assert {np.sign(f.line[len(f.line) // 2, 1]) for f in lines if f.size > 0.6} == {1.0, -1.0}, "primary separation on both sides"
    opened.document.undo()
    settle(opened)
    assert [x.kind for x in opened.document.study.layers if x.shape.finds] == ["vortices"]


def test_a_flow_without_what_is_needed_greys_the_tile_and_says_why(empty, tmp_path):
    from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

    from making import cube_points
    from vtk_data import add, structured, write

    points = cube_points(9)
    data = structured(points, (9, 9, 9))
    add(data.GetPointData(), "Velocity", points - 0.5)
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "bare.vts")
    empty.document.open_path(tmp_path / "bare.vts")
    settle(empty)
    tile = empty.bench.pages["find"].tiles["find-shocks"]
    assert not tile.isEnabled()
    assert "density" in tile.toolTip()
    empty.act("find-all")
    settle(empty)
    assert "shocks" not in [x.kind for x in empty.document.study.layers]
    assert not empty.document.asking.failures


def test_a_finding_keeps_its_name_from_step_to_step_and_its_numbers_become_curves(empty):
    empty.document.open_path(ASSETS / "kittiwake gust.cgns", reading=ReadingSetting(every_step=4))
    settle(empty)
    first = found(empty, "vortices")
    mine = choose(empty, "V2")
    empty.document.go_to_step(1, relative=True)
    settle(empty)
    other = card(empty, "vortices")
    now = next(x for x in other.listed if x.name == "V2")
    assert now.finding is not mine.finding
    assert np.sign(now.finding.place[1]) == np.sign(mine.finding.place[1]), "on the same side"
    assert empty.view.findings.chosen[1].name == "V2", "what is chosen stays chosen"
    assert len({x.name for x in other.listed}) == len(other.listed)
    opened = empty.ledger.found.detail
    empty.document.go_to_step(-1, relative=True)
    settle(empty)
    assert names(card(empty, "vortices")) == names(first)
    found(empty, "recirculation")
    one = choose(empty, "R1")
    click(opened.buttons["time"])
    wait(lambda: empty.view.findings.through_time is not None, "all steps", 120)
    settle(empty)
    name, table = empty.view.findings.through_time
    assert name == "R1"
    assert len(table.rows) == len(empty.document.flow.times)
    at, values = opened.chart.chart.curves[0].at, opened.chart.chart.curves[0].values
    assert at == pytest.approx(empty.document.flow.times)
    assert values[0] == pytest.approx(one.finding.number("volume"))
    assert np.ptp(values) > 0.02 * values.mean(), "it breathes in the gust"


def test_another_case_lets_go_of_what_was_found(opened, demo_path):
    opened.act("find-all")
    settle(opened)
    held = [weakref.ref(r) for r in opened.document.asking.results.values()]
    assert opened.ledger.found.list.rows
    first = opened.view.findings.cards()[0].listed[0].name
    opened.document.open_path(demo_path)
    wait(lambda: opened.document.flow is not None and opened.document.flow.path == demo_path, "the other case")
    settle(opened)
    gc.collect()
    assert not [r for r in held if r() is not None]
    assert not opened.ledger.found.list.rows
    opened.document.open_path(ASSETS / "kittiwake coarse.vtm")
    wait(lambda: opened.document.flow is not None and opened.document.flow.path != demo_path, "the first case")
    settle(opened)
    opened.act("find-all")
    settle(opened)
    assert opened.view.findings.cards()[0].listed[0].name == first, "names begin anew"
