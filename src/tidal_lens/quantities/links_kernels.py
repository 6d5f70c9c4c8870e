"""Compiled loops that find which nodes are joined by edges of cells."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel

Array = Any


@kernel
def count_cells(corners: Array, counts: Array, begin: int, end: int) -> None:
    """Count the cells begin..end round each node; a corner that collapsed onto another counts once."""
    for cell in range(begin, end):
        for c in range(8):
            n = corners[cell, c]
            first = True
            for d in range(c):
                if corners[cell, d] == n:
                    first = False
                    break
            if first:
                counts[n] += 1


@kernel
def list_cells(corners: Array, places: Array, cells: Array, begin: int, end: int) -> None:
    """Enter the cells begin..end at the places of their nodes, which move on."""
    for cell in range(begin, end):
        for c in range(8):
            n = corners[cell, c]
            first = True
            for d in range(c):
                if corners[cell, d] == n:
                    first = False
                    break
            if first:
                cells[places[n]] = cell
                places[n] += 1


@kernel
def link_nodes(corners: Array, near: Array, starts: Array, cells: Array, sizes: Array, outer: Array, begin: int, end: int) -> Array:
    """Links of the nodes begin..end, one node after another; their numbers and whether nodes are outer are written.

    near (8, 3) are the corners next to each corner. A node is inner where the surface round it closes: of its V neighbours, the E faces
    and F cells at it, V − E + F = 2 by Euler's formula, where each face belongs to two cells.
    """
    total = 3 * (starts[end] - starts[begin]) + 64 * 8
    out = np.empty(total, np.int32)
    own = np.empty(24, np.int32)
    used = 0
    for n in range(begin, end):
        row = used
        faces = 0
        for e in range(starts[n], starts[n + 1]):
            cell = cells[e]
            count = 0
            for c in range(8):
                if corners[cell, c] == n:
                    for d in range(3):
                        other = corners[cell, near[c, d]]
                        if other != n:
                            seen = False
                            for k in range(count):
                                if own[k] == other:
                                    seen = True
                                    break
                            if not seen:
                                own[count] = other
                                count += 1
            faces += count
            if used + count > len(out):
                more = np.empty(2 * len(out) + count, np.int32)
                more[:used] = out[:used]
                out = more
            for k in range(count):
                seen = False
                for r in range(row, used):
                    if out[r] == own[k]:
                        seen = True
                        break
                if not seen:
                    out[used] = own[k]
                    used += 1
        sizes[n] = used - row
        outer[n] = 2 * (used - row) - faces + 2 * (starts[n + 1] - starts[n]) != 4
    return out[:used].copy()
