"""Volumes of cells, and cells turned so that they are positive."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow import kernels
from tidal_lens.work import Token, read_only, run_chunks

_CHUNK = 65536


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
