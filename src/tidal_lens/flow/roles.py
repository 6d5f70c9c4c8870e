"""Which fields are velocity, pressure, density and so on: recognised by open naming standards and habit."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

ROLE_NAMES = {"velocity": "Velocity", "momentum": "Momentum", "pressure": "Pressure", "density": "Density",
              "temperature": "Temperature", "viscosity": "Viscosity", "energy": "Energy"}
SCALAR_ROLES = ("pressure", "density", "temperature", "viscosity", "energy")
VECTOR_ROLES = ("velocity", "momentum")

# Names are compared in lower case with everything but letters and digits taken out; the first of each is the CGNS data name.
_SCALARS: dict[str, tuple[str, ...]] = {
    "pressure": ("pressure", "p", "staticpressure", "pstatic", "ps", "press", "pabs"),
    "density": ("density", "rho", "ρ", "r", "dens"),
    "temperature": ("temperature", "t", "temp", "statictemperature", "tstatic", "ts"),
    "viscosity": ("viscositymolecular", "viscosity", "mu", "μ", "laminarviscosity", "dynamicviscosity",
                  "molecularviscosity", "viscositydynamic", "mulam", "mul"),
    "energy": ("energystagnationdensity", "rhoe", "rhoet", "totalenergydensity", "energydensity"),
}
_SCALARS["conserved energy"] = ("energy", "totalenergy", "e", "et", "etot", "energytotal", "energystagnation")
_VECTORS: dict[str, tuple[str, ...]] = {
    "velocity": ("velocity", "u", "v", "vel", "velo", "uvw", "flowvelocity", "velocityvector", "vector velocity"),
    "momentum": ("momentum", "rhou", "momentumvector", "massflux", "rhov", "rhouvw"),
}
_COMPONENTS: dict[str, tuple[tuple[str, str, str], ...]] = {
    "velocity": (("velocityx", "velocityy", "velocityz"), ("u", "v", "w"), ("ux", "uy", "uz"), ("vx", "vy", "vz"),
                 ("xvelocity", "yvelocity", "zvelocity"), ("velx", "vely", "velz"), ("u1", "u2", "u3"), ("u0", "u1", "u2"),
                 ("velocity0", "velocity1", "velocity2"), ("velocity1", "velocity2", "velocity3"), ("vel0", "vel1", "vel2"),
                 ("vel1", "vel2", "vel3"), ("velocityu", "velocityv", "velocityw"), ("velu", "velv", "velw"),
                 ("uvelocity", "vvelocity", "wvelocity"), ("uvel", "vvel", "wvel"), ("xvel", "yvel", "zvel"), ("v1", "v2", "v3"),
                 ("velocityi", "velocityj", "velocityk")),
    "momentum": (("momentumx", "momentumy", "momentumz"), ("rhou", "rhov", "rhow"), ("xmomentum", "ymomentum", "zmomentum"),
                 ("rhoux", "rhouy", "rhouz"), ("momx", "momy", "momz"), ("momentum0", "momentum1", "momentum2"),
                 ("momentum1", "momentum2", "momentum3"), ("densityvelocityx", "densityvelocityy", "densityvelocityz"),
                 ("rhovx", "rhovy", "rhovz"), ("rhou0", "rhou1", "rhou2")),
}
# Words round a name that leave its meaning, and words that change it.
_HARMLESS = frozenset({"mean", "avg", "average", "averaged", "time", "inst", "instantaneous", "static", "absolute", "abs", "cell", "node",
                       "nodal", "point", "vertex", "flow", "field", "solution", "sol", "var", "value", "data", "result", "results", "cfd",
                       "fluid", "gas", "phase", "primitive", "conservative", "favre", "ns", "si", "f", "n", "m",
                       "s", "pa", "kg", "m3", "k"})
_HARMFUL = frozenset({"rms", "prime", "fluct", "fluctuation", "variance", "std", "grad", "gradient", "error", "residual", "total",
                      "stagnation", "relative", "rel", "turbulent", "wall", "dynamic", "coefficient", "loss", "rate", "mag",
                      "magnitude", "friction", "sound", "angular", "mesh", "grid"})
_ALONE = frozenset({"f", "n", "m", "s", "k"})  # harmless as a unit or a prefix, unless they are all that is left


@dataclass(frozen=True)
class Roles:
    """Names of the fields that play each role: one name, three component names, or none.

    ``reasons`` says of each role, in words, why its fields were taken.
    """

    velocity: tuple[str, ...] = ()
    momentum: tuple[str, ...] = ()
    pressure: str | None = None
    density: str | None = None
    temperature: str | None = None
    viscosity: str | None = None
    energy: str | None = None
    reasons: Mapping[str, str] = field(default_factory=dict)

    @property
    def has_velocity(self) -> bool:
        """Whether velocity is there, or follows from momentum and density."""
        return bool(self.velocity) or bool(self.momentum and self.density)

    @property
    def has_pressure(self) -> bool:
        """Whether pressure is there, or follows from the total energy, density and velocity."""
        return self.pressure is not None or (self.energy is not None and self.density is not None and self.has_velocity)

    def fields(self, role: str) -> tuple[str, ...]:
        """Fields that play a role."""
        found = getattr(self, role)
        return found if isinstance(found, tuple) else (found,) if found else ()

    def described(self) -> dict[str, str]:
        """Each role with the fields that fill it, in words."""
        found = {role: ", ".join(self.fields(role)) for role in ROLE_NAMES if self.fields(role)}
        if not self.velocity and self.has_velocity:
            found["velocity"] = f"{', '.join(self.momentum)} ÷ {self.density}"
        if self.pressure is None and self.has_pressure:
            found["pressure"] = f"from {self.energy}"
        return found

    def with_role(self, role: str, names: tuple[str, ...], reason: str) -> Roles:
        """The roles with one filled otherwise."""
        value: tuple[str, ...] | str | None = names if role in VECTOR_ROLES else names[0] if names else None
        changes: dict[str, object] = {role: value, "reasons": {**self.reasons, role: reason}}
        return replace(self, **changes)  # type: ignore[arg-type]  # the names of roles are the names of attributes


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9ρμ]", "", name.lower())


def _words(name: str) -> list[str]:
    """Words of a name: parted by signs and where small letters turn to capitals; units in brackets left out."""
    bare = re.sub(r"\[[^\]]*[a-zA-Z/][^\]]*\]|\([^)]*[/][^)]*\)", " ", name)
    parted = re.sub(r"(?<=[a-z])(?=[A-Z][a-z])", " ", bare)
    return [w for w in re.split(r"[^A-Za-z0-9ρμ]+", parted) if w]


def _core(name: str) -> str | None:
    """The plain name without words that leave its meaning; None where a word changes it, or nothing was left out."""
    words = [w.lower() for w in _words(name)]
    if any(w in _HARMFUL for w in words):
        return None
    kept = [w for w in words if w not in _HARMLESS]
    if not kept and any(w in _ALONE for w in words):
        return None
    core = _plain("".join(kept))
    core = re.sub(r"(mean|avg|average|inst)$|^(mean|avg|average|inst)", "", core) or core
    return core if core != _plain(name) else None


def recognise_roles(components: Mapping[str, int]) -> Roles:
    """Find the roles among field names.

    Parameters
    ----------
    components : mapping of str to int
        Field name to number of components (1 or 3).

    Returns
    -------
    Roles
        Standard data names (CGNS: ``Density``, ``Pressure``, ``VelocityX`` …) win over common habits, and names as they are over
        names with something before or after them.
    """
    found = Roles()
    for plain, words in ((_plain, ""), (_core, ", with words round it")):
        scalars = _table(components, 1, plain)
        vectors = _table(components, 3, plain)
        for role in VECTOR_ROLES:
            if not found.fields(role):
                names, reason = _vector(role, scalars, vectors)
                found = found.with_role(role, names, reason + words) if names else found
        for role in SCALAR_ROLES:
            if not found.fields(role):
                names, reason = _scalar(role, scalars)
                found = found.with_role(role, names, reason + words) if names else found
    if not found.energy and not found.pressure and found.momentum and found.density:
        # Beside density and momentum, energy is that of a volume too.
        names, _ = _scalar("conserved energy", _table(components, 1, _plain))
        found = found.with_role("energy", names, "common name, beside density and momentum") if names else found
    if not found.velocity and found.has_velocity:
        found = replace(found, reasons={**found.reasons, "velocity": "momentum divided by density"})
    if found.pressure is None and found.has_pressure:
        found = replace(found, reasons={**found.reasons, "pressure": "perfect gas: (γ − 1)(ρE − ½ρu²)"})
    return found


def _table(components: Mapping[str, int], count: int, plain: object) -> dict[str, str]:
    assert callable(plain)
    return {key: n for n, c in reversed(list(components.items())) if c == count and (key := plain(n))}


def _vector(role: str, scalars: Mapping[str, str], vectors: Mapping[str, str]) -> tuple[tuple[str, ...], str]:
    for at, name in enumerate(_VECTORS[role]):
        if name in vectors:
            return (vectors[name],), "standard name" if at == 0 else "common name"
    for at, trio in enumerate(_COMPONENTS[role]):
        if all(c in scalars for c in trio):
            return tuple(scalars[c] for c in trio), "standard names (CGNS)" if at == 0 else "common names"
    return (), ""


def _scalar(role: str, scalars: Mapping[str, str]) -> tuple[tuple[str, ...], str]:
    for at, name in enumerate(_SCALARS[role]):
        if name in scalars:
            return (scalars[name],), "standard name (CGNS)" if at == 0 else "common name"
    return (), ""


def without_a_role(names: Iterable[str]) -> tuple[str, ...]:
    """Names that play no role, whatever number of components they have."""
    known = list(names)
    scalars, vectors = recognise_roles(dict.fromkeys(known, 1)), recognise_roles(dict.fromkeys(known, 3))
    used = {n for roles in (scalars, vectors) for role in ROLE_NAMES for n in roles.fields(role)}
    return tuple(n for n in known if n not in used)


def vector_candidates(components: Mapping[str, int]) -> list[tuple[str, ...]]:
    """Fields that could make a vector: those of three components, then trios of scalars whose names differ in one sign only.

    Parameters
    ----------
    components : mapping of str to int
        Field name to number of components.
    """
    found: list[tuple[str, ...]] = [(n,) for n, c in components.items() if c == 3]
    scalars = [n for n, c in components.items() if c == 1]
    known = set(scalars)
    for letters in ("xyz", "XYZ", "uvw", "UVW", "123", "012", "ijk"):
        for name in scalars:
            for at, letter in enumerate(name):
                if letter == letters[0]:
                    trio = tuple(name[:at] + other + name[at + 1:] for other in letters)
                    if all(n in known for n in trio) and trio not in found:
                        found.append(trio)
    return found


def missing_component(components: Mapping[str, int]) -> list[tuple[str, str]]:
    """Vectors of plane flow that come as two scalars: one of the two, and the name that the third would have.

    Parameters
    ----------
    components : mapping of str to int
        Field name to number of components.
    """
    scalars = {_plain(n): n for n, c in components.items() if c == 1}
    found: list[tuple[str, str]] = []
    for trios in _COMPONENTS.values():
        for trio in trios:
            there = [c for c in trio if c in scalars]
            if len(there) == 2 and not any(f[0] == scalars[there[0]] for f in found):
                a, b = (scalars[c] for c in there)
                gone = next(c for c in trio if c not in scalars)
                found.append((a, _named_like(a, b, gone)))
                break
    return found


def _named_like(a: str, b: str, plain: str) -> str:
    """A name between or after two others that differ in one letter, such that its plain form is the one given."""
    if len(a) == len(b):
        for letters in ("xyz", "uvw", "012", "123", "XYZ", "UVW"):
            for at, (p, q) in enumerate(zip(a, b, strict=True)):
                for letter in letters:
                    name = a[:at] + letter + a[at + 1:]
                    if p != q and _plain(name) == plain and letter.isupper() == p.isupper():
                        return name
    return plain


def listed(names: Iterable[tuple[str, ...]]) -> str:
    """Candidates in words."""
    return "; ".join(", ".join(trio) for trio in names)
