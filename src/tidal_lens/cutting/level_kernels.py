"""Compiled loops along contour lines."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel, piece

Array = Any


@piece
def _first_above(levels: Array, low: float) -> int:
    """Of levels from the least on the first that is greater."""
    begin, end = 0, len(levels)
    while begin < end:
        middle = (begin + end) >> 1
        if levels[middle] > low:
            end = middle
        else:
            begin = middle + 1
    return begin


@kernel
def count_strokes(faces: Array, values: Array, levels: Array, begin: int, end: int) -> int:
    """How many strokes :func:`fill_strokes` finds in faces begin … end; levels from the least on."""
    count = 0
    for f in range(begin, end):
        for half in range(2):
            a, b, c = faces[f, 0], faces[f, 1 + half], faces[f, 2 + half]
            if b == c:
                continue
            low, high = min(values[a], values[b], values[c]), max(values[a], values[b], values[c])
            if not np.isfinite(values[a] + values[b] + values[c]):
                continue
            n = _first_above(levels, low)
            while n < len(levels) and levels[n] <= high:
                count += 1
                n += 1
    return count


@piece
def _cross(points: Array, a: int, b: int, values: Array, value: float, out: Array, edges: Array, row: int, end: int) -> None:
    # From the lesser vertex on, whichever triangle asks: both get the same numbers, and strokes meet without a gap.
    if a > b:
        a, b = b, a
    share = (value - values[a]) / (values[b] - values[a])
    for k in range(3):
        out[row, end, k] = points[a, k] + share * (points[b, k] - points[a, k])
    edges[row, end] = a * points.shape[0] + b


@kernel
def fill_strokes(points: Array, faces: Array, values: Array, levels: Array, out: Array, edges: Array, level: Array, row: int, begin: int,
                 end: int) -> None:
    """Strokes of faces (m, 4) begin … end, a triangle repeats its last corner, from a row on: as :func:`level_lines` hands them out."""
    for f in range(begin, end):
        for half in range(2):
            a, b, c = faces[f, 0], faces[f, 1 + half], faces[f, 2 + half]
            if b == c or not np.isfinite(values[a] + values[b] + values[c]):
                continue
            low, high = min(values[a], values[b], values[c]), max(values[a], values[b], values[c])
            n = _first_above(levels, low)
            while n < len(levels) and levels[n] <= high:
                value = levels[n]
                # The corner that is alone on its side: the line crosses both edges that meet there.
                over = values[b] >= value
                if (values[a] >= value) == over:
                    lone, first, second = c, a, b
                elif over == (values[c] >= value):
                    lone, first, second = a, b, c
                else:
                    lone, first, second = b, c, a
                _cross(points, lone, first, values, value, out, edges, row, 0)
                _cross(points, lone, second, values, value, out, edges, row, 1)
                level[row] = n
                row += 1
                n += 1


@piece
def root_of(parent: Array, i: int) -> int:
    """What stands for the set that one of a forest belongs to; ways to it are made shorter."""
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@kernel
def pieces_of(points: Array, edges: Array, level: Array, slots: Array, parent: Array, sums: Array, nearest: Array) -> None:
    """Which strokes hang together, how long each piece of a line is, and which stroke of it is nearest to its middle.

    Parameters
    ----------
    points, edges, level : (n, 2, 3), (n, 2) int64, (n,) int64
        As of :func:`fill_strokes`.
    slots : (2^k,) int64
        Room for a table of ends, of more than twice the strokes, filled with -1.
    parent : (n,) int64
        Written: of each stroke the first of its piece.
    sums : (n, 5)
        Written in the rows of those that are the first: length, and length times middle.
    nearest : (n,) int64
        Written there.
    """
    mask = len(slots) - 1
    for i in range(len(level)):
        parent[i] = i
    for i in range(len(level)):
        for end in range(2):
            key = np.uint64(edges[i, end]) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(level[i]) * np.uint64(0xC2B2AE3D27D4EB4F)
            at = np.int64((key ^ (key >> np.uint64(29))) & np.uint64(mask))
            while True:
                other = slots[at]
                if other < 0:
                    slots[at] = 2 * i + end
                    break
                if edges[other >> 1, other & 1] == edges[i, end] and level[other >> 1] == level[i]:
                    a, b = root_of(parent, other >> 1), root_of(parent, i)
                    if a != b:
                        parent[max(a, b)] = min(a, b)
                    break
                at = (at + 1) & mask
    for i in range(len(level)):
        parent[i] = root_of(parent, i)
        size = 0.0
        for k in range(3):
            d = points[i, 1, k] - points[i, 0, k]
            size += d * d
        size = np.sqrt(size)
        one = parent[i]
        if one == i:
            sums[i, :] = 0.0
            sums[i, 4] = np.inf
            nearest[i] = i
        sums[one, 0] += size
        for k in range(3):
            sums[one, 1 + k] += 0.5 * size * (points[i, 0, k] + points[i, 1, k])
    for i in range(len(level)):
        one = parent[i]
        weight = max(sums[one, 0], 1e-300)
        away = 0.0
        for k in range(3):
            d = 0.5 * (points[i, 0, k] + points[i, 1, k]) - sums[one, 1 + k] / weight
            away += d * d
        if away < sums[one, 4]:
            sums[one, 4] = away
            nearest[one] = i
