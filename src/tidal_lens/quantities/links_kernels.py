"""Compiled loops that find which nodes are joined by edges of cells."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel

Array = Any


@kernel
def eight_cornered(corners: Array, whole: Array, begin: int, end: int) -> None:
    """Which of the cells begin..end have eight different corners."""
    for cell in range(begin, end):
        good = True
        for c in range(1, 8):
            for d in range(c):
                if corners[cell, c] == corners[cell, d]:
                    good = False
        whole[cell] = good


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
    """Enter the cells begin..end at the places of their nodes, which move on: each as cell · 8 + the first corner that is the node."""
    for cell in range(begin, end):
        for c in range(8):
            n = corners[cell, c]
            first = True
            for d in range(c):
                if corners[cell, d] == n:
                    first = False
                    break
            if first:
                cells[places[n]] = cell * 8 + c
                places[n] += 1


@kernel
def link_nodes(corners: Array, whole: Array, near: Array, starts: Array, cells: Array, sizes: Array, outer: Array, begin: int,
               end: int) -> Array:
    """Links of the nodes begin..end, one node after another; their numbers and whether nodes are outer are written.

    near (8, 3) are the corners next to each corner, whole (cells,) tells which cells have eight corners. A node is inner where the
    surface round it closes: of its V neighbours, the E faces and F cells at it, V − E + F = 2 by Euler's formula, where each face
    belongs to two cells.
    """
    out = np.empty(3 * (starts[end] - starts[begin]) + 64 * 8, np.int32)
    own = np.empty(24, np.int32)
    used = 0
    for n in range(begin, end):
        row = used
        faces = 0
        for e in range(starts[n], starts[n + 1]):
            cell, corner = cells[e] >> 3, cells[e] & 7
            count = 0
            if whole[cell]:
                count = 3
                for d in range(3):
                    own[d] = corners[cell, near[corner, d]]
            else:
                for c in range(corner, 8):
                    if corners[cell, c] != n:
                        continue
                    for d in range(3):
                        other = corners[cell, near[c, d]]
                        seen = other == n
                        for k in range(count):
                            seen = seen or own[k] == other
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
