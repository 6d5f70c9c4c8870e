"""What a stage of a turning machine does between two lines from hub to casing: pressure rise, work, efficiency.

References
----------
.. [1] Any text on turbomachinery: Euler's equation, Δh₀ = Ω Δ(r u_θ); flow and work coefficients by the speed of the tip.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.annulus import Annulus
from tidal_lens.flow.case import Flow
from tidal_lens.measures.round_axis import Lattice, round_axis
from tidal_lens.work import Token

Values = Callable[[str], NDArray[Any]]


class Machine(NamedTuple):
    """Ratio of specific heats; rate of rotation [rad/s], 0 leaves out what goes by it; how many such passages there are round the axis."""

    gamma: float
    spin: float
    passages: int


def stage(flow: Flow, annulus: Annulus, values: Values, machine: Machine, ends: tuple[float, float],
          token: Token | None = None) -> dict[str, float]:
    """Numbers by mass between two shares along the annulus.

    Parameters
    ----------
    flow, annulus : Flow, Annulus
        The flow, and between what it turns.
    values : callable
        Node values of a quantity by its name: density, velocity, total-pressure, total-enthalpy, angular-momentum.
    machine : Machine
        What it is.
    ends : (float, float)
        Shares along, before and behind.
    token : Token, optional
        Progress and cancel.

    Raises
    ------
    MissingQuantityError
        Of ``values``.
    """
    gamma, spin, passages = machine
    carried = values("density"), values("velocity")
    means: dict[str, list[float]] = {}
    mass: list[float] = []
    for name in ("total-pressure", "total-enthalpy", "angular-momentum"):
        # Pressures are averaged as entropies are: by their logarithm.
        own = np.log(np.maximum(values(name), 1e-300)) if name == "total-pressure" else values(name)
        found = round_axis(flow, annulus, own, Lattice(2, 60, 240), carried, shares=np.array(ends), token=token)
        means[name] = [found.by_mass(row) for row in range(2)]
        mass = [passages * float(found.mass[row].sum()) for row in range(2)]
    ratio = float(np.exp(means["total-pressure"][1] - means["total-pressure"][0]))
    before, behind = means["total-enthalpy"]
    work, warm = behind - before, _over(behind, before)
    out = {"mass flow before": mass[0], "mass flow behind": mass[1], "total-pressure ratio": ratio, "total-temperature ratio": warm,
           "work, rise of the total enthalpy": work, "power": mass[1] * work}
    if abs(warm - 1.0) > 1e-9:
        ideal = ratio ** ((gamma - 1.0) / gamma) - 1.0
        out["efficiency, total to total"] = _over(ideal, warm - 1.0) if work > 0.0 else _over(warm - 1.0, ideal)
    turning = means["angular-momentum"][1] - means["angular-momentum"][0]
    out["rise of the angular momentum"] = turning
    if spin:
        places = annulus.places(np.array(ends), np.array([1.0, 1.0]))
        tip = abs(spin) * float(places[0, 1])
        area = passages * _area(annulus, ends[0], flow)
        out |= {"work by Euler's equation": spin * turning, "Euler's work over the rise of the total enthalpy": _over(spin * turning, work),
                "speed of the tip": tip, "work coefficient": work / tip**2}
        if area > 0.0:
            density = round_axis(flow, annulus, carried[0], Lattice(2, 60, 240), carried, shares=np.array(ends), token=token)
            out["flow coefficient"] = _over(mass[0], density.by_mass(0) * area * tip)
    return out


def _over(value: float, by: float) -> float:
    """A ratio; not a number where there is nothing to divide by, as where no work is done."""
    return value / by if by else float("nan")


def _area(annulus: Annulus, share: float, flow: Flow) -> float:
    """Of the surface that the line from hub to casing makes over the angle that a passage takes up there."""
    found = round_axis(flow, annulus, np.ones(flow.n_points), Lattice(2, 60, 240), shares=np.array([share, share]))
    wide = float(np.linalg.norm(found.places[0, -1] - found.places[0, 0]))
    return float(np.trapezoid(found.open_angle[0] * found.places[0, :, 1], found.across) * wide)
