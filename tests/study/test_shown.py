"""Numbers in the units that the user wants: in tables, charts and words; what is computed stays as it is."""

import pickle

import numpy as np
import pytest

from tidal_lens.features.finding import Number
from tidal_lens.quantities.store import Quantity
from tidal_lens.study.charts import SHARES, Chart, Curve, Sheet, table_of
from tidal_lens.study.kinds.kind import Made
from tidal_lens.study.shown import InUnits, UnitsSetting
from tidal_lens.study.side_by_side import numbers_beside
from tidal_lens.study.tables import Amount, Table, numbers_of
from tidal_lens.study.words import amount_text, number_text


def quantity(name, title, unit):
    return Quantity(name, title, title[0], unit, "", "", "even")


ALL = (quantity("static-temperature", "Temperature", "K"), quantity("total-pressure", "Total pressure", "Pa"),
       quantity("dynamic-pressure", "Dynamic pressure", "Pa"), quantity("velocity-x", "Velocity x", "m/s"),
       quantity("mach", "Mach number", ""))


def units(**setting):
    return InUnits(UnitsSetting(**setting), ALL)


def test_plain_si_changes_nothing():
    table = Table("t", ("what", "a", "b [Pa]"), (("mean [K]", 300.0, 2.0), ("x", 1.0, "text")))
    assert units().table(table) == table
    chart = Chart("along [m]", "Temperature [K]", (Curve("c", np.arange(3.0), np.arange(3.0)),))
    assert units().chart(chart) is chart


def test_rows_and_heads_follow_their_own_units():
    own = units(by_unit={"Pa": "kPa", "K": "°C"}, by_quantity={"dynamic-pressure": "Pa"})
    wide = own.table(Table("t", ("seed", "Total pressure [Pa]", "Dynamic pressure [Pa]", "share [%]"), ((1.0, 2000.0, 3000.0, 5.0),)))
    assert wide.heads == ("seed", "Total pressure [kPa]", "Dynamic pressure [Pa]", "share [%]")
    assert wide.rows == ((1.0, 2.0, 3000.0, 5.0),)
    tall = own.table(Table("t", ("what", "value"), (("Temperature [K]", 300.0), ("temperature, mean by area [K]", 273.15),
                                                    ("temperature, spread [K]", 4.0), ("force x [N]", 7.0), ("count", 12.0))))
    assert [row[0] for row in tall.rows] == ["Temperature [°C]", "temperature, mean by area [°C]", "temperature, spread [K]", "force x [N]",
                                             "count"]
    assert [row[1] for row in tall.rows] == pytest.approx([26.85, 0.0, 4.0, 7.0, 12.0])


def test_amounts_get_their_unit_and_changes_have_no_zero():
    rows = (("mean", Amount(300.0, "K", "static-temperature")), ("spread", Amount(9.0, "K", "static-temperature", change=True)),
            ("pressure", Amount(2000.0, "Pa")))
    us = units(system="us").table(Table("t", ("what", "value"), rows))
    assert [row[0] for row in us.rows] == ["mean [°F]", "spread [°F]", "pressure [psi]"]
    assert [row[1] for row in us.rows] == pytest.approx([80.33, 16.2, 0.290075], rel=1e-5)
    assert [row[0] for row in units().table(Table("t", ("what", "value"), rows)).rows] == ["mean [K]", "spread [K]", "pressure [Pa]"]


def test_only_what_a_row_is_of_follows_its_name():
    places = np.array([[1.0, 2.0, 3.0]])
    charts = (Chart("along [m]", "Total pressure [Pa]", (Curve("c", np.array([0.3048]), np.array([2000.0]), places=places),)),)
    own = units(system="us").table(table_of("t", charts))
    assert own.heads == ("quantity", "curve", "along [ft]", "value", "x", "y", "z")
    assert own.rows[0][:2] == ("Total pressure [psi]", "c")
    assert own.rows[0][2:] == pytest.approx((1.0, 0.290075, 1.0, 2.0, 3.0), rel=1e-5)
    shares = (Chart("Total pressure [Pa]", SHARES, (Curve("c", np.array([2000.0]), np.array([0.001])),)),)
    told = units(by_unit={"Pa": "kPa"}).table(table_of("t", shares))
    assert told.rows[0][2:4] == pytest.approx((2.0, 1.0))
    named = Table("Boundaries", ("boundary", "area [m²]"), (("hole [m]", 2.0),))
    assert units(by_unit={"m": "mm", "m²": "mm²"}).table(named).rows[0] == ("hole [m]", pytest.approx(2e6))


def test_numbers_over_time_go_by_their_head_and_the_period_by_its_own():
    rows = (("mean", Amount(300.0, "K")), ("amplitude", Amount(10.0, "K", change=True)), ("period", Amount(0.5, "s")))
    table = units(by_unit={"K": "°C", "s": "ms"}).table(Table("t", ("what", "Temperature [K]"), rows))
    assert table.heads[1] == "Temperature [°C]"
    assert [row[1] for row in table.rows] == pytest.approx([26.85, 10.0, 500.0])
    assert table.rows[2][0] == "period [ms]"


def test_differences_of_cases_are_differences_in_other_units_too():
    one, other = (Table("t", ("what", "value"), (("mean", Amount(v, "K", "static-temperature")), ("temperature, mean [K]", v)))
                  for v in (300.0, 310.0))
    beside = numbers_beside([(one,), (other,)], ["a", "b"])
    told = units(by_unit={"K": "°C"}).table(beside)
    for row in told.rows:
        assert row[1:3] == pytest.approx((26.85, 36.85))
        assert row[3] == pytest.approx(10.0)
        assert row[4] == pytest.approx(100.0 / 30.0)


def test_names_of_numbers_do_not_go_by_units():
    table = Table("t", ("what", "value"), (("mean", Amount(3.0, "Pa", "total-pressure")),))
    assert numbers_of((table,)) == {"mean": 3.0}


def test_amounts_reckon_as_numbers_and_go_to_other_processes():
    one = Amount(3.0, "Pa", "total-pressure", change=True)
    assert one + 1.0 == 4.0
    again = pickle.loads(pickle.dumps(one))
    assert (again, again.unit, again.quantity, again.change) == (3.0, "Pa", "total-pressure", True)


def test_charts_and_their_sheets():
    own = units(by_unit={"K": "°C", "m": "mm", "Pa": "kPa"})
    chart = own.chart(Chart("along [m]", "Temperature [K]", (Curve("c", np.array([1.0, 2.0]), np.array([273.15, 283.15])),)))
    assert (chart.across, chart.up) == ("along [mm]", "Temperature [°C]")
    assert chart.curves[0].at == pytest.approx([1000.0, 2000.0])
    assert chart.curves[0].values == pytest.approx([0.0, 10.0])
    shares = own.chart(Chart("Total pressure [Pa]", SHARES, (Curve("c", np.array([1000.0, 2000.0]), np.array([0.001, 0.001])),)))
    assert np.trapezoid(shares.curves[0].values, shares.curves[0].at) == pytest.approx(1.0)  # what is under it stays
    lattice = np.ones((2, 2))
    sheet = Sheet(lattice, 2.0 * lattice, 3000.0 * lattice, "Total pressure [Pa]", np.ones((1, 2, 2)), 500.0, lattice, lattice)
    flat = own.chart(Chart("along [m]", "radius [m]", (), sheet=sheet)).sheet
    assert flat.told == "Total pressure [kPa]"
    assert flat.spacing == 0.5
    assert (flat.across[0, 0], flat.up[0, 0], flat.values[0, 0], flat.lines[0, 0, 1]) == (1000.0, 2000.0, 3.0, 1000.0)


def test_values_findings_and_reference_states_in_words():
    own = units(by_unit={"Pa": "kPa", "m": "mm"}, digits=3)
    assert own.value(ALL[1], 123456.0) == "123 kPa"
    assert own.values("total-pressure", (1000.0, 2500.0)) == "1, 2.5 kPa"
    assert own.texts("mach", (1.2345,)) == ["1.23"]
    assert own.finding_number(Number("radius", 0.0125, "m"), si=True) == "12.5 mm"
    assert own.finding_number(Number("radius", 0.0125, "m"), si=False) == "0.0125"
    assert own.finding_number(Number("angle", 31.0, "°"), si=True) == "31°"
    assert own.finding_number(Number("least core pressure", 4000.0, "total-pressure"), si=True) == "4 kPa"
    assert own.amount(101325.0, "Pa") == "101 kPa"


@pytest.mark.parametrize(("value", "notation", "text"), [
    (1234.0, "plain", "1234"), (12340.0, "plain", "1.234e4"), (12340.0, "powers", "1.234e4"), (12340.0, "thousands", "12.34e3"),
    (0.01234, "thousands", "12.34e−3"),
    (999.96, "thousands", "1000"), (123.4, "thousands", "123.4"), (-5.0e7, "thousands", "−50e6"),
    (1.0, "powers", "1e0"), (0.0, "powers", "0"),
    (1234567.0, "plain", "1.235e6"), (float("nan"), "powers", "—")])
def test_notations(value, notation, text):
    assert number_text(value, 4, notation) == text


def test_what_a_card_came_to_is_told_in_the_units_that_are_shown():
    amounts = Amount(2.0, "m³"), Amount(5.0, "kg")
    made = Made(None, told="2 m³, 4 % of the flow, 5 kg, by unit depth", amounts=amounts)
    assert made.told_in(units()) == made.told
    assert made.told_in(units(system="us")) == "70.63 ft³, 4 % of the flow, 11.02 lb, by unit depth"
    bare = Made(None, told="mean by area 7", amounts=(Amount(7.0, ""),))
    assert bare.told_in(units(system="us")) == "mean by area 7"
    assert amount_text(Amount(300.0, "K", "static-temperature")) == "300 K"


def test_a_unit_that_is_none_of_a_quantity_is_passed_over():
    assert units(by_unit={"Pa": "kg"}).value(ALL[1], 5.0) == "5 Pa"
    assert units(by_quantity={"total-pressure": "°C"}).value(ALL[1], 5.0) == "5 Pa"
