"""What is often written in another way than the formula language has it, and what to write instead."""

from __future__ import annotations

import re
from dataclasses import dataclass

# Symbols and words of text books and of other languages, with our names; of several, those first that are quantities.
NAMES = {
    "p_inf": "p_ref", "pinf": "p_ref", "rho_inf": "rho_ref", "rhoinf": "rho_ref", "T_inf": "T_ref", "U_inf": "U_ref", "Uinf": "U_ref",
    "V_inf": "speed_ref", "q_inf": "q_ref", "M_inf": "M_ref", "Ma_inf": "M_ref", "p0_inf": "p0_ref", "mu_inf": "mu_ref",
    "vel": "U", "V": "U", "v": "U.y", "w": "U.z", "M": "mach", "Ma": "mach", "a": "sound_speed", "c": "sound_speed",
    "p0": "total_pressure", "pt": "total_pressure", "p_t": "total_pressure", "T0": "total_temperature", "Tt": "total_temperature",
    "T_t": "total_temperature", "h": "enthalpy", "nu": "(mu / rho)", "omega": "vorticity", "cf": "skin_friction", "Cf": "skin_friction",
    "ρ": "rho", "μ": "mu", "γ": "gamma", "π": "pi", "ω": "vorticity", "ν": "(mu / rho)", "λ2": "lambda2", "time": "t",
}
FUNCTIONS = {
    "norm": "mag", "length": "mag", "magnitude": "mag", "gradient": "grad", "nabla": "grad", "divergence": "div",
    "rot": "curl", "ln": "log", "average": "mean", "avg": "mean", "minimum": "min", "maximum": "max", "fabs": "abs", "arcsin": "asin",
    "arccos": "acos", "arctan": "atan", "arctan2": "atan2", "sgn": "sign", "normalize": "unit", "normalise": "unit", "trace": "tr",
    "clamp": "clip", "limit": "clip", "select": "where", "lap": "laplacian",
}
_SMALL = "⁰¹²³⁴⁵⁶⁷⁸⁹"
_RAISED = re.compile(f"[{_SMALL}]+")
_FACTOR = re.compile(r"(?<![\w.])(\d+(?:\.\d*)?(?:[eE][-+]?\d+)?)[ ]*(?!(?:and|or|if|else|not)\b)([^\W\d]\w*)")
_BARS = re.compile(r"\|([^|]+)\|")
_IF = re.compile(r"\bif\s*\((?=[^()]*,)")
_BY = re.compile(r"\bd\s*\(([^()]*)\)\s*/\s*d([xyzt])\b")


@dataclass(frozen=True)
class Slip:
    """What is wrong in text[begin:end], and what to write in its place."""

    what: str
    begin: int
    end: int
    instead: str


def slip_in(text: str, source: str) -> Slip | None:
    """The first of the known slips in a formula that could not be read; ``source`` is the text without what stands in backticks."""
    def own(match: re.Match[str], group: int) -> str:
        return text[slice(*match.span(group))]

    if found := _RAISED.search(source):
        return Slip("Powers are written with **.", *found.span(), f"**{''.join(str(_SMALL.index(c)) for c in found.group())}")
    if found := _IF.search(source):
        return Slip("A choice is written where(condition, a, b), or a if condition else b.", *found.span(), "where(")
    if source.count("?") == 1 and source.count(":") == 1 and source.index("?") < source.index(":"):
        condition, one, other = text[:source.index("?")], text[source.index("?") + 1:source.index(":")], text[source.index(":") + 1:]
        return Slip("A choice is written a if condition else b.", 0, len(text),
                    f"{one.strip()} if {condition.strip()} else {other.strip()}")
    if found := _BARS.search(source):
        return Slip("A length is written mag(a), a number without its sign abs(f).", *found.span(), f"mag({own(found, 1)})")
    if found := _FACTOR.search(source):
        return Slip("An operator is missing here.", *found.span(), f"{own(found, 1)} * {own(found, 2)}")
    return None


def quotient_in(text: str) -> Slip | None:
    """A derivative that is written as a quotient."""
    found = _BY.search(text)
    return None if found is None else Slip("A derivative is written ddx(f).", *found.span(), f"dd{found.group(2)}({found.group(1)})")
