"""Compiled loops that find which nodes are joined by edges of cells.

Tables by the place of a cell's kind: own (kinds, 8) are the corners of its own among those of the collapsed hexahedron, many (kinds,)
their number; near (kinds, 8, 4) are the corners joined to each of them, joined (kinds, 8) their number.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel

Array = Any


@kernel
def count_cells(corners: Array, kinds: Array, own: Array, many: Array, counts: Array, begin: int, end: int) -> None:
    """Count the cells begin..end round each node."""
    for cell in range(begin, end):
        kind = kinds[cell]
        for k in range(many[kind]):
            counts[corners[cell, own[kind, k]]] += 1


@kernel
def list_cells(corners: Array, kinds: Array, own: Array, many: Array, places: Array, cells: Array, begin: int, end: int) -> None:
    """Enter the cells begin..end at the places of their nodes, which move on: each as cell · 8 + corner."""
    for cell in range(begin, end):
        kind = kinds[cell]
        for k in range(many[kind]):
            c = own[kind, k]
            n = corners[cell, c]
            cells[places[n]] = cell * 8 + c
            places[n] += 1


@kernel
def link_nodes(corners: Array, kinds: Array, near: Array, joined: Array, starts: Array, cells: Array, sizes: Array, outer: Array,
               begin: int, end: int) -> Array:
    """Links of the nodes begin..end, one node after another; their numbers and whether nodes are outer are written.

    A node is inner where the surface round it closes: of its V neighbours, the E faces and F cells at it, V − E + F = 2 by Euler's
    formula, where each face belongs to two cells. At a corner of a cell there are as many faces as edges.
    """
    out = np.empty(4 * (starts[end] - starts[begin]), np.int32)
    used = 0
    for n in range(begin, end):
        row = used
        faces = 0
        for e in range(starts[n], starts[n + 1]):
            cell, corner = cells[e] >> 3, cells[e] & 7
            kind = kinds[cell]
            count = joined[kind, corner]
            faces += count
            for k in range(count):
                other = corners[cell, near[kind, corner, k]]
                seen = other == n  # corners of a cell that a file collapsed
                for r in range(row, used):
                    if out[r] == other:
                        seen = True
                        break
                if not seen:
                    out[used] = other
                    used += 1
        sizes[n] = used - row
        outer[n] = 2 * (used - row) - faces + 2 * (starts[n + 1] - starts[n]) != 4
    return out[:used].copy()
