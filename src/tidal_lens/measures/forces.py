"""Force and moment on walls, by pressure and by friction, and their coefficients.

References
----------
.. [1] ISO 1151-1:1988, Flight dynamics, Concepts, quantities and symbols: axes of the body and of the air path. Here, as results have
   them, x points aft, y to the right and z up; lift is across the stream in the plane of x and z, drag along it.
"""

from __future__ import annotations

from collections.abc import Callable
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


NOTHING = Load(np.zeros(3), np.zeros(3))


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
    own = None if shear is None else np.nan_to_num(np.asarray(shear, np.float64))
    rubbed = None if own is None else lambda f: own[f.corners] * f.sizes[:, None, None]
    return _forces(points, facets, pressure, rubbed, about, axis, stations)


def surface_forces(points: Vec, facets: Facets, pressure: NDArray[Any], stress: NDArray[Any] | None, about: Vec, axis: Vec,
                   stations: int = 200) -> Forces:
    """What the flow before a surface does to what is behind it: as :func:`wall_forces`, of any surface within the flow.

    Parameters
    ----------
    points, facets, pressure, about, axis, stations
        As there.
    stress : ndarray, shape (n, 3, 3), or None
        Viscous stress tensor.
    """
    own = None if stress is None else np.nan_to_num(np.asarray(stress, np.float64))
    return _forces(points, facets, pressure, None if own is None else lambda f: np.einsum("kcij,kj->kci", own[f.corners], f.areas),
                   about, axis, stations)


def _forces(points: Vec, facets: Facets, pressure: NDArray[Any], rubbed: Callable[[Facets], Vec] | None, about: Vec, axis: Vec,
            stations: int) -> Forces:
    """``rubbed`` gives the force of friction at the corners of facets, (k, 3, 3), each as if it held all over its own."""
    known = np.isfinite(facets.means(pressure))
    facets = Facets(facets.corners[known], facets.areas[known])
    forces = [_load(points, facets, _pushed(facets, pressure), about)]
    if rubbed is not None:
        forces.append(_load(points, facets, rubbed(facets), about))
    each = np.sum([f for f, _ in forces], axis=0)
    middles = points[facets.corners].mean(axis=1) @ axis
    order = np.argsort(middles, kind="stable")
    low, high = (float(middles.min()), float(middles.max())) if len(middles) else (0.0, 0.0)
    along = np.linspace(low, high, stations)
    sums = np.concatenate([np.zeros((1, 3)), np.cumsum(each[order], axis=0)])
    running = sums[np.searchsorted(middles[order], along, side="right")]
    loads = [Load(f.sum(axis=0), m.sum(axis=0)) for f, m in forces]
    return Forces(loads[0], loads[1] if len(loads) > 1 else NOTHING, along, running, float(facets.sizes.sum()))


def _pushed(facets: Facets, pressure: NDArray[Any]) -> Vec:
    return np.asarray(-np.asarray(pressure, np.float64)[facets.corners][:, :, None] * facets.areas[:, None, :])


def _load(points: Vec, facets: Facets, f: Vec, about: Vec) -> tuple[Vec, Vec]:
    """Force and moment (k, 3) of each triangle, of those at its corners (k, 3, 3): both the place and the force linear."""
    # The mean of a product of two linear values over a triangle: (sum · sum + sum of products) / 12.
    arm = points[facets.corners] - about
    moment = (np.cross(arm.sum(axis=1), f.sum(axis=1)) + np.cross(arm, f).sum(axis=1)) / 12.0
    return np.asarray(f.mean(axis=1)), np.asarray(moment)


def momentum(points: Vec, facets: Facets, density: NDArray[Any], velocity: NDArray[Any], about: Vec) -> Load:
    """The momentum that comes in through a surface each second, less what goes out along its normals, and its moment.

    Parameters
    ----------
    points, facets, about
        As in :func:`wall_forces`.
    density : ndarray, shape (n,)
        Of the fluid.
    velocity : ndarray, shape (n, 3)
        Of the fluid.
    """
    own, corners = velocity[facets.corners].astype(np.float64), facets.corners
    # A product of three linear values by those at the corners: of second order.
    carried = density[corners].astype(np.float64) * np.einsum("kci,ki->kc", own, facets.areas)
    force, moment = _load(points, facets, -carried[:, :, None] * own, about)
    return Load(np.nansum(force, axis=0), np.nansum(moment, axis=0))


def force_within(points: Vec, facets: Facets, pressure: NDArray[Any], density: NDArray[Any], velocity: NDArray[Any], about: Vec,
                 stress: NDArray[Any] | None = None) -> Load:
    """Force and moment on what a closed surface encloses, by what momentum comes out of it and how it is pressed on; in steady flow.

    Parameters
    ----------
    facets : Facets
        The surface, area vectors away from what it encloses.
    pressure : ndarray, shape (n,)
        Less that of the free stream.
    stress : ndarray, shape (n, 3, 3), optional
        Viscous stress; left out, it is taken as nothing, which it nearly is far off.
    points, density, velocity, about
        As in :func:`momentum`.
    """
    return surface_forces(points, facets, pressure, stress, about, np.array([1.0, 0.0, 0.0]), 2).total + momentum(
        points, facets, density, velocity, about)


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
