"""U.S. Standard Atmosphere 1976; table values from memory."""

import math

import pytest

from tidal_lens.errors import TidalLensError
from tidal_lens.flow.atmosphere import EARTH_RADIUS, altitude_of, standard_air
from tidal_lens.flow.reference import ReferenceState


@pytest.mark.parametrize(("height", "temperature", "pressure"), [
    (0.0, 288.15, 101325.0), (11_000.0, 216.65, 22632.06), (20_000.0, 216.65, 5474.889), (32_000.0, 228.65, 868.0187),
    (47_000.0, 270.65, 110.9063), (51_000.0, 270.65, 66.93887), (71_000.0, 214.65, 3.956420)])
def test_the_bases_of_the_layers(height, temperature, pressure):
    """Geopotential heights, table 4 and the main table."""
    air = standard_air(EARTH_RADIUS * height / (EARTH_RADIUS - height))
    assert air.temperature == pytest.approx(temperature, abs=0.01)
    assert air.pressure == pytest.approx(pressure, rel=2e-6)


@pytest.mark.parametrize(("altitude", "temperature", "pressure", "density"), [
    (1_000.0, 281.651, 8.9876e4, 1.1117), (5_000.0, 255.676, 5.4048e4, 0.73643), (10_000.0, 223.252, 2.6500e4, 0.41351),
    (15_000.0, 216.650, 1.2111e4, 0.19476), (30_000.0, 226.509, 1.1970e3, 0.018410), (50_000.0, 270.650, 79.779, 1.0269e-3)])
def test_geometric_altitudes(altitude, temperature, pressure, density):
    air = standard_air(altitude)
    assert air.temperature == pytest.approx(temperature, abs=2e-3)
    assert air.pressure == pytest.approx(pressure, rel=1e-4)
    assert air.density == pytest.approx(density, rel=1e-4)


def test_below_the_sea_and_beyond_the_table():
    assert standard_air(-1000.0).temperature == pytest.approx(294.651, abs=2e-3)
    assert standard_air(-1000.0).pressure == pytest.approx(1.1393e5, rel=1e-4)
    for altitude in (-6000.0, 90_000.0, math.nan):
        with pytest.raises(TidalLensError, match="86,000 m"):
            standard_air(altitude)


@pytest.mark.parametrize("altitude", [-2000.0, 0.0, 9_000.0, 12_345.0, 49_000.0, 80_000.0])
def test_the_way_back(altitude):
    air = standard_air(altitude)
    assert altitude_of(air.pressure, air.density) == pytest.approx(altitude, abs=1.0)
    assert altitude_of(air.pressure, 1.01 * air.density) is None
    assert altitude_of(0.0, 1.0) is None


def test_flying_in_it():
    """Speed of sound at 11 km: 295.07 m/s (geopotential; table value from memory)."""
    air = standard_air(EARTH_RADIUS * 11_000.0 / (EARTH_RADIUS - 11_000.0))
    state = ReferenceState(air.pressure, air.density, (10.0, 0.0, 0.0)).flying(mach=2.0, incidence=30.0)
    assert state.speed == pytest.approx(2 * 295.07, abs=0.02)
    assert state.mach == pytest.approx(2.0)
    assert state.incidence == pytest.approx(30.0)
    assert state.flying(incidence=-5.0).mach == pytest.approx(2.0)
    assert ReferenceState(velocity=(3.0, 4.0, 0.0)).flying(incidence=60.0).velocity == pytest.approx((1.5, 2.0, 5 * math.sin(math.pi / 3)))
    assert ReferenceState().flying(mach=0.5).velocity == (1.0, 0.0, 0.0)  # without air there is no Mach number
