"""What happens at walls: normals, shear stress, the height of the first node, and the distance from them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import among
from tidal_lens.flow.case import Flow
from tidal_lens.flow.faces import face_keys
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities import walls_kernels as kernels
from tidal_lens.sampling import kernels as sampling_kernels
from tidal_lens.work import Token, read_only, run_chunks

Values = NDArray[Any]


def wall_faces(flow: Flow) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.int64]]:
    """Outer faces that lie on walls.

    Returns
    -------
    faces : ndarray, shape (m, 4), int64
        Corners; a triangle repeats its last.
    areas : ndarray, shape (m, 3)
        Area vectors into the flow.
    cells : ndarray, shape (m,), int64
        Cells behind them.
    """
    outside = flow.outside
    labels = flow.seams.labels(flow.n_points)  # a named boundary may stand on the nodes of the block beside
    walls = [labels[b.nodes[b.faces]] for b in flow.boundaries if b.solid and b.nodes is not None and len(b.faces)]
    every = np.concatenate([*walls, labels[outside.faces]])
    keys = face_keys(every)
    count = sum(len(w) for w in walls)
    chosen = among(keys[count:], keys[:count])
    return outside.faces[chosen], -outside.areas[chosen], outside.cells[chosen]


def normals(flow: Flow) -> Values:
    """Unit normals at the nodes of walls, into the flow; not a number elsewhere. Shape (n, 3)."""
    faces, areas, _ = wall_faces(flow)
    total = np.zeros((flow.n_points, 3))
    for c in range(4):
        own = faces[:, c] if c < 3 else faces[:, 3][faces[:, 3] != faces[:, 2]]
        part = areas if c < 3 else areas[faces[:, 3] != faces[:, 2]]
        for axis in range(3):
            total[:, axis] += np.bincount(own, part[:, axis], flow.n_points)
    flow.seams.average(total)
    size = np.linalg.norm(total, axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(size[:, None] > 0.0, total / size[:, None], np.nan)


def shear(flow: Flow, grad_u: Values, viscosity: Values) -> Values:
    """Wall shear stress: the tangential part of μ (∇u + ∇uᵀ) · n. Not a number off walls.

    Parameters
    ----------
    flow : Flow
        The flow.
    grad_u : ndarray, shape (n, 3, 3)
        Velocity gradient.
    viscosity : ndarray, shape (n,)
        Dynamic viscosity.

    Returns
    -------
    ndarray, shape (n, 3)
    """
    n = normals(flow)
    on = np.flatnonzero(np.isfinite(n[:, 0]))
    out = np.full((flow.n_points, 3), np.nan)
    own, normal = grad_u[on].astype(float), n[on]
    stress = np.einsum("nij,nj->ni", own + np.swapaxes(own, 1, 2), normal) * viscosity[on, None]
    out[on] = stress - normal * np.einsum("ni,ni->n", stress, normal)[:, None]
    return out


def node_areas(flow: Flow) -> NDArray[np.float64]:
    """The share of the walls' area that belongs to each node, shape (n,)."""
    faces, areas, _ = wall_faces(flow)
    share = 0.25 * np.linalg.norm(areas, axis=1)
    out = np.zeros(flow.n_points)
    for c in range(4):
        out += np.bincount(faces[:, c], share, flow.n_points)
    return out


def rise(flow: Flow, gradient: Values) -> Values:
    """Derivative along the wall's normal, into the flow, of what has a gradient of shape (n, 3); not a number off walls."""
    return np.asarray(np.einsum("ni,ni->n", gradient, normals(flow)))


def first_heights(flow: Flow) -> Values:
    """Height of the nearest nodes off the wall in the cells that stand on it, along its normal; shape (n,), not a number off walls."""
    faces, areas, cells = wall_faces(flow)
    out = np.full(flow.n_points, np.nan)
    if len(faces) == 0:
        return out
    size = np.linalg.norm(areas, axis=1)
    normal = areas / np.where(size > 0, size, 1.0)[:, None]
    corners = _corners_of(flow, cells)
    height = np.einsum("nci,ni->nc", flow.points[corners] - flow.points[faces[:, 0]][:, None, :], normal)
    own = (corners[:, :, None] == faces[:, None, :]).any(axis=2)
    lowest = np.where(own | (height <= 0), np.inf, height).min(axis=1)
    good = np.isfinite(lowest) & (size > 0)
    sums, counts = np.zeros(flow.n_points), np.zeros(flow.n_points)
    for c in range(4):
        sums += np.bincount(faces[good, c], lowest[good], flow.n_points)
        counts += np.bincount(faces[good, c], minlength=flow.n_points)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(counts > 0, sums / counts, np.nan)


def _corners_of(flow: Flow, cells: NDArray[np.int64]) -> NDArray[np.int64]:
    """Nodes of some of the flow's cells, shape (m, 8)."""
    out = np.empty((len(cells), 8), np.int64)
    for block in flow.blocks:
        here = np.flatnonzero((cells >= block.first_cell) & (cells < block.first_cell + block.grid.n_cells))
        own = cells[here] - block.first_cell
        if isinstance(block.grid, StructuredGrid):
            ni, nj, _ = block.grid.dims
            base = own % (ni - 1) + ni * (own // (ni - 1) % (nj - 1)) + ni * nj * (own // ((ni - 1) * (nj - 1)))
            layer = ni * nj
            out[here] = base[:, None] + np.array([0, 1, 1 + ni, ni, layer, 1 + layer, 1 + ni + layer, ni + layer]) + block.first_point
        else:
            out[here] = block.grid.corners[own].astype(np.int64) + block.first_point
    return out


def distances(flow: Flow, token: Token | None = None, places: NDArray[np.float64] | None = None) -> Values:
    """Distance from every node, or some places (n, 3), to the walls, shape (n,): exact to their faces, each taken as flat triangles."""
    faces, _, _ = wall_faces(flow)
    triangles = np.concatenate([faces[:, :3], faces[faces[:, 3] != faces[:, 2]][:, [0, 2, 3]]]).astype(np.int64)
    points = read_only(flow.points)
    centres = points[triangles].mean(axis=1)
    low, extent = centres.min(axis=0), np.ptp(centres, axis=0).max()
    keys = np.empty(len(triangles), np.int64)
    kernels.curve_keys(centres, low, np.full(3, (2**21 - 1) / extent if extent > 0 else 0.0), keys)
    triangles = triangles[np.argsort(keys, kind="stable")]
    levels = [np.hstack([points[triangles].min(axis=1), points[triangles].max(axis=1)])]
    while len(levels) < 2 or len(levels[-1]) > 8:
        levels.append(np.empty((-(-len(levels[-1]) // 8), 6)))
        sampling_kernels.parent_boxes(levels[-2], levels[-1])
    boxes, starts = np.concatenate(levels), np.cumsum([0, *map(len, levels)])
    targets = points if places is None else read_only(np.ascontiguousarray(places, np.float64))
    out = np.empty(len(targets))
    run_chunks(lambda a, b: kernels.nearest_on_triangles(targets, points, triangles, boxes, starts, out, a, b), len(out), 32768, token)
    return out
