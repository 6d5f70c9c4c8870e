"""Integrals over surfaces of triangles and quadrilaterals, of values that are linear over each triangle."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.measures import sum_kernels as kernels
from tidal_lens.work import read_only, run_chunks

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
_CHUNK = 16384


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
    def of(points: Vec, faces: Ints) -> Facets:
        """Of vertices (n, 3) and faces (m, 4), of which triangles repeat their last corner: first halves come first."""
        seconds = len(faces) - 1 + np.cumsum(faces[:, 2] != faces[:, 3])
        count = int(seconds[-1]) + 1 if len(faces) else 0
        corners, areas = np.empty((count, 3), np.int64), np.empty((count, 3))
        places, own = read_only(points), read_only(np.ascontiguousarray(faces, np.int64))
        run_chunks(lambda a, b: kernels.halves(places, own, seconds, corners, areas, a, b), len(faces), _CHUNK)
        return Facets(corners, areas)

    def toward(self, way: Vec) -> Facets:
        """All turned so that they look along a direction (3,)."""
        return Facets(self.corners, np.where((self.areas @ way < 0.0)[:, None], -self.areas, self.areas))

    @property
    def sizes(self) -> Vec:
        """Area of each."""
        return np.asarray(np.sqrt(np.einsum("ki,ki->k", self.areas, self.areas)))

    def means(self, values: NDArray[Any]) -> Vec:
        """Mean of vertex values (n,) or (n, c) over each: exact where they are linear; not a number where a corner's is not."""
        return np.asarray(values[self.corners].mean(axis=1), np.float64)

    def sums(self, values: NDArray[Any], velocity: NDArray[Any] | None = None, density: NDArray[Any] | None = None) -> SurfaceSums:
        """All that is added up over it where a value is known.

        Parameters
        ----------
        values : ndarray, shape (n,)
            At the vertices; not a number where it is not known.
        velocity : ndarray, shape (n, 3), optional
            That carries something through.
        density : ndarray, shape (n,), optional
            Of what is carried; without it that is volume.
        """
        q = np.ascontiguousarray(values, np.float64)
        u = np.ascontiguousarray(velocity, np.float64) if velocity is not None else np.empty((0, 3))
        rho = np.ascontiguousarray(density, np.float64) if density is not None else np.empty(0)
        used, parts = np.zeros(len(q), bool), {}

        def chunk(begin: int, end: int) -> None:
            parts[begin] = np.zeros(10)
            kernels.over_triangles(self.corners, self.areas, q, u, rho, used, parts[begin], begin, end)

        run_chunks(chunk, len(self.corners), _CHUNK)
        total = np.sum([np.zeros(10), *(parts[begin] for begin in sorted(parts))], axis=0)
        return SurfaceSums(used, *(float(v) for v in total))

    def through(self, flux: NDArray[Any]) -> Through:
        """What a flux, vertex vectors (n, 3), carries through, along the normals and against them."""
        found = self.sums(np.zeros(len(flux)), flux)
        return Through(found.forth, found.back)


@dataclass(frozen=True, eq=False)
class SurfaceSums:
    """What is added up over a surface.

    Attributes
    ----------
    used : ndarray, shape (n,), bool
        Vertices that count.
    area, whole_area : float
        Of the part in which the value is known, and of all.
    integral, square : float
        Of the value, and of its square.
    forth, back : float
        What is carried along the normal, and against it; neither is negative.
    volume_flow : float
        Net, along the normal.
    by_either, by_net, either : float
        Value times what is carried, either way counted alike, and net; what is carried either way, as products of linear values.
    """

    used: NDArray[np.bool_]
    area: float
    whole_area: float
    integral: float
    square: float
    forth: float
    back: float
    volume_flow: float
    by_either: float
    by_net: float
    either: float

    @property
    def mean(self) -> float:
        """By area; not a number where nothing is known."""
        return self.integral / self.area if self.area > 0.0 else float("nan")

    @property
    def spread(self) -> float:
        """Standard deviation by area."""
        return float(np.sqrt(max(self.square / self.area - self.mean * self.mean, 0.0)))


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
