"""Places on walls: the nearest to given ones, with the wall's normal there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.flow.case import Flow
from tidal_lens.measures.sums import Facets
from tidal_lens.quantities.walls import normals, wall_faces
from tidal_lens.sampling.mesh import Stencil

Vec = NDArray[np.float64]
_NEAR = 12  # nodes whose triangles are looked at


@dataclass(frozen=True, eq=False)
class OnWalls:
    """Places on walls.

    Attributes
    ----------
    points, normals : ndarray, shape (n, 3)
        Where, and the unit normal into the flow.
    stencil : Stencil
        Interpolation of node values to them.
    """

    points: Vec
    normals: Vec
    stencil: Stencil


def on_walls(flow: Flow, places: Vec) -> OnWalls:
    """The nearest places of the flow's walls to some (n, 3).

    Raises
    ------
    ValueError
        There are no walls.
    """
    from scipy.spatial import cKDTree

    faces, _, _ = wall_faces(flow)
    if not len(faces):
        raise ValueError("this flow has no walls")
    corners = Facets.of(flow.points, faces).corners
    nodes, local = np.unique(corners, return_inverse=True)
    local = local.reshape(corners.shape)
    order = np.argsort(local.ravel(), kind="stable")
    first = np.searchsorted(local.ravel()[order], np.arange(len(nodes) + 1))
    facing = normals(flow)
    tree = cKDTree(flow.points[nodes])
    points, ids, weights = np.empty((len(places), 3)), np.empty((len(places), 3), np.int64), np.empty((len(places), 3))
    for n, place in enumerate(places):
        near = np.atleast_1d(np.asarray(tree.query(place, min(_NEAR, len(nodes)))[1]))
        around = distinct(np.concatenate([order[first[k]:first[k + 1]] // 3 for k in near]))
        shares = _closest(flow.points[corners[around]], place)
        where = np.einsum("kc,kci->ki", shares, flow.points[corners[around]])
        best = int(((where - place) ** 2).sum(axis=1).argmin())
        points[n], ids[n], weights[n] = where[best], corners[around[best]], shares[best]
    stencil = Stencil(ids, weights)
    normal = stencil.apply_vectors(facing)
    return OnWalls(points, normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None], stencil)


def _closest(triangles: Vec, place: Vec) -> Vec:
    """Shares of the corners (k, 3) at the place of each triangle (k, 3, 3) that is nearest to one (3,)."""
    a, b, c = triangles[:, 0], triangles[:, 1], triangles[:, 2]
    u, v, w = b - a, c - a, place - a
    uu, uv, vv = (u * u).sum(axis=1), (u * v).sum(axis=1), (v * v).sum(axis=1)
    wu, wv = (w * u).sum(axis=1), (w * v).sum(axis=1)
    det = np.maximum(uu * vv - uv * uv, 1e-300)
    s, t = (vv * wu - uv * wv) / det, (uu * wv - uv * wu) / det
    inner = np.column_stack([1.0 - s - t, s, t])
    within = np.asarray((inner >= 0.0).all(axis=1))
    # Outside the triangle the nearest place of an edge counts.
    best, least = np.where(within[:, None], inner, np.nan), np.full(len(a), np.inf)
    for first, second in ((0, 1), (1, 2), (2, 0)):
        p, q = triangles[:, first], triangles[:, second]
        edge = q - p
        share = np.clip(((place - p) * edge).sum(axis=1) / np.maximum((edge * edge).sum(axis=1), 1e-300), 0.0, 1.0)
        off = ((p + share[:, None] * edge - place) ** 2).sum(axis=1)
        own = np.zeros((len(a), 3))
        own[np.arange(len(a)), first], own[np.arange(len(a)), second] = 1.0 - share, share
        nearer = (off < least) & ~within
        best, least = np.where(nearer[:, None], own, best), np.minimum(least, off)
    return best
