"""Surfaces as sheets of vertices: welded over seams, in connected pieces, smoothed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components

from tidal_lens.cutting.masking import kept_surface
from tidal_lens.cutting.surface import Surface
from tidal_lens.sampling.mesh import Stencil

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
_TO_AND_FRO = (0.5, -0.53)


def welded(surface: Surface, width: float) -> Surface:
    """The surface with vertices at one place, to a share of a width, as one: without seams. Faces that become edges go."""
    if not len(surface.faces):
        return surface
    keys = np.round((surface.points - surface.points.min(axis=0)) / (1e-4 * width)).astype(np.int64)
    _, first, place = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    faces = place.ravel()[surface.faces]
    triangle = faces[:, 2] == faces[:, 3]
    good = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    good &= triangle | ((faces[:, 3] != faces[:, 0]) & (faces[:, 3] != faces[:, 1]))
    return Surface(surface.points[first], faces[good], surface.stencil.take(first))


def edges_of(faces: Ints) -> Ints:
    """Pairs of vertices that a face joins, shape (k, 2), each once, the lesser first."""
    if not len(faces):
        return np.empty((0, 2), np.int64)
    one, two = (np.concatenate([faces[:, (k + shift) % 4] for k in range(4)]) for shift in (0, 1))
    low, high = np.minimum(one, two), np.maximum(one, two)
    count = int(high.max()) + 1
    keys = np.unique((low * count + high)[low != high])
    return np.column_stack([keys // count, keys % count])


def pieces(count: int, edges: Ints, on: NDArray[np.bool_]) -> Ints:
    """Number of the connected piece of each of some vertices, shape (count,), that of most vertices first; −1 for others."""
    own = edges[on[edges].all(axis=1)]
    graph = coo_matrix((np.ones(len(own), np.int8), (own[:, 0], own[:, 1])), (count, count))
    part = connected_components(graph, directed=False)[1]
    out = np.full(count, -1, np.int64)
    names, inverse, many = np.unique(part[on], return_inverse=True, return_counts=True)
    place = np.empty(len(names), np.int64)
    place[np.argsort(-many, kind="stable")] = np.arange(len(names))
    out[on] = place[inverse]
    return out


def averaged(values: Vec, edges: Ints, times: int) -> Vec:
    """Vertex values (n,) averaged with their neighbours, over and over; those that are not numbers take part in nothing."""
    n = len(values)
    graph = csr_matrix((np.ones(2 * len(edges)), (edges.T.ravel(), edges[:, ::-1].T.ravel())), (n, n))
    known = np.isfinite(values).astype(np.float64)
    now = np.nan_to_num(values)
    for _ in range(times):
        total, many = graph @ (now * known) + now * known, graph @ known + known
        now = np.divide(total, many, out=np.zeros_like(now), where=many > 0.0)
        known = (many > 0.0).astype(np.float64)
    return np.where(known > 0.0, now, np.nan)


def clipped(surface: Surface, inside: Vec) -> tuple[Surface, Stencil]:
    """What of a surface is where a vertex value (n,) is positive, cut within faces; and its vertices as mixtures of the surface's."""
    own = np.arange(len(surface.points))[:, None]
    part = kept_surface(Surface(surface.points, surface.faces, Stencil(own, np.ones((len(own), 1)))), inside)
    rows, below = part.stencil, surface.stencil
    shape = len(rows.ids), rows.ids.shape[1] * below.ids.shape[1]
    ids = below.ids[rows.ids].reshape(shape)
    weights = (rows.weights[:, :, None] * below.weights[rows.ids]).reshape(shape)
    return Surface(part.points, part.faces, Stencil(ids, weights)), rows


def evened(surface: Surface, times: int, held: NDArray[np.bool_] | None = None) -> Surface:
    """The surface with its inner vertices moved towards their neighbours and, nearly as far, back: it gets even and does not shrink.

    Its rim stays, and those that are held. After Taubin 1995, A signal processing approach to fair surface design, SIGGRAPH.
    """
    one, two = (np.concatenate([surface.faces[:, (k + shift) % 4] for k in range(4)]) for shift in (0, 1))
    low, high = np.minimum(one, two), np.maximum(one, two)
    count = len(surface.points)
    keys, many = np.unique((low * count + high)[low != high], return_counts=True)
    rim = np.zeros(count, bool) if held is None else held.copy()
    once = keys[many == 1]
    rim[once // count] = True
    rim[once % count] = True
    one, two = keys // count, keys % count
    graph = csr_matrix((np.ones(2 * len(keys)), (np.concatenate([one, two]), np.concatenate([two, one]))), (count, count))
    beside = np.maximum(np.asarray(graph.sum(axis=1)), 1.0)
    points = surface.points
    for share in _TO_AND_FRO * times:
        points = np.where(rim[:, None], points, points + share * (graph @ points / beside - points))
    return Surface(points, surface.faces, surface.stencil)


def part_of(surface: Surface, on: NDArray[np.bool_]) -> tuple[Surface, Ints]:
    """The faces whose corners are all among some vertices, and which of the surface's vertices are left."""
    faces = surface.faces[on[surface.faces].all(axis=1)]
    used = np.unique(faces)
    number = np.full(len(surface.points), -1, np.int64)
    number[used] = np.arange(len(used))
    stencil: Stencil = surface.stencil.take(used)
    return Surface(surface.points[used], number[faces], stencil), used
