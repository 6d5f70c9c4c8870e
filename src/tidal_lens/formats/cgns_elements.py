"""Element sections of unstructured CGNS zones: cells of all kinds, polyhedra by their faces, and surfaces.

Numbering of elements and of their nodes: CGNS, standard interface data structures, conventions for unstructured elements (cgns.org).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.errors import FileError
from tidal_lens.flow.case import BoundaryKind
from tidal_lens.flow.faces import outer_faces
from tidal_lens.formats.cells import FLAT, SKIPPED, Cells, flat_cells
from tidal_lens.formats.cgns_tree import Tree
from tidal_lens.formats.content import Sheet, Solid
from tidal_lens.formats.hdf5 import DAMAGED
from tidal_lens.formats.polyhedra import Faces
from tidal_lens.work import checkpoint

MIXED, NGON, NFACE = 20, 22, 23
_FIRST_BY_CORNERS = {25: (5, 9, 3), 26: (5, 10, 3), 27: (9, 12, 4), 28: (9, 16, 4), 29: (10, 16, 4), 30: (10, 20, 4), 31: (14, 21, 5),
                     32: (14, 29, 5), 33: (14, 30, 5), 34: (13, 24, 6), 35: (13, 38, 6), 36: (13, 40, 6), 37: (12, 32, 8),
                     38: (12, 56, 8), 39: (12, 64, 8)}
_HEXA20 = (*range(12), 16, 17, 18, 19, 12, 13, 14, 15)
_PENTA15 = (*range(9), 12, 13, 14, 9, 10, 11)
# Element kind of the standard: our cell type, nodes of the element, and which of them in our order.
ELEMENTS: dict[int, tuple[int, int, tuple[int, ...]]] = {
    2: (1, 1, (0,)), 3: (3, 2, (0, 1)), 4: (3, 3, (0, 1)), 24: (3, 4, (0, 1)),
    5: (5, 3, (0, 1, 2)), 6: (22, 6, tuple(range(6))), 7: (9, 4, (0, 1, 2, 3)), 8: (23, 8, tuple(range(8))), 9: (28, 9, tuple(range(9))),
    10: (10, 4, (0, 1, 2, 3)), 11: (24, 10, tuple(range(10))), 12: (14, 5, tuple(range(5))), 21: (27, 13, tuple(range(13))),
    13: (74, 14, tuple(range(14))), 14: (13, 6, tuple(range(6))), 15: (26, 15, _PENTA15), 16: (32, 18, (*_PENTA15, 15, 16, 17)),
    17: (12, 8, tuple(range(8))), 18: (25, 20, _HEXA20), 19: (29, 27, (*_HEXA20, 24, 22, 21, 23, 20, 25, 26)),
    **{kind: (ours, size, tuple(range(corners))) for kind, (ours, size, corners) in _FIRST_BY_CORNERS.items()},
}


_BARS: dict[int, tuple[tuple[int, int], ...]] = {3: ((0, 1),), 21: ((0, 2), (2, 1)), 35: ((0, 2), (2, 3), (3, 1))}


@dataclass(frozen=True, eq=False)
class Section:
    """Elements that stand together.

    Attributes
    ----------
    name : str
        Name of the section.
    first : int
        Number of its first element, from 1.
    kind : int
        Element kind.
    types, offsets, nodes : ndarray
        Cells in our terms, nodes counted from 0; of faces and polyhedra the lists as they are.
    """

    name: str
    first: int
    kind: int
    types: NDArray[np.uint8]
    offsets: NDArray[np.int64]
    nodes: NDArray[np.int64]
    parents: NDArray[np.int64] | None = None

    @property
    def count(self) -> int:
        """Number of elements."""
        return len(self.offsets) - 1


def read_sections(tree: Tree, zone: Any, n_points: int, where: str) -> list[Section]:
    """All element sections of a zone, in the order of their numbers.

    Raises
    ------
    FileError
        One contradicts itself or refers to what is not there.
    """
    found = [_section(tree, name, node, n_points, f"{where}, {name}") for name, node in tree.children(zone, "Elements_t")]
    if not found:
        raise FileError("There are no elements in it.", where, DAMAGED)
    return sorted(found, key=lambda s: s.first)


def _section(tree: Tree, name: str, node: Any, n_points: int, where: str) -> Section:
    kind = tree.integers(node)[0]
    span = tree.first(node, "IndexRange_t")
    ends = tree.integers(span) if span is not None else []
    if len(ends) != 2 or not 1 <= ends[0] <= ends[1]:
        raise FileError("The range of its elements makes no sense.", where, DAMAGED)
    count = ends[1] - ends[0] + 1
    arrays = dict(tree.children(node, "DataArray_t"))
    if "ElementConnectivity" not in arrays:
        raise FileError("There is no ElementConnectivity.", where, DAMAGED)
    listed = tree.numbers(arrays["ElementConnectivity"]).ravel()
    if listed.dtype.kind not in "iu":
        raise FileError("Its connectivity is not of whole numbers.", where, DAMAGED)
    checkpoint()
    listed = listed.astype(np.int64)
    offsets = tree.numbers(arrays["ElementStartOffset"]).ravel().astype(np.int64) if "ElementStartOffset" in arrays else None
    if kind in (NGON, NFACE):
        begin, nodes = _counted(listed, offsets, count, where)
        parents = tree.numbers(arrays["ParentElements"]) if "ParentElements" in arrays and kind == NGON else None
        if kind == NGON:
            _check_nodes(nodes, n_points, where)
            nodes = nodes - 1
        return Section(name, ends[0], kind, np.full(count, 7 if kind == NGON else 42, np.uint8), begin, nodes,
                       _checked_parents(parents, count, where))
    types, begin, nodes = _mixed(listed, offsets, count, where) if kind == MIXED else _plain(listed, kind, count, where)
    _check_nodes(nodes, n_points, where)
    return Section(name, ends[0], kind, types, begin, nodes - 1)


def _check_nodes(nodes: NDArray[np.int64], n_points: int, where: str) -> None:
    if len(nodes) and (nodes.min() < 1 or nodes.max() > n_points):
        raise FileError(f"Elements refer to point {int(nodes.max()):,}, but there are {n_points:,} points.", where, DAMAGED)


def _checked_parents(parents: NDArray[Any] | None, count: int, where: str) -> NDArray[np.int64] | None:
    if parents is None:
        return None
    flat = parents.astype(np.int64)
    if flat.size != 2 * count:
        raise FileError("The parents of its faces make no sense.", where, DAMAGED)
    return flat.reshape(2, count).T


def _plain(listed: NDArray[np.int64], kind: int, count: int, where: str) -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.int64]]:
    if kind not in ELEMENTS:
        raise FileError(f"Elements of type {kind} are not read.", where, "Write it with linear or quadratic elements.")
    ours, size, order = ELEMENTS[kind]
    if len(listed) != count * size:
        raise FileError(f"{len(listed):,} nodes are listed where {count * size:,} belong.", where, DAMAGED)
    table = listed.reshape(count, size)[:, list(order)]
    return np.full(count, ours, np.uint8), np.arange(count + 1, dtype=np.int64) * len(order), table.ravel()


def _counted(listed: NDArray[np.int64], offsets: NDArray[np.int64] | None, count: int,
             where: str) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Lists of faces or cells with offsets, or, as older files have them, each behind its length."""
    if offsets is None:
        starts = np.empty(count + 1, np.int64)
        at = 0
        for n in range(count):
            starts[n] = at
            if at >= len(listed) or listed[at] < 0:
                raise FileError("The list of its faces ends too soon.", where, DAMAGED)
            at += 1 + int(listed[at])
        starts[count] = at
        if at != len(listed):
            raise FileError("The list of its faces makes no sense.", where, DAMAGED)
        keep = np.ones(len(listed), dtype=bool)
        keep[starts[:-1]] = False
        return starts - np.arange(count + 1), listed[keep]
    if len(offsets) != count + 1 or offsets[0] != 0 or offsets[-1] != len(listed) or (np.diff(offsets) < 0).any():
        raise FileError("The offsets of its elements make no sense.", where, DAMAGED)
    return offsets, listed


def _walked(listed: NDArray[np.int64], count: int) -> NDArray[np.int64] | None:
    """Where each element of a mixed list begins, found from one to the next; None where the list makes no sense."""
    sizes = {kind: e[1] for kind, e in ELEMENTS.items()}
    starts = np.empty(count + 1, np.int64)
    at = 0
    flat = listed.tolist()
    for n in range(count):
        size = sizes.get(flat[at]) if at < len(flat) else None
        if size is None:
            return None
        starts[n] = at
        at += 1 + size
    starts[count] = at
    return starts


def _mixed(listed: NDArray[np.int64], ends: NDArray[np.int64] | None, count: int,
           where: str) -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.int64]]:
    """A list in which each element's kind stands before its nodes."""
    begins = _walked(listed, count) if ends is None else ends
    if begins is None or len(begins) != count + 1 or begins[0] != 0 or begins[-1] != len(listed) or (np.diff(begins) < 1).any():
        raise FileError("Its list of mixed elements makes no sense.", where, DAMAGED)
    starts, kinds = begins[:-1], listed[begins[:-1]]
    known = np.zeros(256, np.int64)
    known[list(ELEMENTS)] = [e[1] for e in ELEMENTS.values()]
    if len(kinds) and (kinds.min() < 0 or kinds.max() > 255 or (np.diff(begins) != known[kinds] + 1).any()):
        raise FileError("Its list of mixed elements makes no sense.", where, DAMAGED)
    lengths = np.array([len(ELEMENTS[int(k)][2]) for k in kinds], np.int64)
    offsets = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    nodes = np.empty(int(offsets[-1]), np.int64)
    types = np.empty(count, np.uint8)
    for kind in distinct(kinds):
        ours, _, order = ELEMENTS[int(kind)]
        some = np.flatnonzero(kinds == kind)
        types[some] = ours
        nodes[offsets[some][:, None] + np.arange(len(order))] = listed[starts[some][:, None] + 1 + np.array(order)]
    return types, offsets, nodes


def is_volume(types: NDArray[Any]) -> NDArray[np.bool_]:
    """Which cells are three-dimensional."""
    return ~np.isin(types, [*FLAT, *SKIPPED])


def is_face(types: NDArray[Any]) -> NDArray[np.bool_]:
    """Which cells are two-dimensional."""
    return np.isin(types, [*FLAT])


def cells_of(sections: list[Section]) -> tuple[Cells, NDArray[np.int64]]:
    """All elements but single polygons as cells, and the number of each."""
    polygons = [s for s in sections if s.kind == NGON]
    solids = [s for s in sections if s.kind == NFACE]
    plain = [s for s in sections if s.kind not in (NGON, NFACE)]
    types = [s.types for s in plain]
    nodes = [s.nodes for s in plain]
    sizes = [np.diff(s.offsets) for s in plain]
    numbers = [s.first + np.arange(s.count) for s in plain]
    faces: Faces | None = None
    if polygons:
        before = sum(s.count for s in plain)
        faces, count, first = _polyhedra(polygons, solids, before)
        if count:
            types.append(np.full(count, 42, np.uint8))
            sizes.append(np.zeros(count, np.int64))
            numbers.append(first + np.arange(count))
        else:  # a plane flow of polygons
            for s in polygons:
                types.append(s.types)
                nodes.append(s.nodes)
                sizes.append(np.diff(s.offsets))
                numbers.append(s.first + np.arange(s.count))
    offsets = np.concatenate([[0], np.cumsum(np.concatenate(sizes))]) if sizes else np.zeros(1, np.int64)
    return (Cells(np.concatenate(types), offsets.astype(np.int64), np.concatenate([np.empty(0, np.int64), *nodes]), faces),
            np.concatenate(numbers).astype(np.int64))


def _polyhedra(polygons: list[Section], solids: list[Section], before: int) -> tuple[Faces | None, int, int]:
    """Faces of all polyhedra, how many polyhedra there are, and the number of the first."""
    sizes = np.concatenate([np.diff(s.offsets) for s in polygons])
    starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    nodes = np.concatenate([s.nodes for s in polygons])
    numbers = np.concatenate([s.first + np.arange(s.count) for s in polygons])
    if solids:
        owner = np.concatenate([np.repeat(np.arange(s.count) + sum(t.count for t in solids[:n]), np.diff(s.offsets))
                                for n, s in enumerate(solids)])
        wanted = np.abs(np.concatenate([s.nodes for s in solids]))
        count, first = sum(s.count for s in solids), solids[0].first
    else:
        parents = [s.parents for s in polygons]
        if any(p is None for p in parents) or not max(int(p.max(initial=0)) for p in parents if p is not None):
            return None, 0, 0
        table = np.concatenate([p for p in parents if p is not None])
        first = int(table[table > 0].min())
        count = int(table.max()) - first + 1
        face, side = np.nonzero(table > 0)
        owner, wanted = table[face, side] - first, numbers[face]
        if count > len(owner):
            raise FileError("The parents of its faces make no sense.", polygons[0].name, DAMAGED)
    order = np.argsort(numbers)
    at = np.minimum(np.searchsorted(numbers[order], wanted), len(numbers) - 1)
    chosen = order[at]
    if (numbers[chosen] != wanted).any():
        raise FileError("Its polyhedra refer to faces that are not there.", polygons[0].name, DAMAGED)
    lengths = sizes[chosen]
    begin = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    places = np.arange(begin[-1]) - np.repeat(begin[:-1], lengths) + np.repeat(starts[chosen], lengths)
    return Faces(owner + before, begin, nodes[places]), count, first


class Surfaces:
    """Surfaces of a zone that boundary conditions name, by elements or by nodes.

    Parameters
    ----------
    sections : list of Section
        All sections.
    cells, numbers
        All elements and their numbers.
    points : ndarray, shape (n, 3)
        Points of the zone.
    solid : Solid
        The zone's block.
    """

    def __init__(self, sections: list[Section], cells: Cells, numbers: NDArray[np.int64], points: NDArray[np.float64],
                 solid: Solid) -> None:
        self._sections, self._points, self._solid = sections, points, solid
        polygons = [s for s in sections if s.kind == NGON]
        flat = is_face(cells.types)
        self._faces, parents = flat_cells(cells, flat, "faces")
        self._numbers = numbers[parents]
        for s in polygons:
            own, rows = flat_cells(Cells(s.types, s.offsets, s.nodes), np.ones(s.count, dtype=bool), "faces")
            self._faces = np.concatenate([self._faces, own])
            self._numbers = np.concatenate([self._numbers, s.first + rows])

    def of_elements(self, numbers: NDArray[np.int64], kind: BoundaryKind | None, used: set[int]) -> Sheet | None:
        """The faces of some elements; sections that they are from count as used."""
        own = np.isin(self._numbers, numbers)
        for n, s in enumerate(self._sections):
            if ((numbers >= s.first) & (numbers < s.first + s.count)).any():
                used.add(n)
        return self._sheet(self._faces[own], kind, numbers=self._numbers[own])

    def of_nodes(self, numbers: NDArray[np.int64], kind: BoundaryKind | None) -> Sheet | None:
        """Faces all of whose corners are among some nodes."""
        chosen = np.zeros(len(self._points) + 1, dtype=bool)
        chosen[numbers[(numbers >= 1) & (numbers <= len(self._points))] - 1] = True
        if len(self._faces):
            own = chosen[self._faces].all(axis=1)
            if own.any():
                return self._sheet(self._faces[own], kind, numbers=self._numbers[own])
        # No surface elements: outer faces of the block, whose points are told by their place.
        from scipy.spatial import cKDTree

        outer = outer_faces(self._solid.grid)
        if not chosen.any():
            return None
        distance, _ = cKDTree(self._points[chosen[:-1]]).query(self._solid.points[distinct(outer)])
        near = np.zeros(len(self._solid.points), dtype=bool)
        near[np.unique(outer)] = np.asarray(distance) <= 1e-9 * float(np.ptp(self._points, axis=0).max())
        return self._sheet(outer[near[outer].all(axis=1)], kind, self._solid.points)

    def unnamed(self, used: set[int]) -> Iterator[tuple[str, Sheet]]:
        """Sections of surface elements that no condition names."""
        for n, s in enumerate(self._sections):
            if n not in used and s.kind not in (NGON, NFACE) and s.count and is_face(s.types).all():
                own = (self._numbers >= s.first) & (self._numbers < s.first + s.count)
                sheet = self._sheet(self._faces[own], None, numbers=self._numbers[own])
                if sheet is not None:
                    yield s.name, sheet

    def _sheet(self, faces: NDArray[np.int64], kind: BoundaryKind | None, points: NDArray[np.float64] | None = None,
               numbers: NDArray[np.int64] | None = None) -> Sheet | None:
        if len(faces) == 0:
            return None
        nodes, compact = np.unique(faces, return_inverse=True)
        polygons = None
        if numbers is not None:
            own, polygons = np.unique(numbers, return_inverse=True)
            polygons = polygons if len(own) < len(numbers) else None
        return Sheet((self._points if points is None else points)[nodes], compact.reshape(faces.shape).astype(np.int64), kind=kind,
                     polygons=polygons)


_MOST = 1 << 26


def span(first: int, last: int) -> NDArray[np.int64]:
    """Numbers from one to another."""
    return np.arange(max(first, 1), min(last, first + _MOST) + 1)


class Curves:
    """Curves of a plane zone that boundary conditions name, by elements or by nodes.

    Parameters
    ----------
    sections : list of Section
        All sections.
    faces : ndarray, shape (m, 4)
        The zone's cells, a triangle with its last corner repeated.
    """

    def __init__(self, sections: list[Section], faces: NDArray[np.int64]) -> None:
        self._faces = faces
        edges, numbers = [np.empty((0, 2), np.int64)], [np.empty(0, np.int64)]
        self._sections: list[tuple[str, int, int]] = []
        for s in sections:
            for kind, parts in _BARS.items():
                some = np.flatnonzero(s.types == kind)
                if len(some) == 0:
                    continue
                self._sections.append((s.name, s.first, s.first + s.count))
                own = s.nodes[s.offsets[some][:, None] + np.arange(max(max(p) for p in parts) + 1)]
                for a, b in parts:
                    edges.append(own[:, [a, b]])
                    numbers.append(s.first + some)
        self._edges, self._numbers = np.concatenate(edges), np.concatenate(numbers)
        self._used = np.zeros(len(self._edges), dtype=bool)

    def of_elements(self, numbers: NDArray[np.int64]) -> NDArray[np.int64]:
        """Edges (k, 2) of some elements."""
        own = np.isin(self._numbers, numbers)
        self._used |= own
        return np.asarray(self._edges[own])

    def of_nodes(self, numbers: NDArray[np.int64]) -> NDArray[np.int64]:
        """Edges (k, 2) of one cell only, both of whose ends are among some nodes, counted from 1."""
        ends = np.sort(np.stack([self._faces, np.roll(self._faces, -1, axis=1)], axis=-1).reshape(-1, 2), axis=1)
        ends = ends[ends[:, 0] != ends[:, 1]]
        known, counts = np.unique(ends, axis=0, return_counts=True)
        outer = known[counts == 1]
        chosen = np.isin(outer, numbers - 1).all(axis=1)
        self._used |= np.isin(self._edges, numbers - 1).all(axis=1)
        return np.asarray(outer[chosen])

    def unnamed(self) -> Iterator[tuple[str, NDArray[np.int64]]]:
        """Sections of edges that no condition names."""
        for name, first, last in self._sections:
            own = (self._numbers >= first) & (self._numbers < last)
            if own.any() and not self._used[own].any():
                yield name, self._edges[own]
