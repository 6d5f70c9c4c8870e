"""All walls as one sheet of triangles with the wall shear on it, welded over seams."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.features import wall_kernels as kernels
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.walls import wall_faces
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.tracing.surface_lines import neighbours_of
from tidal_lens.work import Token, read_only, run_chunks

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
STILL = 1e-5  # of the greatest: the shear counts as nought


@dataclass(frozen=True, eq=False)
class WallSheet:
    """Walls.

    Attributes
    ----------
    nodes : ndarray, shape (n,), int
        A node of the flow for each vertex.
    points, shear, normals : ndarray, shape (n, 3)
        Places of the vertices, the wall shear there, laid into the wall, and its unit normals, into the flow.
    triangles : ndarray, shape (t, 3), int
        Corners.
    """

    nodes: Ints
    points: Vec
    shear: Vec
    normals: Vec
    triangles: Ints

    @staticmethod
    def of(flow: Flow, shear: NDArray[Any]) -> WallSheet | None:
        """Of a flow, with a vector (nodes, 3) that is known on its walls; None where there are none."""
        faces, areas, _ = wall_faces(flow)
        if not len(faces):
            return None
        labels = flow.seams.labels(flow.n_points)
        _, first, place = np.unique(labels[faces], return_index=True, return_inverse=True)
        nodes = faces.ravel()[first]
        faces = place.reshape(faces.shape)
        points = flow.points[nodes]
        quads = faces[:, 2] != faces[:, 3]
        # Along the shorter diagonal: so what is alike on both sides of a body is cut alike.
        one, two = (np.linalg.norm(points[faces[:, a]] - points[faces[:, b]], axis=1) for a, b in ((0, 2), (1, 3)))
        turn = quads & (two < one * (1.0 - 1e-9))
        faces[turn] = faces[turn][:, [1, 2, 3, 0]]
        tri = np.concatenate([faces[:, [0, 1, 2]], faces[quads][:, [0, 2, 3]]])
        out = np.concatenate([areas, areas[quads]])
        across = np.cross(points[tri[:, 1]] - points[tri[:, 0]], points[tri[:, 2]] - points[tri[:, 0]])
        back = (across * out).sum(axis=1) < 0.0
        tri[back] = tri[back][:, ::-1]
        across[back] *= -1.0
        size = np.linalg.norm(across, axis=1)
        good = (size > 1e-12 * size.max(initial=0.0)) & (tri[:, 0] != tri[:, 1]) & (tri[:, 1] != tri[:, 2]) & (tri[:, 2] != tri[:, 0])
        tri, across = tri[good], across[good]
        normals = np.zeros_like(points)
        for axis in range(3):
            for c in range(3):
                normals[:, axis] += np.bincount(tri[:, c], across[:, axis], len(points))
        normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
        own = np.nan_to_num(shear[nodes].astype(np.float64))
        own -= (own * normals).sum(axis=1)[:, None] * normals
        return WallSheet(nodes, points, own, normals, tri)

    @property
    def faces(self) -> Ints:
        """The triangles as faces that repeat their last corner."""
        return np.column_stack([self.triangles, self.triangles[:, 2]])

    @property
    def stencil(self) -> Stencil:
        """Node values at the vertices."""
        return Stencil(self.nodes[:, None], np.ones((len(self.nodes), 1)))

    @cached_property
    def areas(self) -> Vec:
        """Of triangles."""
        return 0.5 * np.asarray(np.linalg.norm(self._across, axis=1))

    @cached_property
    def _across(self) -> Vec:
        p = self.points[self.triangles]
        return np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])

    @cached_property
    def flat(self) -> Vec:
        """Unit normals of triangles, shape (t, 3)."""
        return np.asarray(self._across / (2.0 * self.areas)[:, None])

    @cached_property
    def gradients(self) -> Vec:
        """Of the shares of the corners, shape (t, 3, 3)."""
        p = self.points[self.triangles]
        twice = (2.0 * self.areas)[:, None]
        return np.stack([np.cross(self.flat, p[:, (k + 2) % 3] - p[:, (k + 1) % 3]) / twice for k in range(3)], axis=1)

    @cached_property
    def laid(self) -> Vec:
        """The shear at the corners, laid into each triangle, shape (t, 3, 3)."""
        v = self.shear[self.triangles]
        return np.asarray(v - (v * self.flat[:, None]).sum(axis=2)[:, :, None] * self.flat[:, None])

    @cached_property
    def beside(self) -> Ints:
        """The triangle beyond the edge opposite each corner, shape (t, 3); −1 for none."""
        return neighbours_of(self.triangles)

    @cached_property
    def width(self) -> Vec:
        """Typical length of edges round each vertex, shape (n,)."""
        side = np.sqrt(2.0 * self.areas)
        total, many = np.zeros(len(self.points)), np.zeros(len(self.points))
        for c in range(3):
            total += np.bincount(self.triangles[:, c], side, len(total))
            many += np.bincount(self.triangles[:, c], minlength=len(many))
        return np.asarray(total / np.maximum(many, 1))

    @property
    def diagonal(self) -> float:
        """Of the walls' bounds."""
        return float(np.linalg.norm(np.ptp(self.points, axis=0)))

    @cached_property
    def edges(self) -> Ints:
        """Each edge once, shape (e, 2), the lesser vertex first."""
        pairs = np.sort(np.concatenate([self.triangles[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
        return np.unique(pairs, axis=0)

    @property
    def is_closed(self) -> bool:
        """Whether every edge is between two triangles."""
        return bool((self.beside >= 0).all())

    @property
    def euler(self) -> int:
        """Vertices less edges plus faces: 2 for what a ball can be bent into."""
        return len(distinct(self.triangles)) - len(self.edges) + len(self.triangles)

    def gathered(self, sign: float, length: float, token: Token | None = None) -> Vec:
        """How lines through each triangle spread ahead (1) or drew together on their way here (−1) within a length: ln of the ratio."""
        still = STILL * float(np.linalg.norm(self.shear, axis=1).max(initial=0.0))
        out = np.zeros(len(self.triangles))
        g, v, flat, tri, beside = (read_only(np.ascontiguousarray(a)) for a in (self.gradients, self.laid, self.flat, self.triangles,
                                                                                self.beside))
        run_chunks(lambda a, b: kernels.gathered(g, v, flat, tri, beside, sign, still, length, out, a, b), len(out), 1024, token)
        return out

    def at_vertices(self, values: Vec) -> Vec:
        """Means of triangles' values (t,) at their vertices, by area."""
        total, weight = np.zeros(len(self.points)), np.zeros(len(self.points))
        for c in range(3):
            total += np.bincount(self.triangles[:, c], values * self.areas, len(total))
            weight += np.bincount(self.triangles[:, c], self.areas, len(total))
        return np.asarray(total / np.maximum(weight, 1e-300))

    def slopes(self, values: Vec) -> Vec:
        """Gradients within triangles of vertex values (n,), shape (t, 3)."""
        return np.asarray(np.einsum("tk,tkd->td", values[self.triangles], self.gradients))
