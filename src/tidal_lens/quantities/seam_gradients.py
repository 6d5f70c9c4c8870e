"""Gradients at nodes in which blocks meet: a fit that sees the nodes on all sides."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import among, distinct
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities import kernels
from tidal_lens.quantities.links import links_of
from tidal_lens.work import Token, read_only, run_chunks

Pairs = tuple[NDArray[np.int64], NDArray[np.int64]]


@dataclass(frozen=True, eq=False)
class _SeamFit:
    """The nodes of seams, those that coincide made one, and two rings about them.

    ``first`` (k,) is a node of the flow for each, those on seams before the others; ``starts`` (k + 1,) and ``links`` join them;
    ``members`` (m,) are the entries of the flow's seams that lie inside it and ``place`` (m,) theirs.
    """

    first: NDArray[np.int64]
    starts: NDArray[np.int64]
    links: NDArray[np.int32]
    members: NDArray[np.int64]
    place: NDArray[np.int64]


def across_seams(flow: Flow, values: NDArray[Any], own: NDArray[Any], token: Token | None = None) -> None:
    """Put the gradient of node values at the nodes of seams in place: own (m, components, 3), in the order of ``flow.seams.nodes``.

    Inside the flow it is the least-squares fit over the neighbours on all sides, as on unstructured blocks; on the flow's outside the
    mean of what the blocks found.
    """
    flow.seams.average_own(own)
    fit: _SeamFit | None = flow.__dict__.get("_seam_fit")
    if fit is None:
        fit = flow.__dict__["_seam_fit"] = _seam_fit(flow)
    if len(fit.members) == 0:
        return
    count = int(fit.place.max()) + 1
    points = flow.points[fit.first]
    columns = np.ascontiguousarray((values[:, None] if values.ndim == 1 else values)[fit.first])
    found = np.empty((len(fit.first), columns.shape[1], 3), own.dtype)
    none = np.zeros(len(fit.first), dtype=bool)
    sides = read_only(points), read_only(columns), fit.starts, fit.links, none
    run_chunks(lambda a, b: kernels.gradient_unstructured(*sides, found, 0, a, b), count, 2048, token)
    better = found[fit.place]
    good = np.isfinite(better).all(axis=(1, 2))  # else what the block itself found stays
    own[fit.members[good]] = better[good]


def _seam_fit(flow: Flow) -> _SeamFit:
    labels, n = flow.seams.labels(flow.n_points), flow.n_points
    outside = np.zeros(n, dtype=bool)
    outside[labels[flow.outside.faces]] = True
    members = np.flatnonzero(~outside[labels[flow.seams.nodes]])
    inside = flow.seams.nodes[members]
    near = np.zeros(n, dtype=bool)
    near[inside] = True
    for _ in range(2):
        a, b = (np.concatenate(side) for side in zip(*(_edges_at(block, near) for block in flow.blocks), strict=True))
        touched = np.zeros(n, dtype=bool)
        touched[labels[np.concatenate([a, b])]] = True
        near = touched[labels]
    a, b = labels[a], labels[b]
    apart = a != b
    keys = distinct(np.concatenate([a[apart] * n + b[apart], b[apart] * n + a[apart]]))
    source, target = keys // n, keys % n
    seam = distinct(labels[inside])
    around = distinct(np.concatenate([source, target]))
    first = np.concatenate([seam, around[~among(around, seam)]])
    number = np.full(n, -1, np.int64)
    number[first] = np.arange(len(first))
    order = np.argsort(number[source], kind="stable")
    starts = np.concatenate([[0], np.cumsum(np.bincount(number[source], minlength=len(first)))]).astype(np.int64)
    return _SeamFit(first, starts, number[target[order]].astype(np.int32), members, number[labels[inside]])


def _edges_at(block: Block, near: NDArray[np.bool_]) -> Pairs:
    """Both ends of a block's edges of which one is a chosen node of the flow."""
    own = near[block.points]
    if not own.any():
        return np.empty(0, np.int64), np.empty(0, np.int64)
    if not isinstance(block.grid, StructuredGrid):
        table = links_of(block.grid)
        rows = np.flatnonzero(own)
        counts = np.diff(table.starts)[rows]
        at = np.repeat(table.starts[rows] - np.concatenate([[0], np.cumsum(counts)[:-1]]), counts) + np.arange(counts.sum())
        return np.repeat(rows, counts) + block.first_point, table.links[at].astype(np.int64) + block.first_point
    ni, nj, nk = block.grid.dims
    lattice = own.reshape(nk, nj, ni)
    ones: list[NDArray[np.int64]] = []
    others: list[NDArray[np.int64]] = []
    for axis, step in ((2, 1), (1, ni), (0, ni * nj)):
        low = tuple(slice(None, -1) if m == axis else slice(None) for m in range(3))
        high = tuple(slice(1, None) if m == axis else slice(None) for m in range(3))
        k, j, i = np.nonzero(lattice[low] | lattice[high])
        begin = i + ni * (j + nj * k) + block.first_point
        ones.append(begin)
        others.append(begin + step)
    return np.concatenate(ones), np.concatenate(others)
