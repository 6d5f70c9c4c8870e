"""Nodes at one place made one node, but for the two sides of walls of no thickness.

Element-wise writers give each cell nodes of its own, partitions give each piece its own. What is joined is told by the places alone:
to the last bit, or, at the outside, to rounding that is small against the cells there. At a wall of no thickness nodes are joined by
the cells' faces instead: cells that share a face which is no wall share its nodes. So its two sides stay apart, and its rim does not.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import among, distinct
from tidal_lens.flow import welding_kernels
from tidal_lens.flow.extent import extent
from tidal_lens.flow.faces import face_keys, face_neighbours, nodes_of, of_polygons, outer_faces
from tidal_lens.flow.grid import HEX_FACES, OWN_CORNERS, UnstructuredGrid
from tidal_lens.flow.seams import any_near
from tidal_lens.work import WORKERS, checkpoint, read_only, run_chunks

_SHARE = 65536  # nodes among which equal places are searched at a time
_ROUNDING = 1e-6  # of the flow's size; and of the shortest edge there
_SHORT = 1e-2
_FACES = np.array(HEX_FACES)
Surface = tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64] | None]


@dataclass(frozen=True, eq=False)
class Joint:
    """How nodes became others.

    Attributes
    ----------
    source : ndarray, shape (new nodes,), int32
        An old node of each new one.
    leader : ndarray, shape (old nodes,), int32
        The old node whose place each takes, not above itself.
    number : ndarray, shape (old nodes,), int32
        The new node that each became.
    """

    source: NDArray[np.int32]
    leader: NDArray[np.int32]
    number: NDArray[np.int32]

    @staticmethod
    def of(leader: NDArray[np.int32]) -> Joint:
        """From the leaders."""
        number, source = np.empty(len(leader), np.int32), np.empty(len(leader), np.int32)
        count = welding_kernels.count_anew(leader, number, source)
        return Joint(source[:count].copy(), leader, number)

    def values(self, old: NDArray[Any]) -> tuple[NDArray[Any], NDArray[np.int64], float]:
        """Values at the new nodes, means where the old ones differ; the nodes where they do beyond rounding, and by how much at most."""
        new, none = _rows(old, self.source), np.empty(0, np.int64)
        columns, leader = read_only(old.reshape(len(old), -1)), read_only(self.leader)
        unlike: list[bool] = []
        run_chunks(lambda a, b: unlike.append(welding_kernels.any_unlike(columns, leader, a, b)), len(old), 262144)
        if not any(unlike):
            return new, none, 0.0
        counts = np.bincount(self.number, minlength=len(new))
        mean = np.column_stack([np.bincount(self.number, columns[:, c], len(new)) / counts for c in range(columns.shape[1])])
        apart = np.zeros(len(new))
        with np.errstate(invalid="ignore"):
            gap = np.abs(columns - mean[self.number]).max(axis=1)
        np.fmax.at(apart, self.number, gap)
        several = counts > 1
        new[several] = mean[several].reshape(-1, *old.shape[1:])
        top = float(np.abs(columns).max(initial=0.0, where=np.isfinite(columns)))
        jumps = np.flatnonzero(apart > 1e-5 * top)
        return new, jumps, 2.0 * float(apart[jumps].max(initial=0.0))


@dataclass(frozen=True, eq=False)
class Welded:
    """A grid with its nodes joined.

    Attributes
    ----------
    grid : UnstructuredGrid
        Its corners count the new nodes.
    points : ndarray, shape (new nodes, 3)
        Where they lie.
    joints : tuple of Joint
        How nodes were joined, one time after another.
    copies : ndarray of int, or None
        Of each new node, the joined one whose copy it is, where walls keep nodes apart.
    """

    grid: UnstructuredGrid
    points: NDArray[np.float64]
    joints: tuple[Joint, ...]
    copies: NDArray[np.int64] | None

    def values(self, old: NDArray[Any]) -> tuple[NDArray[Any], int, float]:
        """Values at the new nodes; at how many the old ones differ beyond rounding, and by how much at most."""
        jumps, most = 0, 0.0
        for joint in self.joints:
            old, at, gap = joint.values(old)
            jumps, most = jumps + len(at), max(most, gap)
        return (old if self.copies is None else old[self.copies]), jumps, most


def same_places(points: NDArray[np.float64], nodes: NDArray[np.int32]) -> tuple[NDArray[np.int32], int]:
    """Which nodes lie at one place, to the last bit.

    Returns
    -------
    ndarray, shape (n,), int32
        The first of ``nodes`` at the place of each of them; others are their own.
    int
        How many are not the first.
    """
    leader = np.arange(len(points), dtype=np.int32)
    keys = np.empty(len(nodes), np.uint64)
    places = read_only(points if len(nodes) == len(points) else np.ascontiguousarray(points[nodes]))
    run_chunks(lambda a, b: welding_kernels.place_keys(places, keys, a, b), len(nodes), 65536)
    if len(nodes) == 0:
        return leader, 0
    shares = 1 if len(nodes) < 2 * _SHARE else 1 << (len(nodes) // _SHARE).bit_length() - 1
    starts = np.array([0, len(nodes)], np.int64)
    if shares > 1:  # tables that fit into the processor's cache
        keys, nodes, starts = _by_share(keys, nodes, shares)
    again: list[int] = []
    own, readable, listed = read_only(points), read_only(keys), read_only(nodes)

    def some(begin: int, end: int) -> None:
        for share in range(begin, end):
            first, last = int(starts[share]), int(starts[share + 1])
            table = np.full(1 << max(4, (2 * (last - first)).bit_length()), -1, np.int32)
            again.append(welding_kernels.first_alike(readable, listed, table, leader, first, last))

    run_chunks(some, shares, 1)
    there: list[bool] = []
    placed = read_only(leader)
    run_chunks(lambda a, b: there.append(welding_kernels.all_there(own, placed, a, b)), len(points), 262144)
    if not all(there):  # two keys of different places clash, once in a million of large meshes: nothing is joined rather than wrongly
        return np.arange(len(points), dtype=np.int32), 0
    return leader, sum(again)


def _by_share(keys: NDArray[np.uint64], nodes: NDArray[np.int32],
              shares: int) -> tuple[NDArray[np.uint64], NDArray[np.int32], NDArray[np.int64]]:
    """Keys of one share (of a power of two) brought together with their nodes, in their order; and where each share begins."""
    shift = np.uint64(64 - (shares.bit_length() - 1))
    chunk = max(len(keys) // (2 * WORKERS) + 1, _SHARE)
    fill = np.zeros((-(-len(keys) // chunk), shares), np.int64)
    own, listed = read_only(keys), read_only(nodes)
    run_chunks(lambda a, b: welding_kernels.count_shares(own, shift, fill[a // chunk], a, b), len(keys), chunk)
    ends = np.cumsum(fill.sum(axis=0))
    starts = np.concatenate([[0], ends])
    fill[1:] = np.cumsum(fill[:-1], axis=0)
    fill[0] = 0
    fill += starts[:-1]
    sorted_keys, sorted_nodes = np.empty_like(keys), np.empty_like(nodes)
    run_chunks(lambda a, b: welding_kernels.spread_shares(own, listed, shift, fill[a // chunk], sorted_keys, sorted_nodes, a, b),
               len(keys), chunk)
    return sorted_keys, sorted_nodes, starts


def weld(points: NDArray[np.float64], grid: UnstructuredGrid, walls: Sequence[Surface] = (),
         rest: Callable[[], NDArray[np.bool_] | None] = lambda: None, *, everywhere: bool = False) -> Welded | None:
    """Join the nodes of a block that lie at one place.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Its points.
    grid : UnstructuredGrid
        Its cells.
    walls : sequence of (points (k, 3), faces (m, 4), polygons (m,) or None)
        Surfaces that are walls; where one lies inside the flow its sides stay apart. See :func:`tidal_lens.flow.faces.of_polygons`.
    rest : callable, optional
        Gives the nodes (n,) at which the flow rests, if that is known: doubled faces of such nodes in a mesh that is otherwise joined are a
        wall too.
    everywhere : bool
        Look for equal places among all nodes at once: many are known to be there.

    Returns
    -------
    Welded or None
        None where there is nothing to do.
    """
    own = sum(len(OWN_CORNERS[int(k)]) * int((grid.types == k).sum()) for k in distinct(grid.types))
    loose = 2 * grid.n_points > own  # most nodes are nodes of one cell: looking for outer faces first is work for nothing
    nodes = (np.arange(grid.n_points) if loose or everywhere else nodes_of(outer_faces(grid), grid.n_points)).astype(np.int32)
    leader, again = same_places(points, nodes)
    still = rest() if again and not (loose or everywhere) else None
    slit = _slit(grid, leader, still) if still is not None else None
    joints: list[Joint] = []
    made, own_points = grid, points
    if again:
        made, own_points = _take(made, own_points, joints, leader)
    checkpoint()
    near = _near(own_points, made)
    if near is not None:
        made, own_points = _take(made, own_points, joints, near)
    for joint in joints:
        slit = None if slit is None else joint.number[slit].astype(np.int64)
    checkpoint()
    bars = _inside(own_points, made, walls, slit) if walls or slit is not None else None
    if bars is None:
        return Welded(made, own_points, tuple(joints), None) if joints else None
    corners, copies = _apart(made, bars)
    whole = UnstructuredGrid(len(copies), corners, grid.types, grid.origin, bars)
    sides = face_neighbours(made).copy()
    sides[bars[:, 0], bars[:, 1]] = -1
    whole.__dict__["_neighbours"] = sides
    return Welded(whole, own_points[copies], tuple(joints), copies)


def _take(grid: UnstructuredGrid, points: NDArray[np.float64], joints: list[Joint],
          leader: NDArray[np.int32]) -> tuple[UnstructuredGrid, NDArray[np.float64]]:
    """The grid with its nodes joined once more."""
    joint = Joint.of(leader)
    joints.append(joint)
    return UnstructuredGrid(len(joint.source), _rows(joint.number, grid.corners), grid.types, grid.origin), _rows(points, joint.source)


def _rows(values: NDArray[Any], which: NDArray[np.int32]) -> NDArray[Any]:
    """``values[which]``, by several threads."""
    out = np.empty((*which.shape, *values.shape[1:]), values.dtype)

    def take(begin: int, end: int) -> None:  # with mode "clip" nothing is buffered; all numbers are within
        np.take(values, which[begin:end], axis=0, out=out[begin:end], mode="clip")

    run_chunks(take, len(which), 65536)
    return out


def _near(points: NDArray[np.float64], grid: UnstructuredGrid) -> NDArray[np.int32] | None:
    """The node that each becomes where outer nodes meet but for rounding; None where none do."""
    faces = outer_faces(grid)
    outer = nodes_of(faces, grid.n_points)
    own = points[outer]
    size = float(np.linalg.norm(own.max(axis=0) - own.min(axis=0))) if len(own) else 0.0
    if not (size > 0.0 and any_near(own, 10.0 * _ROUNDING * size)):
        return None
    from scipy.sparse import coo_array  # loaded here: half a second that the window need not wait for
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    checkpoint()
    pairs = cKDTree(own).query_pairs(_ROUNDING * size, output_type="ndarray").reshape(-1, 2)
    checkpoint()
    edge = np.linalg.norm(points[faces] - points[np.roll(faces, -1, axis=1)], axis=2)
    edge[edge == 0.0] = np.inf
    shortest = np.full(grid.n_points, np.inf)
    np.minimum.at(shortest, faces, np.minimum(edge, np.roll(edge, 1, axis=1)))
    reach = np.minimum(shortest[outer[pairs[:, 0]]], shortest[outer[pairs[:, 1]]])
    pairs = pairs[np.linalg.norm(own[pairs[:, 0]] - own[pairs[:, 1]], axis=1) < _SHORT * reach]
    if len(pairs) == 0:
        return None
    graph = coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(own), len(own)))
    _, group = connected_components(graph, directed=False)
    leader = np.full(int(group.max()) + 1, np.iinfo(np.int32).max, np.int64)
    np.minimum.at(leader, group, outer)
    place = np.arange(grid.n_points, dtype=np.int32)
    place[outer] = leader[group]
    return place


def _slit(grid: UnstructuredGrid, place: NDArray[np.int32], still: NDArray[np.bool_]) -> NDArray[np.int64] | None:
    """Outer faces (m, 4) that lie on one another with all their nodes at rest."""
    faces = outer_faces(grid)
    doubled = (place[faces] != faces).any(axis=1)
    rest = still[faces].all(axis=1)
    keys = face_keys(place[faces].astype(np.int64))
    _, group, counts = np.unique(keys, return_inverse=True, return_counts=True)
    both = np.bincount(group, rest)[group] == counts[group]
    chosen = (counts[group] == 2) & both & rest
    if not (chosen & doubled).any():
        return None
    return np.asarray(faces[chosen])


def _inside(points: NDArray[np.float64], grid: UnstructuredGrid, walls: Sequence[Surface],
            slit: NDArray[np.int64] | None) -> NDArray[np.int64] | None:
    """Cells and sides (m, 2) that are walls but have a cell on their other side; None where there are none."""
    outer = outer_faces(grid)
    known, outer_nodes = face_keys(outer), nodes_of(outer, grid.n_points)
    wanted: list[NDArray[np.int64]] = [] if slit is None else [slit]
    cut_up: list[tuple[NDArray[np.int64], NDArray[np.int64]]] = []
    for own, faces, polygons in walls:
        nodes = nodes_at(points, own, outer_nodes)
        if (nodes < 0).any():
            nodes = nodes_at(points, own, nodes_of(grid.corners, grid.n_points))
        there = (nodes[faces] >= 0).all(axis=1)
        wanted.append(nodes[faces[there]])
        if polygons is not None:
            cut_up.append((nodes[faces[there]], polygons[there]))
    faces = np.concatenate(wanted) if wanted else np.empty((0, 4), np.int64)
    faces = faces[~among(face_keys(faces), known)] if len(faces) else faces
    if len(faces) == 0:
        return None
    touched = np.zeros(grid.n_points, dtype=bool)
    touched[faces] = True
    cells = np.flatnonzero(touched[grid.corners].sum(axis=1) >= 3)
    sides = grid.corners[cells][:, _FACES].astype(np.int64)  # (k, 6, 4)
    keys = _collapsed_keys(sides.reshape(-1, 4)).reshape(-1, 6)
    near = face_neighbours(grid)[cells]
    hit = among(keys, face_keys(faces)) & (near >= 0)
    for parts, polygons in cut_up:
        rest = np.flatnonzero((~hit & (near >= 0)).ravel())
        hit.ravel()[rest] |= of_polygons(sides.reshape(-1, 4)[rest], parts, polygons)
    if not hit.any():
        return None
    row, side = np.nonzero(hit)
    return np.column_stack([cells[row], side]).astype(np.int64)


def _collapsed_keys(faces: NDArray[np.int64]) -> NDArray[np.uint64]:
    """Keys of faces of collapsed hexahedra, whichever of their corners is repeated."""
    turned = faces.copy()
    for at in range(3):  # a triangle's repeated corner comes last
        twice = turned[:, at] == turned[:, at + 1]
        turned[twice] = np.roll(turned[twice], 2 - at, axis=1)
    first = turned[:, 3] == turned[:, 0]
    turned[first] = np.roll(turned[first], -1, axis=1)
    return face_keys(turned)


def nodes_at(points: NDArray[np.float64], places: NDArray[np.float64], among: NDArray[np.integer[Any]]) -> NDArray[np.int64]:
    """The node of some at each place, -1 where there is none within rounding."""
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    low, high = places.min(axis=0, initial=np.inf), places.max(axis=0, initial=-np.inf)
    size = float(np.linalg.norm(np.subtract(*extent(points))))
    room = _ROUNDING * size
    close = among[((points[among] >= low - room) & (points[among] <= high + room)).all(axis=1)].astype(np.int64)
    if len(close) == 0:
        return np.full(len(places), -1, np.int64)
    distance, at = cKDTree(points[close]).query(places, workers=2)
    return np.where(distance <= room, close[np.minimum(at, len(close) - 1)], -1)


def _apart(grid: UnstructuredGrid, bars: NDArray[np.int64]) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
    """Corners with new nodes where walls keep cells apart, and the node of the grid that each is a copy of."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    near = face_neighbours(grid).copy()
    near[bars[:, 0], bars[:, 1]] = -1
    corners, count = grid.corners, grid.n_points
    touched = np.zeros(count, dtype=bool)
    touched[corners[bars[:, 0][:, None], _FACES[bars[:, 1]]]] = True
    cells = np.flatnonzero(touched[corners].any(axis=1))
    width = np.int64(count)
    keys = cells[:, None] * width + corners[cells]
    mask = touched[corners[cells]]
    known = distinct(keys[mask])
    pairs: list[NDArray[np.int64]] = []
    for side in range(6):
        other = near[cells, side].astype(np.int64)
        for c in _FACES[side]:
            row = np.flatnonzero((other >= 0) & mask[:, c])
            pairs.append(np.column_stack([keys[row, c], other[row] * width + corners[cells[row], c]]))
    both = np.searchsorted(known, np.concatenate(pairs))
    graph = coo_array((np.ones(len(both)), (both[:, 0], both[:, 1])), shape=(len(known), len(known)))
    total, part = connected_components(graph, directed=False)
    of_part = np.zeros(total, np.int64)
    of_part[part] = known % width
    # The first part at each place keeps its node.
    order = np.argsort(of_part, kind="stable")
    more = np.append(False, of_part[order][1:] == of_part[order][:-1])
    number = np.empty(total, np.int64)
    number[order] = np.where(more, count + np.cumsum(more) - 1, of_part[order])
    new = corners.copy()
    rows, columns = np.nonzero(mask)
    new[cells[rows], columns] = number[part[np.searchsorted(known, keys[mask])]]
    return new, np.concatenate([np.arange(count), of_part[order][more]])
