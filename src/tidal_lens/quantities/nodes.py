"""Values at nodes from values at cells, and the other way round."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Block, Field, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.volumes import cell_volumes
from tidal_lens.quantities import kernels, smoothing_kernels
from tidal_lens.quantities.methods import Averaging
from tidal_lens.quantities.smoothing import distinct_corners, lattice_corners


def node_values(flow: Flow, field: Field, averaging: Averaging = "count") -> NDArray[Any]:
    """Node values of a field; those of a cell field are means of the cells round each node.

    Parameters
    ----------
    flow : Flow
        The flow.
    field : Field
        One of its fields, or one like them.
    averaging : str
        ``count``: the plain mean; ``volume``: weighted by the cells' volumes; ``distance``: by one over the distance of their middles.

    Returns
    -------
    ndarray, shape (n,) or (n, 3)
        The field's own array where it already stands at nodes.
    """
    if field.place == "node":
        return field.values
    columns = field.values[:, None] if field.values.ndim == 1 else field.values
    sums = np.zeros((flow.n_points, columns.shape[1]))
    counts = np.zeros(flow.n_points)
    for block in flow.blocks:
        if averaging == "count":
            _add_block(block, columns[block.cells], sums, counts)
        else:
            _add_weighted(block, flow.points[block.points], np.ascontiguousarray(columns[block.cells], dtype=np.float64), averaging,
                          sums[block.points], counts[block.points])
    seams = flow.seams
    if seams.n_groups:
        total = np.bincount(seams.groups, counts[seams.nodes], seams.n_groups)
        for c in range(sums.shape[1]):
            sums[seams.nodes, c] = np.bincount(seams.groups, sums[seams.nodes, c], seams.n_groups)[seams.groups]
        counts[seams.nodes] = total[seams.groups]
    with np.errstate(invalid="ignore", divide="ignore"):
        means = (sums / counts[:, None]).astype(field.values.dtype)
    return means[:, 0].copy() if field.values.ndim == 1 else means


def cell_values(flow: Flow, values: NDArray[Any]) -> NDArray[Any]:
    """Cell values from node values: the mean of each cell's own nodes.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : ndarray, shape (n,) or (n, 3)
        Node values.

    Returns
    -------
    ndarray, shape (cells,) or (cells, 3)
    """
    out = np.empty((flow.n_cells, *values.shape[1:]), values.dtype)
    for block in flow.blocks:
        own = values[block.points]
        if isinstance(block.grid, StructuredGrid):
            layer = (block.grid.dims[0] - 1) * (block.grid.dims[1] - 1)
            for k in range(block.grid.dims[2] - 1):
                at = block.first_cell + k * layer
                out[at:at + layer] = own[lattice_corners(block.grid.dims, k, k + 1)].mean(axis=1)
        else:
            distinct = distinct_corners(block.grid)
            weights = distinct / distinct.sum(axis=1, keepdims=True)
            out[block.cells] = np.einsum("mc,mc...->m...", weights, own[block.grid.corners])
    return out


def _add_weighted(block: Block, points: NDArray[np.float64], values: NDArray[np.float64], averaging: Averaging, sums: NDArray[np.float64],
                  counts: NDArray[np.float64]) -> None:
    near = averaging == "distance"
    if isinstance(block.grid, StructuredGrid):
        layer = (block.grid.dims[0] - 1) * (block.grid.dims[1] - 1)
        for k in range(block.grid.dims[2] - 1):
            corners = lattice_corners(block.grid.dims, k, k + 1)
            smoothing_kernels.weighted_to_nodes(corners, np.ones((1, 8), dtype=bool), points, values[k * layer:(k + 1) * layer],
                                                np.abs(cell_volumes(points, corners)), near, sums, counts)
        return
    smoothing_kernels.weighted_to_nodes(block.grid.corners, distinct_corners(block.grid), points, values,
                                        np.abs(cell_volumes(points, block.grid.corners)), near, sums, counts)


def _add_block(block: Block, values: NDArray[Any], sums: NDArray[np.float64], counts: NDArray[np.float64]) -> None:
    if isinstance(block.grid, StructuredGrid):
        ni, nj, nk = block.grid.dims
        own = sums[block.points].reshape(nk, nj, ni, -1)
        many = counts[block.points].reshape(nk, nj, ni)
        cells = values.reshape(nk - 1, nj - 1, ni - 1, -1)
        for dk in (0, 1):
            for dj in (0, 1):
                for di in (0, 1):
                    place = (slice(dk, nk - 1 + dk), slice(dj, nj - 1 + dj), slice(di, ni - 1 + di))
                    own[place] += cells
                    many[place] += 1
        return
    kernels.cells_to_nodes(block.grid.corners, distinct_corners(block.grid), np.ascontiguousarray(values), sums[block.points],
                           counts[block.points])
