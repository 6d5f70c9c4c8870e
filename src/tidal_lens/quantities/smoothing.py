"""Averages of node values: with their neighbours, and over the volume."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import OWN_CORNERS, StructuredGrid, UnstructuredGrid
from tidal_lens.flow.volumes import node_shares
from tidal_lens.quantities import smoothing_kernels as kernels
from tidal_lens.quantities.links import links_of
from tidal_lens.work import Token, run_chunks

Values = NDArray[Any]


def smoothed(flow: Flow, values: Values, passes: int, token: Token | None = None) -> Values:
    """Node values, each pass half its own value and half the mean of its neighbours along the edges of cells.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : ndarray, shape (n,) or (n, 3)
        Node values.
    passes : int
        How often.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    ndarray
        Of the same shape. A constant stays as it is; nothing passes the ends of what was there.
    """
    now = np.array(values, copy=True)
    for _ in range(passes):
        if token is not None:
            token.check()
        then = np.empty_like(now)
        for block in flow.blocks:
            _pass(block, now[block.points], then[block.points], token)
        flow.seams.average(then)
        now = then
    return now


def _pass(block: Block, old: Values, new: Values, token: Token | None) -> None:
    columns, result = (v if v.ndim == 2 else v[:, None] for v in (np.ascontiguousarray(old), new))
    if isinstance(block.grid, StructuredGrid):
        ni, nj, nk = block.grid.dims
        run_chunks(lambda a, b: kernels.smooth_lattice(ni, nj, nk, columns, result, a, b), nj * nk, max(1, 16384 // ni), token)
        return
    near = links_of(block.grid, token)
    run_chunks(lambda a, b: kernels.smooth_links(near.starts, near.links, columns, result, a, b), len(old), 16384, token)


def lattice_corners(dims: tuple[int, int, int], first: int, last: int) -> NDArray[np.int32]:
    """Corners of the cells in layers first..last of a structured block, shape (m, 8)."""
    ni, nj, _ = dims
    k, j, i = (a.ravel() for a in np.meshgrid(np.arange(first, last), np.arange(nj - 1), np.arange(ni - 1), indexing="ij"))
    base = i + ni * (j + nj * k)
    layer = ni * nj
    return np.asarray(base[:, None] + np.array([0, 1, 1 + ni, ni, layer, 1 + layer, 1 + ni + layer, ni + layer]), dtype=np.int32)


def distinct_corners(grid: UnstructuredGrid) -> NDArray[np.bool_]:
    """Which corners of collapsed cells count, shape (m, 8): each node once."""
    distinct = np.zeros((grid.n_cells, 8), dtype=bool)
    for kind, corners in OWN_CORNERS.items():
        distinct[np.ix_(grid.types == kind, corners)] = True
    return distinct


def node_volumes(flow: Flow, token: Token | None = None) -> NDArray[np.float64]:
    """The share of the flow's volume that belongs to each node, shape (n,); kept with the flow.

    The sum of its products with node values is their integral, exactly where they are trilinear in each cell.
    """
    ready: NDArray[np.float64] | None = flow.__dict__.get("_node_volumes")
    if ready is None:
        ready = np.zeros(flow.n_points)
        for block in flow.blocks:
            node_shares(flow.points[block.points], block.grid, ready[block.points], token)
        flow.__dict__["_node_volumes"] = ready
    return ready
