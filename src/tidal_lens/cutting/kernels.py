"""Compiled loops that choose cells for a cut."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

from tidal_lens.jit import kernel

Array = NDArray[Any]


@kernel
def straddling(corners: Array, values: Array, level: float, out: Array, begin: int, end: int) -> None:
    """Mark cells (m, 8) of node values (n,) that lie on both sides of a level, or touch it; not those with a value that is not finite."""
    for n in range(begin, end):
        below = above = False
        for c in range(8):
            v = values[corners[n, c]]
            below |= v <= level
            above |= v >= level
        out[n] = below and above
