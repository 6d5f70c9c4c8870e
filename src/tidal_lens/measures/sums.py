"""Integrals over surfaces of triangles and quadrilaterals, of values that are linear over each triangle."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]


def triangles_of(faces: Ints) -> Ints:
    """Triangles (k, 3) of faces (m, 4) of which those that are triangles repeat their last corner."""
    return np.concatenate([faces[:, [0, 1, 2]], faces[faces[:, 2] != faces[:, 3]][:, [0, 2, 3]]])


@dataclass(frozen=True, eq=False)
class Facets:
    """Triangles of a surface.

    Attributes
    ----------
    corners : ndarray, shape (k, 3), int
        Vertices.
    areas : ndarray, shape (k, 3)
        Area vectors, along the normal.
    """

    corners: Ints
    areas: Vec

    @staticmethod
    def of(points: Vec, faces: Ints, toward: Vec | None = None) -> Facets:
        """Of vertices (n, 3) and faces (m, 4); turned so that all look along a direction, if one is given."""
        corners = triangles_of(faces)
        a, b, c = (points[corners[:, k]] for k in range(3))
        areas = 0.5 * np.cross(b - a, c - a)
        if toward is not None:
            areas = np.where((areas @ toward < 0.0)[:, None], -areas, areas)
        return Facets(corners, areas)

    @property
    def sizes(self) -> Vec:
        """Area of each."""
        return np.asarray(np.linalg.norm(self.areas, axis=1))

    def means(self, values: NDArray[Any]) -> Vec:
        """Mean of vertex values (n,) or (n, c) over each: exact where they are linear; not a number where a corner's is not."""
        return np.asarray(values[self.corners].mean(axis=1), np.float64)

    def integral(self, values: NDArray[Any]) -> float:
        """Integral of vertex values (n,) over all on which they are known."""
        return float(np.nansum(self.means(values) * self.sizes))

    def product(self, one: NDArray[Any], two: NDArray[Any]) -> Vec:
        """Mean of the product of two vertex values (n,) over each, both linear."""
        a, b = one[self.corners].astype(np.float64), two[self.corners].astype(np.float64)
        return np.asarray((a.sum(axis=1) * b.sum(axis=1) + (a * b).sum(axis=1)) / 12.0)

    def through(self, flux: NDArray[Any]) -> Through:
        """What a flux, vertex vectors (n, 3), carries through, along the normals and against them."""
        # Along each normal it is linear: where it turns round within a triangle, each side counts as what it is.
        parts = np.einsum("kci,ki->kc", flux[self.corners].astype(np.float64), self.areas)
        parts = parts[np.isfinite(parts).all(axis=1)]
        whole, forth = parts.mean(axis=1), _positive(parts)
        return Through(float(forth.sum()), float(forth.sum() - whole.sum()))


@dataclass(frozen=True)
class Through:
    """What goes through a surface along its normal, and what against it; neither is negative."""

    forth: float
    back: float

    @property
    def net(self) -> float:
        """Along the normal less against it."""
        return self.forth - self.back

    @property
    def reversed(self) -> float:
        """Share of all that goes the other way than most."""
        both = self.forth + self.back
        return min(self.forth, self.back) / both if both > 0.0 else 0.0


def _positive(corners: Vec) -> Vec:
    """Mean over each triangle (k, 3) of what of a linear value is above zero."""
    low, middle, high = np.sort(corners, axis=1).T
    mean = corners.mean(axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        # A third of the height of the small tetrahedron over the part that is above, or below.
        above = high**3 / (3.0 * (high - low) * (high - middle))
        below = -(low**3) / (3.0 * (middle - low) * (high - low))
    some = np.where(middle <= 0.0, above, mean + below)
    return np.where(low >= 0.0, mean, np.where(high <= 0.0, 0.0, some))
