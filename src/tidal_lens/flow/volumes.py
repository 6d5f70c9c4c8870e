"""Volumes of cells, shares of nodes in them, and cells turned so that they are positive."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow import kernels
from tidal_lens.flow.grid import Grid, StructuredGrid
from tidal_lens.work import Token, read_only, run_chunks

_CHUNK = 65536
_LAYERS = 4  # of a lattice, shared out at once
_PARTS = 2  # of cells of any kind, each with a sum of its own


def cell_volumes(points: NDArray[np.float64], corners: NDArray[Any], token: Token | None = None) -> NDArray[np.float64]:
    """Signed volumes of (collapsed) hexahedra.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points of the block.
    corners : ndarray, shape (m, 8), int32
        Corners of its cells.
    token : Token, optional
        Progress and cancel.
    """
    out = np.empty(len(corners))
    own, where = read_only(points), read_only(corners)
    run_chunks(lambda a, b: kernels.cell_volumes(own, where, out, a, b), len(corners), _CHUNK, token)
    return out


def node_shares(points: NDArray[np.float64], grid: Grid, out: NDArray[np.float64], token: Token | None = None) -> None:
    """Add to each node of a block what of its volume is the node's: the integral of its trilinear weight.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points of the block.
    grid : Grid
        Its cells.
    out : ndarray, shape (n,)
        Added to.
    token : Token, optional
        Progress and cancel.
    """
    own = read_only(points)
    if isinstance(grid, StructuredGrid):
        ni, nj, nk = grid.dims
        slabs = -(-(nk - 1) // _LAYERS)
        for odd in range(2):  # two slabs that are not beside one another have no nodes in common
            def slab(begin: int, end: int, odd: int = odd) -> None:
                for n in range(begin, end):
                    first = (2 * n + odd) * _LAYERS
                    kernels.share_lattice(own, ni, nj, out, first, min(first + _LAYERS, nk - 1))

            run_chunks(slab, (slabs + 1 - odd) // 2, 1, token)
        return
    corners = read_only(grid.corners)
    parts = [out, *(np.zeros(len(out)) for _ in range(_PARTS - 1))] if grid.n_cells > _CHUNK else [out]
    size = -(-grid.n_cells // len(parts))

    def part(begin: int, end: int) -> None:
        for n in range(begin, end):
            for first in range(n * size, min((n + 1) * size, grid.n_cells), _CHUNK):
                if token is not None:
                    token.check()
                kernels.share_cells(own, corners, parts[n], first, min(first + _CHUNK, (n + 1) * size, grid.n_cells))

    run_chunks(part, len(parts), 1, token)
    for more in parts[1:]:
        out += more


def turn_cells(points: NDArray[np.float64], corners: NDArray[np.int32], types: NDArray[np.uint8]) -> int:
    """Turn cells of negative volume the other way round, in place; their number.

    Files list cells of either hand: wedges most of all, whose order differs between formats.
    """
    volumes = cell_volumes(points, corners)
    if not (volumes < 0.0).any():
        return 0
    turned: list[int] = []
    run_chunks(lambda a, b: turned.append(kernels.turn_round(corners, types, volumes, a, b)), len(corners), _CHUNK)
    return sum(turned)
