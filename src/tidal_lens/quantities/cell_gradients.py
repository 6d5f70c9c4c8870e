"""Gradients of cell values, taken between the cells themselves."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.faces import face_neighbours
from tidal_lens.flow.grid import HEXAHEDRON, PYRAMID, TETRA, WEDGE, StructuredGrid, UnstructuredGrid
from tidal_lens.quantities import kernels
from tidal_lens.quantities.gradients import block_gradient
from tidal_lens.quantities.nodes import cell_values
from tidal_lens.work import Token, read_only, run_chunks

Values = NDArray[Any]


def can_be_taken(flow: Flow) -> bool:
    """Whether every structured block has two cells along each index: between fewer there is no difference."""
    return all(min(b.grid.dims) > 2 for b in flow.blocks if isinstance(b.grid, StructuredGrid))


def cell_gradient(flow: Flow, values: Values, token: Token | None = None) -> Values:
    """Gradient of cell values at the middles of cells.

    Structured blocks: metric differences of second order between the middles. Unstructured ones: least squares over the cells behind
    the faces, weighted by one over the distance squared, with a quadratic fit over two rings at the outside and where neighbours are
    lopsided.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : ndarray, shape (cells,) or (cells, 3)
        Cell values.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    ndarray, shape (cells, components, 3)
        [c, i, j] = ∂f_i/∂x_j.
    """
    middles = cell_values(flow, flow.points)
    out = np.empty((flow.n_cells, 1 if values.ndim == 1 else 3, 3), values.dtype)
    for block in flow.blocks:
        _block(block, np.ascontiguousarray(middles[block.cells]), values[block.cells], out[block.cells], token)
    return out


def _block(block: Block, middles: NDArray[np.float64], values: Values, out: Values, token: Token | None) -> None:
    grid = block.grid
    if isinstance(grid, StructuredGrid):
        i, j, k = grid.dims
        block_gradient(StructuredGrid((i - 1, j - 1, k - 1)), middles, values, token, out)
        return
    starts, links, outer = _links(grid, token)
    columns = np.ascontiguousarray(values[:, None] if values.ndim == 1 else values)
    run_chunks(lambda a, b: kernels.gradient_unstructured(read_only(middles), read_only(columns), starts, links, outer, out, 0, a, b),
               grid.n_cells, 8192, token)


def _links(grid: UnstructuredGrid, token: Token | None) -> tuple[NDArray[np.int64], NDArray[np.int32], NDArray[np.bool_]]:
    """Cells to compare each with, and which cells have a face on the outside.

    They are those behind its faces; of all but hexahedra, whose faces are few, those behind theirs too.
    """
    near = face_neighbours(grid, token)
    there = near >= 0
    counts = there.sum(axis=1)
    outer = counts < _face_counts(grid)
    starts, links = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), near[there]
    if (grid.types == HEXAHEDRON).all():
        return starts, links, outer
    from scipy.sparse import csr_array, diags_array

    first = csr_array((np.ones(len(links), np.float32), links, starts), shape=(grid.n_cells, grid.n_cells))
    few = diags_array((grid.types != HEXAHEDRON).astype(np.float32)).tocsr()
    more = (first + few @ first @ first).tocoo()
    own = more.row != more.col
    row, column = more.row[own], more.col[own]
    starts = np.concatenate([[0], np.cumsum(np.bincount(row, minlength=grid.n_cells))]).astype(np.int64)
    return starts, column[np.argsort(row, kind="stable")].astype(np.int32), outer


def _face_counts(grid: UnstructuredGrid) -> NDArray[np.int64]:
    """Number of faces of each cell, by its kind."""
    table = np.zeros(256, np.int64)
    table[[TETRA, HEXAHEDRON, WEDGE, PYRAMID]] = 4, 6, 5, 5
    return np.asarray(table[grid.types])
