"""Which nodes belong together: connected along the edges of cells, through seams."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.quantities.links import links_of
from tidal_lens.work import Token


def parts_of(flow: Flow, flagged: NDArray[np.bool_], token: Token | None = None) -> NDArray[np.int32]:
    """Number of the connected part of each flagged node, shape (n,), the part of most nodes first; −1 elsewhere."""
    from scipy import ndimage

    out = np.full(flow.n_points, -1, np.int32)
    count = 0
    for block in flow.blocks:
        if token is not None:
            token.check()
        own = flagged[block.points]
        if not own.any():
            continue
        if isinstance(block.grid, StructuredGrid):
            ni, nj, nk = block.grid.dims
            part, many = ndimage.label(own.reshape(nk, nj, ni))
            part = part.ravel() - 1
        else:
            part, many = _linked(block.grid, own, token)
        out[block.points] = np.where(own, part + count, -1)
        count += many
    nodes = np.flatnonzero(flagged)
    if not len(nodes):
        return out
    name = np.arange(count)
    seam = np.flatnonzero(flagged[flow.seams.nodes])
    if len(seam):  # those of one place are of one part
        group, part = flow.seams.groups[seam], out[flow.seams.nodes[seam]]
        first = np.zeros(flow.seams.n_groups, np.int64)
        first[group] = part
        name = _joined(part, first[group], count)
    part = name[out[nodes]]
    # The greatest first, those alike by their first node: whatever the order in which they were met.
    first_node = np.unique(part, return_index=True)[1]
    sizes = np.bincount(part)
    place = np.empty(len(sizes), np.int32)
    place[np.lexsort((first_node, -sizes))] = np.arange(len(sizes))
    out[nodes] = place[part]
    return out


def _linked(grid: UnstructuredGrid, own: NDArray[np.bool_], token: Token | None) -> tuple[NDArray[np.int64], int]:
    """Number of the part of each flagged node (n,), and how many parts there are."""
    near = links_of(grid, token)
    sizes = np.diff(near.starts)
    rows = np.flatnonzero(own)
    number = np.zeros(len(own), np.int64)
    number[rows] = np.arange(len(rows))
    first = np.repeat(rows, sizes[rows])
    offsets = np.repeat(near.starts[rows] - np.concatenate([[0], np.cumsum(sizes[rows])[:-1]]), sizes[rows])
    other = near.links[offsets + np.arange(len(first))]
    good = own[other]
    label = _joined(number[first[good]], number[other[good]], len(rows))
    number[rows] = label
    return number, int(label.max()) + 1


def _joined(a: NDArray[Any], b: NDArray[Any], count: int) -> NDArray[np.int64]:
    """Number of the part of each of some things (count,), of which pairs (m,) belong together."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), (count, count))
    return np.asarray(connected_components(graph, directed=False)[1], np.int64)
