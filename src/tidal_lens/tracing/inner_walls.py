"""Lines end where they meet a wall of no thickness: the flow goes on behind it, so leaving the mesh does not tell."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.sampling.mesh import Mesh
from tidal_lens.tracing import kernels
from tidal_lens.work import read_only, run_chunks

_AT = 1e-3  # of a segment: how far before the wall a line ends
Rows = tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.int64], NDArray[np.float64]]


def stopped(flow: Flow, mesh: Mesh, rows: Rows, total: NDArray[np.int64], wall: int,
            ends: NDArray[np.int64]) -> tuple[Rows, NDArray[np.int64]]:
    """Lines cut where they first meet an inner wall, going from their seeds.

    Parameters
    ----------
    flow, mesh : Flow, Mesh
        The flow and its packed grids.
    rows : tuple
        Points (n, 3), places in their cells (n, 3), block and cell (n, 2), time (n,), of all lines one after another;
        instead of times (n, 2) of which the first is the time.
    total : ndarray, shape (lines,)
        Points of each line.
    wall : int
        What ends there are called; written to ``ends`` (lines, 2).

    Returns
    -------
    tuple, ndarray
        Rows and points of each line.
    """
    triangles = _triangles(flow)
    points, places, cells, time = rows
    if len(triangles) == 0 or len(points) < 2:
        return rows, total
    line = np.repeat(np.arange(len(total)), total)
    begin = np.flatnonzero(line[1:] == line[:-1])
    segment, share = _crossings(points, begin, triangles)
    if len(segment) == 0:
        return rows, total
    first, last = np.cumsum(total) - total, np.cumsum(total)  # rows of each line
    keep_from, keep_to = first.copy(), last.copy()
    ahead = (time if time.ndim == 1 else time[:, 0])[segment] >= 0.0
    at_end = np.full(len(total), -1, np.int64)
    at_start = np.full(len(total), -1, np.int64)
    for n in np.argsort(segment + share, kind="stable")[::-1]:  # the first after the seed is written last
        if ahead[n]:
            at_end[line[segment[n]]] = n
    for n in np.argsort(segment + share, kind="stable"):
        if not ahead[n]:
            at_start[line[segment[n]]] = n
    cut_end, cut_start = np.flatnonzero(at_end >= 0), np.flatnonzero(at_start >= 0)
    keep_to[cut_end] = segment[at_end[cut_end]] + 1
    keep_from[cut_start] = segment[at_start[cut_start]] + 1
    ends[cut_end, 1] = wall
    ends[cut_start, 0] = wall
    # The points where they end, a hair before the wall.
    rows_of = np.concatenate([segment[at_end[cut_end]], segment[at_start[cut_start]]])
    hair = np.concatenate([np.maximum(share[at_end[cut_end]] - _AT, 0.0), np.minimum(share[at_start[cut_start]] + _AT, 1.0)])
    extra = points[rows_of] + hair[:, None] * (points[rows_of + 1] - points[rows_of])
    extra_time = time[rows_of] + (hair * (time[rows_of + 1] - time[rows_of]).T).T
    extra_cells, extra_places = np.empty((len(extra), 2), np.int64), np.empty((len(extra), 3))
    targets = read_only(np.ascontiguousarray(extra))
    run_chunks(lambda a, b: kernels.places_of(mesh.arrays, targets, extra_cells, extra_places, a, b), len(extra), 1024)
    row = np.arange(len(points))
    kept = (row >= keep_from[line]) & (row < keep_to[line])
    good = extra_cells[:, 0] >= 0
    where = np.concatenate([keep_to[cut_end] - 0.5, keep_from[cut_start] - 0.5])
    order = np.argsort(np.concatenate([row[kept], where[good]]), kind="stable")
    joined = tuple(np.concatenate([old[kept], new[good]])[order] for old, new in (
        (points, extra), (places, extra_places), (cells, extra_cells), (time, extra_time)))
    owner = np.concatenate([line[kept], np.concatenate([cut_end, cut_start])[good]])
    return (joined[0], joined[1], joined[2], joined[3]), np.bincount(owner, minlength=len(total))


def _triangles(flow: Flow) -> NDArray[np.float64]:
    """Corners (m, 3, 3) of the inner walls, one side of each."""
    parts = [b.points[b.faces] for b in flow.boundaries if b.inner and len(b.faces)]
    if not parts:
        return np.empty((0, 3, 3))
    quads = np.concatenate(parts)
    return np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]][(quads[:, 2] != quads[:, 3]).any(axis=1)]])


def _crossings(points: NDArray[np.float64], begin: NDArray[np.int64],
               triangles: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Segments (from a point to the next) that cross triangles, and where on them (0 to 1)."""
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    low, high = triangles.min(axis=(0, 1)), triangles.max(axis=(0, 1))
    a, b = points[begin], points[begin + 1]
    near = (np.maximum(a, b) >= low).all(axis=1) & (np.minimum(a, b) <= high).all(axis=1)
    begin, a, b = begin[near], a[near], b[near]
    if len(begin) == 0:
        return np.empty(0, np.int64), np.empty(0)
    middle = triangles.mean(axis=1)
    reach = float(np.linalg.norm(triangles - middle[:, None], axis=2).max())
    found = cKDTree(middle).query_ball_point(0.5 * (a + b), reach + 0.5 * np.linalg.norm(b - a, axis=1))
    counts = np.array([len(f) for f in found])
    one = np.repeat(np.arange(len(begin)), counts)
    which = np.concatenate([np.asarray(f, np.int64) for f in found]) if counts.sum() else np.empty(0, np.int64)
    corner, way = triangles[which], b[one] - a[one]
    # Moeller & Trumbore 1997, Fast, minimum storage ray/triangle intersection, J. Graphics Tools 2.
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    p = np.cross(way, v)
    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = 1.0 / (u * p).sum(axis=1)
        offset = a[one] - corner[:, 0]
        s = (offset * p).sum(axis=1) * inverse
        q = np.cross(offset, u)
        t = (way * q).sum(axis=1) * inverse
        share = (v * q).sum(axis=1) * inverse
        on = (s >= -1e-9) & (t >= -1e-9) & (s + t <= 1.0 + 1e-9)
        hit = np.isfinite(share) & on & (share >= 0.0) & (share <= 1.0 + 1e-9)  # a step may end on a wall
    return begin[one[hit]], np.minimum(share[hit], 1.0)
