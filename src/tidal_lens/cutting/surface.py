"""The surface that every cut gives."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from tidal_lens.sampling.mesh import Stencil, TurnedStencil


@dataclass(frozen=True, eq=False)
class Surface:
    """Triangles and quadrilaterals in space.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        Vertices.
    faces : ndarray, shape (m, 4), int64
        Corners; a triangle repeats its last corner.
    stencil : Stencil
        Interpolation of node values to the vertices.
    """

    points: NDArray[np.float64]
    faces: NDArray[np.int64]
    stencil: Stencil

    @property
    def area(self) -> float:
        """Area of all faces."""
        a, b, c, d = (self.points[self.faces[:, k]] for k in range(4))
        return float(0.5 * (np.linalg.norm(np.cross(b - a, c - a), axis=1)
                            + np.linalg.norm(np.cross(c - a, d - a), axis=1)).sum())


@dataclass(frozen=True, eq=False)
class OwnSurface(Surface):
    """A surface that brings values of its own along, shape (n,) at its vertices, by their names."""

    own: Mapping[str, NDArray[np.float64]] = field(default_factory=dict)


def empty_surface() -> Surface:
    """A surface without faces."""
    return Surface(np.empty((0, 3)), np.empty((0, 4), np.int64), Stencil(np.empty((0, 1), np.int64), np.empty((0, 1))))


def point_normals(surface: Surface) -> NDArray[np.float64]:
    """Unit normal at each vertex, shape (n, 3): the mean of its faces' by their areas."""
    a, b, c, d = (surface.points[surface.faces[:, k]] for k in range(4))
    across = np.cross(c - a, np.where((surface.faces[:, 2] == surface.faces[:, 3])[:, None], c - b, d - b))
    out = np.zeros_like(surface.points)
    for axis in range(3):
        for k in range(4):
            out[:, axis] += np.bincount(surface.faces[:, k], across[:, axis], len(out))
    size = np.linalg.norm(out, axis=1)[:, None]
    return np.asarray(np.divide(out, size, out=np.zeros_like(out), where=size > 0.0))


def turned(faces: NDArray[np.int64]) -> NDArray[np.int64]:
    """The same faces seen from the other side; triangles repeat their last corner as before."""
    triangle = faces[:, 2] == faces[:, 3]
    other = faces[:, ::-1].copy()
    other[triangle] = faces[triangle][:, [0, 2, 1, 1]]
    return other


def join(parts: list[Surface]) -> Surface:
    """One surface of several; stencils are padded to the widest."""
    parts = [p for p in parts if len(p.faces)]
    if not parts:
        return empty_surface()
    if len(parts) == 1:
        return parts[0]
    width = max(p.stencil.ids.shape[1] for p in parts)
    starts = np.cumsum([0] + [len(p.points) for p in parts])
    pad = [(p.stencil.ids.shape[1], p) for p in parts]
    ids = np.concatenate([np.pad(p.stencil.ids, ((0, 0), (0, width - w))) for w, p in pad])
    weights = np.concatenate([np.pad(p.stencil.weights, ((0, 0), (0, width - w))) for w, p in pad])
    stencil = Stencil(ids, weights)
    if any(isinstance(p.stencil, TurnedStencil) for p in parts):
        turns = [p.stencil.turns if isinstance(p.stencil, TurnedStencil) else np.broadcast_to(np.eye(3), (len(p.points), 3, 3))
                 for p in parts]
        stencil = TurnedStencil(ids, weights, np.concatenate(turns))
    return Surface(np.concatenate([p.points for p in parts]),
                   np.concatenate([p.faces + s for p, s in zip(parts, starts, strict=False)]), stencil)
