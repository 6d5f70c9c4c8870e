"""Axisymmetric flows: a plane one that stands for its turn about an axis in its plane."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Vec = NDArray[np.float64]
Triple = tuple[float, float, float]
_FLAT = 1e-6  # of the flow's size
_AXIS = re.compile(r"(?<![a-z])ax(is|e)(?![a-z])|axisymm", re.IGNORECASE)
_WALL = re.compile(r"wall", re.IGNORECASE)


@dataclass(frozen=True)
class Turned:
    """What the plane is turned about.

    Attributes
    ----------
    point, axis : tuple of float
        A point of the axis, and its direction, of length one.
    normal : tuple of float
        Of the plane: the direction of the turn.
    """

    point: Triple
    axis: Triple
    normal: Triple

    @property
    def letter(self) -> str:
        """The coordinate axis that it runs along most."""
        return "xyz"[int(np.abs(self.axis).argmax())]

    def outward(self, points: Vec) -> tuple[Vec, Vec]:
        """Distance from the axis (n,), and unit vectors away from it (n, 3); on it, to the side on which the plane lies."""
        side = np.cross(np.asarray(self.normal), np.asarray(self.axis))
        off = (points - np.asarray(self.point)) @ side
        sign = np.where(off < 0.0, -1.0, 1.0) if float(np.abs(off).max(initial=0.0)) > 0.0 else np.ones(len(off))
        if (off <= 0.0).all():
            sign = -np.ones(len(off))
        return np.abs(off), sign[:, None] * side

    def circumference(self, points: Vec) -> Vec:
        """Way of each point (n, 3) once round, shape (n,)."""
        return np.asarray(2.0 * np.pi * self.outward(points)[0])

    def completed(self, gradient: NDArray[Any], vectors: NDArray[Any], points: Vec) -> NDArray[Any]:
        """The gradient ∂v_i/∂x_j (n, 3, 3) of vectors (n, 3) with what turning the plane adds, in place.

        That is v_r/r along the turn, and −v_θ/r across it (any text on cylindrical coordinates); on the axis their limits, the
        derivatives outward.
        """
        r, out = self.outward(points)
        turn = np.asarray(self.normal)
        # The plane's own layer of cells says nothing of what happens along the turn.
        gradient -= np.einsum("nij,j,k->nik", gradient, turn, turn)
        near = r <= _FLAT * max(float(r.max(initial=0.0)), 1e-300)
        safe = np.where(near, 1.0, r)
        radial, swirl = np.einsum("ni,ni->n", vectors, out), vectors @ turn
        hoop = np.where(near, np.einsum("nij,ni,nj->n", gradient, out, out), radial / safe)
        cross = np.where(near, np.einsum("nij,i,nj->n", gradient, turn, out), swirl / safe)
        gradient += hoop[:, None, None] * np.outer(turn, turn) - cross[:, None, None] * out[:, :, None] * turn
        return gradient


def turned_about(normal: Triple | None, letter: str) -> Turned | None:
    """About a coordinate axis through the origin; None where that does not lie in the plane."""
    if normal is None or letter not in ("x", "y", "z"):
        return None
    axis = np.eye(3)["xyz".index(letter)]
    if abs(float(axis @ np.asarray(normal))) > _FLAT:
        return None
    x, y, z = (float(c) for c in axis)
    return Turned((0.0, 0.0, 0.0), (x, y, z), normal)


def stated_axis(normal: Triple | None, numbers: tuple[float, ...]) -> Turned | None:
    """About the axis that a file states, as two or three coordinates of a point and then of a direction; None where that cannot be."""
    half = len(numbers) // 2
    if normal is None or len(numbers) not in (4, 6) or not np.isfinite(numbers).all():
        return None
    point, axis = np.zeros(3), np.zeros(3)
    point[:half], axis[:half] = numbers[:half], numbers[half:]
    size = float(np.linalg.norm(axis))
    if not size > 0.0 or abs(float(axis @ np.asarray(normal))) > _FLAT * size:
        return None
    (px, py, pz), (ax, ay, az) = point.tolist(), (axis / size).tolist()
    return Turned((px, py, pz), (ax, ay, az), normal)


def found_axis(normal: Triple | None, boundaries: Sequence[tuple[str, Vec]], low: Vec, high: Vec) -> Turned | None:
    """What a plane flow is turned about, by the name of a boundary whose points lie on a coordinate axis; None where nothing says so."""
    if normal is None:
        return None
    size = float(np.linalg.norm(high - low))
    for name, points in boundaries:
        if not _AXIS.search(name) or _WALL.search(name) or not len(points):
            continue
        for letter in "xyz":
            turned = turned_about(normal, letter)
            if turned is not None and float(turned.outward(points)[0].max()) <= _FLAT * size:
                return turned
    return None
