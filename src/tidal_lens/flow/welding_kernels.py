"""Compiled loops that find nodes at one place."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.jit import kernel

Array = NDArray[Any]


@kernel
def place_keys(points: Array, keys: Array, begin: int, end: int) -> None:
    """One number a point (n, 3), the same for points that are the same to the last bit but for the sign of zero."""
    bits = np.empty(3, np.float64)
    whole = bits.view(np.uint64)
    for n in range(begin, end):
        key = np.uint64(0)
        for d in range(3):
            bits[d] = points[n, d] + 0.0
            key = (key ^ whole[d]) * np.uint64(0x9E3779B97F4A7C15)
            key ^= key >> np.uint64(29)
        key *= np.uint64(0xBF58476D1CE4E5B9)
        keys[n] = key ^ (key >> np.uint64(32))


@kernel
def count_shares(keys: Array, shift: Any, counts: Array, begin: int, end: int) -> None:
    """How many of keys[begin:end] are of each share, by their foremost bits."""
    for at in range(begin, end):
        counts[keys[at] >> shift] += 1


@kernel
def spread_shares(keys: Array, nodes: Array, shift: Any, fill: Array, to_keys: Array, to_nodes: Array, begin: int, end: int) -> None:
    """Write keys[begin:end] and their nodes to where their share is filled (shares,) next."""
    for at in range(begin, end):
        share = keys[at] >> shift
        to = fill[share]
        to_keys[to] = keys[at]
        to_nodes[to] = nodes[at]
        fill[share] = to + 1


@kernel
def first_alike(keys: Array, nodes: Array, table: Array, leader: Array, begin: int, end: int) -> int:
    """Give each of nodes[begin:end] the first of them that has its key; how many are not the first.

    The table holds -1 everywhere; its length is a power of two above twice the number of nodes.
    """
    mask = np.uint64(table.shape[0] - 1)
    again = 0
    for at in range(begin, end):
        key = keys[at]
        slot = key & mask
        while True:
            other = table[slot]
            if other < 0:
                table[slot] = at
                leader[nodes[at]] = nodes[at]
                break
            if keys[other] == key:
                leader[nodes[at]] = nodes[other]
                again += 1
                break
            slot = (slot + np.uint64(1)) & mask
    return again


@kernel
def all_there(points: Array, leader: Array, begin: int, end: int) -> bool:
    """Whether the points (n, 3) begin..end lie where their leaders do."""
    for n in range(begin, end):
        other = leader[n]
        if other != n and (points[n, 0] != points[other, 0] or points[n, 1] != points[other, 1] or points[n, 2] != points[other, 2]):
            return False
    return True


@kernel
def count_anew(leader: Array, number: Array, source: Array) -> int:
    """Number the nodes that are their own leader, in order; give each node the number of its leader. Leaders come before their nodes."""
    count = 0
    for n in range(leader.shape[0]):
        if leader[n] == n:
            source[count] = n
            number[n] = count
            count += 1
        else:
            number[n] = number[leader[n]]
    return count


@kernel
def any_unlike(values: Array, leader: Array, begin: int, end: int) -> bool:
    """Whether any of the nodes begin..end has finite values (n, c) unlike those of its leader."""
    for n in range(begin, end):
        other = leader[n]
        if other != n:
            for c in range(values.shape[1]):
                a, b = values[n, c], values[other, c]
                if a != b and not (a != a and b != b):
                    return True
    return False
