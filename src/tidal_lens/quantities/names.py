"""What names in formulas stand for."""

from __future__ import annotations

import functools
import keyword
import math
import re
from collections.abc import Mapping

from tidal_lens.flow.case import Flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.catalogue import BY_NAME, CATALOGUE, HIDDEN, Definition
from tidal_lens.quantities.formula.functions import FUNCTIONS
from tidal_lens.quantities.formula.parse import parse
from tidal_lens.quantities.formula.tree import Formula, Leaf, Shape
from tidal_lens.quantities.methods import Methods, unit_vector
from tidal_lens.quantities.units import METRE, NUMBER, Unit, unit_of

FILE, FORMULA, CONST = "file:", "formula:", "const:"
OWN = "own:"  # what a card brings along: no quantity of the flow
AIR = 287.05287  # [J/(kg K)], U.S. Standard Atmosphere 1976
_SHAPES: dict[int, Shape] = {1: "scalar", 3: "vector", 9: "tensor"}
# Roles: identifiers, whether a vector, SI unit.
ROLES: dict[str, tuple[Shape, str]] = {
    "velocity": ("vector", "m/s"), "pressure": ("scalar", "Pa"), "density": ("scalar", "kg/m³"), "temperature": ("scalar", "K"),
    "viscosity": ("scalar", "kg/(m s)"), "energy": ("scalar", "Pa"),
}
# Fixed numbers that follow from the reference state, the chosen axis and so on: shape, unit, and what they are.
CONSTANTS: dict[str, tuple[Shape, str, str]] = {
    "gamma": ("scalar", "", "ratio of specific heats"), "R": ("scalar", "J/(kg K)", "gas constant"),
    "Pr": ("scalar", "", "Prandtl number"), "p_ref": ("scalar", "Pa", "free-stream pressure"),
    "rho_ref": ("scalar", "kg/m³", "free-stream density"), "T_ref": ("scalar", "K", "free-stream temperature"),
    "U_ref": ("vector", "m/s", "free-stream velocity"), "speed_ref": ("scalar", "m/s", "free-stream speed"),
    "q_ref": ("scalar", "Pa", "free-stream dynamic pressure"), "M_ref": ("scalar", "", "free-stream Mach number"),
    "p0_ref": ("scalar", "Pa", "free-stream total pressure"), "mu_ref": ("scalar", "kg/(m s)", "typed viscosity"),
    "A_ref": ("scalar", "m²", "reference area"), "L_ref": ("scalar", "m", "reference length"),
    "X_ref": ("vector", "m", "point that moments are taken about"),
    "d_ref": ("scalar", "m", "depth that sums over a plane flow are taken over"),
    "axis": ("vector", "", "direction of the axis of rotation"), "axis_point": ("vector", "m", "a point of that axis"),
    "spin": ("scalar", "1/s", "rate of rotation about it"), "knife": ("vector", "", "direction of the knife edge"),
    "shading": ("scalar", "", "how dark schlieren shading is"), "t": ("scalar", "s", "time"),
}
_FIXED = {"pi": math.pi, "e": math.e}
_IDENTIFIER = re.compile(r"[^\W\d]\w*")


# Their names in formulas, where those are others.
_SPELT = {"R": "gas_constant", "Pr": "prandtl_number", "p_ref": "free_stream_pressure", "rho_ref": "free_stream_density",
          "T_ref": "free_stream_temperature", "U_ref": "free_stream_velocity", "speed_ref": "free_stream_speed",
          "q_ref": "free_stream_dynamic_pressure", "M_ref": "free_stream_mach_number", "p0_ref": "free_stream_total_pressure",
          "mu_ref": "reference_viscosity",
          "A_ref": "reference_area", "L_ref": "reference_length", "X_ref": "moment_point",
          "d_ref": "reference_depth", "t": "time"}
_CONSTANT_OF = {_SPELT.get(name, name): name for name in CONSTANTS}


def constant_word(name: str) -> str:
    """The name of a constant in formulas."""
    return _SPELT.get(name, name)


def word_of(definition: Definition) -> str:
    """The name of a quantity in formulas: as it is called on screen, with _ for blanks."""
    title = (definition.title or definition.name).lower().replace("ρ", "density").replace("+", "_plus")
    return re.sub(r"\W+", "_", title).strip("_")


_BY_WORD = {word_of(d): d for d in reversed(CATALOGUE)}
# What these were called before: studies of that time are understood.
OLD_NAMES = {"U": "velocity", "p": "pressure", "rho": "density", "T": "temperature", "mu": "viscosity", "rho_E": "energy", **_SPELT,
             **{old: word_of(d) for d in CATALOGUE if (old := d.name.replace("-", "_")) not in _BY_WORD}}


def constant(name: str, flow: Flow, reference: ReferenceState, methods: Methods) -> tuple[float, ...] | None:
    """Value of a constant: one or three numbers, or None where it is not known."""
    ref = reference
    gas = ref.gas_constant or (AIR if flow.si_units else None)
    speed = ref.speed if ref.speed > 0.0 else None
    dynamic = 0.5 * ref.density * speed**2 if ref.density is not None and speed is not None else None
    g = ref.gamma
    total = ref.pressure * (1.0 + (g - 1.0) / 2.0 * ref.mach**2) ** (g / (g - 1.0)) if ref.pressure and ref.mach is not None else None
    if total is None and ref.pressure is not None and dynamic is not None:
        total = ref.pressure + dynamic
    found: dict[str, float | tuple[float, ...] | None] = {
        "gamma": g, "R": gas, "Pr": ref.prandtl, "p_ref": ref.pressure, "rho_ref": ref.density,
        "T_ref": ref.pressure / (ref.density * gas) if ref.pressure and ref.pressure > 0.0 and ref.density and gas else None,
        "U_ref": ref.velocity if speed else None, "speed_ref": speed, "q_ref": dynamic, "M_ref": ref.mach, "p0_ref": total,
        "mu_ref": ref.viscosity, "A_ref": ref.area, "L_ref": ref.length, "X_ref": ref.about, "d_ref": ref.depth,
        "axis": unit_vector(methods.axis), "axis_point": methods.axis_point, "spin": methods.spin,
        "knife": unit_vector(methods.knife), "shading": methods.shading,
        "t": flow.times[flow.step] if flow.step < len(flow.times) else None,
    }
    value = found[name]
    return value if value is None or isinstance(value, tuple) else (float(value),)


def standard(name: str, _quoted: bool = False) -> Leaf | None:
    """What a name stands for apart from any file: a coordinate, a role, an entry of the catalogue, a constant."""
    if name in "xyz" and len(name) == 1:
        return Leaf("scalar", METRE, axis="xyz".index(name))
    if name in ROLES:
        return Leaf(ROLES[name][0], unit_of(ROLES[name][1]), name)
    definition = _BY_WORD.get(name)
    if definition is not None:
        return Leaf(_SHAPES[definition.components], unit_of(definition.unit), definition.name)
    if name in _CONSTANT_OF:
        shape, unit, _ = CONSTANTS[_CONSTANT_OF[name]]
        return Leaf(shape, unit_of(unit), CONST + _CONSTANT_OF[name])
    return Leaf("scalar", NUMBER, value=(_FIXED[name],)) if name in _FIXED else None


@functools.cache
def catalogue_formula(name: str) -> Formula | None:
    """The checked formula of an entry of the catalogue; None for one that has a computation of its own."""
    text = BY_NAME[name].formula
    return parse(text, standard) if text else None


@functools.cache
def substitute(role: str) -> tuple[tuple[str, Formula], ...]:
    """What stands in for a role that no array plays: ways, of which the first that can be had is taken.

    Before each stand the roles that arrays have to play for it (so that no two stand in for one another), ``absolute`` for a pressure
    that counts from nothing, or ``si`` where it holds in SI units only.
    """
    ways = {"temperature": (("density", "pressure / (density * gas_constant)"),),
            "pressure": (("density", "(gamma - 1) * (energy - 0.5 * density * dot(velocity, velocity))"),),
            "density": (("absolute temperature", "pressure / (gas_constant * temperature)"), ("", "free_stream_density * (1 + 0 * x)")),
            # Sutherland's law for air as the U.S. Standard Atmosphere 1976 has it.
            "viscosity": (("", "reference_viscosity * (1 + 0 * x)"), ("si", "1.458e-6 * temperature**1.5 / (temperature + 110.4)"))}
    return tuple((given, parse(text, standard)) for given, text in ways.get(role, ()))


def pressure_is_absolute(flow: Flow, reference: ReferenceState) -> bool:
    """Whether there is an array of pressure that counts from nothing: laws of gases hold for no other.

    One that counts from the free stream, say, is zero or negative in many places; a few faulty nodes are no sign of that.
    """
    field = flow.fields.get(flow.roles.pressure or "")
    if field is None or (reference.pressure is not None and reference.pressure <= 0.0):
        return False
    some = field.values[:: max(1, len(field.values) // 200_000)]
    return float((some <= 0.0).mean()) < 1e-3


def density_is_constant(flow: Flow, reference: ReferenceState, methods: Methods) -> bool:
    """Whether only the free stream's density stands in for one that the result does not have."""
    roles = flow.roles
    of_gas = roles.temperature and constant("R", flow, reference, methods) is not None and pressure_is_absolute(flow, reference)
    return not roles.density and not of_gas and reference.density is not None


class NameTable:
    """Names that the formulas of one flow may use.

    Parameters
    ----------
    flow : Flow
        Its arrays and roles.
    shapes : mapping of str to (Shape, Unit or None)
        The user's formulas that are understood so far.
    """

    def __init__(self, flow: Flow, shapes: Mapping[str, tuple[Shape, Unit | None]]) -> None:
        self._flow, self._shapes = flow, shapes

    def resolve(self, name: str, quoted: bool) -> Leaf | None:
        """What a name stands for; in backticks an array of the file comes first."""
        field = self._flow.fields.get(name)
        from_file = None if field is None else Leaf(_SHAPES[field.components], None, FILE + name)
        if quoted and from_file is not None:
            return from_file
        if name in self._shapes:
            shape, unit = self._shapes[name]
            return Leaf(shape, unit, FORMULA + name)
        found = standard(name)
        plays = found is not None and (found.axis >= 0 or (found.key in ROLES and self._plays(found.key)))
        if found is None or (from_file is not None and not plays):
            return from_file or found
        known = self._flow.si_units or found.unit is None or found.unit.is_none
        return found if known else Leaf(found.shape, None, found.key, found.value, found.axis)

    def _plays(self, role: str) -> bool:
        roles = self._flow.roles
        return roles.has_velocity if role == "velocity" else bool(getattr(roles, role))

    def offered(self) -> list[tuple[str, str]]:
        """Names with what they are, for completion and for "did you mean"."""
        out = [(name, "formula") for name in self._shapes]
        out += [(name, "array of the file") for name in self._flow.fields]
        out += [(role, role) for role in ROLES]
        out += [(a, "coordinate") for a in "xyz"]
        out += [(word_of(d), d.title) for d in CATALOGUE if d.group != HIDDEN]
        out += [(constant_word(name), about) for name, (_, _, about) in CONSTANTS.items()]
        out += [(name, "number") for name in _FIXED]
        seen: dict[str, str] = {}
        for name, about in out:
            seen.setdefault(name, about)
        return list(seen.items())


def name_fault(name: str, taken: frozenset[str]) -> str:
    """Why a formula cannot be called so; empty where it can."""
    if not name:
        return "A formula needs a name."
    if len(name) > 60:
        return "The name is too long."
    if _IDENTIFIER.fullmatch(name) is None or keyword.iskeyword(name):
        return "A name is letters, digits and _, and begins with a letter."
    if name in FUNCTIONS:
        return f"{name} is a function."
    if name in OLD_NAMES:
        return f"{name} meant {OLD_NAMES[name]} in earlier studies."
    if standard(name) is not None:
        return f"{name} already means something: {_meaning(name)}."
    return f"There is a formula called {name} already." if name in taken else ""


def _meaning(name: str) -> str:
    if name in _CONSTANT_OF:
        return CONSTANTS[_CONSTANT_OF[name]][2]
    definition = _BY_WORD.get(name)
    if definition is not None:
        return definition.title.lower()
    return name if name in ROLES else "a coordinate" if name in "xyz" else "a number"

