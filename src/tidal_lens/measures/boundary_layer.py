"""Thicknesses of a boundary layer from a profile along the wall's normal.

References
----------
.. [1] Schlichting & Gersten 2017, Boundary-Layer Theory: displacement and momentum thickness, shape factor; of variable density
   with the mass flow in the place of the speed.
.. [2] Coles & Hirst 1968, Computation of Turbulent Boundary Layers (AFOSR-IFP-Stanford): the law of the wall with κ = 0.41 and 5.0.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Vec = NDArray[np.float64]
KARMAN, LAW = 0.41, 5.0
TOTAL = 0.0005  # of the total pressure's rise from the wall that may be wanting at the edge
_LOW, _ON = 0.2, 1.5  # where the stream outside turns: how low the signal has to be, and how far on nothing is lower
SPIN = 0.005  # vorticity times height over speed that may be left there: 1 at the wall, whatever the flow


@dataclass(frozen=True)
class BoundaryLayer:
    """What a profile comes to.

    Attributes
    ----------
    edge, edge_speed, edge_density : float
        Height of the edge, and speed and density there.
    thickness : float
        δ99: where the speed is 0.99 of the edge's.
    displacement, momentum : float
        δ* and θ.
    """

    edge: float
    edge_speed: float
    edge_density: float
    thickness: float
    displacement: float
    momentum: float

    @property
    def shape(self) -> float:
        """H = δ*/θ."""
        return self.displacement / self.momentum if self.momentum > 0.0 else float("nan")


def edge_of(height: Vec, signal: Vec, *, falls: bool) -> float:
    """Height from which on a signal has come to rest; not a number where it does not within the profile.

    Where the stream outside turns by itself, as behind a curved shock, it never quite does: then the edge is where the signal is
    least, or greatest, for as far again as half of that height.

    Parameters
    ----------
    height, signal : ndarray, shape (n,)
        Rising heights from the wall, and the total pressure, or with ``falls`` the size of the vorticity times height over speed.
    falls : bool
        Whether the signal is about one in the layer and falls to (nearly) nothing; else it rises to a greatest value.
    """
    good = np.isfinite(signal)
    z, s = height[good], signal[good] if falls else -signal[good]
    if len(s) < 5:
        return float("nan")
    level = SPIN
    rest = _first_rest(z, s, _LOW if falls else s[0] - 0.5 * (s[0] - s.min()))
    if not falls:
        if rest < 0:
            return float("nan")
        level = float(s[0] - (1.0 - TOTAL) * (s[0] - s[rest]))
    below = np.flatnonzero(s <= level)
    if len(below) and below[0] > 0 and (rest < 0 or below[0] <= rest):
        last = int(below[0])
        fall = s[last - 1] - s[last]
        share = (s[last - 1] - level) / fall if fall > 0.0 else 1.0
        return float(z[last - 1] + share * (z[last] - z[last - 1]))
    return float(z[rest]) if rest > 0 else float("nan")


def _first_rest(z: Vec, s: Vec, low: float) -> int:
    """Number of the first place below a level that nothing before it, or up to ``_ON`` times its height, lies below; −1: there is none."""
    ahead = np.searchsorted(z, _ON * z, side="right")
    for k in np.flatnonzero((s < low) & (s <= np.minimum.accumulate(s))):
        if ahead[k] < len(z) and s[k] <= s[k:ahead[k]].min():
            return int(k)
    return -1


def boundary_layer(height: Vec, speed: Vec, density: Vec, edge: float) -> BoundaryLayer:
    """Thicknesses of a profile.

    Parameters
    ----------
    height, speed, density : ndarray, shape (n,)
        Rising heights from the wall; the speed along the wall in the direction of the edge's, relative to the wall; density.
    edge : float
        Height of the edge.
    """
    u_e, rho_e = float(np.interp(edge, height, speed)), float(np.interp(edge, height, density))
    inside = height < edge
    z = np.append(height[inside], edge)
    u, mass = np.append(speed[inside], u_e) / u_e, np.append((density * speed)[inside], rho_e * u_e) / (rho_e * u_e)
    over = np.flatnonzero(u >= 0.99)
    n = int(over[0]) if len(over) else len(u) - 1
    rise = u[n] - u[n - 1] if n > 0 else 0.0
    thickness = float(z[n - 1] + (0.99 - u[n - 1]) / rise * (z[n] - z[n - 1])) if rise > 0.0 else float(z[n])
    # Between the places both are linear: Simpson's rule integrates their products exactly.
    um, mm = 0.5 * (u[1:] + u[:-1]), 0.5 * (mass[1:] + mass[:-1])
    steps = np.diff(z)

    def simpson(at: Vec, middle: Vec) -> float:
        return float(((at[:-1] + 4.0 * middle + at[1:]) / 6.0 * steps).sum())

    return BoundaryLayer(edge, u_e, rho_e, thickness, simpson(1.0 - mass, 1.0 - mm), simpson(mass * (1.0 - u), mm * (1.0 - um)))


def law_of_the_wall(y_plus: Vec) -> Vec:
    """u⁺ over y⁺ (n,): the greater of what the logarithmic law leaves and y⁺ itself near the wall."""
    with np.errstate(divide="ignore"):
        log = np.log(np.maximum(y_plus, 1e-300)) / KARMAN + LAW
    return np.where(y_plus < 11.0, y_plus, log)
