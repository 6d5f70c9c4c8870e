"""Surfaces as sheets of vertices: welded over seams, in connected pieces, smoothed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.masking import kept_surface
from tidal_lens.cutting.surface import Surface
from tidal_lens.distinct import distinct
from tidal_lens.sampling.mesh import Stencil

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
_TO_AND_FRO = (0.5, -0.53)
_DETOUR = 1.3


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
    count = int(faces.max()) + 1
    keys, _ = _counted(faces, count)
    return np.column_stack([keys // count, keys % count])


def _counted(faces: Ints, count: int) -> tuple[Ints, Ints]:
    """Each edge once, as its lesser vertex times a count and the other, and how many faces it joins."""
    one, two = (np.concatenate([faces[:, (k + shift) % 4] for k in range(4)]) for shift in (0, 1))
    low, high = np.minimum(one, two), np.maximum(one, two)
    return np.unique((low * count + high)[low != high], return_counts=True)


def pieces(count: int, edges: Ints, on: NDArray[np.bool_]) -> Ints:
    """Number of the connected piece of each of some vertices, shape (count,), that of most vertices first; −1 for others."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

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
    from scipy.sparse import csr_matrix

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
    """The surface with its vertices moved towards their neighbours and, nearly as far, back: it gets even and does not shrink.

    Those of its rim go by their neighbours along the rim; those that are held stay. After Taubin 1995, A
    signal processing approach to fair surface design, SIGGRAPH.
    """
    from scipy.sparse import csr_matrix

    count = len(surface.points)
    keys, many = _counted(surface.faces, count)
    one, two = keys // count, keys % count
    rim = np.zeros(count, bool)
    rim[one[many == 1]] = True
    rim[two[many == 1]] = True
    # Weights of what each end of an edge takes of the other.
    of_two, of_one = (np.where((many > 1) & rim[end], 0.0, 1.0) for end in (one, two))
    graph = csr_matrix((np.concatenate([of_two, of_one]), (np.concatenate([one, two]), np.concatenate([two, one]))), (count, count))
    beside = np.maximum(np.asarray(graph.sum(axis=1)), 1.0)
    free = np.ones((count, 1)) if held is None else (~held[:, None]).astype(np.float64)
    points = surface.points
    for share in _TO_AND_FRO * times:
        points = points + share * free * (graph @ points / beside - points)
    return Surface(points, surface.faces, surface.stencil)


def opened(surface: Surface, cells: Vec, reach: float) -> tuple[Surface, Stencil]:
    """The surface without what is narrower than twice a reach in cells: teeth and rags; as it is where nothing else would be left.

    Parameters
    ----------
    surface : Surface
        With one vertex at a place.
    cells : ndarray, shape (n,)
        Width of the flow's cells at its vertices.
    reach : float
        In such widths.

    Returns
    -------
    Surface, Stencil
        And its vertices as mixtures of the surface's.
    """
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import dijkstra

    edges, count = edges_of(surface.faces), len(surface.points)
    one, two = edges.T
    length = np.linalg.norm(surface.points[one] - surface.points[two], axis=1)
    steps = np.maximum(2.0 * length / np.maximum(cells[one] + cells[two], 1e-300), 1e-9)
    graph = coo_matrix((steps, (one, two)), (count, count)).tocsr()
    whole = surface, Stencil(np.arange(count)[:, None], np.ones((count, 1)))
    rim = distinct(rim_of(surface.faces))
    if not len(rim):
        return whole
    inner = np.flatnonzero(dijkstra(graph, directed=False, indices=rim, min_only=True) > reach)
    if not len(inner):
        return whole
    away = dijkstra(graph, directed=False, indices=inner, min_only=True)
    # Ways along edges are longer than those between them, and what is inner begins an edge later than it might.
    slack = np.zeros(count)
    for end in (one, two):
        np.maximum.at(slack, end, steps)
    room = _DETOUR * reach + slack
    return clipped(surface, averaged(np.maximum(room - away, -reach), edges, 2))


def rim_of(faces: Ints) -> Ints:
    """Pairs of vertices that only one face joins, shape (k, 2)."""
    count = int(faces.max(initial=0)) + 1
    keys, many = _counted(faces, count)
    once = keys[many == 1]
    return np.column_stack([once // count, once % count])


def part_of(surface: Surface, on: NDArray[np.bool_]) -> tuple[Surface, Ints]:
    """The faces whose corners are all among some vertices, and which of the surface's vertices are left."""
    faces = surface.faces[on[surface.faces].all(axis=1)]
    used = distinct(faces)
    number = np.full(len(surface.points), -1, np.int64)
    number[used] = np.arange(len(used))
    stencil: Stencil = surface.stencil.take(used)
    return Surface(surface.points[used], number[faces], stencil), used
