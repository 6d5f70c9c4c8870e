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
def begin_rows(counts: Array, starts: Array) -> None:
    """Turn numbers of cells round each node, shape (workers, n), into how far behind the node's first each worker's first is."""
    for n in range(counts.shape[1]):
        total = 0
        for worker in range(counts.shape[0]):
            count = counts[worker, n]
            counts[worker, n] = total
            total += count
        starts[n + 1] = starts[n] + total


@kernel
def list_cells(corners: Array, kinds: Array, own: Array, many: Array, starts: Array, places: Array, cells: Array, begin: int,
               end: int) -> None:
    """Enter the cells begin..end at the places of their nodes, which move on: each as cell · 8 + corner."""
    for cell in range(begin, end):
        kind = kinds[cell]
        for k in range(many[kind]):
            c = own[kind, k]
            n = corners[cell, c]
            cells[starts[n] + places[n]] = cell * 8 + c
            places[n] += 1


@kernel
def link_nodes(corners: Array, kinds: Array, near: Array, joined: Array, starts: Array, cells: Array, seen: Array, sizes: Array,
               outer: Array, begin: int, end: int) -> Array:
    """Links of the nodes begin..end, one node after another; their numbers and whether nodes are outer are written.

    ``seen`` (n,) holds for each node at which other one it was met last; each thread has its own.

    A node is inner where the surface round it closes: of its V neighbours, the E faces and F cells at it, V − E + F = 2 by Euler's
    formula, where each face belongs to two cells. At a corner of a cell there are as many faces as edges.
    """
    out = np.empty(4 * (starts[end] - starts[begin]) + 1, np.int32)
    used = 0
    for n in range(begin, end):
        row = used
        faces = 0
        seen[n] = n  # corners of a cell that a file collapsed
        for e in range(starts[n], starts[n + 1]):
            entry = np.uint64(cells[e])
            cell, corner = entry >> np.uint64(3), entry & np.uint64(7)
            kind = kinds[cell]
            count = joined[kind, corner]
            faces += count
            for k in range(count):
                other = np.uint64(corners[cell, np.uint64(near[kind, corner, k])])
                # Always written, and counted where it is new: the processor cannot guess which ones are.
                out[used] = other
                used += seen[other] != n
                seen[other] = n
        sizes[n] = used - row
        outer[n] = 2 * (used - row) - faces + 2 * (starts[n + 1] - starts[n]) != 4
    return out[:used].copy()
