"""Units that are shown are what the tables say: Thompson and Taylor 2008, Guide for the Use of the International System of Units, NIST
Special Publication 811, appendix B; values from memory, to the seven digits that are printed there."""

import pytest

from tidal_lens.quantities.shown_units import DIMENSIONS, choices, in_system

PRINTED = [  # one of the second is so many of the first
    ("Pa", "psi", 6.894757e3), ("Pa", "lbf/ft²", 4.788026e1), ("Pa", "atm", 1.01325e5), ("N", "lbf", 4.448222), ("W", "hp", 7.456999e2),
    ("W", "Btu/s", 1.055056e3), ("W/m²", "Btu/(s ft²)", 1.135653e4), ("J/kg", "Btu/lb", 2.326e3), ("J/(kg K)", "Btu/(lb °R)", 4.1868e3),
    ("kg/m³", "lb/ft³", 1.601846e1), ("kg/m³", "slug/ft³", 5.153788e2), ("kg/(m s)", "lb/(ft s)", 1.488164), ("m/s", "mph", 4.4704e-1),
    ("m/s", "kn", 5.144444e-1), ("m²", "ft²", 9.290304e-2), ("m³", "ft³", 2.831685e-2), ("W/(m K)", "Btu/(h ft °R)", 1.730735),
    ("N m", "lbf ft", 1.355818), ("m²", "in²", 6.4516e-4)]


@pytest.mark.parametrize(("si", "other", "size"), PRINTED)
def test_sizes_are_those_that_are_printed(si, other, size):
    found = next(s for s in choices(si) if s.text == other)
    assert found.size == pytest.approx(size, rel=5e-7)
    assert found.back(found.of(3.25)) == pytest.approx(3.25, rel=1e-15)


def test_temperatures_count_from_their_own_zero_and_differences_do_not():
    shown = {s.text: s for s in choices("K", absolute=True)}
    assert shown["°C"].of(273.15) == 0.0
    assert shown["°F"].of(273.15) == pytest.approx(32.0, abs=1e-10)
    assert shown["°F"].of(373.15) == pytest.approx(212.0, abs=1e-10)
    assert shown["°R"].of(100.0) == pytest.approx(180.0)
    assert [s.text for s in choices("K")] == ["K", "°R"]  # of a difference
    assert in_system("K", "us", absolute=True).text == "°F"
    assert in_system("K", "us").text == "°R"


def test_what_has_no_unit_of_its_own_is_made_of_feet_pounds_and_degrees():
    flux = in_system("kg/(m² s)", "us")
    assert flux.text == "lb/(ft² s)"
    assert flux.size == pytest.approx(0.45359237 / 0.3048**2, rel=1e-14)
    assert in_system("K/m", "us").text == "°R/ft"
    for plain in ("", "1/s²", "°"):
        assert in_system(plain, "us").is_plain
        assert in_system(plain, "us").text == plain


def test_each_unit_is_offered_once_and_first_as_it_is():
    for unit in DIMENSIONS:
        offered = choices(unit, absolute=True)
        assert offered[0].text == unit
        assert offered[0].is_plain
        assert len({s.text for s in offered}) == len(offered)
        assert all(s.size > 0.0 for s in offered)
