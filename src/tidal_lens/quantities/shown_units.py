"""Units that numbers are shown in: those of a system, or others that are chosen; what is computed and kept stays in SI.

Factors are exact by definition (the international yard and pound of 1959; the thermochemical zero, 273.15 K), but those of the standard
gravity, 9.80665 m/s², and of the international-table British thermal unit, 1055.05585262 J: from memory.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

from tidal_lens.quantities.units import BASES, Unit, unit_of, written

System = Literal["si", "us"]

_FOOT, _INCH, _POUND, _GRAVITY, _BTU = 0.3048, 0.0254, 0.45359237, 9.80665, 1055.05585262
_FORCE = _POUND * _GRAVITY  # of a pound [N]
_RANKINE = 5.0 / 9.0
# Quantities whose zero may be moved.
ABSOLUTE = frozenset({"temperature", "static-temperature", "total-temperature", "relative-total-temperature"})


@dataclass(frozen=True)
class Shown:
    """How numbers of a unit are shown: ``(value - zero) / size``.

    Attributes
    ----------
    text : str
        The unit as it is written.
    size : float
        One of it, in the unit that values are in.
    zero : float
        The value that it counts from.
    """

    text: str
    size: float = 1.0
    zero: float = 0.0

    def of(self, value: float) -> float:
        """The number that is shown for a value."""
        return value if self.is_plain else (value - self.zero) / self.size

    def back(self, number: float) -> float:
        """The value that a number stands for."""
        return number if self.is_plain else number * self.size + self.zero

    @property
    def is_plain(self) -> bool:
        """Whether values are shown as they are."""
        return self.size == 1.0 and self.zero == 0.0


# For each unit what it is of, and what is offered in its place, with the size of one; marked with * is that of US customary units.
_OTHERS: dict[str, tuple[str, tuple[tuple[str, float], ...]]] = {
    "Pa": ("Pressure and stress", (("hPa", 100.0), ("kPa", 1e3), ("MPa", 1e6), ("bar", 1e5), ("*psi", _FORCE / _INCH**2),
                                   ("lbf/ft²", _FORCE / _FOOT**2), ("atm", 101325.0))),
    "Pa/m": ("Pressure gradient", (("kPa/m", 1e3), ("MPa/m", 1e6), ("*psi/ft", _FORCE / _INCH**2 / _FOOT))),
    "Pa/s": ("Pressure rate", (("kPa/s", 1e3), ("MPa/s", 1e6), ("*psi/s", _FORCE / _INCH**2))),
    "K": ("Temperature", (("°C", 1.0), ("*°F", _RANKINE), ("°R", _RANKINE))),
    "m/s": ("Speed", (("km/h", 1 / 3.6), ("*ft/s", _FOOT), ("mph", 5280 * _FOOT / 3600), ("kn", 1852 / 3600))),
    "kg/m³": ("Density", (("g/cm³", 1e3), ("*lb/ft³", _POUND / _FOOT**3), ("slug/ft³", _FORCE / _FOOT**4))),
    "W/m²": ("Heat flux", (("kW/m²", 1e3), ("MW/m²", 1e6), ("W/cm²", 1e4), ("*Btu/(s ft²)", _BTU / _FOOT**2))),
    "W": ("Power", (("kW", 1e3), ("MW", 1e6), ("*hp", 550 * _FORCE * _FOOT), ("Btu/s", _BTU))),
    "N": ("Force", (("kN", 1e3), ("*lbf", _FORCE))),
    "N m": ("Moment", (("kN m", 1e3), ("*lbf ft", _FORCE * _FOOT))),
    "J": ("Energy", (("kJ", 1e3), ("MJ", 1e6), ("*Btu", _BTU))),
    "J/kg": ("Enthalpy", (("kJ/kg", 1e3), ("*Btu/lb", _BTU / _POUND))),
    "J/(kg K)": ("Entropy", (("kJ/(kg K)", 1e3), ("*Btu/(lb °R)", _BTU / _POUND / _RANKINE))),
    "W/(m K)": ("Conductivity", (("mW/(m K)", 1e-3), ("*Btu/(h ft °R)", _BTU / 3600 / _FOOT / _RANKINE))),
    "kg/(m s)": ("Viscosity", (("mPa s", 1e-3), ("µPa s", 1e-6), ("*lb/(ft s)", _POUND / _FOOT))),
    "m": ("Length in tables and charts", (("mm", 1e-3), ("cm", 1e-2), ("km", 1e3), ("in", _INCH), ("*ft", _FOOT))),
    "m²": ("Area", (("mm²", 1e-6), ("cm²", 1e-4), ("in²", _INCH**2), ("*ft²", _FOOT**2))),
    "m³": ("Volume", (("L", 1e-3), ("cm³", 1e-6), ("*ft³", _FOOT**3))),
    "m²/s": ("Circulation", (("mm²/s", 1e-6), ("*ft²/s", _FOOT**2))),
    "m³/s": ("Volume flow", (("L/s", 1e-3), ("m³/h", 1 / 3600), ("*ft³/s", _FOOT**3))),
    "kg/s": ("Mass flow", (("g/s", 1e-3), ("kg/h", 1 / 3600), ("t/h", 1 / 3.6), ("*lb/s", _POUND))),
    "m/s²": ("Acceleration", (("g", _GRAVITY), ("*ft/s²", _FOOT))),
    "1/s": ("Vorticity and rates", (("1/ms", 1e3), ("1/min", 1 / 60))),
    "rad": ("Angle", (("°", math.pi / 180),)),
    "s": ("Time in tables and charts", (("ms", 1e-3), ("µs", 1e-6), ("min", 60.0), ("h", 3600.0)))}
_ZEROS = {"°C": 273.15, "°F": 459.67 * _RANKINE}
_CUSTOMARY = (("ft", _FOOT), ("lb", _POUND), ("s", 1.0), ("°R", _RANKINE))  # in the place of the base units
DIMENSIONS = {unit: what for unit, (what, _) in _OTHERS.items()}


def choices(unit: str, *, absolute: bool = False) -> tuple[Shown, ...]:
    """What numbers of a unit can be shown in, the unit itself first.

    Parameters
    ----------
    unit : str
        As on screen, in SI.
    absolute : bool
        Whether zero may be moved: temperatures, but not their differences.
    """
    if unit not in _OTHERS:
        own, customary = Shown(unit), _customary(unit)
        return (own,) if not unit or customary == own else (own, customary)
    out = [Shown(unit)]
    for text, size in _OTHERS[unit][1]:
        name = text.lstrip("*")
        if name not in _ZEROS or absolute:
            out.append(Shown(name, size, _ZEROS.get(name, 0.0)))
    return tuple(out)


def in_system(unit: str, system: System, *, absolute: bool = False) -> Shown:
    """What a system of units shows numbers of a unit in."""
    if system == "si" or not unit:
        return Shown(unit)
    marked = next((text[1:] for text, _ in _OTHERS.get(unit, ("", ()))[1] if text.startswith("*")), "")
    offered = {s.text: s for s in choices(unit, absolute=absolute)}
    return offered.get(marked) or offered.get("°R") or _customary(unit)


def _customary(unit: str) -> Shown:
    """Feet for metres, pounds for kilograms and degrees Rankine for kelvins in a unit; the unit itself where it holds none of them."""
    try:
        powers = unit_of(unit).powers
    except ValueError:
        return Shown(unit)
    if not any(power for power, name in zip(powers, BASES, strict=True) if name != "s"):
        return Shown(unit)
    size = math.prod(float(one) ** float(power) for (_, one), power in zip(_CUSTOMARY, powers, strict=True))
    return Shown(written(Unit(powers), tuple(name for name, _ in _CUSTOMARY)), size)
