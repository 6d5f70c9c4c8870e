"""Which nodes belong together: connected along the edges of cells, through seams."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities.links import links_of
from tidal_lens.work import Token


def parts_of(flow: Flow, flagged: NDArray[np.bool_], token: Token | None = None) -> NDArray[np.int32]:
    """Number of the connected part of each flagged node, shape (n,), the part of most nodes first; −1 elsewhere."""
    out = np.full(flow.n_points, -1, np.int32)
    nodes = np.flatnonzero(flagged)
    if not len(nodes):
        return out
    pairs = []
    for block in flow.blocks:
        if token is not None:
            token.check()
        own = flagged[block.points]
        if not own.any():
            continue
        if isinstance(block.grid, StructuredGrid):
            ni, nj, nk = block.grid.dims
            at = own.reshape(nk, nj, ni)
            number = np.arange(len(own)).reshape(nk, nj, ni)
            for axis in range(3):
                low, high = (tuple(s if a == axis else slice(None) for a in range(3)) for s in (slice(None, -1), slice(1, None)))
                both = at[low] & at[high]
                pairs.append(np.column_stack([number[low][both], number[high][both]]) + block.first_point)
        else:
            near = links_of(block.grid, token)
            sizes = np.diff(near.starts)
            rows = np.flatnonzero(own)
            first = np.repeat(rows, sizes[rows])
            offsets = np.repeat(near.starts[rows] - np.concatenate([[0], np.cumsum(sizes[rows])[:-1]]), sizes[rows])
            other = near.links[offsets + np.arange(len(first))].astype(np.int64)
            good = own[other]
            pairs.append(np.column_stack([first[good], other[good]]) + block.first_point)
    edges = np.concatenate([*pairs, np.empty((0, 2), np.int64)])
    named = nodes
    if flow.seams.n_groups:
        labels = flow.seams.labels(flow.n_points)
        edges, named = labels[edges], labels[nodes]
        del labels
    names, inverse = np.unique(named, return_inverse=True)
    a, b = np.searchsorted(names, edges[:, 0]), np.searchsorted(names, edges[:, 1])
    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), (len(names), len(names)))
    part = connected_components(graph, directed=False)[1][inverse]
    # The greatest first, those alike by their first node: whatever the order in which they were met.
    many = np.bincount(part)
    first_node = np.full(len(many), len(part))
    np.minimum.at(first_node, part, np.arange(len(part)))
    place = np.empty(len(many), np.int64)
    place[np.lexsort((first_node, -many))] = np.arange(len(many))
    out[nodes] = place[part]
    return out
