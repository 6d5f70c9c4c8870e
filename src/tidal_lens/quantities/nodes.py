"""Values at nodes from values at cells."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Block, Field, Flow
from tidal_lens.flow.grid import OWN_CORNERS, StructuredGrid
from tidal_lens.quantities import kernels


def node_values(flow: Flow, field: Field) -> NDArray[Any]:
    """Node values of a field; those of a cell field are the means of the cells round each node.

    Returns
    -------
    ndarray, shape (n,) or (n, 3)
        The field's own array where it already stands at nodes.
    """
    if field.place == "node":
        return field.values
    columns = field.values[:, None] if field.values.ndim == 1 else field.values
    sums = np.zeros((flow.n_points, columns.shape[1]))
    counts = np.zeros(flow.n_points, np.int64)
    for block in flow.blocks:
        _add_block(block, columns[block.cells], sums, counts)
    seams = flow.seams
    if seams.n_groups:
        total = np.bincount(seams.groups, counts[seams.nodes], seams.n_groups)
        for c in range(sums.shape[1]):
            sums[seams.nodes, c] = np.bincount(seams.groups, sums[seams.nodes, c], seams.n_groups)[seams.groups]
        counts[seams.nodes] = total[seams.groups]
    with np.errstate(invalid="ignore", divide="ignore"):
        means = (sums / counts[:, None]).astype(field.values.dtype)
    return means[:, 0].copy() if field.values.ndim == 1 else means


def _add_block(block: Block, values: NDArray[Any], sums: NDArray[np.float64], counts: NDArray[np.int64]) -> None:
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
    distinct = np.zeros((block.grid.n_cells, 8), dtype=bool)
    for kind, corners in OWN_CORNERS.items():
        distinct[np.ix_(block.grid.types == kind, corners)] = True
    kernels.cells_to_nodes(block.grid.corners, distinct, np.ascontiguousarray(values), sums[block.points],
                           counts[block.points])
