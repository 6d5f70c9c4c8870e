"""What is left of surfaces where values at their vertices are hidden."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import Surface
from tidal_lens.sampling.mesh import Stencil

Vec = NDArray[np.float64]


def kept_surface(surface: Surface, values: Vec) -> Surface:
    """The part of a surface where values at its vertices are not negative; faces are cut where they change sign.

    Parameters
    ----------
    surface : Surface
        The surface.
    values : ndarray, shape (vertices,)
        Linear along edges; a vertex without a number is hidden.
    """
    v = np.where(np.isfinite(values), values, -np.inf)
    inside = v >= 0.0
    faces = surface.faces
    many = inside[faces].sum(axis=1)
    whole = faces[many == 4]
    some = faces[(many > 0) & (many < 4)]
    triangles = np.concatenate([some[:, [0, 1, 2]], some[some[:, 2] != some[:, 3]][:, [0, 2, 3]]])
    left, starts, ends = _cut(triangles, inside)
    # Each cut edge gets one vertex, shared by the faces on both sides of it.
    edges, which = np.unique(np.sort(np.column_stack([starts, ends]), axis=1), axis=0, return_inverse=True)
    a, b = edges.T if len(edges) else (np.empty(0, np.int64), np.empty(0, np.int64))
    with np.errstate(invalid="ignore"):
        t = np.where(np.isfinite(v[a]) & np.isfinite(v[b]), v[a] / (v[a] - v[b]), np.where(inside[a], 0.0, 1.0))
    points = np.concatenate([surface.points, surface.points[a] + t[:, None] * (surface.points[b] - surface.points[a])])
    stencil = surface.stencil.extended(surface.stencil.mixed(a, b, t))
    cut = np.where(left < 0, len(surface.points) + which.ravel()[np.maximum(-left - 1, 0)] if len(which) else left, left)
    return _compact(points, np.concatenate([whole, cut]), stencil)


def refined(surface: Surface, chosen: NDArray[np.bool_]) -> Surface:
    """The same surface with some of its faces (m,) cut into triangles of half their size; each new vertex stands on an edge, once."""
    faces = surface.faces[chosen]
    triangles = np.concatenate([faces[:, [0, 1, 2]], faces[faces[:, 2] != faces[:, 3]][:, [0, 2, 3]]])
    ends = np.sort(np.concatenate([triangles[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    edges, which = np.unique(ends, axis=0, return_inverse=True)
    p, q, r = (len(surface.points) + part for part in which.ravel().reshape(3, -1))
    a, b, c = triangles.T
    small = np.concatenate([np.column_stack(t) for t in ((a, p, r), (p, b, q), (r, q, c), (p, q, r))])
    half = np.full(len(edges), 0.5)
    points = np.concatenate([surface.points, 0.5 * (surface.points[edges[:, 0]] + surface.points[edges[:, 1]])])
    return Surface(points, np.concatenate([surface.faces[~chosen], np.column_stack([small, small[:, 2]])]),
                   surface.stencil.extended(surface.stencil.mixed(edges[:, 0], edges[:, 1], half)))


def _cut(triangles: NDArray[np.int64], inside: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Faces (k, 4) left of triangles; -1 - n stands for the n-th cut edge, whose ends are given too."""
    faces: list[NDArray[np.int64]] = []
    starts: list[NDArray[np.int64]] = []
    ends: list[NDArray[np.int64]] = []
    count = 0
    if len(triangles) == 0:
        return np.empty((0, 4), np.int64), np.empty(0, np.int64), np.empty(0, np.int64)
    states = inside[triangles]
    for turn in range(3):
        p, q, r = (triangles[:, (turn + k) % 3] for k in range(3))
        one = states[:, turn] & ~states[:, (turn + 1) % 3] & ~states[:, (turn + 2) % 3]
        two = ~states[:, turn] & states[:, (turn + 1) % 3] & states[:, (turn + 2) % 3]
        for mask, alone in ((one, True), (two, False)):
            n = int(mask.sum())
            first, second = -1 - (count + np.arange(n)), -1 - (count + n + np.arange(n))  # on p q, and on p r
            starts += [p[mask], p[mask]]
            ends += [q[mask], r[mask]]
            count += 2 * n
            faces.append(np.column_stack([p[mask], first, second, second]) if alone
                         else np.column_stack([first, q[mask], r[mask], second]))
    full = triangles[states.all(axis=1)]
    faces.append(np.column_stack([full, full[:, 2]]))
    return np.concatenate(faces), np.concatenate(starts), np.concatenate(ends)


def _compact(points: Vec, faces: NDArray[np.int64], stencil: Stencil) -> Surface:
    """Only the vertices that faces use."""
    used = np.zeros(len(points), dtype=bool)
    used[faces] = True
    number = np.cumsum(used) - 1
    return Surface(points[used], number[faces], stencil.take(np.flatnonzero(used)))
