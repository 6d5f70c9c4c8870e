"""A flow's grids packed for the kernels: connectivity, face neighbours and box trees over all blocks."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.faces import face_neighbours
from tidal_lens.flow.grid import HEXAHEDRON, PYRAMID, TETRA, WEDGE, StructuredGrid, UnstructuredGrid
from tidal_lens.sampling import kernels
from tidal_lens.work import WORKERS, Token, at_gate, checkpoint, read_only, run_chunks

_LEVELS = 12
_SHARE = 32768  # keys that are sorted at a time
KINDS = np.zeros(256, np.int32)  # of a cell in the kernels, by its type in files
KINDS[[HEXAHEDRON, TETRA, WEDGE, PYRAMID]] = 1, 2, 3, 4
_NO_CORNERS = np.empty((0, 8), np.int32)


@dataclass(frozen=True, eq=False)
class Stencil:
    """How values at some points follow from values at the flow's nodes.

    Attributes
    ----------
    ids : ndarray, shape (n, m), int64
        Nodes.
    weights : ndarray, shape (n, m), float64
        Their weights; NaN where a point is outside the flow.
    """

    ids: NDArray[np.int64]
    weights: NDArray[np.float64]

    def apply(self, values: NDArray[Any]) -> NDArray[np.float64]:
        """Interpolate node values of shape (nodes,) to the points, shape (n,)."""
        out = np.empty(len(self.ids))
        if len(values) == 0 or (len(self.ids) and int(self.ids.max()) >= len(values)):
            raise ValueError("the stencil refers to nodes that the values do not have")
        readable = read_only(values)
        run_chunks(lambda a, b: kernels.gather(readable, self.ids, self.weights, out, a, b), len(out), 65536)
        return out


    def apply_vectors(self, values: NDArray[Any]) -> NDArray[np.float64]:
        """The same of values of shape (nodes, c), shape (n, c); no copy is made of them."""
        out = np.zeros((len(self.ids), values.shape[1]))
        for k in range(self.ids.shape[1]):
            weight = self.weights[:, k, None]
            out += np.where(weight != 0.0, weight * values[self.ids[:, k]], 0.0)
        return out

    def take(self, rows: NDArray[np.int64]) -> Stencil:
        """Of some of the points."""
        return Stencil(self.ids[rows], self.weights[rows])

    def mixed(self, a: NDArray[np.int64], b: NDArray[np.int64], t: NDArray[np.float64]) -> Stencil:
        """Of places between pairs of points: a share t (k,) of the way from each of a to each of b."""
        weights = np.hstack([(1.0 - t)[:, None] * self.weights[a], t[:, None] * self.weights[b]])
        return Stencil(np.hstack([self.ids[a], self.ids[b]]), weights)

    def extended(self, other: Stencil) -> Stencil:
        """Of these points and those of another stencil after them; the narrower one is padded."""
        width = max(self.ids.shape[1], other.ids.shape[1])

        def padded(values: NDArray[Any]) -> NDArray[Any]:
            return np.pad(values, ((0, 0), (0, width - values.shape[1])))

        return Stencil(np.concatenate([padded(self.ids), padded(other.ids)]),
                       np.concatenate([padded(self.weights), padded(other.weights)]))


@dataclass(frozen=True, eq=False)
class TurnedStencil(Stencil):
    """A stencil of points that stand elsewhere than what they show, turned: so are vectors, by ``turns`` (n, 3, 3)."""

    turns: NDArray[np.float64]

    def apply_vectors(self, values: NDArray[Any]) -> NDArray[np.float64]:
        """Vectors (nodes, 3) at the points, turned; anything else as it is."""
        found = super().apply_vectors(values)
        return np.asarray(np.einsum("nij,nj->ni", self.turns, found)) if found.shape[1] == 3 else found

    def take(self, rows: NDArray[np.int64]) -> Stencil:
        """Of some of the points."""
        return TurnedStencil(self.ids[rows], self.weights[rows], self.turns[rows])

    def mixed(self, a: NDArray[np.int64], b: NDArray[np.int64], t: NDArray[np.float64]) -> Stencil:
        """Of places between pairs of points."""
        own, share = super().mixed(a, b, t), t[:, None, None]
        return TurnedStencil(own.ids, own.weights, (1.0 - share) * self.turns[a] + share * self.turns[b])

    def extended(self, other: Stencil) -> Stencil:
        """Of these points and others after them."""
        own = super().extended(other)
        turns = other.turns if isinstance(other, TurnedStencil) else np.broadcast_to(np.eye(3), (len(other.ids), 3, 3))
        return TurnedStencil(own.ids, own.weights, np.concatenate([self.turns, turns]))


@dataclass(frozen=True, eq=False)
class Mesh:
    """Packed grids; ``arrays`` is the tuple that the kernels take (see :mod:`tidal_lens.sampling.kernels`)."""

    arrays: tuple[NDArray[Any], ...]

    def locate(self, targets: NDArray[np.float64], slack: float = 1e-3,
               token: Token | None = None) -> tuple[Stencil, NDArray[np.bool_]]:
        """Find the cells that hold points.

        Parameters
        ----------
        targets : ndarray, shape (n, 3)
            Points.
        slack : float
            How far outside a cell still counts as inside, in cell widths (values are then extrapolated).
        token : Token, optional
            Progress and cancel.

        Returns
        -------
        Stencil, ndarray of bool
            Interpolation to the points, and which of them are inside.
        """
        targets = np.ascontiguousarray(targets, dtype=np.float64).reshape(-1, 3)
        n = len(targets)
        cells, ids, weights = np.empty((n, 2), np.int64), np.empty((n, 8), np.int64), np.empty((n, 8))
        run_chunks(lambda a, b: kernels.locate(self.arrays, targets, slack, cells, ids, weights, a, b), n, 4096, token)
        return Stencil(ids, weights), cells[:, 0] >= 0


_build_lock = threading.Lock()


def mesh_of(flow: Flow, token: Token | None = None) -> Mesh:
    """The flow's packed mesh, built at the first call and kept with the flow."""
    with at_gate(_build_lock):
        ready = flow.__dict__.get("_mesh")
        if ready is None:
            ready = build_mesh(flow, token)
            flow.__dict__["_mesh"] = ready
        return ready


def ready_mesh(flow: Flow) -> Mesh | None:
    """The flow's packed mesh if it has been built."""
    return flow.__dict__.get("_mesh")


def build_mesh(flow: Flow, token: Token | None = None) -> Mesh:
    """Pack the grids of a flow and build face neighbours and trees.

    Notes
    -----
    The tree is a hierarchy of boxes over the cells in the order of a space-filling curve, eight to one: it needs no
    tuning where cells differ in size by orders of magnitude, as in boundary layers.
    """
    low, high = flow.bounds
    scale = 2097151.0 / np.maximum(high - low, 1e-300)
    table = block_rows(flow)
    order = np.empty(flow.n_cells, np.int32)
    cells = _lines_of_cache(max(1, sum(b.grid.n_cells for b in flow.blocks if isinstance(b.grid, UnstructuredGrid))))
    for row, block in zip(table, flow.blocks, strict=True):
        checkpoint()
        own = order[block.first_cell:block.first_cell + block.grid.n_cells]
        _along_curve(flow, row, block, low, scale, own)
        if isinstance(block.grid, UnstructuredGrid):
            _lay_rows(block.grid, own, cells[row[7]:row[7] + block.grid.n_cells], token)
    starts, sizes = np.zeros((len(table), _LEVELS), np.int64), np.zeros((len(table), _LEVELS), np.int64)
    arrays: list[NDArray[Any]] = [read_only(flow.points), table, cells, order, starts, sizes, np.zeros((1, 6))]
    boxes: list[NDArray[np.float64]] = []
    total = 0
    for n in range(len(table)):
        if token is not None:
            token.check()
        for level, layer in enumerate(_tree_of(tuple(arrays), n)):
            starts[n, level], sizes[n, level] = total, len(layer)
            total += len(layer)
            boxes.append(layer)
            table[n, 8] = level + 1
    arrays[6] = np.concatenate(boxes)
    return Mesh(tuple(arrays))


def _lines_of_cache(rows: int) -> NDArray[np.int32]:
    """Room for rows of 64 bytes that begin where a line of the processor's cache does."""
    raw = np.empty(64 * rows + 64, np.uint8)
    first = -raw.ctypes.data % 64
    return raw[first:first + 64 * rows].view(np.int32).reshape(rows, 16)


def block_rows(flow: Flow) -> NDArray[np.int64]:
    """The table of blocks that kernels take (see :mod:`tidal_lens.sampling.kernels`), before there are trees."""
    table = np.zeros((len(flow.blocks), 10), np.int64)
    rows = 0
    for n, block in enumerate(flow.blocks):
        grid = block.grid
        dims = grid.dims if isinstance(grid, StructuredGrid) else (0, 0, 0)
        table[n] = (isinstance(grid, StructuredGrid), block.first_point, *dims, block.first_cell, grid.n_cells, rows, 0,
                    block.first_cell)
        rows += 0 if isinstance(grid, StructuredGrid) else grid.n_cells
    return table


def _along_curve(flow: Flow, row: NDArray[np.int64], block: Block, low: NDArray[np.float64], scale: NDArray[np.float64],
                 order: NDArray[np.int32]) -> None:
    """Write the numbers of a block's cells in the order in which a space-filling curve meets them."""
    keys = np.empty(len(order), np.int64)
    corners = read_only(block.grid.corners if isinstance(block.grid, UnstructuredGrid) else _NO_CORNERS)
    points = read_only(flow.points)
    run_chunks(lambda a, b: kernels.curve_keys(points, row, corners, low, scale, keys, a, b), len(keys), 65536)
    checkpoint()
    places_in_order(keys, order)
    checkpoint()


def places_in_order(keys: NDArray[np.int64], order: NDArray[np.int32]) -> None:
    """Write the places of keys in ascending order, equal ones as they come: in shares between some of the keys, side by side."""
    shares = max(1, len(keys) // _SHARE)
    some = np.sort(keys[:: len(keys) // (16 * shares) + 1])
    limits = read_only(some[np.arange(1, shares) * len(some) // shares])
    part = max(1, -(-len(keys) // (2 * WORKERS)))
    counts = np.zeros((-(-len(keys) // part), shares), np.int64)
    own, to_keys, to_places = read_only(keys), np.empty_like(keys), np.empty(len(keys), np.int32)
    run_chunks(lambda a, b: kernels.count_between(own, limits, counts[a // part], a, b), len(keys), part)
    fill = (np.cumsum(counts.T.ravel()) - counts.T.ravel()).reshape(shares, -1).T.copy()
    starts = np.append(fill[0], len(keys)) if len(fill) else np.zeros(2, np.int64)
    run_chunks(lambda a, b: kernels.spread_between(own, limits, fill[a // part], to_keys, to_places, a, b), len(keys), part)

    def share(begin: int, end: int) -> None:
        for n in range(begin, end):
            here = slice(int(starts[n]), int(starts[n + 1]))
            own = to_keys[here]
            found = np.argsort(own)
            ranked = own[found]
            if (ranked[1:] == ranked[:-1]).any():  # seldom; a sort that keeps the order of equal ones takes four times as long
                found = np.argsort(own, kind="stable")
            order[here] = to_places[here][found]

    run_chunks(share, shares, 4)


def _lay_rows(grid: UnstructuredGrid, order: NDArray[np.int32], out: NDArray[np.int32], token: Token | None) -> None:
    """Write the rows of a block's cells in that order, which from then on is the one there is."""
    near = face_neighbours(grid, token)
    place, kinds, corners = np.empty(len(order), np.int32), np.empty(len(order), KINDS.dtype), read_only(grid.corners)

    def number(begin: int, end: int) -> None:
        place[order[begin:end]] = np.arange(begin, end, dtype=np.int32)
        np.take(KINDS, grid.types[begin:end], out=kinds[begin:end], mode="clip")  # so that nothing is buffered

    run_chunks(number, len(order), 262144)
    run_chunks(lambda a, b: kernels.lay_rows(corners, near, read_only(kinds), order, place, out, a, b), len(order), 32768)
    grid.__dict__.pop("_neighbours", None)  # they stand in the table now
    order[:] = np.arange(len(order), dtype=np.int32)


def _tree_of(arrays: tuple[NDArray[Any], ...], block: int) -> list[NDArray[np.float64]]:
    count = int(arrays[1][block, 6])
    layers = [np.empty(((count + 7) // 8, 6))]
    run_chunks(lambda a, b: kernels.leaf_boxes(arrays, block, layers[0], a, b), len(layers[0]), 8192)
    while len(layers[-1]) > 8 and len(layers) < _LEVELS:
        upper = np.empty(((len(layers[-1]) + 7) // 8, 6))
        kernels.parent_boxes(layers[-1], upper)
        layers.append(upper)
    return layers
