"""Tasks of Measure, from the opened demo, by real events; an action is a click, a drag, or a number typed."""

import csv

import numpy as np
import pytest
from PyQt6.QtWidgets import QFileDialog, QLineEdit, QPushButton

from driving import settle, wait
from hands import Hands
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.formats.csv_tables import read_table

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(empty):
    empty.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(empty)
    return empty


def to_measure(window, hands):
    hands.click(window.rail.buttons["measure"])
    return window.bench.pages["measure"].tiles


def name_it(window, path, patience=120.0):
    """The name that a dialog asks for: not counted; then what was begun with it is waited for."""
    wait(lambda: window.findChildren(QFileDialog), "the dialog", 5)
    dialog = window.findChildren(QFileDialog)[0]
    dialog.findChild(QLineEdit).setText(str(path))
    next(b for b in dialog.findChildren(QPushButton) if b.text().replace("&", "") in ("Save", "Open", "OK", "Choose")).click()
    wait(lambda: not window.findChildren(QFileDialog), "the dialog to go", 5)
    settle(window, patience)


def told(window):
    made = window.document.asking.results[window.document.chosen].unmasked
    return {row[0]: row[1:] for row in next(t for t in made.tables if t.heads[0] == "what").rows}


def test_cp_along_the_mid_section_with_the_taps_over_it_as_csv_takes_five_actions(opened, tmp_path):
    hands = Hands()
    hands.click(to_measure(opened, hands)["add-section"])
    settle(opened)
    ledger = opened.ledger.measure
    hands.click(ledger.taps)
    name_it(opened, ASSETS / "pressure taps (simulated).csv")
    hands.click(ledger.save)
    name_it(opened, tmp_path / "cp.csv")
    wait((tmp_path / "cp.csv").exists, "the file")
    with (tmp_path / "cp.csv").open(encoding="utf-8-sig") as file:
        rows = list(csv.DictReader(file))
    curves = {row["curve"] for row in rows}
    assert {"upper", "lower"} < curves
    assert any(c.startswith("taps") for c in curves)
    values = np.array([float(row["value"]) for row in rows])
    assert values.max() > 1.2, "the nose"
    assert np.abs([float(row["y"]) for row in rows if not row["curve"].startswith("taps")]).max() < 1e-6
    assert hands.actions <= 5


def test_lift_and_drag_take_two_actions(opened):
    hands = Hands()
    hands.click(to_measure(opened, hands)["add-forces"])
    settle(opened)
    history = read_table(ASSETS / "kittiwake coarse history.csv")
    own = told(opened)
    assert own["CL"][2] == pytest.approx(history.column("CL")[-1], rel=0.01)
    assert own["CD"][2] == pytest.approx(history.column("CD")[-1], rel=0.01)
    assert "CL" in opened.ledger.measure.numbers.text()
    assert hands.actions <= 2


def test_a_profile_at_three_stations_behind_the_base_takes_six_actions(opened):
    hands = Hands()
    hands.click(to_measure(opened, hands)["add-profile"])
    settle(opened)
    controls = opened.bench.card.controls["profile"]
    hands.type(controls.lines, "3")
    settle(opened)
    hands.type(controls.step, "0.2; 0; 0")
    settle(opened)
    (chart,) = opened.document.asking.results[opened.document.chosen].unmasked.charts
    places = [float(np.nanmean(c.places[:, 0])) for c in chart.curves]
    assert np.diff(places) == pytest.approx([0.2, 0.2])
    assert places[0] > opened.document.flow.body[1][0], "behind the base"
    assert hands.actions <= 6


def test_total_pressure_by_mass_on_an_outlet_plane_takes_four_actions(opened):
    hands = Hands()
    hands.click(opened.bench.pages["look"].tiles["add-slice-x"])
    settle(opened)
    hands.type(opened.bench.card.controls["slice"].position, "1.8")
    settle(opened)
    hands.click(to_measure(opened, hands)["add-over"])
    settle(opened)
    own, shape = told(opened), opened.document.chosen_layer.shape
    assert shape.quantity == "total-pressure"
    assert opened.document.study.layer(shape.card).shape.position == 1.8
    assert own["share that goes the other way"][0] == pytest.approx(0.0, abs=1e-6)
    by_mass, by_area = own["mean by mass"][0], own["mean by area"][0]
    assert own["least"][0] < by_mass < own["greatest"][0]
    assert by_mass > by_area, "more mass where less is lost"
    assert hands.actions <= 4


def test_lift_over_the_gusts_period_with_its_amplitude_takes_three_actions(empty):
    empty.document.open_path(ASSETS / "kittiwake gust.cgns")
    settle(empty)
    hands = Hands()
    tiles = to_measure(empty, hands)
    hands.click(tiles["add-forces"])
    settle(empty)
    hands.click(tiles["add-over-time"])
    settle(empty)
    history = read_table(ASSETS / "kittiwake gust history.csv")
    times = np.array(empty.document.flow.times)
    lift, own = np.interp(times, history.columns[:, 0], history.column("CL")), told(empty)
    assert own["amplitude, half the range"][0] == pytest.approx(0.5 * np.ptp(lift), rel=0.02)
    assert own["mean"][0] == pytest.approx(np.trapezoid(lift, times) / np.ptp(times), rel=0.01)
    assert "amplitude" in empty.ledger.measure.numbers.text()
    assert hands.actions <= 3
