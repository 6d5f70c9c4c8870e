"""What is often written in another way than the formula language has it, and what to write instead."""

from __future__ import annotations

import re
from dataclasses import dataclass

# Symbols and words of text books and of other languages, with our names; of several, those first that are quantities.
NAMES = {
    "p_inf": "free_stream_pressure", "pinf": "free_stream_pressure", "rho_inf": "free_stream_density", "rhoinf": "free_stream_density",
    "T_inf": "free_stream_temperature", "U_inf": "free_stream_velocity", "Uinf": "free_stream_velocity", "V_inf": "free_stream_speed",
    "q_inf": "free_stream_dynamic_pressure", "M_inf": "free_stream_mach_number", "Ma_inf": "free_stream_mach_number",
    "p0_inf": "free_stream_total_pressure", "mu_inf": "reference_viscosity",
    "vel": "velocity", "V": "velocity", "u": "velocity.x", "v": "velocity.y", "w": "velocity.z", "M": "mach_number", "Ma": "mach_number",
    "a": "speed_of_sound", "c": "speed_of_sound",
    "p0": "total_pressure", "pt": "total_pressure", "p_t": "total_pressure", "T0": "total_temperature", "Tt": "total_temperature",
    "T_t": "total_temperature", "h": "enthalpy", "nu": "(viscosity / density)", "omega": "vorticity", "cf": "skin_friction_coefficient",
    "Cf": "skin_friction_coefficient", "Cp": "pressure_coefficient", "lambda2": "lambda_2",
    "ρ": "density", "μ": "viscosity", "γ": "gamma", "π": "pi", "ω": "vorticity", "ν": "(viscosity / density)", "λ2": "lambda_2",
}
FUNCTIONS = {
    "norm": "length", "magnitude": "length", "gradient": "grad", "nabla": "grad", "divergence": "div",
    "rot": "curl", "ln": "log", "average": "mean", "avg": "mean", "minimum": "min", "maximum": "max", "fabs": "abs", "arcsin": "asin",
    "arccos": "acos", "arctan": "atan", "arctan2": "atan2", "sgn": "sign", "normalize": "unit", "normalise": "unit",
    "clamp": "clip", "limit": "clip", "select": "where", "lap": "laplacian",
}
# Functions as they were called before: studies of that time are understood.
OLD_FUNCTIONS = {"mag": "length", "sym": "symmetric", "skew": "antisymmetric", "tr": "trace", "vec": "vector", "det": "determinant",
                 "ddt": "rate", "vmin": "least", "vmax": "greatest"}
OLD_SLOPES = {"ddx": "x", "ddy": "y", "ddz": "z"}
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
        return Slip("A length is written length(a), a number without its sign abs(f).", *found.span(), f"length({own(found, 1)})")
    if found := _FACTOR.search(source):
        return Slip("An operator is missing here.", *found.span(), f"{own(found, 1)} * {own(found, 2)}")
    return None


def quotient_in(text: str) -> Slip | None:
    """A derivative that is written as a quotient."""
    found = _BY.search(text)
    if found is None:
        return None
    inner, by = found.groups()
    return Slip("A derivative is written slope(f, x), one in time rate(f).", *found.span(), f"rate({inner})" if by == "t"
                else f"slope({inner}, {by})")
