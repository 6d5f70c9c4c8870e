"""Which fields are velocity, pressure, density and temperature: recognised by open naming standards and habit."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

ROLE_NAMES = {"velocity": "Velocity", "momentum": "Momentum", "pressure": "Pressure", "density": "Density",
              "temperature": "Temperature"}

# Names are compared in lower case with everything but letters and digits taken out.
_SCALARS: dict[str, tuple[str, ...]] = {
    "pressure": ("pressure", "p", "staticpressure", "pstatic", "ps", "press", "pmean", "meanpressure"),
    "density": ("density", "rho", "ρ", "r", "dens", "rhomean", "meandensity"),
    "temperature": ("temperature", "t", "temp", "statictemperature", "tstatic", "ts", "tmean"),
}
_VECTORS: dict[str, tuple[str, ...]] = {
    "velocity": ("velocity", "u", "v", "vel", "velo", "uvw", "flowvelocity", "umean", "meanvelocity", "velocityvector"),
    "momentum": ("momentum", "rhou", "momentumvector", "massflux", "rhov"),
}
_COMPONENTS: dict[str, tuple[tuple[str, str, str], ...]] = {
    "velocity": (("velocityx", "velocityy", "velocityz"), ("u", "v", "w"), ("ux", "uy", "uz"), ("vx", "vy", "vz"),
                 ("xvelocity", "yvelocity", "zvelocity"), ("velx", "vely", "velz"), ("u1", "u2", "u3"),
                 ("velocity0", "velocity1", "velocity2"), ("velocity1", "velocity2", "velocity3")),
    "momentum": (("momentumx", "momentumy", "momentumz"), ("rhou", "rhov", "rhow"),
                 ("xmomentum", "ymomentum", "zmomentum"), ("rhoux", "rhouy", "rhouz")),
}


@dataclass(frozen=True)
class Roles:
    """Names of the fields that play each role: one name, three component names, or none.

    ``velocity_from`` says in words how the velocity is had.
    """

    velocity: tuple[str, ...] = ()
    momentum: tuple[str, ...] = ()
    pressure: str | None = None
    density: str | None = None
    temperature: str | None = None

    @property
    def has_velocity(self) -> bool:
        """Whether velocity is there, or follows from momentum and density."""
        return bool(self.velocity) or bool(self.momentum and self.density)

    def described(self) -> dict[str, str]:
        """Each role with the fields that fill it, in words."""
        found: dict[str, str] = {}
        if self.velocity:
            found["velocity"] = ", ".join(self.velocity)
        elif self.has_velocity:
            found["velocity"] = f"{', '.join(self.momentum)} ÷ {self.density}"
        for role in ("pressure", "density", "temperature"):
            name = getattr(self, role)
            if name:
                found[role] = name
        return found


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9ρ]", "", name.lower())


def recognise_roles(components: Mapping[str, int]) -> Roles:
    """Find the roles among field names.

    Parameters
    ----------
    components : mapping of str to int
        Field name to number of components (1 or 3).

    Returns
    -------
    Roles
        Standard data names (CGNS: ``Density``, ``Pressure``, ``VelocityX`` …) win over common habits.
    """
    scalars = {_plain(n): n for n, c in reversed(list(components.items())) if c == 1}
    vectors = {_plain(n): n for n, c in reversed(list(components.items())) if c == 3}

    def vector(role: str) -> tuple[str, ...]:
        for name in _VECTORS[role]:
            if name in vectors:
                return (vectors[name],)
        for trio in _COMPONENTS[role]:
            if all(c in scalars for c in trio):
                return tuple(scalars[c] for c in trio)
        return ()

    def scalar(role: str) -> str | None:
        return next((scalars[n] for n in _SCALARS[role] if n in scalars), None)

    return Roles(vector("velocity"), vector("momentum"), scalar("pressure"), scalar("density"), scalar("temperature"))


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
