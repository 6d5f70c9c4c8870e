"""Where blocks meet one another, or, as O- and C-shaped ones do, themselves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.extent import extent
from tidal_lens.flow.faces import face_keys, outer_faces
from tidal_lens.flow.grid import Grid, StructuredGrid
from tidal_lens.work import checkpoint

_FACTORS = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9], np.uint64)


@dataclass(frozen=True, eq=False)
class Seams:
    """Groups of coincident nodes.

    Attributes
    ----------
    nodes : ndarray, shape (m,), int64
        Nodes that coincide with a node of another block, or with another of their own structured block.
    groups : ndarray, shape (m,), int64
        Group of each; nodes of one group lie on one another.
    n_groups : int
        Number of groups.
    """

    nodes: NDArray[np.int64]
    groups: NDArray[np.int64]
    n_groups: int

    def average(self, values: NDArray[Any]) -> None:
        """Give coincident nodes the mean of their values, in place."""
        if self.n_groups:
            own = values[self.nodes]
            self.average_own(own)
            values[self.nodes] = own

    def average_own(self, own: NDArray[Any]) -> None:
        """The same for values that are given for the nodes of the seams only, in their order."""
        counts = np.bincount(self.groups, minlength=self.n_groups)
        columns = own.reshape(len(own), -1)  # a view
        for c in range(columns.shape[1]):
            columns[:, c] = (np.bincount(self.groups, columns[:, c], minlength=self.n_groups) / counts)[self.groups]

    def labels(self, n_points: int) -> NDArray[np.int64]:
        """One label a node, the same for nodes that lie on one another."""
        labels = np.arange(n_points, dtype=np.int64)
        first = np.full(self.n_groups, np.iinfo(np.int64).max, dtype=np.int64)
        np.minimum.at(first, self.groups, self.nodes)
        labels[self.nodes] = first[self.groups]
        return labels


def point_keys(points: NDArray[np.float64]) -> NDArray[np.uint64]:
    """One number a point, the same for points that are the same to the last bit."""
    bits = (np.ascontiguousarray(points) + 0.0).view(np.uint64)  # minus zero is zero
    mixed = bits ^ (bits >> np.uint64(29))
    mixed *= _FACTORS
    mixed ^= mixed >> np.uint64(32)
    return np.asarray((mixed * _FACTORS[::-1]).sum(axis=1, dtype=np.uint64))


def any_near(points: NDArray[np.float64], width: float) -> bool:
    """Whether any two of different points fall into one cell of a lattice: where blocks meet inexactly, many of their nodes do."""
    lattice = ((points - points.min(axis=0)) / max(width, 1e-300) + 0.3183).astype(np.int64).astype(np.uint64)
    keys = np.sort((lattice * _FACTORS).sum(axis=1, dtype=np.uint64))
    return bool((keys[1:] == keys[:-1]).any())


def _exact_groups(grids: list[tuple[int, Grid]], structured: NDArray[np.bool_], outer: NDArray[np.int64], group: NDArray[np.int64],
                  count: int) -> Seams:
    """Groups of nodes that coincide to the last bit, where no others are near: no graph is needed."""
    owner = np.searchsorted(np.array([first for first, _ in grids]), outer, side="right") - 1
    least, greatest = np.full(count, len(grids)), np.full(count, -1)
    np.minimum.at(least, group, owner)
    np.maximum.at(greatest, group, owner)
    many = np.bincount(group, minlength=count) > 1
    meets = many & ((least < greatest) | structured[np.minimum(least, len(grids) - 1)])
    chosen = meets[group]
    return Seams(outer[chosen], (np.cumsum(meets) - 1)[group[chosen]], int(meets.sum()))


def find_seams(points: NDArray[np.float64], grids: list[tuple[int, Grid]]) -> Seams:
    """Find nodes that coincide to within a millionth of the flow's size.

    Nodes of one unstructured block stay apart: it is the mesh that says what is joined there.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points of all blocks.
    grids : list of (int, Grid)
        First point and grid of each block.
    """
    none = Seams(np.empty(0, np.int64), np.empty(0, np.int64), 0)
    structured = np.array([isinstance(grid, StructuredGrid) for _, grid in grids])
    if len(grids) < 2 and not structured.any():
        return none
    used = np.zeros(len(points), dtype=bool)
    for first, grid in grids:
        used[first + outer_faces(grid)] = True
    outer = np.flatnonzero(used)
    size = float(np.linalg.norm(np.subtract(*extent(points))))
    checkpoint()
    # Most coincide to the last bit: one of them stands for all where near ones are looked for.
    _, leader, group = np.unique(point_keys(points[outer]), return_index=True, return_inverse=True)
    checkpoint()
    if not any_near(points[outer[leader]], 1e-5 * size):
        return _exact_groups(grids, structured, outer, group, len(leader))
    from scipy.sparse import coo_array  # loaded here: half a second that the window need not wait for
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    checkpoint()
    near = leader[cKDTree(points[outer[leader]]).query_pairs(1e-6 * size, output_type="ndarray")].reshape(-1, 2)
    checkpoint()
    again = np.flatnonzero(leader[group] != np.arange(len(outer)))
    checkpoint()
    pairs = np.concatenate([near, np.column_stack([leader[group[again]], again])])
    starts = np.array([first for first, _ in grids])
    owner = np.searchsorted(starts, outer, side="right")
    one, other = owner[pairs[:, 0]], owner[pairs[:, 1]]
    # Where several blocks meet, all nodes of the place are one, also two of the same block.
    shared = np.zeros(len(leader), dtype=bool)
    shared[group[again[owner[again] != owner[leader[group[again]]]]]] = True
    pairs = pairs[(one != other) | structured[one - 1] | shared[group[pairs[:, 0]]]]
    if len(pairs) == 0:
        return none
    used, compact = np.unique(pairs, return_inverse=True)
    compact = compact.reshape(pairs.shape)
    graph = coo_array((np.ones(len(pairs)), (compact[:, 0], compact[:, 1])), shape=(len(used), len(used)))
    count, groups = connected_components(graph, directed=False)
    return Seams(outer[used].astype(np.int64), groups.astype(np.int64), int(count))


def kept_apart(seams: Seams, faces: NDArray[np.int64], walls: NDArray[np.bool_], n_points: int) -> Seams:
    """The seams with the two sides of walls kept apart: there nodes are one only where faces that are no walls join them.

    Parameters
    ----------
    seams : Seams
        Nodes that lie on one another.
    faces : ndarray, shape (m, 4)
        Outer faces of all blocks.
    walls : ndarray, shape (m,), bool
        Which of them are walls with the flow on both sides.
    n_points : int
        Number of the flow's nodes.
    """
    from scipy.sparse import coo_array  # loaded here: half a second that the window need not wait for
    from scipy.sparse.csgraph import connected_components

    labels = seams.labels(n_points)
    touched = np.zeros(n_points, dtype=bool)
    touched[labels[faces[walls]]] = True
    chosen = touched[labels[seams.nodes]]
    nodes = seams.nodes[chosen]
    at = np.full(n_points, -1, np.int64)
    at[nodes] = np.arange(len(nodes))
    near = np.flatnonzero(~walls & (at[faces] >= 0).any(axis=1))
    keys = face_keys(labels[faces[near]])
    order = near[np.argsort(keys, kind="stable")]
    ranked = np.sort(keys)
    same = ranked[1:] == ranked[:-1]
    one, other = faces[order[:-1][same]], faces[order[1:][same]]
    pairs = [np.column_stack([one[:, a], other[:, b]])[labels[one[:, a]] == labels[other[:, b]]] for a in range(4) for b in range(4)]
    joined = np.concatenate([np.empty((0, 2), np.int64), *pairs])
    joined = at[joined[(at[joined] >= 0).all(axis=1)]]
    graph = coo_array((np.ones(len(joined)), (joined[:, 0], joined[:, 1])), shape=(len(nodes), len(nodes)))
    count, part = connected_components(graph, directed=False)
    several = np.bincount(part, minlength=count)[part] > 1
    groups = np.concatenate([seams.groups[~chosen], seams.n_groups + part[several]])
    _, compact = np.unique(groups, return_inverse=True)
    return Seams(np.concatenate([seams.nodes[~chosen], nodes[several]]), compact.astype(np.int64), int(compact.max(initial=-1)) + 1)
