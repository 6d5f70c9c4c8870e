"""Which nodes are joined by edges of cells."""

from __future__ import annotations

import threading
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.grid import COLLAPSE, OWN_CORNERS, UnstructuredGrid
from tidal_lens.quantities import links_kernels
from tidal_lens.work import WORKERS, Token, read_only, run_chunks

_HEX_EDGES = ((0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7))
_KINDS = tuple(OWN_CORNERS)


def _edge_tables() -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Place of each kind of cell; its own corners and their number; what each corner is joined to and by how many edges."""
    place = np.zeros(256, np.uint8)
    own, many = np.zeros((len(_KINDS), 8), np.int64), np.zeros(len(_KINDS), np.int64)
    near, joined = np.zeros((len(_KINDS), 8, 4), np.int64), np.zeros((len(_KINDS), 8), np.int64)
    for n, kind in enumerate(_KINDS):
        place[kind] = n
        mine, order = OWN_CORNERS[kind], COLLAPSE[kind]
        many[n] = len(mine)
        own[n, :len(mine)] = mine
        for corner in mine:
            others = {order[b if order[a] == order[corner] else a] for a, b in _HEX_EDGES
                      if order[a] != order[b] and order[corner] in (order[a], order[b])}
            joined[n, corner] = len(others)
            near[n, corner, :len(others)] = sorted(mine[other] for other in others)
    return place, own, many, near, joined


_PLACE, _OWN, _MANY, _NEAR, _JOINED = _edge_tables()


class NodeLinks:
    """Which nodes are joined by edges of cells, and which nodes are on the outside.

    Attributes
    ----------
    starts : ndarray, shape (n + 1,), int64
        First link of each node.
    links : ndarray, int32
        Nodes at the other end.
    outer : ndarray, shape (n,), bool
        Nodes that the cells round them do not enclose.
    """

    def __init__(self, grid: UnstructuredGrid, token: Token | None = None) -> None:
        n, corners = grid.n_points, read_only(grid.corners)
        kinds = read_only(_PLACE[grid.types])
        starts, cells = _cells_round_nodes(corners, kinds, n, token)
        sizes = np.zeros(n + 1, np.int64)
        self.outer = np.ones(n, dtype=bool)
        found: dict[int, NDArray[np.int32]] = {}
        own = threading.local()

        def link(begin: int, end: int) -> None:
            if not hasattr(own, "seen"):
                own.seen = np.full(n, -1, np.int32)
            found[begin] = links_kernels.link_nodes(corners, kinds, _NEAR, _JOINED, starts, cells, own.seen, sizes[1:], self.outer, begin,
                                                    end)

        run_chunks(link, n, 16384, token)
        self.starts = np.cumsum(sizes)
        self.links = np.empty(int(self.starts[-1]), np.int32)
        parts = sorted(found.items())

        def put(first: int, last: int) -> None:
            for begin, links in parts[first:last]:
                self.links[self.starts[begin]:self.starts[begin] + len(links)] = links

        run_chunks(put, len(parts), 4, token)


def _cells_round_nodes(corners: NDArray[np.int32], kinds: NDArray[np.uint8], n: int,
                       token: Token | None) -> tuple[NDArray[np.int64], NDArray[Any]]:
    """Cells round each node: where each node's begin, shape (n + 1,), and the cells, each as cell · 8 + corner."""
    part = -(-len(corners) // WORKERS)
    counts, starts = np.zeros((WORKERS, n), np.int32), np.zeros(n + 1, np.int64)
    run_chunks(lambda a, b: links_kernels.count_cells(corners, kinds, _OWN, _MANY, counts[a // part], a, b), len(corners), part, token)
    # Each worker enters its cells behind those of the workers before it: no two write to one place.
    links_kernels.begin_rows(counts, starts)
    cells: NDArray[Any] = np.empty(int(starts[-1]), np.int32 if len(corners) < 2**28 else np.int64)
    run_chunks(lambda a, b: links_kernels.list_cells(corners, kinds, _OWN, _MANY, starts, counts[a // part], cells, a, b), len(corners),
               part, token)
    return starts, cells


def links_of(grid: UnstructuredGrid, token: Token | None = None) -> NodeLinks:
    """Links of a grid, built at the first call and kept with it."""
    ready = grid.__dict__.get("_links")
    if ready is None:
        ready = NodeLinks(grid, token)
        grid.__dict__["_links"] = ready
    return ready
