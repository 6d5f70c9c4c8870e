"""Compiled loops that choose places evenly apart on a surface."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel, piece

Array = Any
U = np.uint64
_EMPTY = -1


@piece
def _parts(points: Array, a: int, b: int, c: int, fine: float, most: int) -> int:
    """Into how many parts each edge of a triangle is divided; 0 where it has no area."""
    longest = across = 0.0
    for k in range(3):
        o, p = (k + 1) % 3, (k + 2) % 3
        n = ((points[b, o] - points[a, o]) * (points[c, p] - points[a, p]) - (points[b, p] - points[a, p]) * (points[c, o] - points[a, o]))
        across += n * n
    if not across > 0.0:
        return 0
    for first, second in ((a, b), (b, c), (c, a)):
        size = 0.0
        for k in range(3):
            d = points[second, k] - points[first, k]
            size += d * d
        longest = max(longest, size)
    return min(max(int(np.ceil(fine * np.sqrt(longest))), 1), most)


@kernel
def count_places(points: Array, faces: Array, fine: float, most: int) -> int:
    """How many places are looked at: the square of the parts of each triangle. ``fine`` is parts by length."""
    total = 0
    for f in range(faces.shape[0]):
        n = _parts(points, faces[f, 0], faces[f, 1], faces[f, 2], fine, most)
        total += n * n
        if faces[f, 2] != faces[f, 3]:
            n = _parts(points, faces[f, 0], faces[f, 2], faces[f, 3], fine, most)
            total += n * n
    return total


@kernel
def choose_places(points: Array, faces: Array, fine: float, most: int, low: Array, spacing: float, flat: Array, span: Array, slots: Array,
                  away: Array, corners: Array, shares: Array) -> int:
    """Of the places in each cell of a cubic grid the one nearest to its middle; how many.

    Parameters
    ----------
    low, spacing, flat, span : (3,), float, (3,) bool, (3,) int64
        Where the grid begins; the width of its cells; along which axes the surface has no extent; how many cells there are.
    slots, away : (2^n,) int64, (2^n,)
        Room for a table of cells, of at least twice the places looked at, or of all cells if they are fewer.
    corners, shares : (2^n, 3) int64, (2^n, 3)
        Written, where ``slots`` is not -1: vertices of the triangle that the place lies in, and their shares.
    """
    mask = len(slots) - 1
    for n in range(len(slots)):
        slots[n] = _EMPTY
    count = 0
    for f in range(faces.shape[0]):
        for half in range(2):
            a, b, c = faces[f, 0], faces[f, 1 + half], faces[f, 2 + half]
            if b == c:
                continue
            n = _parts(points, a, b, c, fine, most)
            for i in range(n):
                for j in range(2 * (n - i) - 1):
                    # Middles of the n² triangles that a triangle falls into: those upright, and those between them.
                    row, third = j // 2, (1.0 if j % 2 == 0 else 2.0) / 3.0
                    p, q = (i + third) / n, (row + third) / n
                    o = 1.0 - p - q
                    key = gap = 0.0
                    for k in range(3):
                        x = 0.5
                        if not flat[k]:
                            x = (o * points[a, k] + p * points[b, k] + q * points[c, k] - low[k]) / spacing
                        cell = np.floor(x)
                        gap += (x - cell - 0.5) ** 2
                        key = key * span[k] + cell
                    number = np.int64(key)
                    place = (U(number) * U(0x9E3779B97F4A7C15) >> U(32)) & U(mask)
                    while slots[place] != _EMPTY and slots[place] != number:
                        place = (place + U(1)) & U(mask)
                    if slots[place] == _EMPTY:
                        slots[place], away[place] = number, np.inf
                        count += 1
                    if gap < away[place]:
                        away[place] = gap
                        corners[place, 0], corners[place, 1], corners[place, 2] = a, b, c
                        shares[place, 0], shares[place, 1], shares[place, 2] = o, p, q
    return count
