"""Outer faces of a grid, the cells behind them and their areas."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import among, distinct
from tidal_lens.flow import kernels
from tidal_lens.flow.grid import COLLAPSE, HEX_FACES, HEXAHEDRON, Grid, StructuredGrid, UnstructuredGrid
from tidal_lens.work import Token, checkpoint, read_only, run_chunks


def outer_faces(grid: Grid) -> NDArray[np.int64]:
    """Faces that belong to one cell only.

    Returns
    -------
    ndarray, shape (m, 4), int64
        Corners, counted within the block; a triangle repeats its last corner.
    """
    return _structured_faces(grid.dims) if isinstance(grid, StructuredGrid) else _unstructured_outside(grid)[0]


def nodes_of(faces: NDArray[Any], count: int) -> NDArray[np.int64]:
    """Which of ``count`` nodes are corners of faces or cells, ascending; found by marks, since sorting millions takes ten times as long."""
    used = np.zeros(count, np.bool_)
    used[faces] = True
    return np.flatnonzero(used)


def outer_owners(grid: Grid) -> NDArray[np.int64]:
    """The cell behind each outer face, shape (m,), counted within the block."""
    if not isinstance(grid, StructuredGrid):
        return _unstructured_outside(grid)[1]
    return np.concatenate([side.ravel() for side in _sides(tuple(d - 1 for d in grid.dims))])


def outward_areas(grid: Grid, points: NDArray[np.float64], chosen: NDArray[np.bool_] | None = None) -> NDArray[np.float64]:
    """Area vectors of the outer faces, outward, shape (m, 3).

    Parameters
    ----------
    grid : Grid
        The block's grid; its cells are of one hand.
    points : ndarray, shape (n, 3)
        The block's own points.
    chosen : ndarray of bool, optional
        Which faces; else all.
    """
    faces = outer_faces(grid)
    sign = np.full(len(faces), hand(grid, points))
    if isinstance(grid, StructuredGrid):
        i, j, k = (d - 1 for d in grid.dims)
        sign *= np.repeat([-1.0, 1.0, 1.0, -1.0, -1.0, 1.0], (j * k, j * k, i * k, i * k, i * j, i * j))
    if chosen is not None:
        faces, sign = faces[chosen], sign[chosen]
    a, b, c, d = (points[faces[:, n]] for n in range(4))
    return np.asarray(0.5 * np.cross(c - a, d - b) * sign[:, None])


def hand(grid: Grid, points: NDArray[np.float64]) -> float:
    """1 where the cells of a block are right-handed, -1 where they are left-handed: by some of them."""
    if isinstance(grid, StructuredGrid):
        i, j, k = grid.dims
        begin = np.arange(0, (i - 1) * (j - 1) * (k - 1), max(1, (i - 1) * (j - 1) * (k - 1) // 64))
        low = begin % (i - 1) + i * (begin // (i - 1) % (j - 1)) + i * j * (begin // ((i - 1) * (j - 1)))
        corners = low[:, None] + np.array([0, 1, 1 + i, i, i * j, 1 + i * j, 1 + i + i * j, i + i * j])
    else:
        corners = grid.corners[:: max(1, grid.n_cells // 64)]
    volumes = np.empty(len(corners))
    kernels.cell_volumes(read_only(points), read_only(np.ascontiguousarray(corners, dtype=np.int32)), volumes, 0, len(corners))
    return 1.0 if float(volumes.sum()) >= 0.0 else -1.0


def face_neighbours(grid: UnstructuredGrid, token: Token | None = None) -> NDArray[np.int32]:
    """Cell on the other side of each face, -1 where there is none; kept with the grid until a mesh takes it over.

    Returns
    -------
    ndarray, shape (n_cells, 6), int32
        In the order of ``HEX_FACES``; sides collapsed to an edge or a point have none.
    """
    ready: NDArray[np.int32] | None = grid.__dict__.get("_neighbours")
    if ready is not None:
        return ready
    faces = np.array(HEX_FACES, dtype=np.int64)
    corners = read_only(grid.corners)
    # In two halves side by side, that of the later cells after that of the earlier ones in each bucket.
    half, none, unnamed = max(1, (grid.n_cells + 1) // 2), np.empty(0, np.int32), np.empty(0, np.int64)
    counts = np.zeros((2, grid.n_points + 1), np.int64)
    neighbours = np.empty((grid.n_cells, 6), np.int32)
    run_chunks(lambda a, b: kernels.bucket_faces(corners, faces, counts[a // half], none, unnamed, neighbours, False, a, b), grid.n_cells,
               half, token)
    starts = np.cumsum(counts[0] + counts[1])
    checkpoint()
    entries, names = np.empty(int(starts[-1]), np.int32), np.empty(int(starts[-1]), np.int64)
    places = np.stack([starts, starts])
    places[1, :-1] += counts[0, 1:]
    run_chunks(lambda a, b: kernels.bucket_faces(corners, faces, places[a // half], entries, names, neighbours, True, a, b), grid.n_cells,
               half, token)
    run_chunks(lambda a, b: kernels.match_faces(corners, faces, starts, entries, names, neighbours, a, b), grid.n_points, 16384, token)
    if grid.bars is not None:
        neighbours[grid.bars[:, 0], grid.bars[:, 1]] = -1
    grid.__dict__["_neighbours"] = neighbours
    return neighbours


def _unstructured_outside(grid: UnstructuredGrid) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    ready: tuple[NDArray[np.int64], NDArray[np.int64]] | None = grid.__dict__.get("_outer")
    if ready is None:
        near = face_neighbours(grid)
        faces, cells = [np.empty((0, 4), np.int64)], [np.empty(0, np.int64)]
        for side, corners in enumerate(HEX_FACES):
            kinds = [k for k, order in COLLAPSE.items() if len({order[c] for c in corners}) > 2]
            alone = near[:, side] < 0
            if len(kinds) < len(COLLAPSE):
                alone &= np.isin(grid.types, kinds)
            own = np.flatnonzero(alone)
            faces.append(grid.corners[own][:, corners].astype(np.int64))
            cells.append(own)
        checkpoint()
        whole, owners = np.concatenate(faces), np.concatenate(cells)
        if not (grid.types == HEXAHEDRON).all():
            whole, kept = _without_repeats(whole)
            owners = owners[kept]
        ready = whole, owners
        grid.__dict__["_outer"] = ready
    return ready


def _sides(dims: tuple[int, ...]) -> list[NDArray[np.int64]]:
    index = np.arange(int(np.prod(dims)), dtype=np.int64).reshape(dims[::-1])
    return [index[:, :, 0], index[:, :, -1], index[:, 0, :], index[:, -1, :], index[0], index[-1]]


def _structured_faces(dims: tuple[int, int, int]) -> NDArray[np.int64]:
    return np.concatenate([quads_of_sheet(side) for side in _sides(dims)])


def quads_of_sheet(index: NDArray[np.int64]) -> NDArray[np.int64]:
    """Quadrilaterals of a two-dimensional array of point numbers, shape (m, 4)."""
    return np.stack([index[:-1, :-1], index[:-1, 1:], index[1:, 1:], index[1:, :-1]], axis=-1).reshape(-1, 4)


def _without_repeats(faces: NDArray[Any]) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """Collapsed faces in the form (a, b, c, c), without those that are no more than an edge, and the number of each."""
    nxt = np.roll(faces, -1, axis=1)
    repeats = faces == nxt
    n = repeats.sum(axis=1)
    opposite = (faces[:, 0] == faces[:, 2]) | (faces[:, 1] == faces[:, 3])
    triangles = faces[(n == 1) & ~opposite]
    at = repeats[(n == 1) & ~opposite].argmax(axis=1)
    # Rotate so that the repeated corner stands last and before last.
    columns = (np.arange(4)[None, :] + at[:, None] + 2) % 4
    turned = np.take_along_axis(triangles, columns, axis=1)
    whole = (n == 0) & ~opposite
    return np.concatenate([faces[whole], turned]), np.concatenate([np.flatnonzero(whole), np.flatnonzero((n == 1) & ~opposite)])


def face_keys(faces: NDArray[Any]) -> NDArray[np.uint64]:
    """One number a face: the sum of its mixed corner numbers, the same from whatever corner it starts and whichever way it runs.

    A triangle, whatever corner it repeats last, counts each once. The chance that two of 10 million faces clash is 1e-5.
    """
    top = int(faces.max(initial=0)) + 1
    often = top < faces.size  # each number comes up several times
    mixed = _mixed(np.arange(top, dtype=np.uint64))[faces] if often else _mixed(faces.astype(np.uint64))
    mixed[faces[:, 3] == faces[:, 2], 3] = 0
    return np.asarray(mixed.sum(axis=1, dtype=np.uint64))


def _mixed(numbers: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """Numbers that look random, one for each, in place."""
    numbers += np.uint64(0x632BE59BD9B4E019)
    for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):
        numbers ^= numbers >> np.uint64(shift)
        numbers *= np.uint64(factor)
    numbers ^= numbers >> np.uint64(31)
    return numbers


def _appear_once(faces: NDArray[Any]) -> NDArray[np.bool_]:
    keys = face_keys(faces)
    checkpoint()
    order = np.argsort(keys)
    ranked = keys[order]
    same = ranked[1:] == ranked[:-1]
    once = np.ones(len(keys), dtype=bool)
    once[order[1:][same]] = False
    once[order[:-1][same]] = False
    return once


def split_sides(grid: Grid) -> int:
    """How many four-sided faces of cells have two triangles on their other side: cells do not match, and cuts have hairline gaps."""
    if isinstance(grid, StructuredGrid):
        return 0
    faces = outer_faces(grid)
    triangle = faces[:, 2] == faces[:, 3]
    quads, triangles = faces[~triangle], faces[triangle]
    if len(quads) == 0 or len(triangles) == 0:
        return 0
    halves = [np.column_stack([quads[:, [a, b, c]], quads[:, c]]) for a, b, c in ((0, 1, 2), (0, 2, 3), (0, 1, 3), (1, 2, 3))]
    keys = face_keys(np.concatenate([triangles, *halves]))
    known, own = keys[:len(triangles)], keys[len(triangles):].reshape(4, -1)
    there = among(own, known)
    return int(((there[0] & there[1]) | (there[2] & there[3])).sum())


def unshared_mask(faces: NDArray[np.int64], labels: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which faces have corners that coincide with those of no other face.

    Parameters
    ----------
    faces : ndarray, shape (m, 4)
        Corners.
    labels : ndarray, shape (n,)
        The same label for nodes that lie on one another.
    """
    return _appear_once(labels[faces])


def of_polygons(faces: NDArray[np.int64], own: NDArray[np.int64], polygons: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which faces have all their nodes in one polygon: the flow's cells and the file's surface may have cut it in different ways.

    Parameters
    ----------
    faces : ndarray, shape (m, 4)
        Corners.
    own : ndarray, shape (k, 4)
        Corners of the parts of the polygons.
    polygons : ndarray, shape (k,)
        Which polygon each is a part of.
    """
    nodes = np.concatenate([own.ravel(), faces.ravel()])
    names, compact = np.unique(nodes, return_inverse=True)
    mine, theirs = compact[: own.size].reshape(own.shape), compact[own.size:].reshape(faces.shape)
    width = np.int64(int(polygons.max(initial=0)) + 1)
    known = distinct(mine.ravel() * width + np.repeat(polygons, 4))  # (node, polygon), by node
    starts = np.searchsorted(known, np.arange(len(names) + 1) * width)
    degree = np.diff(starts)
    found = np.zeros(len(faces), dtype=bool)
    first = np.take_along_axis(theirs, degree[theirs].argmin(axis=1)[:, None], axis=1)[:, 0]
    for k in range(int(degree[first].max(initial=0))):  # the polygons at the node that has fewest
        some = np.flatnonzero(~found & (k < degree[first]))
        polygon = known[starts[first[some]] + k] % width
        wanted = theirs[some] * width + polygon[:, None]
        at = np.minimum(np.searchsorted(known, wanted), len(known) - 1)
        found[some] = (known[at] == wanted).all(axis=1)
    return found
