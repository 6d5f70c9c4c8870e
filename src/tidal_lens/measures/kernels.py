"""Compiled loops over cells that tell how good they are."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.kernels import cell_volumes
from tidal_lens.jit import kernel

Array = NDArray[Any]


@kernel
def cell_quality(points: Array, corners: Array, volume: Array, skewness: Array, aspect: Array, begin: int, end: int) -> None:
    """Signed volume, equiangle skewness and ratio of longest to shortest edge of (collapsed) hexahedra.

    points (n, 3), corners (m, 8), the rest (m,).
    """
    cell_volumes(points, corners, volume, begin, end)
    sides = ((0, 1, 2, 3), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7))
    own = np.empty(4, np.int64)
    for n in range(begin, end):
        worst = 0.0
        longest, shortest = 0.0, np.inf
        for side in sides:
            count = 0
            for c in range(4):
                node = corners[n, side[c]]
                if count == 0 or (node != own[count - 1] and node != own[0]):
                    own[count] = node
                    count += 1
            if count < 3:
                continue
            regular = np.pi / 2 if count == 4 else np.pi / 3
            for c in range(count):
                at, after, before = own[c], own[(c + 1) % count], own[(c - 1) % count]
                dot = la = lb = 0.0
                for a in range(3):
                    u, v = points[after, a] - points[at, a], points[before, a] - points[at, a]
                    dot += u * v
                    la += u * u
                    lb += v * v
                longest, shortest = max(longest, la), min(shortest, la)
                if la <= 0.0 or lb <= 0.0:
                    worst = 1.0
                    continue
                angle = np.arccos(min(1.0, max(-1.0, dot / np.sqrt(la * lb))))
                worst = max(worst, max((angle - regular) / (np.pi - regular), (regular - angle) / regular))
        skewness[n] = worst
        aspect[n] = np.sqrt(longest / shortest) if shortest > 0.0 else np.inf
