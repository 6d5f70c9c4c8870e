"""What is left of surfaces where values at their vertices are hidden."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import OwnSurface, Surface, empty_surface

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
    inside = values >= 0.0
    if inside.all():
        return surface
    if not inside.any():
        return empty_surface()
    v = np.where(np.isfinite(values), values, -np.inf)
    faces = surface.faces
    corners = inside[faces]
    every = corners.all(axis=1)
    left, starts, ends = _cut(faces[corners.any(axis=1) & ~every], inside)
    kept = np.concatenate([faces[every], left])
    used = np.zeros(len(surface.points), dtype=bool)
    used[kept[kept >= 0]] = True
    old = np.flatnonzero(used)
    # Each cut edge gets one vertex, shared by the faces on both sides of it.
    count = len(surface.points)
    keys, first, which = np.unique(np.minimum(starts, ends) * count + np.maximum(starts, ends), return_index=True, return_inverse=True)
    a, b = starts[first], ends[first]
    with np.errstate(invalid="ignore"):
        t = np.where(np.isfinite(v[b]), v[a] / (v[a] - v[b]), 0.0)
    points = np.concatenate([surface.points[old], surface.points[a] + t[:, None] * (surface.points[b] - surface.points[a])])
    stencil = surface.stencil.take(old).extended(surface.stencil.mixed(a, b, t))
    numbers = np.empty(count + len(starts), np.int64)  # of vertices, and from the end of cut edges: -1 is the first of them
    numbers[old] = np.arange(len(old))
    numbers[count:] = (len(old) + which.ravel())[::-1]
    if isinstance(surface, OwnSurface):
        own = {name: np.concatenate([one[old], (1.0 - t) * one[a] + t * one[b]]) for name, one in surface.own.items()}
        return OwnSurface(points, numbers[kept], stencil if len(keys) else surface.stencil.take(old), own)
    return Surface(points, numbers[kept], stencil) if len(keys) else Surface(points, numbers[kept], surface.stencil.take(old))


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


def whole_faces(surface: Surface, values: Vec) -> Surface:
    """The faces of a surface over whose vertices the mean of values is not negative; one with a vertex without a number is hidden."""
    v = np.where(np.isfinite(values), values, -np.inf)
    own = np.where(surface.faces[:, 2] == surface.faces[:, 3], 3.0, 4.0)
    total = v[surface.faces].sum(axis=1) - np.where(own == 3.0, v[surface.faces[:, 3]], 0.0)
    return _compact(surface, surface.faces[total >= 0.0])


def _pieces(corners: int) -> list[tuple[int, list[list[tuple[int, int]]]]]:
    """For each way in which some corners of a polygon are inside, what is left of it: a corner as (c, c), a cut edge as (inside, outside).

    As cells are cut: each run of corners inside is a piece of its own.
    """
    found = []
    for mask in range(1, (1 << corners) - 1):
        pieces = []
        for first in range(corners):
            if mask >> first & 1 and not mask >> (first - 1) % corners & 1:
                run = [first]
                while mask >> (run[-1] + 1) % corners & 1:
                    run.append((run[-1] + 1) % corners)
                around = [(first, (first - 1) % corners), *((c, c) for c in run), (run[-1], (run[-1] + 1) % corners)]
                pieces += [around] if len(around) < 5 else [around[:4], [around[0], around[3], around[4]]]
        found.append((mask, pieces))
    return found


_PIECES = {3: _pieces(3), 4: _pieces(4)}


def _cut(faces: NDArray[np.int64], inside: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Faces (k, 4) left of faces that are partly inside; -1 - n stands for the n-th cut edge, whose ends are given too."""
    left = [np.empty((0, 4), np.int64)]
    starts, ends = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
    count = 0
    triangle = faces[:, 2] == faces[:, 3]
    for corners, own in ((3, faces[triangle]), (4, faces[~triangle])):
        masks = (inside[own[:, :corners]] << np.arange(corners)).sum(axis=1)
        for mask, pieces in _PIECES[corners]:
            some = own[masks == mask]
            for piece in pieces if len(some) else ():
                columns = []
                for a, b in piece:
                    if a == b:
                        columns.append(some[:, a])
                        continue
                    columns.append(-1 - count - np.arange(len(some)))
                    starts.append(some[:, a])
                    ends.append(some[:, b])
                    count += len(some)
                left.append(np.column_stack(columns if len(columns) == 4 else [*columns, columns[2]]))
    return np.concatenate(left), np.concatenate(starts), np.concatenate(ends)


def _compact(surface: Surface, faces: NDArray[np.int64]) -> Surface:
    """Only the vertices that faces use."""
    used = np.zeros(len(surface.points), dtype=bool)
    used[faces] = True
    number, old = np.cumsum(used) - 1, np.flatnonzero(used)
    points, stencil = surface.points[used], surface.stencil.take(old)
    if isinstance(surface, OwnSurface):
        return OwnSurface(points, number[faces], stencil, {name: v[old] for name, v in surface.own.items()})
    return Surface(points, number[faces], stencil)
