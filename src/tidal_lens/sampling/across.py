"""Values of one flow brought to the nodes of another, whatever meshes the two have."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.flow.case import Boundary, Flow
from tidal_lens.sampling import kernels
from tidal_lens.sampling.mesh import Mesh, mesh_of
from tidal_lens.sampling.nearest import nearest_on
from tidal_lens.work import Token, read_only, run_chunks

_NEAR = 0.25  # of a face's longest edge: so far from the other's surface a node still counts as lying on it
_CHUNK = 16384


@dataclass(frozen=True, eq=False)
class Across:
    """The way from the nodes of one flow to those of another.

    Attributes
    ----------
    mesh : Mesh or None
        Of the flow that values come from; None where both have the same nodes.
    where : ndarray, shape (n, 2), int32
        Block and cell that hold each node of the other, -1 where none does.
    places : ndarray, shape (n, 3), float32
        The place in it.
    rows : ndarray, shape (k,)
        Nodes that lie on walls, or just outside: they take what is on the surface nearest to them.
    ids, weights : ndarray, shape (k, 3)
        Nodes there and their weights.
    outside : int
        How many nodes have no value.
    """

    mesh: Mesh | None
    where: NDArray[np.int32]
    places: NDArray[np.float32]
    rows: NDArray[np.int64]
    ids: NDArray[np.int64]
    weights: NDArray[np.float64]
    outside: int = 0

    def bring(self, values: NDArray[Any], token: Token | None = None) -> NDArray[Any]:
        """Node values (m,), (m, 3) or (m, 3, 3) of the one flow at the nodes of the other; NaN outside.

        Raises
        ------
        CancelledError
            The token was cancelled.
        """
        if self.mesh is None:
            return values
        flat = read_only(np.ascontiguousarray(values.reshape(len(values), -1)))
        out = np.empty((len(self.where), flat.shape[1]), values.dtype)
        arrays = self.mesh.arrays
        run_chunks(lambda a, b: kernels.gather_places(arrays, self.where, self.places, flat, out, a, b), len(out), _CHUNK, token)
        if len(self.rows):
            out[self.rows] = np.einsum("nk,nkc->nc", self.weights, flat[self.ids])
        return out.reshape(len(out), *values.shape[1:])


def across(there: Flow, here: Flow, token: Token | None = None) -> Across:
    """How values come from the nodes of one flow to those of another.

    Nodes on walls take what is on the other's walls, and nodes just outside of the other what is on its outside, where that is nearer than
    a quarter of a face: two meshes of one curved wall do not meet.

    Parameters
    ----------
    there, here : Flow
        Where values come from, and where they are wanted.
    token : Token, optional
        Progress and cancel.

    Raises
    ------
    CancelledError
        The token was cancelled.
    """
    none = np.empty(0, np.int64), np.empty((0, 3), np.int64), np.empty((0, 3))
    if there.n_points == here.n_points and np.array_equal(there.points, here.points):
        return Across(None, np.empty((0, 2), np.int32), np.empty((0, 3), np.float32), *none)
    mesh, points = mesh_of(there, token), read_only(here.points)
    where, places = np.empty((here.n_points, 2), np.int32), np.zeros((here.n_points, 3), np.float32)
    run_chunks(lambda a, b: kernels.locate_places(mesh.arrays, points, where, places, a, b), here.n_points, _CHUNK, token)
    walls = _nodes_of(here.boundaries)
    lost = np.flatnonzero(where[:, 0] < 0)
    parts = [_onto(_triangles([b for b in there.boundaries if b.solid]), there, here, walls),
             _onto(_triangles(there.boundaries), there, here, lost[~np.isin(lost, walls)])]
    rows, ids, weights = (np.concatenate(one) for one in zip(*parts, strict=True))
    return Across(mesh, where, places, rows, ids, weights, int((~np.isin(lost, rows)).sum()))


def _nodes_of(boundaries: tuple[Boundary, ...]) -> NDArray[np.int64]:
    solid = [b.nodes for b in boundaries if b.solid and b.nodes is not None]
    return distinct(np.concatenate(solid)) if solid else np.empty(0, np.int64)


def _triangles(boundaries: list[Boundary] | tuple[Boundary, ...]) -> NDArray[np.int64]:
    """Corners (m, 3) of boundary faces cut into triangles."""
    known = [b.nodes[b.faces] for b in boundaries if b.nodes is not None and len(b.faces)]
    if not known:
        return np.empty((0, 3), np.int64)
    faces = np.concatenate(known)
    quads = faces[:, 2] != faces[:, 3]
    return np.concatenate([faces[:, :3], faces[quads][:, [0, 2, 3]]])


def _onto(triangles: NDArray[np.int64], there: Flow, here: Flow,
          rows: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float64]]:
    """Those of some nodes that lie near a surface, with the corners of the triangle nearest to each and their weights."""
    if not len(triangles) or not len(rows):
        return np.empty(0, np.int64), np.empty((0, 3), np.int64), np.empty((0, 3))
    corners = there.points[triangles].astype(np.float64)
    places = here.points[rows].astype(np.float64)
    size = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=-1).max(axis=1)
    solid = size > 0.0
    corners, triangles, size = corners[solid], triangles[solid], size[solid]
    best, shares = nearest_on(corners, places)
    shares = np.nan_to_num(shares, nan=1.0 / 3.0)
    gap = np.linalg.norm(np.einsum("nk,nkd->nd", shares, corners[best]) - places, axis=1)
    near = gap <= _NEAR * size[best]
    return rows[near], triangles[best[near]], shares[near]
