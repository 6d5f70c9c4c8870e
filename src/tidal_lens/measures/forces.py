"""Force and moment on walls, by pressure and by friction, and their coefficients.

References
----------
.. [1] ISO 1151-1:1988, Flight dynamics, Concepts, quantities and symbols: axes of the body and of the air path. Here, as results have
   them, x points aft, y to the right and z up; lift is across the stream in the plane of x and z, drag along it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.measures.sums import Facets

Vec = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Load:
    """A force (3,) and its moment (3,) about a point."""

    force: Vec
    moment: Vec

    def along_axis(self, axis: Vec) -> Load:
        """Its part along an axis (3,), without a moment."""
        return Load((self.force @ axis) * axis, np.zeros(3))

    def __add__(self, other: Load) -> Load:
        return Load(self.force + other.force, self.moment + other.moment)


@dataclass(frozen=True, eq=False)
class Forces:
    """What the flow does to walls.

    Attributes
    ----------
    pressure, friction : Load
        By pressure, above a level that is the same all round, and by friction.
    along : ndarray, shape (n,)
        Places along an axis.
    running : ndarray, shape (n, 3)
        Force on all that is before each of them.
    area : float
        Of the walls.
    """

    pressure: Load
    friction: Load
    along: Vec
    running: Vec
    area: float

    def along_axis(self, axis: Vec) -> Forces:
        """What is left of it once round an axis (3,): the rest balances itself."""
        return Forces(self.pressure.along_axis(axis), self.friction.along_axis(axis), self.along, np.outer(self.running @ axis, axis),
                      self.area)

    @property
    def total(self) -> Load:
        """Both together."""
        return self.pressure + self.friction


def wall_forces(points: Vec, facets: Facets, pressure: NDArray[Any], shear: NDArray[Any] | None, about: Vec, axis: Vec,
                stations: int = 200) -> Forces:
    """Force and moment on walls.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Vertices.
    facets : Facets
        The walls, area vectors into the flow.
    pressure : ndarray, shape (n,)
        Less that of the free stream, so that what is open or at rest on its back is not pushed.
    shear : ndarray, shape (n, 3), or None
        Wall shear stress.
    about : ndarray, shape (3,)
        Point that moments are taken about.
    axis : ndarray, shape (3,)
        Along which the force adds up.
    stations : int
        Places along it.
    """
    known = np.isfinite(facets.means(pressure))
    facets = Facets(facets.corners[known], facets.areas[known])
    pushed = _load(points, facets, -np.asarray(pressure, np.float64)[:, None], facets.areas[:, None, :], about)
    forces = [pushed]
    if shear is not None:
        own = np.nan_to_num(np.asarray(shear, np.float64))
        forces.append(_load(points, facets, own, facets.sizes[:, None, None] * np.ones(3), about))
    each = np.sum([f for f, _ in forces], axis=0)
    middles = points[facets.corners].mean(axis=1) @ axis
    order = np.argsort(middles, kind="stable")
    low, high = (float(middles.min()), float(middles.max())) if len(middles) else (0.0, 0.0)
    along = np.linspace(low, high, stations)
    sums = np.concatenate([np.zeros((1, 3)), np.cumsum(each[order], axis=0)])
    running = sums[np.searchsorted(middles[order], along, side="right")]
    loads = [Load(f.sum(axis=0), m.sum(axis=0)) for f, m in forces]
    nothing = Load(np.zeros(3), np.zeros(3))
    return Forces(loads[0], loads[1] if len(loads) > 1 else nothing, along, running, float(facets.sizes.sum()))


def _load(points: Vec, facets: Facets, values: Vec, by: Vec, about: Vec) -> tuple[Vec, Vec]:
    """Force and moment of each triangle: of vertex values times an area or its vector, both the place and the values linear."""
    # The mean of a product of two linear values over a triangle: (sum · sum + sum of products) / 12.
    f = values[facets.corners] * by
    f = np.broadcast_to(f, (len(facets.corners), 3, 3))
    arm = points[facets.corners] - about
    force = f.mean(axis=1)
    moment = (np.cross(arm.sum(axis=1), f.sum(axis=1)) + np.cross(arm, f).sum(axis=1)) / 12.0
    return np.asarray(force), np.asarray(moment)


def momentum_force(facets: Facets, pressure: NDArray[Any], density: NDArray[Any], velocity: NDArray[Any]) -> Vec:
    """Force (3,) on what a closed surface encloses, by what momentum comes out of it and how it is pressed on.

    In steady flow, with friction on the surface itself left out: small where it stands far off.

    Parameters
    ----------
    facets : Facets
        The surface, area vectors away from what it encloses.
    pressure : ndarray, shape (n,)
        Less that of the free stream.
    density : ndarray, shape (n,)
        Of the fluid.
    velocity : ndarray, shape (n, 3)
        Of the fluid.
    """
    own, corners = facets.areas, facets.corners
    pressed = facets.means(pressure)[:, None] * own
    # A product of three linear values by the mean of the corners' products: of second order.
    carried = (density[corners].astype(np.float64) * np.einsum("kci,ki->kc", velocity[corners].astype(np.float64), own))[:, :, None]
    out = (carried * velocity[corners]).mean(axis=1)
    return np.asarray(-np.nansum(pressed + out, axis=0))


@dataclass(frozen=True)
class Wind:
    """Directions that coefficients go by.

    Attributes
    ----------
    velocity : tuple
        Of the free stream.
    dynamic : float
        Its dynamic pressure.
    area, length : float
        That forces and moments are divided by.
    """

    velocity: tuple[float, float, float]
    dynamic: float
    area: float
    length: float

    def axes(self) -> tuple[Vec, Vec, Vec]:
        """Drag along the stream, side force, and lift across both; upright where the stream is."""
        along = np.asarray(self.velocity, np.float64)
        along = along / np.linalg.norm(along)
        up = np.array([0.0, 0.0, 1.0]) if abs(along[2]) < 0.99 else np.array([1.0, 0.0, 0.0])
        side = np.cross(up, along)
        side = side / np.linalg.norm(side)
        return along, side, np.cross(along, side)

    def coefficients(self, load: Load) -> dict[str, float]:
        """CL, CD and CY along the stream's axes; Cl, Cm and Cn about the body's: rolling right, nose up and nose right are positive."""
        along, side, up = self.axes()
        by, arm = 1.0 / (self.dynamic * self.area), 1.0 / (self.dynamic * self.area * self.length)
        f, m = load.force, load.moment
        return {"CL": float(f @ up) * by, "CD": float(f @ along) * by, "CY": float(f @ side) * by,
                # With x aft and z up, rolling right and nose right turn the other way round their axes.
                "Cl": -float(m[0]) * arm, "Cm": float(m[1]) * arm, "Cn": -float(m[2]) * arm}
