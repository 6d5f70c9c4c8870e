"""The catalogue of derived quantities: what each is, what it needs, and how it is had."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.reference import ReferenceState

Scale = Literal["even", "signed", "mach"]
Values = NDArray[Any]
HIDDEN = "hidden"


class Source(Protocol):
    """Where a computation gets what it needs."""

    @property
    def reference(self) -> ReferenceState:
        """The reference state."""

    def get(self, name: str) -> Values:
        """Node values of a quantity or of a role, shape (n,) or (n, 3)."""

    def gradient(self, values: Values) -> Values:
        """Gradient of node values, shape (n, components, 3)."""

    def turning(self, name: str) -> Values:
        """The velocity gradient, the vorticity or Q: they are worked out together."""


@dataclass(frozen=True)
class Definition:
    """A derived quantity.

    Attributes
    ----------
    name : str
        Identifier in studies.
    title, symbol, unit : str
        On screen; the SI unit.
    group : str
        Purpose under which it is listed.
    needs : tuple of str
        Roles and reference values that must be there.
    scale : str
        ``signed`` about zero, ``mach`` about 1, or ``even``.
    compute : callable
        From a source to node values.
    about : str
        Formula and source of the definition.
    components : int
        1 or 3.
    """

    name: str
    title: str
    symbol: str
    unit: str
    group: str
    needs: tuple[str, ...]
    scale: Scale
    compute: Callable[[Source], Values]
    about: str
    components: int = 1


def _speed(s: Source) -> Values:
    return np.asarray(np.linalg.norm(s.get("velocity"), axis=1))


def _mach(s: Source) -> Values:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(s.get("speed") / np.sqrt(s.reference.gamma * s.get("pressure") / s.get("density")))


def _cp(s: Source) -> Values:
    ref = s.reference
    if ref.pressure is None or ref.density is None or ref.speed == 0.0:
        raise MissingQuantityError("Cp needs the free stream's pressure, density and velocity.", "reference state",
                                   "Type them in the Case station.")
    return np.asarray((s.get("pressure") - ref.pressure) / (0.5 * ref.density * ref.speed**2))


def _divergence(s: Source) -> Values:
    g = s.get("velocity-gradient")
    return np.asarray(g[:, 0, 0] + g[:, 1, 1] + g[:, 2, 2])


def _turning(name: str) -> Callable[[Source], Values]:
    return lambda s: s.turning(name)


def _component(name: str, axis: int) -> Callable[[Source], Values]:
    return lambda s: np.ascontiguousarray(s.get(name)[:, axis])


def _magnitude(name: str) -> Callable[[Source], Values]:
    return lambda s: np.linalg.norm(s.get(name), axis=1)


def _density_gradient(s: Source) -> Values:
    return np.ascontiguousarray(s.gradient(s.get("density"))[:, 0, :])


def _laplacian_of_density(s: Source) -> Values:
    g = s.gradient(s.get("density-gradient"))
    return np.asarray(g[:, 0, 0] + g[:, 1, 1] + g[:, 2, 2])


_HUNT = "Hunt, Wray & Moin 1988"
_SETTLES = "Settles 2001, Schlieren and Shadowgraph Techniques"

CATALOGUE: tuple[Definition, ...] = (
    Definition("speed", "Speed", "|u|", "m/s", "Motion", ("velocity",), "even", _speed, "√(u² + v² + w²)"),
    Definition("velocity-x", "Velocity x", "u", "m/s", "Motion", ("velocity",), "signed", _component("velocity", 0),
               "x component of the velocity"),
    Definition("velocity-y", "Velocity y", "v", "m/s", "Motion", ("velocity",), "signed", _component("velocity", 1),
               "y component of the velocity"),
    Definition("velocity-z", "Velocity z", "w", "m/s", "Motion", ("velocity",), "signed", _component("velocity", 2),
               "z component of the velocity"),
    Definition("divergence", "Divergence", "∇·u", "1/s", "Motion", ("velocity",), "signed", _divergence,
               "∂u/∂x + ∂v/∂y + ∂w/∂z; negative where the flow is compressed"),
    Definition("vorticity", "Vorticity", "ω", "1/s", "Turning", ("velocity",), "even", _turning("vorticity"),
               "∇ × u, right-handed; the vector", 3),
    Definition("vorticity-magnitude", "Vorticity magnitude", "|ω|", "1/s", "Turning", ("velocity",), "even",
               _magnitude("vorticity"), "|∇ × u|; large in shear layers too, not only in vortices"),
    Definition("vorticity-x", "Vorticity x", "ωx", "1/s", "Turning", ("velocity",), "signed", _component("vorticity", 0),
               "∂w/∂y − ∂v/∂z"),
    Definition("vorticity-y", "Vorticity y", "ωy", "1/s", "Turning", ("velocity",), "signed", _component("vorticity", 1),
               "∂u/∂z − ∂w/∂x"),
    Definition("vorticity-z", "Vorticity z", "ωz", "1/s", "Turning", ("velocity",), "signed", _component("vorticity", 2),
               "∂v/∂x − ∂u/∂y"),
    Definition("q", "Q", "Q", "1/s²", "Turning", ("velocity",), "signed", _turning("q"),
               f"½[(tr ∇u)² − tr(∇u²)]; positive where turning outweighs straining ({_HUNT})"),
    Definition("mach", "Mach number", "M", "", "Gas", ("velocity", "pressure", "density"), "mach", _mach,
               "|u| / √(γ p / ρ)"),
    Definition("cp", "Pressure coefficient", "Cp", "", "Gas", ("pressure", "free stream"), "signed", _cp,
               "(p − p∞) / (½ ρ∞ U∞²)"),
    Definition("density-gradient-magnitude", "Density gradient", "|∇ρ|", "kg/m⁴", "Optical", ("density",), "even",
               _magnitude("density-gradient"), f"|∇ρ|, as in schlieren pictures ({_SETTLES})"),
    Definition("density-laplacian", "Laplacian of density", "∇²ρ", "kg/m⁵", "Optical", ("density",), "signed",
               _laplacian_of_density, f"∇·∇ρ, as in shadowgraphs ({_SETTLES})"),
    # Steps on the way that are kept, but not offered.
    Definition("velocity-gradient", "", "", "1/s", HIDDEN, ("velocity",), "even", _turning("velocity-gradient"), "∂u_i/∂x_j", 9),
    Definition("density-gradient", "", "", "kg/m⁴", HIDDEN, ("density",), "even", _density_gradient, "∇ρ", 3),
)
BY_NAME = {d.name: d for d in CATALOGUE}
