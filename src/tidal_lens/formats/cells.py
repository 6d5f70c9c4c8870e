"""From cells of any kind, as files list them, to the four linear kinds that the flow is made of.

Cell types carry the numbers of the VTK file formats, which are open and which all readers can map to. Polyhedra are cut round
their middle, higher-order cells between their own nodes; each linear cell knows the file's cell that it came from.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.errors import FileError
from tidal_lens.flow.grid import COLLAPSE, HEXAHEDRON, OWN_CORNERS
from tidal_lens.formats import higher_order, polyhedra
from tidal_lens.work import checkpoint

VERTEX, LINE, TRIANGLE, STRIP, POLYGON, PIXEL, QUAD, VOXEL, POLYHEDRON = 1, 3, 5, 6, 7, 8, 9, 11, 42
SKIPPED = frozenset({0, 1, 2, 3, 4, 21, 35, 68, 75})  # nothing, vertices and lines
FLAT = frozenset({5, 6, 7, 8, 9, 22, 23, 28, 30, 34, 36, 69, 70})
_VOXEL_ORDER = (0, 1, 3, 2, 4, 5, 7, 6)
# Corners of flat cells with a fixed number of them; those of higher order are cut.
_FLAT_CUTS: dict[int, tuple[int, tuple[tuple[int, ...], ...]]] = {
    TRIANGLE: (3, ((0, 1, 2, 2),)), PIXEL: (4, ((0, 1, 3, 2),)), QUAD: (4, ((0, 1, 2, 3),)),
    22: (6, ((0, 3, 5, 5), (3, 1, 4, 4), (5, 4, 2, 2), (3, 4, 5, 5))),
    34: (7, ((0, 3, 6, 5), (1, 4, 6, 3), (2, 5, 6, 4))),
    23: (8, ((0, 4, 7, 7), (4, 1, 5, 5), (5, 2, 6, 6), (7, 6, 3, 3), (4, 5, 6, 7))),
    28: (9, ((0, 4, 8, 7), (4, 1, 5, 8), (8, 5, 2, 6), (7, 8, 6, 3))),
    30: (6, ((0, 4, 5, 3), (4, 1, 2, 5))),
}
_DAMAGED = "Write it again from the solver."


@dataclass(eq=False)
class Cells:
    """Cells as a file lists them.

    Attributes
    ----------
    types : ndarray, shape (m,), int
        Cell types.
    offsets : ndarray, shape (m + 1,), int64
        Where each cell's nodes begin.
    nodes : ndarray, int
        Nodes of all cells; those of polyhedra are not used.
    faces : Faces or None
        Faces of the polyhedra among them.
    """

    types: NDArray[Any]
    offsets: NDArray[np.int64]
    nodes: NDArray[Any]
    faces: polyhedra.Faces | None = None

    def drop(self) -> None:
        """Let go of the long lists: they are as large as the mesh itself."""
        self.offsets, self.nodes, self.faces = np.zeros(1, np.int64), np.empty(0, np.int64), None


@dataclass(frozen=True, eq=False)
class Linear:
    """Linear cells of a block.

    Attributes
    ----------
    corners : ndarray, shape (n, 8), int32
        Corners as collapsed hexahedra.
    types : ndarray, shape (n,), uint8
        Of the four linear kinds.
    parents : ndarray, shape (n,), int64
        Number of the file's cell that each came from.
    added : list of Added
        Points that the cutting added, in order, after the file's own.
    origin : str
        What was cut, in words; empty where nothing was.
    """

    corners: NDArray[np.int32]
    types: NDArray[np.uint8]
    parents: NDArray[np.int64]
    added: list[polyhedra.Added]
    origin: str


def uniform(kind: int, nodes: NDArray[Any]) -> Cells:
    """Cells of one kind from a table of their nodes, shape (m, nodes a cell)."""
    m, size = nodes.shape
    return Cells(np.full(m, kind, np.uint8), np.arange(m + 1, dtype=np.int64) * size, nodes.ravel())


def check_cells(cells: Cells, n_points: int, where: str) -> None:
    """Make sure that a list of cells does not contradict itself.

    Raises
    ------
    FileError
        Offsets or node numbers make no sense.
    """
    offsets, nodes = cells.offsets, cells.nodes
    if n_points > np.iinfo(np.int32).max:
        raise FileError(f"A block of {n_points:,} points is too large.", where, "Write it in several pieces.")
    if len(offsets) != len(cells.types) + 1 or offsets[0] != 0 or offsets[-1] != len(nodes) or (np.diff(offsets) < 0).any():
        raise FileError("The list of cells contradicts itself (offsets).", where, _DAMAGED)
    if len(nodes) and (nodes.min() < 0 or nodes.max() >= n_points):
        raise FileError(f"Cells refer to point {int(nodes.max() if nodes.max() >= n_points else nodes.min()):,}, but there are "
                        f"{n_points:,} points.", where, _DAMAGED)


def linear_cells(cells: Cells, keep: NDArray[np.bool_], points: NDArray[np.float64], where: str) -> Linear | None:
    """The three-dimensional cells, cut into linear ones.

    Parameters
    ----------
    cells : Cells
        Checked cells.
    keep : ndarray, shape (m,), bool
        Which of them to take.
    points : ndarray, shape (n, 3)
        The block's points.
    where : str
        For messages.

    Returns
    -------
    Linear or None
        None where there are none.

    Raises
    ------
    FileError
        A cell has another number of nodes than its kind, or is of no known kind.
    """
    checkpoint()
    kinds = distinct(cells.types[keep])
    _refuse_strange(kinds, where)
    made = _Maker(len(points))
    for kind in (int(k) for k in kinds):
        if kind in SKIPPED or kind in FLAT:
            continue
        checkpoint()
        chosen = np.flatnonzero((cells.types == kind) & keep)
        if kind in OWN_CORNERS or kind == VOXEL:
            size, order = (8, _VOXEL_ORDER) if kind == VOXEL else (len(OWN_CORNERS[kind]), COLLAPSE[kind])
            own = gather(cells, chosen, size, where)
            made.add(own if order == tuple(range(size)) else own[:, order], HEXAHEDRON if kind == VOXEL else kind, chosen)
        elif kind == POLYHEDRON:
            made.cut_polyhedra(cells, chosen, points, where)
        else:
            made.cut_higher(cells, chosen, kind, where)
    return made.done()


def _refuse_strange(kinds: NDArray[Any], where: str) -> None:
    strange = [int(k) for k in kinds if int(k) not in {*SKIPPED, *FLAT, *OWN_CORNERS, VOXEL, POLYHEDRON, *higher_order.KINDS}]
    if strange:
        raise FileError(f"It holds cells of type {', '.join(map(str, strange))}, which are not read.", where,
                        "Write it with tetrahedra, pyramids, wedges, hexahedra or polyhedra.")


def gather(cells: Cells, chosen: NDArray[np.int64], size: int, where: str) -> NDArray[Any]:
    """Nodes of some cells that all have as many, shape (chosen, size)."""
    begin = cells.offsets[chosen]
    if (cells.offsets[chosen + 1] - begin != size).any():
        raise FileError(f"Some cells of type {int(cells.types[chosen[0]])} do not have {size} nodes.", where, _DAMAGED)
    if len(chosen) == len(cells.types):
        return cells.nodes.reshape(-1, size)
    return np.asarray(cells.nodes[begin[:, None] + np.arange(size)])


class _Maker:
    """Collects linear cells; in the file's order where nothing was cut."""

    def __init__(self, n_points: int) -> None:
        self.n_points = n_points
        self.corners: list[NDArray[np.int32]] = []
        self.types: list[NDArray[np.uint8]] = []
        self.parents: list[NDArray[np.int64]] = []
        self.added: list[polyhedra.Added] = []
        self.cut: list[str] = []

    def add(self, corners: NDArray[Any], kind: int, parents: NDArray[np.int64]) -> None:
        """Take cells of one linear kind."""
        if len(corners):
            self.corners.append(corners.astype(np.int32))
            self.types.append(np.full(len(corners), kind, np.uint8))
            self.parents.append(parents)

    def add_points(self, more: polyhedra.Added) -> None:
        """Take points that a cut needs."""
        self.added.append(more)
        self.n_points += len(more.offsets) - 1

    def cut_polyhedra(self, cells: Cells, chosen: NDArray[np.int64], points: NDArray[np.float64], where: str) -> None:
        """Cut polyhedra; those that are one of the linear kinds stay whole."""
        if cells.faces is None:
            raise FileError("Its polyhedra have no faces.", where, _DAMAGED)
        polyhedra.check_faces(cells.faces, len(cells.types), len(points), where)
        found = polyhedra.cut(cells.faces, chosen, points, self.n_points)
        for kind, corners, parents in found.parts:
            self.add(corners[:, COLLAPSE[kind]], kind, parents)
        if len(found.centres.offsets) > 1:
            self.add_points(found.centres)
            self.cut.append(f"{len(found.centres.offsets) - 1:,} polyhedra")

    def cut_higher(self, cells: Cells, chosen: NDArray[np.int64], kind: int, where: str) -> None:
        """Cut cells of higher order between their nodes."""
        sizes = cells.offsets[chosen + 1] - cells.offsets[chosen]
        for size in distinct(sizes):
            some = chosen[sizes == size]
            pattern = higher_order.pattern_of(kind, int(size), where)
            nodes, more = higher_order.completed(gather(cells, some, int(size), where), pattern, self.n_points)
            if more is not None:
                self.add_points(more)
            for part, cuts in pattern.cuts.items():
                for cut in cuts:
                    self.add(nodes[:, cut][:, COLLAPSE[part]], part, some)
            self.cut.append(f"{len(some):,} cells of higher order")

    def done(self) -> Linear | None:
        """All that was taken."""
        if not self.corners:
            return None
        if len(self.corners) == 1:
            corners, types, parents = self.corners[0], self.types[0], self.parents[0]
        else:
            corners, types, parents = np.concatenate(self.corners), np.concatenate(self.types), np.concatenate(self.parents)
            order = np.argsort(parents, kind="stable")
            corners, types, parents = corners[order], types[order], parents[order]
        return Linear(np.ascontiguousarray(corners), types, parents, self.added, f"cut from {', '.join(self.cut)}" if self.cut else "")


def flat_cells(cells: Cells, keep: NDArray[np.bool_], where: str) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The two-dimensional cells as triangles and quadrilaterals.

    Returns
    -------
    ndarray, shape (n, 4), int64
        Corners; a triangle repeats its last.
    ndarray, shape (n,), int64
        The file's cell that each came from.
    """
    faces: list[NDArray[np.int64]] = [np.empty((0, 4), np.int64)]
    parents: list[NDArray[np.int64]] = [np.empty(0, np.int64)]
    for kind in (int(k) for k in distinct(cells.types[keep])):
        chosen = np.flatnonzero((cells.types == kind) & keep)
        if kind in _FLAT_CUTS:
            size, cuts = _FLAT_CUTS[kind]
            own = gather(cells, chosen, size, where)
            for cut in cuts:
                faces.append(own[:, cut].astype(np.int64))
                parents.append(chosen)
        elif kind in (STRIP, POLYGON, 36, 69, 70):
            _fans(cells, chosen, kind, faces, parents)
    order = np.argsort(np.concatenate(parents), kind="stable")
    return np.concatenate(faces)[order], np.concatenate(parents)[order]


def _fans(cells: Cells, chosen: NDArray[np.int64], kind: int, faces: list[NDArray[np.int64]], parents: list[NDArray[np.int64]]) -> None:
    """Polygons and strips of any length; of high-order flat cells the corners."""
    sizes = cells.offsets[chosen + 1] - cells.offsets[chosen]
    for size in (int(s) for s in distinct(sizes) if s >= 3):
        some = chosen[sizes == size]
        own = cells.nodes[cells.offsets[some][:, None] + np.arange(size)].astype(np.int64)
        if kind == POLYGON and size != 4:
            cuts = [(0, n, n + 1, n + 1) for n in range(1, size - 1)]
        elif kind == STRIP:
            cuts = [(n, n + 1, n + 2, n + 2) if n % 2 == 0 else (n + 1, n, n + 2, n + 2) for n in range(size - 2)]
        else:
            cuts = [(0, 1, 2, 2) if kind == 69 else (0, 1, 2, 3)] if size > 3 or kind == 69 else []
        for cut in cuts:
            faces.append(own[:, cut])
            parents.append(some)
