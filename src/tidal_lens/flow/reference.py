"""The reference state: what the free stream is."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace


@dataclass(frozen=True)
class ReferenceState:
    """Free-stream state to which coefficients refer.

    Attributes
    ----------
    pressure, density : float or None
        Free-stream values in the result's own units; None where unknown. A pressure that is measured from some other one may be zero or
        negative: then there is no Mach number.
    velocity : tuple of float
        Free-stream velocity vector.
    gamma : float
        Ratio of specific heats.
    origin : str
        Where the state came from, in words, for the user.
    gas_constant : float or None
        Specific gas constant; None where it was not typed.
    viscosity : float or None
        Viscosity where the result has none; None where it was not typed.
    prandtl : float
        Prandtl number.
    area, length : float or None
        Reference area and length of coefficients; None where they were neither read nor typed.
    about : tuple of float
        Point that moments are taken about.
    depth : float or None
        That sums over a plane flow are taken over; None for a unit.
    """

    pressure: float | None = None
    density: float | None = None
    velocity: tuple[float, float, float] = (0.0, 0.0, 0.0)
    gamma: float = 1.4
    origin: str = "unknown"
    gas_constant: float | None = None
    viscosity: float | None = None
    prandtl: float = 0.72
    area: float | None = None
    length: float | None = None
    about: tuple[float, float, float] = (0.0, 0.0, 0.0)
    depth: float | None = None

    @property
    def speed(self) -> float:
        """Magnitude of the free-stream velocity."""
        return math.sqrt(sum(c * c for c in self.velocity))

    @property
    def mach(self) -> float | None:
        """Free-stream Mach number, or None where the state does not give it."""
        if self.pressure is None or self.density is None or self.pressure <= 0 or self.density <= 0:
            return None
        return self.speed / math.sqrt(self.gamma * self.pressure / self.density)

    @property
    def incidence(self) -> float:
        """Angle of the free stream above the x-y plane [degrees]."""
        u, v, w = self.velocity
        return math.degrees(math.atan2(w, math.hypot(u, v))) if self.speed > 0 else 0.0

    def flying(self, *, mach: float | None = None, incidence: float | None = None) -> ReferenceState:
        """The same air met at another Mach number or incidence.

        Parameters
        ----------
        mach : float, optional
            Mach number; the direction stays. Without pressure and density it is left as it is.
        incidence : float, optional
            Angle above the x-y plane [degrees]; speed and the heading in that plane stay.
        """
        u, v, w = self.velocity if self.speed > 0.0 else (1.0, 0.0, 0.0)
        if incidence is not None:
            speed, along, angle = math.sqrt(u * u + v * v + w * w), math.hypot(u, v), math.radians(incidence)
            ahead = (u / along, v / along) if along > 0.0 else (1.0, 0.0)
            u, v, w = (speed * math.cos(angle) * a for a in (*ahead, math.tan(angle)))
        if mach is not None and self.pressure and self.pressure > 0.0 and self.density:
            wanted = mach * math.sqrt(self.gamma * self.pressure / self.density) / math.sqrt(u * u + v * v + w * w)
            u, v, w = u * wanted, v * wanted, w * wanted
        return replace(self, velocity=(u, v, w))
