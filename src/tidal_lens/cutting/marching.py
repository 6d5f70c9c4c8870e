"""Cuts of the cells of blocks, worked out in chunks of the leaves of their trees that the level may be taken in."""

from __future__ import annotations

import threading
import weakref
from collections.abc import Callable, Iterable
from itertools import accumulate, pairwise
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting import marching_kernels as kernels
from tidal_lens.cutting.cases import MOST_FACES, MOST_VERTICES, cases
from tidal_lens.cutting.surface import Surface, join
from tidal_lens.flow.case import Flow
from tidal_lens.flow.faces import hand
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.kept import Kept
from tidal_lens.sampling.mesh import Mesh, Stencil, block_rows, ready_mesh
from tidal_lens.work import WORKERS, Token, read_only, run_chunks

_LEAVES, _SCANNED = 1024, 8192  # in a chunk, where most are met and where few are: fewer cost more calls, more leave a thread idle
_CELLS = 4096  # that are worked on at a time
_MANY = 8192  # vertices: two threads tell them apart sooner than one
_NO_ORDER = read_only(np.empty(0, np.int32))
_NO_ROWS = read_only(np.empty((0, 16), np.int32))
_NO_TYPES = read_only(np.empty(0, np.uint8))
_NO_LEAVES = read_only(np.empty(0, np.int64))
_NO_EXTREMES = read_only(np.empty((0, 2)))
NO_FORM = read_only(np.zeros(10))
_Tree = tuple[NDArray[np.float64], "weakref.ref[NDArray[Any]]", "weakref.ref[Mesh]"]  # and what it rests on
_extremes: Kept[tuple[int, int, int], _Tree] = Kept("skipping trees", lambda tree: tree[0].nbytes)


class _Grid(NamedTuple):
    """What the kernels take of a block: of the packed mesh where there is one, else as it stands in the file."""

    points: NDArray[np.float64]
    block: NDArray[np.int64]
    rows: NDArray[np.int32]
    types: NDArray[np.uint8]
    order: NDArray[np.int32]


_Part = tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64], NDArray[np.int32]]


class _Room:
    """What a thread works in for a cut, kept for the next: fresh memory costs more than the work does."""

    def __init__(self) -> None:
        most = MOST_VERTICES * _CELLS
        self.vertices, self.faces = 0, 0  # that stand in ``out`` already, for as long as the cut lasts
        size = 1 << (2 * most - 1).bit_length()
        self.cells = np.empty((_CELLS, 8), np.int32), np.empty((_CELLS, 8)), np.empty(_CELLS, np.int32), np.empty(2, np.int64)
        self.hashed, self.other = ((np.empty(size, np.int64), np.empty(size, np.int32)) for _ in range(2))
        self.out = self.renew()

    def renew(self) -> _Part:
        """Fresh space for what comes out; what stood in the old belongs to who holds it."""
        most = MOST_VERTICES * _CELLS
        self.out = np.empty(most, np.int64), np.empty(most), np.empty((most, 3)), np.empty((MOST_FACES * _CELLS, 4), np.int32)
        return self.out


_rooms: list[_Room] = []  # that nobody works in


class _Rooms:
    """Those that a cut has taken, one for each thread that works on it."""

    def __init__(self) -> None:
        self._own: dict[int, _Room] = {}

    def mine(self) -> _Room:
        """That of the present thread."""
        thread = threading.get_ident()
        if thread not in self._own:
            try:
                self._own[thread] = _rooms.pop()
            except IndexError:
                self._own[thread] = _Room()
        return self._own[thread]

    def give_back(self) -> None:
        """Nobody needs what stands in them any more."""
        for room in self._own.values():
            room.vertices = room.faces = 0
            if len(_rooms) < WORKERS + 1:
                _rooms.append(room)


class _Chunk(NamedTuple):
    """Leaves of a block that are worked on at a time."""

    cut: Callable[[_Room, int, int], None]
    begin: int
    end: int


def cut_blocks(flow: Flow, numbers: Iterable[int], values: NDArray[Any], form: NDArray[np.float64], level: float,
               token: Token | None = None) -> Surface:
    """Where the node values of blocks, or a form of place, take a level.

    Parameters
    ----------
    flow, numbers : Flow, iterable of int
        The flow, and the numbers of its blocks, ascending.
    values : ndarray, shape (nodes,) or (0,)
        Values at all nodes of the flow; empty where the form decides.
    form : ndarray, shape (10,)
        See :mod:`tidal_lens.cutting.marching_kernels`.
    level : float
        The level.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    Surface
        Closed but for the borders of blocks; normals of faces point to where values are greater.
    """
    mesh = ready_mesh(flow)
    wanted, parts, rooms = list(numbers), dict[tuple[int, int], _Part](), _Rooms()
    found: dict[int, list[_Chunk]] = {}

    def look(begin: int, end: int) -> None:
        for number in wanted[begin:end]:
            found[number] = _chunks(flow, mesh, number, values, form, level, parts)

    run_chunks(look, len(wanted), 1)
    chunks = [chunk for number in wanted for chunk in found[number]]

    def some(begin: int, end: int) -> None:
        for chunk in chunks[begin:end]:
            chunk.cut(rooms.mine(), chunk.begin, chunk.end)

    try:
        run_chunks(some, len(chunks), 1, token)
        order = sorted(parts)
        left = {number: _left_handed(flow, number) for number in {number for number, _ in order}}
        return _joined([parts[key] for key in order], [left[number] for number, _ in order], rooms)
    finally:
        rooms.give_back()


def _chunks(flow: Flow, mesh: Mesh | None, number: int, values: NDArray[Any], form: NDArray[np.float64], level: float,
            parts: dict[tuple[int, int], _Part]) -> list[_Chunk]:
    """What is to be done for a block; each chunk writes its parts by block and leaf."""
    grid = _packed(flow, mesh, number)
    plain, stride, offset = _as_read(grid, values, form)
    leaves = _NO_LEAVES
    count = (flow.blocks[number].grid.n_cells + 7) // 8
    if mesh is not None:
        leaves = read_only(_leaves(mesh, grid, number, values, form, level))
        count = len(leaves)
    packed, tables = tuple(grid), tuple(cases())
    crossed = kernels.crossed if len(plain) else kernels.crossed_by_quadric if form[9] else kernels.crossed_by_plane

    def cut(room: _Room, begin: int, end: int) -> None:
        cells, hashed, out = room.cells, room.hashed, room.out
        while begin < end:
            crossed(packed, leaves, plain, stride, offset, form, level, cells, begin, end)
            count, following = (int(n) for n in cells[3])
            if count:
                v, f = room.vertices, room.faces
                if v + MOST_VERTICES * count > len(out[0]) or f + MOST_FACES * count > len(out[3]):
                    v, f, out = 0, 0, room.renew()
                kernels.march(grid.points, form, level, cells, tables, hashed, (out[0][v:], out[1][v:], out[2][v:], out[3][f:]))
                n, m = (int(n) for n in cells[3])
                parts[number, begin] = out[0][v:v + n], out[1][v:v + n], out[2][v:v + n], out[3][f:f + m]
                room.vertices, room.faces = v + n, f + m
            begin = following

    size = _SCANNED if mesh is None else _LEAVES
    return [_Chunk(cut, begin, min(begin + size, count)) for begin in range(0, count, size)]


def _left_handed(flow: Flow, number: int) -> bool:
    known: dict[int, bool] = flow.__dict__.setdefault("_left_handed", {})
    if number not in known:
        block = flow.blocks[number]
        known[number] = hand(block.grid, flow.points[block.points]) < 0.0
    return known[number]


def _as_read(grid: _Grid, values: NDArray[Any], form: NDArray[np.float64]) -> tuple[NDArray[Any], int, int]:
    """Values, and how they stand: for a plane across an axis the coordinates themselves are the values."""
    across = np.flatnonzero(form[:9])
    if len(values) == 0 and len(across) == 1 and across[0] >= 6 and form[across[0]] == 1.0:
        return grid.points.reshape(-1), 3, int(across[0]) - 6
    return read_only(np.ascontiguousarray(values)), 1, 0


def _packed(flow: Flow, mesh: Mesh | None, number: int) -> _Grid:
    if mesh is not None:
        _, blocks, rows, order, *_ = mesh.arrays
        return _Grid(read_only(flow.points), read_only(blocks[number]), read_only(rows), _NO_TYPES, read_only(order))
    return as_filed(flow, number)


def as_filed(flow: Flow, number: int) -> _Grid:
    """What kernels take of a block, its cells as they stand in the file."""
    block, points, table = flow.blocks[number], read_only(flow.points), block_rows(flow)[number]
    table[7] = 0
    table = read_only(table)
    if isinstance(block.grid, UnstructuredGrid):
        return _Grid(points, table, read_only(block.grid.corners), read_only(block.grid.types), _NO_ORDER)
    return _Grid(points, table, _NO_ROWS, _NO_TYPES, _NO_ORDER)


def _leaves(mesh: Mesh, grid: _Grid, number: int, values: NDArray[Any], form: NDArray[np.float64], level: float) -> NDArray[np.int64]:
    top, starts, sizes = int(grid.block[8]) - 1, read_only(mesh.arrays[4][number]), read_only(mesh.arrays[5][number])
    extremes = _extremes_of(mesh, grid, number, values) if len(values) else _NO_EXTREMES
    out = np.empty(int(sizes[0]), np.int64)
    found = kernels.leaves_met(starts, sizes, top, read_only(mesh.arrays[6]), read_only(extremes), int(starts[0]), form, level, out)
    return out[:found]


def _extremes_of(mesh: Mesh, grid: _Grid, number: int, values: NDArray[Any]) -> NDArray[np.float64]:
    """Least and greatest value of every part of a block's tree. Of values that are gone it is forgotten in its turn."""
    key = id(values), id(mesh), number
    found = _extremes.ready(key)
    if found is not None and found[1]() is values and found[2]() is mesh:
        return found[0]
    plain, packed = read_only(np.ascontiguousarray(values)), tuple(grid)
    tiers = [np.empty((int(n), 2)) for n in mesh.arrays[5][number][:int(grid.block[8])]]
    run_chunks(lambda a, b: kernels.leaf_extremes(packed, plain, tiers[0], a, b), len(tiers[0]), 2048)
    for lower, upper in pairwise(tiers):
        kernels.parent_extremes(lower, upper)
    tree = np.concatenate(tiers)
    _extremes.put(key, (tree, weakref.ref(values), weakref.ref(mesh)))
    return tree


def _joined(parts: list[_Part], mirrored: list[bool], rooms: _Rooms) -> Surface:
    """Chunks share the vertices on their borders. Left-handed cells are cut the other way round."""
    if not parts:
        return join([])
    starts = [0, *accumulate(len(part[0]) for part in parts)]
    begins = [0, *accumulate(len(part[3]) for part in parts)]
    first, number = np.empty(starts[-1], np.int32), np.empty(starts[-1], np.int32)
    _find_first(np.concatenate([part[0] for part in parts]), first, rooms)
    count = kernels.number_in_order(first, number)
    ids, weights, points = np.empty((count, 2), np.int64), np.empty((count, 2)), np.empty((count, 3))
    faces = np.empty((begins[-1], 4), np.int64)

    def place(begin: int, end: int) -> None:
        for n in range(begin, end):
            kernels.join_part(parts[n], starts[n], first, number, mirrored[n], (ids, weights, points), faces[begins[n]:begins[n + 1]])

    run_chunks(place, len(parts), 2)
    return Surface(points, faces, Stencil(ids, weights))


def _find_first(keys: NDArray[np.int64], first: NDArray[np.int32], rooms: _Rooms) -> None:
    lots = 2 if len(keys) > _MANY else 1
    size = 1 << (2 * len(keys) // lots - 1).bit_length()
    room = [rooms.mine().hashed, rooms.mine().other][:lots]

    def one(begin: int, end: int) -> None:
        for lot in range(begin, end):
            slots, numbers = (a[:size] if size <= len(a) else np.empty(size, a.dtype) for a in room[lot])
            slots.fill(-1)
            if kernels.first_ones(keys, lot, lots, (slots, numbers), first) < 0:
                slots, numbers = np.full(lots * size, -1, slots.dtype), np.empty(lots * size, numbers.dtype)
                kernels.first_ones(keys, lot, lots, (slots, numbers), first)

    run_chunks(one, lots, 1)
