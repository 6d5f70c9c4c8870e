"""Blocks of a compressed array unpacked to where they stay, without the interpreter in between."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.jit import POINTER, SMALL, WHOLE, foreign, kernel

Array = NDArray[Any]
_uncompress = foreign("libz.so.1", "uncompress", SMALL, POINTER, POINTER, POINTER, WHOLE)
READY = _uncompress is not None  # every Debian system has zlib; elsewhere Python's own way is taken


@kernel
def unpack_zlib(packed: Array, begins: Array, size: int, out: Array, first: int, end: int) -> int:
    """Unpack the blocks first..end (zlib's format).

    Parameters
    ----------
    packed : ndarray, uint8
        The bytes of these blocks.
    begins : ndarray, int64
        Where in all bytes each block begins, and the last one ends.
    size : int
        Bytes that each block becomes, but for the last of all.
    out : ndarray, uint8
        What all blocks become.
    first, end : int
        Which blocks.

    Returns
    -------
    int
        The first block that is damaged or becomes another number of bytes, -1 if all is well.
    """
    length = np.empty(1, np.uint64)
    for n in range(first, end):
        to = out[n * size:min((n + 1) * size, out.shape[0])]
        source = packed[begins[n] - begins[first]:begins[n + 1] - begins[first]]
        length[0] = to.shape[0]
        if _uncompress(to.ctypes, length.ctypes, source.ctypes, source.shape[0]) != 0 or length[0] != to.shape[0]:
            return n
    return -1
