"""Critical points of the wall shear, by how often it turns round each triangle: their indices add up to Euler's number of the wall.

References
----------
.. [1] Hunt, Abell, Peterka & Woo 1978, Kinematical studies of the flows around free or surface-mounted obstacles, J. Fluid Mech. 86.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features.wall_sheet import WallSheet

Vec = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class WallPoint:
    """A critical point.

    Attributes
    ----------
    place : ndarray, shape (3,)
        Where.
    index : int
        1 for a node or focus, −1 for a saddle.
    kind : str
        Node, focus or saddle.
    leaving : bool
        Whether lines end in it, so that the flow leaves the wall there, rather than begin in it.
    rates : tuple of float
        Trace and determinant of the gradient of the shear in the wall.
    width : float
        Of the triangles there.
    """

    place: Vec
    index: int
    kind: Literal["node", "focus", "saddle"]
    leaving: bool
    rates: tuple[float, float]
    width: float


def frames_of(sheet: WallSheet) -> tuple[Vec, Vec]:
    """Two unit vectors in the wall at each vertex, shape (n, 3) each."""
    n = sheet.normals
    other = np.eye(3)[np.argmin(np.abs(n), axis=1)]
    one = other - (other * n).sum(axis=1)[:, None] * n
    one /= np.maximum(np.linalg.norm(one, axis=1), 1e-300)[:, None]
    return one, np.cross(n, one)


def indices(sheet: WallSheet) -> NDArray[np.int64]:
    """Poincaré's index of each triangle, shape (t,): turns of the shear round it, its directions carried along edges in the wall."""
    one, two = frames_of(sheet)
    angle = np.arctan2((sheet.shear * two).sum(axis=1), (sheet.shear * one).sum(axis=1))
    tri = sheet.triangles
    turned, bent = np.zeros(len(tri)), np.zeros(len(tri))
    for k in range(3):
        a, b = tri[:, k], tri[:, (k + 1) % 3]
        # Carried along an edge in one sense and back again it turns by nothing: always the lesser vertex first.
        low, high, sign = np.minimum(a, b), np.maximum(a, b), np.where(a < b, 1.0, -1.0)
        carried = _carried(sheet, one[low], low, high)
        frame = np.arctan2((carried * two[high]).sum(axis=1), (carried * one[high]).sum(axis=1))
        turn = _wrapped(angle[high] - angle[low] - frame)
        turned += sign * turn
        bent += sign * frame
    return np.round((turned + _wrapped(bent)) / (2.0 * np.pi)).astype(np.int64)


def _carried(sheet: WallSheet, vectors: Vec, start: NDArray[np.int64], end: NDArray[np.int64]) -> Vec:
    """Vectors in the wall at some vertices as they are at others: turned as the normal turns on the shortest way."""
    n, m = sheet.normals[start], sheet.normals[end]
    axis = np.cross(n, m)
    cosine = (n * m).sum(axis=1)
    along = (axis * vectors).sum(axis=1)
    return np.asarray(cosine[:, None] * vectors + np.cross(axis, vectors) + (along / np.maximum(1.0 + cosine, 1e-9))[:, None] * axis)


def _wrapped(angle: Vec) -> Vec:
    """The angle between −π and π."""
    return np.asarray((angle + np.pi) % (2.0 * np.pi) - np.pi)


def wall_points(sheet: WallSheet) -> list[WallPoint]:
    """All critical points of the shear on a wall."""
    index = indices(sheet)
    out = []
    for t in np.flatnonzero(index):
        corners = sheet.points[sheet.triangles[t]]
        v, flat = sheet.laid[t], sheet.flat[t]
        e = corners[1] - corners[0]
        e /= np.linalg.norm(e)
        basis = np.stack([e, np.cross(flat, e)])
        gradient = (v @ basis.T).T @ (sheet.gradients[t] @ basis.T)
        trace, det = float(np.trace(gradient)), float(np.linalg.det(gradient))
        shares = np.full(3, 1.0 / 3.0)
        system = np.vstack([(v @ basis.T).T, np.ones(3)])
        if abs(np.linalg.det(system)) > 0.0:
            found = np.linalg.solve(system, np.array([0.0, 0.0, 1.0]))
            shares = np.clip(found, 0.0, 1.0)
            shares /= shares.sum()
        kind: Literal["node", "focus", "saddle"] = "saddle" if index[t] < 0 else "focus" if trace * trace < 4.0 * det else "node"
        width = float(sheet.width[sheet.triangles[t]].mean())
        out.append(WallPoint(shares @ corners, int(index[t]), kind, trace < 0.0, (trace, det), width))
    return out


def apart(points: list[WallPoint]) -> Vec:
    """How many widths of triangles each is from the nearest of the other sort, shape (k,): pairs close together come of noise."""
    from scipy.spatial import cKDTree

    out = np.full(len(points), 1e3)
    for sign in (-1, 1):
        own = [n for n, p in enumerate(points) if p.index * sign > 0]
        other = np.array([p.place for p in points if p.index * sign < 0]).reshape(-1, 3)
        if own and len(other):
            near, _ = cKDTree(other).query(np.array([points[n].place for n in own]))
            out[own] = near / np.array([max(points[n].width, 1e-300) for n in own])
    return out
