"""Units as powers of metre, kilogram, second and kelvin; unknown ones are None."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

BASES = ("m", "kg", "s", "K")
_NAMED = {"Pa": (-1, 1, -2, 0), "N": (1, 1, -2, 0), "J": (2, 1, -2, 0), "W": (2, 1, -3, 0), "Hz": (0, 0, -1, 0), "rad": (0, 0, 0, 0)}
# How products are best written; the first that fits.
_KNOWN: dict[tuple[int, ...], str] = {
    (-1, 1, -2, 0): "Pa", (-1, 1, -1, 0): "kg/(m s)", (2, 0, -2, -1): "J/(kg K)", (0, 1, -3, 0): "W/m²", (2, 0, -2, 0): "m²/s²",
    (-1, 1, -3, 0): "Pa/s", (-2, 1, -2, 0): "Pa/m"}
_RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")
_LOWERED = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻", "0123456789-")
_TERM = re.compile(r"^([A-Za-z]+)(-?\d+)?$")


@dataclass(frozen=True)
class Unit:
    """A product of powers of the base units."""

    powers: tuple[Fraction, ...] = (Fraction(0),) * 4

    def __mul__(self, other: Unit) -> Unit:
        return Unit(tuple(a + b for a, b in zip(self.powers, other.powers, strict=True)))

    def __truediv__(self, other: Unit) -> Unit:
        return Unit(tuple(a - b for a, b in zip(self.powers, other.powers, strict=True)))

    def __pow__(self, exponent: float) -> Unit:
        by = Fraction(exponent).limit_denominator(1000)
        return Unit(tuple(a * by for a in self.powers))

    @property
    def is_none(self) -> bool:
        """Whether it is a pure number."""
        return not any(self.powers)

    def __str__(self) -> str:
        known = _KNOWN.get(tuple(int(p) for p in self.powers)) if all(p.denominator == 1 for p in self.powers) else None
        if known is not None:
            return known
        return written(self, BASES)


def written(unit: Unit, bases: tuple[str, ...]) -> str:
    """A unit as a fraction of powers of base units that are called so."""
    above = [_power(n, p) for n, p in zip(bases, unit.powers, strict=True) if p > 0]
    below = [_power(n, -p) for n, p in zip(bases, unit.powers, strict=True) if p < 0]
    if not below:
        return " ".join(above)
    under = below[0] if len(below) == 1 else f"({' '.join(below)})"
    return f"{' '.join(above) or '1'}/{under}"


def _power(name: str, power: Fraction) -> str:
    if power == 1:
        return name
    return f"{name}{str(power).translate(_RAISED)}" if power.denominator == 1 else f"{name}^({power})"


NUMBER = Unit()
METRE, KILOGRAM, SECOND, KELVIN = (Unit(tuple(Fraction(int(n == b)) for b in BASES)) for n in BASES)


def unit_of(text: str) -> Unit:
    """The unit that a text such as ``kg/(m s²)`` or ``1/s`` names.

    Raises
    ------
    ValueError
        It is none of those known here.
    """
    above, _, below = text.partition("/")
    found = NUMBER
    for part, sign in ((above, 1), (below, -1)):
        for word in part.replace("(", " ").replace(")", " ").split():
            if word == "1":
                continue
            match = _TERM.match(word.translate(_LOWERED))
            if match is None or match[1] not in (*BASES, *_NAMED):
                raise ValueError(f"the unit {word!r} is not known")
            powers = _NAMED.get(match[1]) or tuple(int(match[1] == b) for b in BASES)
            found = found * Unit(tuple(Fraction(p) for p in powers)) ** (sign * int(match[2] or 1))
    return found
