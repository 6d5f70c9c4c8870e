"""What follows node by node from the gradient of a quantity, without the gradient of all nodes ever being in memory."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.quantities import kernels
from tidal_lens.quantities.gradients import block_gradient
from tidal_lens.quantities.links import links_of
from tidal_lens.quantities.seam_gradients import across_seams
from tidal_lens.work import Token, read_only, run_chunks

Values = NDArray[Any]
PART = 262_144  # nodes that are looked at together
_BESIDE = 3  # layers on either side that come along: differences reach over two
_CHUNK = 32_768


def from_gradient(flow: Flow, values: Values, of: Callable[[Values], Values], token: Token | None = None, *,
                  fourth_order: bool = False) -> Values | None:
    """Values that follow from the gradient (m, components, 3) of node values, part by part; shape (n, …).

    They are those of :func:`tidal_lens.quantities.gradients.flow_gradient`; None where it has to be taken as a whole: on several
    unstructured blocks that are joined.
    """
    if sum(isinstance(b.grid, UnstructuredGrid) for b in flow.blocks) > 1 and flow.seams.n_groups:
        return None
    columns = np.ascontiguousarray(values[:, None] if values.ndim == 1 else values)
    out: Values | None = None
    seam = flow.seams.nodes
    order = np.argsort(seam, kind="stable")
    own = np.empty((len(seam), columns.shape[1], 3), columns.dtype)
    for block in flow.blocks:
        part = block.points
        grid, points, mine = block.grid, flow.points[part], columns[part]
        found = (_layers(grid, points, mine, token, fourth_order=fourth_order) if isinstance(grid, StructuredGrid)
                 else _rows(grid, points, mine, token))
        for first, gradient in found:
            if token is not None:
                token.check()
            answer = of(gradient)
            if out is None:
                out = np.empty((flow.n_points, *answer.shape[1:]), answer.dtype)
            begin = part.start + first
            out[begin:begin + len(gradient)] = answer
            here = order[np.searchsorted(seam, begin, sorter=order):np.searchsorted(seam, begin + len(gradient), sorter=order)]
            own[here] = gradient[seam[here] - begin]
    if out is not None and len(seam):
        across_seams(flow, values, own, token)
        out[seam] = of(own)
    return out


def _layers(grid: StructuredGrid, points: NDArray[np.float64], columns: Values, token: Token | None, *,
            fourth_order: bool) -> Iterator[tuple[int, Values]]:
    ni, nj, nk = grid.dims
    per = ni * nj
    step = max(2 * _BESIDE, PART // per)
    for k in range(0, nk, step):
        low, high, end = max(0, k - _BESIDE), min(nk, k + step + _BESIDE), min(nk, k + step)
        low = max(0, min(low, high - 2 * _BESIDE))  # the last ones are few: as many as differences of fourth order need
        rows = slice(low * per, high * per)
        slab = block_gradient(StructuredGrid((ni, nj, high - low)), points[rows], columns[rows], token, fourth_order=fourth_order)
        yield k * per, slab[(k - low) * per:(end - low) * per]


def _rows(grid: UnstructuredGrid, points: NDArray[np.float64], columns: Values, token: Token | None) -> Iterator[tuple[int, Values]]:
    near, points, columns = links_of(grid, token), read_only(points), read_only(columns)
    room = np.empty((min(PART, len(columns)), columns.shape[1], 3), columns.dtype)
    for first in range(0, len(columns), PART):
        count = min(PART, len(columns) - first)
        run_chunks(lambda a, b, first=first: kernels.gradient_unstructured(  # type: ignore[misc]
            points, columns, near.starts, near.links, near.outer, room, first, first + a, first + b), count, _CHUNK, token)
        yield first, room[:count]
