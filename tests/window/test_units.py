"""Numbers in the units that the user chose: on keys, in fields, tables, charts; undone, saved, remembered for what comes next."""

import csv

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QMenu

from driving import click, differing, keys, pick, pixels, settle, type_into
from tidal_lens.app.preferences import preferred_units, settings
from tidal_lens.app.stations.case_reference import ReferenceControls
from tidal_lens.quantities.shown_units import choices
from tidal_lens.study.files import load_study
from tidal_lens.study.shown import UnitsSetting

pytestmark = pytest.mark.gui


@pytest.fixture
def sheet(window):
    kept = settings().value("units")
    window.act("settings")
    yield window._settings.units
    settings().remove("units") if kept is None else settings().setValue("units", kept)


def colour(window, kind, quantity):
    layer = next(x for x in window.document.study.layers if x.kind == kind)
    window.document.edit_layer(layer.with_(look=layer.look.with_(colour_by=quantity)), "Colour")
    settle(window)
    return layer.id


def key(window, name):
    return next(k for k in window.view.keys.keys() if k.quantity.name == name)  # noqa: SIM118  (it is no mapping)


def test_a_system_changes_keys_fields_and_what_is_typed(window, sheet):
    slice_id = colour(window, "slice", "static-temperature")
    window.document.choose(slice_id)
    settle(window)
    before, plain = pixels(window.view), key(window, "static-temperature")
    assert "K" in " ".join(plain.told)
    click(sheet.system.button("us"))
    settle(window)
    shown = key(window, "static-temperature")
    assert (shown.low, shown.high) == (plain.low, plain.high)  # what is kept stays
    assert shown.shown.text == "°F"
    assert "°F" in " ".join(shown.told)
    assert float(shown.text_of(shown.high).replace("−", "-")) == pytest.approx(1.8 * plain.high - 459.67, abs=0.06)
    assert differing(before, pixels(window.view)) > 2e-4
    field = window.bench.card.controls["slice"].key.high
    assert "[°F]" in field.toolTip()
    type_into(field, "86")
    settle(window)
    assert window.document.study.keys["static-temperature"].high == pytest.approx(303.15)
    assert key(window, "static-temperature").text_of(303.15) == "86"
    window.document.undo()
    window.document.undo()
    settle(window)
    assert window.document.study.units == UnitsSetting()
    assert key(window, "static-temperature").text_of(300.0) == "300"


def test_a_unit_for_one_sort_of_number_one_quantity_and_back(window, sheet):
    colour(window, "slice", "total-pressure")
    sheet.of.activated.emit(0)
    sheet.unit.activated.emit([s.text for s in choices("Pa")].index("kPa"))
    assert key(window, "total-pressure").shown.text == "kPa"
    assert "in kPa" in sheet.told.text()
    window.view.keys.menu(window.view.keys.grip_at("total-pressure", "head"))
    menu = next(m for m in window.view.findChildren(QMenu) if m.isVisible())
    inner = next(a.menu() for a in menu.actions() if a.text() == "Unit")
    assert [a.text() for a in inner.actions() if a.isChecked()] == ["kPa"]
    next(a for a in inner.actions() if a.text() == "psi").trigger()
    menu.close()
    settle(window)
    assert window.document.study.units.by_quantity == {"total-pressure": "psi"}
    assert key(window, "total-pressure").shown.text == "psi"
    assert window.document.units.amount(101325.0, "Pa") == "101.3 kPa"
    sheet.refresh()
    click(sheet.reset)
    assert key(window, "total-pressure").shown.text == "Pa"
    assert window.document.study.units == UnitsSetting()


def test_a_bead_of_an_isosurface_is_typed_in_its_unit_and_dragged_to_round_numbers(window, sheet):
    window.act("add-isosurface")
    settle(window)
    layer = window.document.chosen_layer
    pick(window.bench.card.controls["isosurface"].quantity, "Total pressure")
    settle(window)
    sheet.of.activated.emit(0)
    sheet.unit.activated.emit([s.text for s in choices("Pa")].index("hPa"))
    controls = window.bench.card.controls["isosurface"]
    assert "hPa" in controls.span.text()
    old = window.document.chosen_layer.shape.value
    assert float(controls.value.text()) == pytest.approx(old / 100.0, rel=1e-5)
    type_into(controls.value, f"{0.9 * old / 100.0:.5g}")
    settle(window)
    assert window.document.chosen_layer.shape.value == pytest.approx(0.9 * old, rel=1e-4)
    assert "hPa" in window.deck.cards[layer.id].toolTip()


def test_tables_and_charts_of_measures_are_shown_so_and_files_stay_si(window, sheet, tmp_path):
    window.act("add-over")
    settle(window)
    entry = window.ledger.measure
    assert "mean by area [Pa]" in entry.numbers.text()
    mean = next(row[1] for t in entry._seen[0].tables if t.heads[0] == "what" for row in t.rows if row[0] == "mean by area")
    click(sheet.system.button("us"))
    settle(window)
    assert "mean by area [psi]" in entry.numbers.text()
    assert "mean by area [Pa]" not in entry.numbers.text()
    assert entry.charts[0].chart.across == "Total pressure [psi]"
    assert entry.told.text().endswith("psi")
    type_into(sheet.digits, "6")
    settle(window)
    assert f"{float(mean) / 6894.757293168:.6g}" in entry.numbers.text()
    window.act("save-table", str(tmp_path / "mean.csv"))
    settle(window)
    with open(tmp_path / "mean.csv", encoding="utf-8") as stream:
        rows = {row[0]: row[1] for row in csv.reader(stream) if len(row) == 2}
    assert float(rows["mean by area"]) == pytest.approx(float(mean))


def test_an_expected_value_is_typed_and_judged_in_its_unit(window, sheet):
    window.act("add-over")
    settle(window)
    click(sheet.system.button("us"))
    settle(window)
    entry = window.ledger.measure.expected
    mean = next(v for n, v in entry._numbers.items() if n == "mean by area")
    assert entry.number.itemText(0) == "area [ft²]"
    pick(entry.number, "mean by area")
    assert "[psi]" in entry.value.toolTip()
    type_into(entry.value, f"{1.1 * float(mean) / 6894.757293168:.6g}")
    click(entry.add)
    settle(window)
    assert window.document.chosen_layer.expected[0].value == pytest.approx(1.1 * float(mean), rel=1e-5)
    (told,) = [w.text() for w in entry.findChildren(QLabel) if w.text().startswith("mean by area:")]
    assert f"{float(mean) / 6894.757293168:.5g} psi, −9.09 %" in told


def test_units_are_of_the_study_and_what_is_opened_next_begins_so(window, sheet, tmp_path):
    click(sheet.system.button("us"))
    click(sheet.notation.button("powers"))
    window.act("save-as", str(tmp_path / "own.tidal"))
    settle(window)
    assert load_study(tmp_path / "own.tidal").units == UnitsSetting(system="us", notation="powers")
    assert preferred_units() == UnitsSetting(system="us", notation="powers")
    window.open_demo("kittiwake coarse.vtm")
    settle(window)
    assert window.document.study.units.system == "us"
    settings().setValue("units", "{broken")
    assert preferred_units() == UnitsSetting()


def test_the_reference_state_is_typed_in_its_unit(window, sheet):
    click(sheet.system.button("us"))
    click(window.rail.buttons["case"])
    settle(window)
    reference = window.findChild(ReferenceControls)
    type_into(reference.pressure, "14.7")
    settle(window)
    assert window.document.study.reference.pressure == pytest.approx(101353.0, rel=1e-4)
    keys(window, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(window)
    assert window.document.study.reference is None
