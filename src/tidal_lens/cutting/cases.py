"""How a surface passes through a cell, by which of its corners lie above the level: tables for the kernels.

A side of a cell is read by its own corners alone, so that cells of any kind agree on the sides that they share: each run of corners
above, going round it, is cut off by one straight piece. The pieces of all sides of a cell chain to loops, and each loop is filled
with faces of which no inner edge lies in a side of the cell (or it would lie there for the neighbour too).
"""

from __future__ import annotations

from functools import cache
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.grid import COLLAPSE, HEX_FACES, HEXAHEDRON, PYRAMID, TETRA, WEDGE
from tidal_lens.work import read_only

KIND_TYPES = (HEXAHEDRON, HEXAHEDRON, TETRA, WEDGE, PYRAMID)  # as the kernels number them; the first is that of structured blocks
MOST_VERTICES, MOST_FACES = 12, 8
Edge = tuple[int, int]
Triangle = tuple[int, int, int]


class Cases(NamedTuple):
    """Rows by 256 times the kind of a cell plus a bit for each of its eight (collapsed) corners above; of a tetrahedron, its four points.

    Attributes
    ----------
    vertices : ndarray, shape (rows, 1 + 2 * MOST_VERTICES), uint8
        How many, then for each the corner above and the corner below between which it lies.
    faces : ndarray, shape (rows, 1 + 4 * MOST_FACES), uint8
        How many, then the vertices of each; a triangle repeats its last.
    """

    vertices: NDArray[np.uint8]
    faces: NDArray[np.uint8]


@cache
def cases() -> Cases:
    """The tables."""
    vertices = np.zeros((256 * len(KIND_TYPES), 1 + 2 * MOST_VERTICES), np.uint8)
    faces = np.zeros((len(vertices), 1 + 4 * MOST_FACES), np.uint8)
    for kind, cell_type in enumerate(KIND_TYPES):
        sides = sides_of(cell_type)
        own = [COLLAPSE[cell_type].index(point) for point in COLLAPSE[cell_type]]  # the first corner at the same point
        if cell_type == TETRA:
            own, sides = list(range(4)), [[COLLAPSE[TETRA][c] for c in side] for side in sides]
        for above in range(1 << len(own)):
            if any((above >> c & 1) != (above >> own[c] & 1) for c in range(len(own))):
                continue
            loops = _loops(sides, above)
            edges = [edge for loop in loops for edge in loop]
            row = 256 * kind + above
            vertices[row, 0] = len(edges)
            vertices[row, 1:1 + 2 * len(edges)] = np.array(edges, np.uint8).ravel()
            number = {edge: n for n, edge in enumerate(edges)}
            filled = [[number[loop[k]] for k in face] for loop in loops for face in _filled(loop, sides)]
            faces[row, 0] = len(filled)
            faces[row, 1:1 + 4 * len(filled)] = np.array(filled, np.uint8).ravel()
    return Cases(read_only(vertices), read_only(faces))


def sides_of(cell_type: int) -> list[list[int]]:
    """Corners round each side of a cell, seen from outside, each point once; sides that are no more than an edge are left out."""
    own = [COLLAPSE[cell_type].index(point) for point in COLLAPSE[cell_type]]
    found = []
    for side in HEX_FACES:
        corners = list(dict.fromkeys(own[c] for c in side))
        if len(corners) > 2:
            found.append(corners)
    return found


def _loops(sides: list[list[int]], above: int) -> list[list[Edge]]:
    """Vertices of each loop as pairs (corner above, corner below)."""
    after: dict[Edge, Edge] = {}
    for side in sides:
        n = len(side)
        high = [above >> c & 1 for c in side]
        for k in range(n):
            if not high[k] or high[(k + 1) % n]:
                continue
            first = k
            while high[(first - 1) % n]:
                first -= 1
            after[side[k], side[(k + 1) % n]] = side[first % n], side[(first - 1) % n]
    loops = []
    while after:
        begin = next(iter(after))
        loop, edge = [begin], after.pop(begin)
        while edge != begin:
            loop.append(edge)
            edge = after.pop(edge)
        loops.append(loop)
    return loops


def _filled(loop: list[Edge], sides: list[list[int]]) -> list[tuple[int, int, int, int]]:
    """Faces that fill a loop, by places in it."""
    apart = [[not any({*loop[a], *loop[b]} <= set(side) for side in sides) for b in range(len(loop))] for a in range(len(loop))]
    triangles = _triangulated(0, len(loop) - 1, len(loop), apart)
    assert triangles is not None
    return _paired(triangles)


def _triangulated(first: int, last: int, n: int, apart: list[list[bool]]) -> list[Triangle] | None:
    """Triangles that fill the loop from one place to another, with inner edges only between vertices that share no side."""
    if last - first < 2:
        return []
    for middle in range(first + 1, last):
        if (middle - first > 1 and not apart[first][middle]) or (last - middle > 1 and not apart[middle][last]):
            continue
        left, right = _triangulated(first, middle, n, apart), _triangulated(middle, last, n, apart)
        if left is not None and right is not None:
            return [(first, middle, last), *left, *right]
    return None


def _paired(triangles: list[Triangle]) -> list[tuple[int, int, int, int]]:
    """Triangles with a common edge as quadrilaterals whose first and third corners are its ends; others repeat their last corner."""
    left, faces = list(triangles), []
    while left:
        one = left.pop(0)
        face: Any = (*one, one[2])
        for other in left:
            shared = [c for c in one if c in other]
            if len(shared) == 2:
                alone = next(c for c in one if c not in shared)
                turn = one.index(alone)
                far = next(c for c in other if c not in shared)
                face = one[(turn + 2) % 3], alone, one[(turn + 1) % 3], far
                left.remove(other)
                break
        faces.append(face)
    return faces
