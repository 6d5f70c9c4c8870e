"""The standard atmosphere up to 86 km: U.S. Standard Atmosphere 1976 (NOAA-S/T 76-1562), eqs. 18, 23, 33 and 42."""

from __future__ import annotations

import math
from dataclasses import dataclass

from tidal_lens.errors import TidalLensError

EARTH_RADIUS = 6_356_766.0  # [m], as the standard takes it
GRAVITY, MOLAR_MASS, GAS_CONSTANT = 9.80665, 28.9644, 8314.32  # [m/s²], [kg/kmol], [J/(kmol K)]
LOWEST, HIGHEST = -5000.0, 86_000.0  # geometric altitudes [m]
_LAYERS = ((0.0, -0.0065), (11_000.0, 0.0), (20_000.0, 0.001), (32_000.0, 0.0028), (47_000.0, 0.0), (51_000.0, -0.0028),
           (71_000.0, -0.002))  # geopotential height [m] of each layer's base, and its lapse rate [K/m]


@dataclass(frozen=True)
class Air:
    """Air at rest: pressure [Pa], temperature [K], density [kg/m³]."""

    pressure: float
    temperature: float

    @property
    def density(self) -> float:
        """Density [kg/m³]."""
        return self.pressure * MOLAR_MASS / (GAS_CONSTANT * self.temperature)


def standard_air(altitude: float) -> Air:
    """The air at a geometric altitude [m].

    Raises
    ------
    TidalLensError
        Above 86 km or below -5 km.
    """
    if not LOWEST <= altitude <= HIGHEST:
        raise TidalLensError(f"The standard atmosphere is known from {LOWEST:,.0f} m to {HIGHEST:,.0f} m.", f"{altitude:g} m",
                             "Type pressure and density instead.")
    return _at_height(EARTH_RADIUS * altitude / (EARTH_RADIUS + altitude))


def _at_height(height: float) -> Air:
    """The air at a geopotential height [m]."""
    pressure, temperature = 101_325.0, 288.15
    factor = GRAVITY * MOLAR_MASS / GAS_CONSTANT
    for n, (base, lapse) in enumerate(_LAYERS):
        top = _LAYERS[n + 1][0] if n + 1 < len(_LAYERS) else math.inf
        rise = min(height, top) - base
        next_temperature = temperature + lapse * rise
        pressure *= (temperature / next_temperature) ** (factor / lapse) if lapse else math.exp(-factor * rise / temperature)
        temperature = next_temperature
        if height <= top:
            break
    return Air(pressure, temperature)


def altitude_of(pressure: float, density: float) -> float | None:
    """The geometric altitude [m] at which the standard air has a pressure and density, to a thousandth; None if there is none."""
    if not (pressure > 0.0 and density > 0.0):
        return None
    low, high = LOWEST, HIGHEST
    for _ in range(60):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if standard_air(middle).pressure > pressure else (low, middle)
    air = standard_air(0.5 * (low + high))
    same = abs(air.pressure / pressure - 1.0) < 1e-3 and abs(air.density / density - 1.0) < 1e-3
    return 0.5 * (low + high) if same else None
