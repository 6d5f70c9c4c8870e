"""Compiled loops over neighbours and cells for averages of node values."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel

Array = Any


@kernel
def smooth_links(starts: Array, links: Array, old: Array, new: Array, begin: int, end: int) -> None:
    """Half a node's own value (n, c), half the mean of those linked to it."""
    for n in range(begin, end):
        count = starts[n + 1] - starts[n]
        for c in range(old.shape[1]):
            total = 0.0
            for e in range(starts[n], starts[n + 1]):
                total += old[links[e], c]
            new[n, c] = 0.5 * old[n, c] + 0.5 * total / count if count > 0 else old[n, c]


@kernel
def smooth_lattice(ni: int, nj: int, nk: int, old: Array, new: Array, begin: int, end: int) -> None:
    """The same along the edges of a lattice, in its rows begin..end along the first index."""
    for row in range(begin, end):
        j, k = row % nj, row // nj
        for i in range(ni):
            n = i + ni * row
            for c in range(old.shape[1]):
                total, count = 0.0, 0
                if i > 0:
                    total, count = total + old[n - 1, c], count + 1
                if i + 1 < ni:
                    total, count = total + old[n + 1, c], count + 1
                if j > 0:
                    total, count = total + old[n - ni, c], count + 1
                if j + 1 < nj:
                    total, count = total + old[n + ni, c], count + 1
                if k > 0:
                    total, count = total + old[n - ni * nj, c], count + 1
                if k + 1 < nk:
                    total, count = total + old[n + ni * nj, c], count + 1
                new[n, c] = 0.5 * old[n, c] + 0.5 * total / count if count > 0 else old[n, c]


@kernel
def weighted_to_nodes(corners: Array, own: Array, points: Array, values: Array, weights: Array, near: bool, sums: Array,
                      counts: Array) -> None:
    """Add weighted cell values (m, c) to the nodes at their distinct corners, and the weights to ``counts``.

    The weight is that of the cell, or with ``near`` one over the distance from its middle.
    """
    for cell in range(corners.shape[0]):
        row = cell if own.shape[0] > 1 else 0
        x = y = z = 0.0
        many = 0
        for corner in range(8):
            if own[row, corner]:
                n = corners[cell, corner]
                x += points[n, 0]
                y += points[n, 1]
                z += points[n, 2]
                many += 1
        for corner in range(8):
            if own[row, corner]:
                n = corners[cell, corner]
                weight = weights[cell]
                if near:
                    dx, dy, dz = points[n, 0] - x / many, points[n, 1] - y / many, points[n, 2] - z / many
                    weight = 1.0 / max(np.sqrt(dx * dx + dy * dy + dz * dz), 1e-300)
                counts[n] += weight
                for c in range(values.shape[1]):
                    sums[n, c] += weight * values[cell, c]
