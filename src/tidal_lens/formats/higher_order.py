"""Cells with nodes on edges, faces and inside, cut into linear cells between those nodes.

Where a kind has nodes on its edges but none in the middle of its faces, those are added by its own (serendipity) shape functions:
Zienkiewicz, Taylor & Zhu, The Finite Element Method (from memory).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.grid import HEXAHEDRON, PYRAMID, TETRA, WEDGE
from tidal_lens.formats.polyhedra import Added

_TETRA, _HEXA, _WEDGE, _PYRA = (24, 71), (25, 29, 33, 72), (26, 31, 32, 73), (27, 37, 74)
KINDS = frozenset((*_TETRA, *_HEXA, *_WEDGE, *_PYRA))
_MOST_ORDER = 10
_Weights = tuple[tuple[int, float], ...]


@dataclass(frozen=True)
class Pattern:
    """How a kind is cut.

    Attributes
    ----------
    missing : tuple
        Nodes to add after the cell's own: for each the weights of the cell's nodes, and its corners if neighbours share it.
    cuts : dict
        By linear kind, the nodes of each part.
    """

    cuts: dict[int, tuple[tuple[int, ...], ...]]
    missing: tuple[tuple[_Weights, tuple[int, ...]], ...] = field(default_factory=tuple)


def pattern_of(kind: int, size: int, where: str) -> Pattern:
    """How cells of a kind with so many nodes are cut.

    Raises
    ------
    FileError
        The kind has not so many nodes.
    """
    found = _pattern(kind, size)
    if found is None:
        raise FileError(f"Cells of type {kind} with {size} nodes are not read.", where, "Write them with linear or quadratic cells.")
    return found


def completed(nodes: NDArray[Any], pattern: Pattern, first_added: int) -> tuple[NDArray[np.int64], Added | None]:
    """Nodes of cells with those that are missing; a node in a shared face is added once."""
    own = nodes.astype(np.int64)
    if not pattern.missing:
        return own, None
    keys = np.full((len(own) * len(pattern.missing), 4), -1, np.int64)
    count = len(own)
    for n, (_, shared) in enumerate(pattern.missing):
        rows = slice(n * count, (n + 1) * count)
        if shared:
            keys[rows] = np.sort(own[:, shared], axis=1)
        else:
            keys[rows, 0], keys[rows, 1] = -2 - n, np.arange(count)
    _, first, place = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    place = place.reshape(len(pattern.missing), count)
    offsets, ids, weights = [np.zeros(1, np.int64)], [], []
    for at in first:
        which, cell = divmod(int(at), count)
        mixture = pattern.missing[which][0]
        ids.append(own[cell, [i for i, _ in mixture]])
        weights.append(np.array([w for _, w in mixture]))
    sizes = np.array([len(i) for i in ids], np.int64)
    offsets.append(np.cumsum(sizes))
    added = Added(np.concatenate(offsets), np.concatenate(ids), np.concatenate(weights))
    return np.column_stack([own, *(first_added + row for row in place)]), added


def _middle(corners: tuple[int, ...], edges: tuple[int, ...]) -> _Weights:
    """The middle of a quadrilateral with nodes on its edges."""
    return (*((c, -0.25) for c in corners), *((e, 0.5) for e in edges))


@cache
def _pattern(kind: int, size: int) -> Pattern | None:
    if kind in (71, 72, 73):
        return _lattice(kind, size)
    makers: dict[tuple[int, int], Callable[[], Pattern]] = {
        (24, 10): _tetra10, (25, 20): lambda: _hexa(0), (33, 24): lambda: _hexa(1), (29, 27): lambda: _hexa(2),
        (26, 15): lambda: _wedge(add=True), (32, 18): lambda: _wedge(add=False), (31, 12): _wedge12,
        (27, 13): lambda: _pyramid(add=True), (37, 19): lambda: _pyramid(add=False), (74, 14): lambda: _pyramid(add=False),
        (74, 13): lambda: _pyramid(add=True), (74, 5): lambda: Pattern({PYRAMID: ((0, 1, 2, 3, 4),)})}
    make = makers.get((kind, size))
    return make() if make is not None else None


def _tetra10() -> Pattern:
    corners = ((0, 4, 6, 7), (4, 1, 5, 8), (6, 5, 2, 9), (7, 8, 9, 3))
    octahedron = ((4, 9, 6, 7), (4, 9, 7, 8), (4, 9, 8, 5), (4, 9, 5, 6))
    return Pattern({TETRA: (*corners, *octahedron)})


# The 27 nodes of a hexahedron by their place in a 3 x 3 x 3 lattice; faces in the order -x +x -y +y -z +z, then the middle.
_EDGES = ((0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7))
_SIDES = ((0, 3, 7, 4), (1, 2, 6, 5), (0, 1, 5, 4), (3, 2, 6, 7), (0, 1, 2, 3), (4, 5, 6, 7))
_PLACES = ((0, 0, 0), (2, 0, 0), (2, 2, 0), (0, 2, 0), (0, 0, 2), (2, 0, 2), (2, 2, 2), (0, 2, 2))
_SUB = ((0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0, 0, 1), (1, 0, 1), (1, 1, 1), (0, 1, 1))


def _edge_between(a: int, b: int) -> int:
    return 8 + next(n for n, pair in enumerate(_EDGES) if set(pair) == {a, b})


def _side_edges(side: tuple[int, ...]) -> tuple[int, ...]:
    return tuple(_edge_between(side[n], side[(n + 1) % 4]) for n in range(4))


def _hexa(given: int) -> Pattern:
    """A hexahedron with nodes on its edges (0), also on its four sides (1), also at top, bottom and in the middle (2)."""
    number = {place: n for n, place in enumerate(_PLACES)}
    for n, (a, b) in enumerate(_EDGES):
        number[_mean(_PLACES[a], _PLACES[b])] = 8 + n
    missing: list[tuple[_Weights, tuple[int, ...]]] = []
    size = {0: 20, 1: 24, 2: 27}[given]
    for n, side in enumerate(_SIDES):
        place = _mean(_PLACES[side[0]], _PLACES[side[2]])
        if given == 2 or (given == 1 and n < 4):
            # The 24-node kind lists the sides as -x, +x, -y, +y; so does the 27-node kind, whose last three are -z, +z, the middle.
            number[place] = 20 + n
        else:
            number[place] = size + len(missing)
            missing.append((_middle(side, _side_edges(side)), side))
    if given == 2:
        number[1, 1, 1] = 26
    else:
        number[1, 1, 1] = size + len(missing)
        if given == 0:
            inside: _Weights = (*((c, -0.25) for c in range(8)), *((e, 0.25) for e in range(8, 20)))
        else:  # blending of the four sides with the two ends: the ends' middles from their edges
            inside = tuple((20 + n, 0.5) for n in range(4)) + tuple((8 + n, -0.25) for n in (8, 9, 10, 11))
        missing.append((inside, ()))
    cuts = tuple(tuple(number[i + a, j + b, k + c] for a, b, c in _SUB) for k, j, i in product((0, 1), repeat=3))
    return Pattern({HEXAHEDRON: cuts}, tuple(missing))


def _mean(a: tuple[int, int, int], b: tuple[int, int, int]) -> tuple[int, int, int]:
    return (a[0] + b[0]) // 2, (a[1] + b[1]) // 2, (a[2] + b[2]) // 2


def _wedge(*, add: bool) -> Pattern:
    """Nodes 0-5 corners, 6-8 on the lower, 9-11 on the upper triangle, 12-14 on the upright edges, 15-17 in the sides."""
    sides = (((0, 1, 4, 3), (6, 13, 9, 12)), ((1, 2, 5, 4), (7, 14, 10, 13)), ((2, 0, 3, 5), (8, 12, 11, 14)))
    missing = tuple((_middle(corners, edges), corners) for corners, edges in sides) if add else ()
    layers = ((0, 1, 2, 6, 7, 8), (12, 13, 14, 15, 16, 17), (3, 4, 5, 9, 10, 11))
    four = ((0, 3, 5), (3, 1, 4), (5, 4, 2), (3, 4, 5))
    cuts = tuple(tuple(low[n] for n in tri) + tuple(high[n] for n in tri)
                 for low, high in ((layers[0], layers[1]), (layers[1], layers[2])) for tri in four)
    return Pattern({WEDGE: cuts}, missing)


def _wedge12() -> Pattern:
    """Quadratic triangles, straight between them."""
    low, high = (0, 1, 2, 6, 7, 8), (3, 4, 5, 9, 10, 11)
    four = ((0, 3, 5), (3, 1, 4), (5, 4, 2), (3, 4, 5))
    return Pattern({WEDGE: tuple(tuple(low[n] for n in t) + tuple(high[n] for n in t) for t in four)})


def _pyramid(*, add: bool) -> Pattern:
    """Nodes 0-3 base, 4 apex, 5-8 on the base's edges, 9-12 on the upright ones, 13 in the base."""
    missing = ((_middle((0, 1, 2, 3), (5, 6, 7, 8)), (0, 1, 2, 3)),) if add else ()
    whole = ((0, 5, 13, 8, 9), (5, 1, 6, 13, 10), (13, 6, 2, 7, 11), (8, 13, 7, 3, 12), (9, 10, 11, 12, 4), (9, 12, 11, 10, 13))
    between = ((5, 13, 9, 10), (6, 13, 10, 11), (7, 13, 11, 12), (8, 13, 12, 9))
    return Pattern({PYRAMID: whole, TETRA: between}, missing)


def _lattice(kind: int, size: int) -> Pattern | None:
    """Cells of any order; the order of their nodes is asked from VTK, whose numbering it is."""
    from vtkmodules.vtkCommonDataModel import vtkHigherOrderHexahedron, vtkHigherOrderTetra, vtkHigherOrderWedge

    orders = range(1, _MOST_ORDER + 1)
    sizes = {71: [(n + 1) * (n + 2) * (n + 3) // 6 for n in orders], 72: [(n + 1) ** 3 for n in orders],
             73: [(n + 1) ** 2 * (n + 2) // 2 for n in orders]}[kind]
    order = sizes.index(size) + 1 if size in sizes else None
    if order is None:
        return None
    steps = range(order)
    if kind == 72:
        def hexa(i: int, j: int, k: int) -> int:
            return int(vtkHigherOrderHexahedron.PointIndexFromIJK(i, j, k, [order, order, order]))

        return Pattern({HEXAHEDRON: tuple(tuple(hexa(i + a, j + b, k + c) for a, b, c in _SUB) for i, j, k in product(steps, repeat=3))})
    if kind == 73:
        def wedge(i: int, j: int, k: int) -> int:
            return int(vtkHigherOrderWedge.PointIndexFromIJK(i, j, k, [order, order, order, size]))

        up = [((i, j), (i + 1, j), (i, j + 1)) for i in steps for j in steps if i + j < order]
        down = [((i + 1, j), (i + 1, j + 1), (i, j + 1)) for i in steps for j in steps if i + j + 1 < order]
        return Pattern({WEDGE: tuple(tuple(wedge(*p, k) for p in t) + tuple(wedge(*p, k + 1) for p in t)
                                     for k in steps for t in (*up, *down))})
    tables = {}
    for n in range(size):
        place = [0, 0, 0, 0]
        vtkHigherOrderTetra.BarycentricIndex(n, place, order)
        tables[place[0], place[1], place[2]] = n
    return Pattern({TETRA: tuple(_kuhn(order, tables))})


def _kuhn(order: int, number: dict[tuple[int, int, int], int]) -> list[tuple[int, ...]]:
    """The tetrahedron as the part of a cube where a >= b >= c, cut along the cube lattice's diagonals: order³ parts."""
    parts = []
    ways = ((0, 1, 2), (0, 2, 1), (1, 0, 2), (1, 2, 0), (2, 0, 1), (2, 1, 0))
    for corner in product(range(order), repeat=3):
        for way in ways:
            path = [list(corner)]
            for axis in way:
                path.append([c + (a == axis) for a, c in enumerate(path[-1])])
            if all(a >= b >= c for a, b, c in path):
                nodes = [number[a - b, b - c, c] for a, b, c in path]
                # An odd order of steps turns the part inside out.
                odd = sum(way[m] > way[n] for m in range(3) for n in range(m + 1, 3)) % 2
                parts.append(tuple(nodes[::1] if not odd else [nodes[1], nodes[0], *nodes[2:]]))
    return parts
