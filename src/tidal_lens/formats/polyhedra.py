"""Cells with any faces, cut into tetrahedra and pyramids round their middle.

Both cells at a face cut it in the same way, so that the cut mesh has no gaps: quadrilaterals stay whole, longer polygons become a
fan about a corner that both choose alike.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.errors import FileError
from tidal_lens.flow.grid import HEXAHEDRON, PYRAMID, TETRA, WEDGE

_MOST_CORNERS = 200
_DAMAGED = "Write it again from the solver."


@dataclass(frozen=True, eq=False)
class Faces:
    """Polygons and the cell that each bounds.

    Attributes
    ----------
    cells : ndarray, shape (f,), int64
        Cell of each face; a face between two cells is listed twice.
    offsets : ndarray, shape (f + 1,), int64
        Where each face's nodes begin.
    nodes : ndarray, int64
        Nodes of all faces, in order round each.
    """

    cells: NDArray[np.int64]
    offsets: NDArray[np.int64]
    nodes: NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Added:
    """Points made of others: point n is the weighted sum of nodes[offsets[n]:offsets[n + 1]]."""

    offsets: NDArray[np.int64]
    nodes: NDArray[np.int64]
    weights: NDArray[np.float64]

    def values(self, own: NDArray[Any]) -> NDArray[Any]:
        """Values at the added points of an array (nodes,) or (nodes, c) at the others."""
        columns = own[:, None] if own.ndim == 1 else own
        parts = [np.add.reduceat(columns[self.nodes, c] * self.weights, self.offsets[:-1]) for c in range(columns.shape[1])]
        out = np.column_stack(parts).astype(own.dtype)
        return out[:, 0] if own.ndim == 1 else out


@dataclass(frozen=True, eq=False)
class Cut:
    """Parts (kind, own corners, the file's cell) and the middles that were added."""

    parts: list[tuple[int, NDArray[np.int64], NDArray[np.int64]]]
    centres: Added


def check_faces(faces: Faces, n_cells: int, n_points: int, where: str) -> None:
    """Make sure that faces refer to what is there.

    Raises
    ------
    FileError
        They do not.
    """
    sizes = np.diff(faces.offsets)
    wrong = (len(faces.offsets) != len(faces.cells) + 1 or faces.offsets[0] != 0 or faces.offsets[-1] != len(faces.nodes)
             or (len(sizes) and (sizes.min() < 3 or sizes.max() > _MOST_CORNERS))
             or (len(faces.nodes) and (faces.nodes.min() < 0 or faces.nodes.max() >= n_points))
             or (len(faces.cells) and (faces.cells.min() < 0 or faces.cells.max() >= n_cells)))
    if wrong:
        raise FileError("The faces of its polyhedra make no sense.", where, _DAMAGED)


def cut(faces: Faces, chosen: NDArray[np.int64], points: NDArray[np.float64], first_added: int) -> Cut:
    """Cut polyhedra; those that are tetrahedra, pyramids, wedges or hexahedra are told as such.

    Parameters
    ----------
    faces : Faces
        Faces of all polyhedra of a block.
    chosen : ndarray, shape (m,), int64
        The cells to cut.
    points : ndarray, shape (n, 3)
        The block's points.
    first_added : int
        Number that the first added point will have.
    """
    order = np.argsort(faces.cells, kind="stable")
    slot = np.full(int(max(chosen.max(initial=-1), faces.cells.max(initial=-1))) + 2, -1, np.int64)
    slot[chosen] = np.arange(len(chosen))
    order = order[slot[faces.cells[order]] >= 0]
    owner, sizes = slot[faces.cells[order]], np.diff(faces.offsets)[order]
    counts = np.bincount(owner, minlength=len(chosen))
    triangles = np.bincount(owner, sizes == 3, minlength=len(chosen)).astype(np.int64)
    quads = np.bincount(owner, sizes == 4, minlength=len(chosen)).astype(np.int64)
    firsts = np.concatenate([[0], np.cumsum(counts)])
    parts: list[tuple[int, NDArray[np.int64], NDArray[np.int64]]] = []
    plain = np.zeros(len(chosen), dtype=bool)
    makers = ((TETRA, 4, 0, _tetrahedra), (PYRAMID, 4, 1, _pyramids), (WEDGE, 2, 3, _wedges), (HEXAHEDRON, 0, 6, _hexahedra))
    for kind, t, q, make in makers:
        like = np.flatnonzero((triangles == t) & (quads == q) & (counts == t + q))
        if len(like) == 0:
            continue
        own = _table(faces, order, firsts, like, t, q)
        corners, good = make(*own)
        parts.append((kind, _turned(kind, corners[good], points), chosen[like[good]]))
        plain[like[good]] = True
    rest = np.flatnonzero(~plain & (counts > 3))
    rank = np.full(len(chosen), -1, np.int64)
    rank[rest] = np.arange(len(rest))
    mine = rank[owner] >= 0
    middles = _centres(faces, order[mine], rank[owner[mine]], len(rest))
    if len(rest):
        more = _about_middle(faces, order[mine], rank[owner[mine]], points, middles.values(points), first_added)
        parts.extend((kind, corners, chosen[rest[whose]]) for kind, corners, whose in more)
    return Cut(parts, middles)


def _table(faces: Faces, order: NDArray[np.int64], firsts: NDArray[np.int64], like: NDArray[np.int64], t: int,
           q: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Triangles (m, t, 3) and quadrilaterals (m, q, 4) of cells that have as many."""
    numbers = order[firsts[like][:, None] + np.arange(t + q)]
    sizes = faces.offsets[numbers + 1] - faces.offsets[numbers]
    ranked = np.take_along_axis(numbers, np.argsort(sizes, axis=1, kind="stable"), axis=1)
    begin = faces.offsets[ranked]
    return faces.nodes[begin[:, :t, None] + np.arange(3)], faces.nodes[begin[:, t:, None] + np.arange(4)]


def _tetrahedra(triangles: NDArray[np.int64], _quads: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    base = triangles[:, 0]
    apex, good = _other(triangles[:, 1:].reshape(len(base), -1), base)
    return np.column_stack([base, apex]), good


def _pyramids(triangles: NDArray[np.int64], quads: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    base = quads[:, 0]
    apex, good = _other(triangles.reshape(len(base), -1), base)
    return np.column_stack([base, apex]), good


def _other(nodes: NDArray[np.int64], base: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """The one node of some faces that is not in the base, and whether there is just one."""
    strange = (nodes[:, :, None] != base[:, None, :]).all(axis=2)
    apex = np.take_along_axis(nodes, strange.argmax(axis=1)[:, None], axis=1)[:, 0]
    return apex, strange.any(axis=1) & ((nodes == apex[:, None]) | ~strange).all(axis=1)


def _wedges(triangles: NDArray[np.int64], quads: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    base = triangles[:, 0]
    tops, good = _above(base, quads)
    good &= (np.sort(tops, axis=1) == np.sort(triangles[:, 1], axis=1)).all(axis=1)
    return np.concatenate([base, tops], axis=1), good


def _hexahedra(_triangles: NDArray[np.int64], quads: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    base = quads[:, 0]
    tops, good = _above(base, quads[:, 1:])
    is_lid = (np.sort(quads[:, 1:], axis=2) == np.sort(tops, axis=1)[:, None, :]).all(axis=2).any(axis=1)
    return np.concatenate([base, tops], axis=1), good & is_lid


def _above(base: NDArray[np.int64], quads: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """For each corner of a base the node that a side face joins it to, and whether that made sense."""
    n = base.shape[1]
    tops, good = np.empty_like(base), np.ones(len(base), dtype=bool)
    rows = np.arange(len(base))
    for i in range(n):
        a, b = base[:, i], base[:, (i + 1) % n]
        side = (quads == a[:, None, None]).any(axis=2) & (quads == b[:, None, None]).any(axis=2)
        good &= side.sum(axis=1) == 1
        face = quads[rows, side.argmax(axis=1)]
        at = (face == a[:, None]).argmax(axis=1)
        nxt, last = face[rows, (at + 1) % 4], face[rows, (at - 1) % 4]
        good &= (nxt == b) | (last == b)
        tops[:, i] = np.where(nxt == b, last, nxt)
    ranked = np.sort(np.concatenate([base, tops], axis=1), axis=1)
    return tops, good & (ranked[:, 1:] != ranked[:, :-1]).all(axis=1)


def _turned(kind: int, corners: NDArray[np.int64], points: NDArray[np.float64]) -> NDArray[np.int64]:
    """Cells with their base towards the inside, whatever way the file's faces run."""
    n = {TETRA: 3, PYRAMID: 4, WEDGE: 3, HEXAHEDRON: 4}[kind]
    base = points[corners[:, :n]]
    normal = np.cross(base[:, 1] - base[:, 0], base[:, 2] - base[:, 0])
    inward = points[corners[:, n:]].mean(axis=1) - base.mean(axis=1)
    flip = (normal * inward).sum(axis=1) < 0.0
    order = np.concatenate([np.arange(n)[::-1], (n + np.arange(corners.shape[1] - n))[::-1]])
    return np.where(flip[:, None], corners[:, order], corners)


_Parts = list[tuple[int, NDArray[np.int64], NDArray[np.int64]]]


def _about_middle(faces: Faces, order: NDArray[np.int64], cell: NDArray[np.int64], points: NDArray[np.float64],
                  middles: NDArray[np.float64], first_added: int) -> _Parts:
    """A pyramid on each quadrilateral, a fan of tetrahedra on each other face."""
    parts: _Parts = []
    sizes = np.diff(faces.offsets)[order]
    for size in (int(s) for s in distinct(sizes)):
        some = sizes == size
        own, at = faces.nodes[faces.offsets[order[some]][:, None] + np.arange(size)], cell[some]
        own = _facing(own, at, points, middles)
        apex = first_added + at[:, None]
        if size == 4:
            parts.append((PYRAMID, np.hstack([own, apex]), at))
            continue
        least = _first_of_fan(own, points)
        own = np.take_along_axis(own, (least[:, None] + np.arange(size)) % size, axis=1)
        parts.extend((TETRA, np.column_stack([own[:, 0], own[:, n], own[:, n + 1], apex[:, 0]]), at) for n in range(1, size - 1))
    return parts


def _first_of_fan(own: NDArray[np.int64], points: NDArray[np.float64]) -> NDArray[np.int64]:
    """Where each polygon's fan begins: at a node in the middle of a straight side, as a fan from its end would have a flat part."""
    p = points[own]
    before, after = np.roll(p, 1, axis=1) - p, np.roll(p, -1, axis=1) - p
    across = np.linalg.norm(np.cross(before, after), axis=2)
    straight = (across <= 1e-6 * np.abs((before * after).sum(axis=2))) & ((before * after).sum(axis=2) < 0.0)
    some = straight.any(axis=1)
    return np.asarray(np.where(straight | ~some[:, None], own, np.iinfo(np.int64).max).argmin(axis=1))


def _centres(faces: Faces, order: NDArray[np.int64], cell: NDArray[np.int64], count: int) -> Added:
    """The mean of each cell's nodes, each node counted once."""
    sizes = np.diff(faces.offsets)[order]
    starts = np.repeat(faces.offsets[order], sizes)
    within = np.arange(int(sizes.sum())) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    pairs = np.column_stack([np.repeat(cell, sizes), faces.nodes[starts + within]])
    pairs = np.unique(pairs, axis=0) if len(pairs) else pairs
    many = np.bincount(pairs[:, 0], minlength=count)
    return Added(np.concatenate([[0], np.cumsum(many)]).astype(np.int64), pairs[:, 1], 1.0 / many[pairs[:, 0]])


def _facing(own: NDArray[np.int64], cell: NDArray[np.int64], points: NDArray[np.float64],
            middles: NDArray[np.float64]) -> NDArray[np.int64]:
    """Faces turned so that their normals point to their cell's middle."""
    corners = points[own]
    normal = np.zeros((len(own), 3))
    for n in range(1, own.shape[1] - 1):
        normal += np.cross(corners[:, n] - corners[:, 0], corners[:, n + 1] - corners[:, 0])
    outward = (normal * (middles[cell] - corners.mean(axis=1))).sum(axis=1) < 0.0
    return np.where(outward[:, None], own[:, ::-1], own)
