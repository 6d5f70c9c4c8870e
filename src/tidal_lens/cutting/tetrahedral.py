"""Cells cut into tetrahedra, neighbours alike: there node values are linear, and where several surfaces meet they meet exactly.

A cell's tetrahedra stand on those of its sides that its first corner is not on, each side halved from its own first corner (after
Dompierre, Labbé, Vallet & Camarero 1999, How to subdivide pyramids, prisms and hexahedra into tetrahedra). Corners are in the order of a
function of their places: seams, whose nodes are there twice, are halved alike from both sides.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import COLLAPSE, HEX_FACES, TETRA, StructuredGrid, UnstructuredGrid

Vec = NDArray[np.float64]
_WAY = (0.6180339887, 0.7548776662, 0.8191725134)  # of no simple ratios: no two corners of a cell come together


def order_of(points: Vec) -> Vec:
    """By what corners (n, 3) are ordered; of one place, one number."""
    return np.asarray(_WAY[0] * points[:, 0] + _WAY[1] * points[:, 1] + _WAY[2] * points[:, 2])


def halved(faces: NDArray[np.int64], order: Vec) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Quadrilaterals (m, 4) as triangles (k, 3) from their first corners, and the number of the face of each."""
    first = order[faces].argmin(axis=1)
    turned = np.take_along_axis(faces, (first[:, None] + np.arange(4)) % 4, axis=1)
    triangles = np.concatenate([turned[:, [0, 1, 2]], turned[:, [0, 2, 3]]])
    good = (triangles[:, 0] != triangles[:, 1]) & (triangles[:, 1] != triangles[:, 2]) & (triangles[:, 2] != triangles[:, 0])
    return triangles[good], np.tile(np.arange(len(faces)), 2)[good]


def cut_cells(flow: Flow, over: Sequence[Vec], blocks: Collection[int] | None = None) -> NDArray[np.int64]:
    """Corners (m, 8) of all cells in which one of some node values (nodes,) is on both sides of zero."""
    found = [np.empty((0, 8), np.int64)]
    for number, block in enumerate(flow.blocks):
        if blocks is not None and number not in blocks:
            continue
        cut = np.zeros(block.grid.n_cells, bool)
        for values in over:
            cut |= _changes(block, values[block.points])
        found.append(_corners(block, np.flatnonzero(cut)) + block.first_point)
    return np.concatenate(found)


def _changes(block: Block, values: Vec) -> NDArray[np.bool_]:
    grid = block.grid
    if isinstance(grid, StructuredGrid):
        at = values.reshape(grid.dims[::-1])
        low = high = at
        for axis in range(3):
            before, after = [slice(None)] * 3, [slice(None)] * 3
            before[axis], after[axis] = slice(None, -1), slice(1, None)
            low = np.minimum(low[tuple(before)], low[tuple(after)])
            high = np.maximum(high[tuple(before)], high[tuple(after)])
        return np.asarray((low < 0.0) & (high >= 0.0)).ravel()
    corners = values[grid.corners]
    return np.asarray((corners.min(axis=1) < 0.0) & (corners.max(axis=1) >= 0.0))


def _corners(block: Block, cells: NDArray[np.int64]) -> NDArray[np.int64]:
    grid = block.grid
    if not isinstance(grid, StructuredGrid):
        return grid.corners[cells].astype(np.int64)
    ni, nj, _ = grid.dims
    k, rest = np.divmod(cells, (ni - 1) * (nj - 1))
    j, i = np.divmod(rest, ni - 1)
    node = i + ni * (j + nj * k)
    return np.asarray(node[:, None] + np.array([0, 1, 1 + ni, ni, ni * nj, ni * nj + 1, ni * nj + 1 + ni, ni * nj + ni]))


def in_tetrahedra(flow: Flow, corners: NDArray[np.int64], order: Vec) -> Flow:
    """A flow of the same nodes whose only cells are tetrahedra of some cells, of which the corners (m, 8) are given."""
    apex = np.take_along_axis(corners, order[corners].argmin(axis=1)[:, None], axis=1)[:, 0]
    parts = [np.empty((0, 4), np.int64)]
    for side in HEX_FACES:
        faces = corners[:, side]
        opposite = np.flatnonzero(~(faces == apex[:, None]).any(axis=1))
        triangles, owner = halved(faces[opposite], order)
        parts.append(np.column_stack([apex[opposite[owner]], triangles]))
    tetrahedra = np.concatenate(parts)
    a, b, c, d = (flow.points[tetrahedra[:, n]] for n in range(4))
    inside_out = (np.cross(b - a, c - a) * (d - a)).sum(axis=1) < 0.0
    tetrahedra[inside_out] = tetrahedra[inside_out][:, [0, 2, 1, 3]]
    collapsed = np.ascontiguousarray(tetrahedra[:, COLLAPSE[TETRA]], np.int32)
    grid = UnstructuredGrid(flow.n_points, collapsed, np.full(len(tetrahedra), TETRA, np.uint8))
    return Flow(flow.title, flow.path, flow.points, (Block("tetrahedra", grid, 0, 0),), {})
