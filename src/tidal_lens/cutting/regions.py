"""The part of a flow where conditions are met: its skin with caps, its volume and its mass."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting import region_kernels as kernels
from tidal_lens.cutting.contour import isosurface
from tidal_lens.cutting.marching import as_filed
from tidal_lens.cutting.masking import kept_surface
from tidal_lens.cutting.surface import Surface, join, turned
from tidal_lens.cutting.tetrahedral import cut_cells, halved, in_tetrahedra, order_of
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.faces import face_neighbours, hand, outer_faces, outward_areas
from tidal_lens.flow.grid import HEX_FACES, TETRA, StructuredGrid, UnstructuredGrid
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.work import Token, in_turn, read_only, run_chunks

Vec = NDArray[np.float64]
_CHUNK = 32768


@dataclass(frozen=True, eq=False)
class Limit:
    """A condition: node values (nodes,), the level on which they are cut, and whether what is above it belongs to the region."""

    values: NDArray[Any]
    level: float
    above: bool

    def over(self, values: NDArray[Any]) -> Vec:
        """How far inside values are."""
        return np.asarray(values - self.level if self.above else self.level - values, np.float64)


@dataclass(frozen=True)
class Content:
    """What a region holds, in the flow's own units; mass None where no density is known."""

    volume: float
    of_volume: float
    mass: float | None
    cells: int

    @property
    def share(self) -> float:
        """Of the whole flow's volume."""
        return self.volume / self.of_volume if self.of_volume > 0.0 else 0.0


def region_skin(flow: Flow, limits: Sequence[Limit], token: Token | None = None, blocks: Collection[int] | None = None, *,
                rough: bool = False) -> Surface:
    """The skin of a region, outward: parts of the isosurfaces that bound it, and of the flow's outside as caps.

    Values are linear along the edges of cells, and the skin is closed. Where conditions on several quantities could meet within cells that
    are no tetrahedra, the cells that it goes through are cut into such first; not with ``rough``: then they meet to the accuracy of the
    cells. (Where three meet, a vertex of one part may stand on an edge of another.)
    """
    cut, cut_blocks, order = flow, blocks, None
    if not rough and len({id(limit.values) for limit in limits}) > 1 and not all(
            isinstance(b.grid, UnstructuredGrid) and (b.grid.types == TETRA).all() for b in flow.blocks):
        order = order_of(flow.points)
        cut, cut_blocks = in_tetrahedra(flow, cut_cells(flow, [limit.over(limit.values) for limit in limits], blocks), order), None

    def part(number: int) -> Surface:
        if number == len(limits):
            outside = outside_surface(flow) if blocks is None else blocks_surface(flow, blocks)
            return _clipped(outside if order is None else _in_triangles(outside, order), limits, token)
        limit = limits[number]
        surface = isosurface(cut, limit.values, limit.level, token, cut_blocks)
        if limit.above:  # it looks to where values are greater
            surface = Surface(surface.points, turned(surface.faces), surface.stencil)
        return _clipped(surface, [other for other in limits if other is not limit], token)

    # Side by side: what one of them does in a single thread, another's cells are cut beside.
    parts = list(in_turn(part, len(limits) + 1))
    return join(parts)


def _in_triangles(surface: Surface, order: Vec) -> Surface:
    """A surface of nodes as the tetrahedra beside it have it."""
    triangles, _ = halved(surface.faces, order[surface.stencil.ids[:, 0]])
    return Surface(surface.points, np.column_stack([triangles, triangles[:, 2]]), surface.stencil)


def _clipped(surface: Surface, limits: Sequence[Limit], token: Token | None) -> Surface:
    for limit in limits:
        if token is not None:
            token.check()
        if len(surface.faces):
            surface = kept_surface(surface, limit.over(surface.stencil.apply(limit.values)))
    return surface


def outside_surface(flow: Flow) -> Surface:
    """The flow's outside, kept with it."""
    ready: Surface | None = flow.__dict__.get("_outside_surface")
    if ready is None:
        faces = flow.outside.faces
        corners = flow.points[faces]
        ways = (np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1]) * flow.outside.areas).sum(axis=1)
        faces = np.where((ways < 0.0)[:, None], turned(faces), faces)
        ready = _of_nodes(flow, faces)
        flow.__dict__["_outside_surface"] = ready
    return ready


def blocks_surface(flow: Flow, blocks: Collection[int]) -> Surface:
    """The outsides of some blocks, outward, where they meet others too."""
    parts = []
    for number in sorted(blocks):
        block = flow.blocks[number]
        faces, areas = outer_faces(block.grid), outward_areas(block.grid, flow.points[block.points])
        corners = flow.points[block.points][faces]
        ways = (np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1]) * areas).sum(axis=1)
        parts.append(np.where((ways < 0.0)[:, None], turned(faces), faces) + block.first_point)
    return _of_nodes(flow, np.concatenate(parts)) if parts else join([])


def _of_nodes(flow: Flow, faces: NDArray[np.int64]) -> Surface:
    used = np.zeros(flow.n_points, dtype=bool)
    used[faces] = True
    nodes = np.flatnonzero(used)
    number = np.cumsum(used) - 1
    return Surface(flow.points[nodes], number[faces], Stencil(nodes[:, None], np.ones((len(nodes), 1))))


def cells_skin(flow: Flow, limits: Sequence[Limit], token: Token | None = None, blocks: Collection[int] | None = None) -> Surface:
    """The skin of all cells at whose corners the conditions are met."""
    inside = np.ones(flow.n_points, dtype=bool)
    for limit in limits:
        inside &= limit.over(limit.values) >= 0.0
    found = []
    for number, block in enumerate(flow.blocks):
        if blocks is not None and number not in blocks:
            continue
        if token is not None:
            token.check()
        faces = _block_skin(block, inside[block.points]) + block.first_point
        found.append(faces if hand(block.grid, flow.points[block.points]) > 0.0 else turned(faces))
    every = np.concatenate([np.empty((0, 4), np.int64), *found])
    return _of_nodes(flow, every) if len(every) else join([])


def _block_skin(block: Block, inside: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Faces between cells that are inside and others, as the block's own nodes."""
    grid = block.grid
    if isinstance(grid, StructuredGrid):
        return _structured_skin(grid, inside)
    own = np.asarray(inside[grid.corners].all(axis=1))
    near = face_neighbours(grid)
    parts = [np.empty((0, 4), np.int64)]
    for side, corners in enumerate(HEX_FACES):
        other = near[:, side]
        chosen = own & ~((other >= 0) & own[np.maximum(other, 0)])
        faces = grid.corners[chosen][:, corners].astype(np.int64)
        parts.append(_tidy(faces))
    return np.concatenate(parts)


def _tidy(faces: NDArray[np.int64]) -> NDArray[np.int64]:
    """Sides of collapsed cells as triangles that repeat their last corner; without those that are no more than an edge."""
    for turn in range(3):  # bring a repeated pair to the end
        same = (faces[:, 2] != faces[:, 3]) & (faces == np.roll(faces, -1, axis=1)).any(axis=1)
        faces = np.where(same[:, None], np.roll(faces, 1, axis=1), faces)
        if turn == 2 or not same.any():
            break
    different = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    return np.asarray(faces[different & ((faces[:, 3] == faces[:, 2]) | ((faces[:, 3] != faces[:, 0]) & (faces[:, 3] != faces[:, 1])))])


def _structured_skin(grid: StructuredGrid, inside: NDArray[np.bool_]) -> NDArray[np.int64]:
    ni, nj, nk = grid.dims
    nodes = np.arange(grid.n_points, dtype=np.int64).reshape(nk, nj, ni)
    at = inside.reshape(nk, nj, ni)
    own = np.ones((nk - 1, nj - 1, ni - 1), dtype=bool)
    low, high = slice(None, -1), slice(1, None)
    corners = [(low, low, low), (low, low, high), (low, high, high), (low, high, low),
               (high, low, low), (high, low, high), (high, high, high), (high, high, low)]
    for c in corners:
        own &= at[c]
    parts = []
    for side, face in enumerate(HEX_FACES):
        axis, up = 2 - side // 2, side % 2
        beyond = np.zeros_like(own)
        to, of = [slice(None)] * 3, [slice(None)] * 3
        to[axis], of[axis] = (low, high) if up else (high, low)
        beyond[tuple(to)] = own[tuple(of)]
        chosen = own & ~beyond
        parts.append(np.stack([nodes[corners[c]][chosen] for c in face], axis=-1))
    return np.concatenate(parts)


def region_content(flow: Flow, limits: Sequence[Limit], density: NDArray[Any] | None, *, whole: bool = False,
                   token: Token | None = None, blocks: Collection[int] | None = None) -> Content:
    """Volume and mass of a region, cells cut into tetrahedra in which all is linear.

    Parameters
    ----------
    limits : sequence of Limit
        The conditions.
    density : ndarray, shape (nodes,), or None
        Mass by volume.
    whole : bool
        Whether cells count whole.
    blocks : collection of int, optional
        Those that it is of; its share is then of theirs.
    """
    inside = [limit.over(limit.values) for limit in limits]
    over = inside[0][None] if len(inside) == 1 else np.array(inside).reshape(len(inside), flow.n_points)
    del inside
    dense = read_only(np.ascontiguousarray(density, np.float64) if density is not None else np.empty(0))
    over = read_only(over)
    found = np.zeros(4)
    for number, block in enumerate(flow.blocks):
        if blocks is not None and number not in blocks:
            continue
        packed = tuple(as_filed(flow, number))
        sums: dict[int, Vec] = {}

        def chunk(begin: int, end: int, packed: Any = packed, sums: dict[int, Vec] = sums) -> None:
            sums[begin] = np.zeros(4)
            kernels.measure(packed, over, dense, whole, sums[begin], begin, end)

        run_chunks(chunk, block.grid.n_cells, _CHUNK, token)
        for begin in sorted(sums):
            found += sums[begin]
    return Content(float(found[1]), float(found[0]), float(found[2]) if density is not None else None, int(found[3]))
