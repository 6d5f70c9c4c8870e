"""Where a grid index of a structured block is constant."""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import Field

from tidal_lens.cutting.surface import Surface
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.faces import quads_of_sheet
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.kinds.first_values import best_name
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Tile, Vec
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import Name
from tidal_lens.study.words import Words

DIRECTIONS = ("i", "j", "k")


class GridShape(Shape):
    """A block, one of its three directions, and the index that is constant, from 0."""

    kind: Literal["grid-surface"] = "grid-surface"
    block: Name
    direction: Literal["i", "j", "k"] = "k"
    index: Annotated[int, Field(ge=0, le=10_000_000)] = 0

    def block_of(self, flow: Flow) -> tuple[Block, StructuredGrid]:
        """The block.

        Raises
        ------
        StudyError
            The flow has no structured block of that name.
        """
        for block in flow.blocks:
            if block.name == self.block and isinstance(block.grid, StructuredGrid):
                return block, block.grid
        raise StudyError(f"There is no structured block {self.block!r} in this result.", "", "Choose another block.")

    def nodes(self, flow: Flow) -> np.ndarray[Any, Any]:
        """Numbers of its nodes as a sheet; the index is the block's last where it has no such one."""
        block, grid = self.block_of(flow)
        index = np.arange(grid.n_points, dtype=np.int64).reshape(grid.dims[::-1]) + block.first_point
        n = DIRECTIONS.index(self.direction)
        return np.asarray(index.take(min(self.index, grid.dims[n] - 1), axis=2 - n))

    def make(self, see: See) -> Made:
        """Its quadrilaterals; vertices are nodes."""
        sheet = self.nodes(see.flow)
        local = np.arange(sheet.size, dtype=np.int64).reshape(sheet.shape)
        ids = sheet.reshape(-1, 1)
        return Made(Surface(see.flow.points[sheet.ravel()], quads_of_sheet(local), Stencil(ids, np.ones(ids.shape))))

    def last(self, flow: Flow) -> int:
        """The greatest index of its direction; 0 where the flow has no such block."""
        try:
            return self.block_of(flow)[1].dims[DIRECTIONS.index(self.direction)] - 1
        except StudyError:
            return 0

    def swept(self, share: float, store: QuantityStore) -> Self | None:
        """At a share of its indices."""
        return self.with_(index=round(share * self.last(store.flow)))

    def tell(self, _words: Words) -> str:
        """Block and index."""
        return f"{self.block}, {self.direction} = {self.index}"

    def handles(self, flow: Flow, _made: Made | None) -> Handles | None:
        """A bead at its middle that goes along the grid line there."""
        try:
            block, grid = self.block_of(flow)
        except StudyError:
            return None
        line = self._line(flow, block, grid)
        at = min(self.index, len(line) - 1)
        way = line[min(at + 1, len(line) - 1)] - line[max(at - 1, 0)]
        size = float(np.linalg.norm(way))
        bead = Handle("index", line[at], way / size if size > 0.0 else np.array([1.0, 0.0, 0.0]), None, f"{self.direction} = {at}",
                      float(at), turns=True)
        return Handles("grid surface", (bead,), ((line, False),))

    def _line(self, flow: Flow, block: Block, grid: StructuredGrid) -> Vec:
        """Nodes of the grid line through the middle of the sheet, shape (n, 3)."""
        index = np.arange(grid.n_points, dtype=np.int64).reshape(grid.dims[::-1]) + block.first_point
        n = DIRECTIONS.index(self.direction)
        where = [d // 2 for d in grid.dims]
        cut: list[Any] = [where[2], where[1], where[0]]
        cut[2 - n] = slice(None)
        return np.asarray(flow.points[index[tuple(cut)]])

    def moved(self, _handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """To the index whose node on the grid line is nearest; the same with and without ``snap``."""
        line = self._line(flow, *self.block_of(flow))
        return self.with_(index=int(((line - to) ** 2).sum(axis=1).argmin()))

    def typed(self, _handle: str, value: Any) -> Self:
        """At an index."""
        return self.with_(index=max(round(value), 0))

    def stepped(self, steps: float, flow: Flow) -> Self:
        """By whole indices."""
        _, grid = self.block_of(flow)
        by = int(np.sign(steps)) * max(1, round(abs(steps)))
        return self.with_(index=min(max(self.index + by, 0), grid.dims[DIRECTIONS.index(self.direction)] - 1))


def new_grid_surface(store: QuantityStore) -> Begun:
    """The middle k of the largest structured block, or its first where it lies on a wall."""
    blocks = [(b, b.grid) for b in store.flow.blocks if isinstance(b.grid, StructuredGrid)]
    if not blocks:
        raise StudyError("This result has no structured block.", store.flow.title, "Cut it by a plane instead.")
    block, grid = max(blocks, key=lambda b: b[1].n_cells)
    direction = DIRECTIONS[int(np.argmin(grid.dims))]
    shape = GridShape(block=block.name, direction=direction, index=grid.dims[DIRECTIONS.index(direction)] // 2)
    return Begun("Grid surface", shape, SurfaceLook(colour_by=best_name(store)))


def _lacks(flow: Flow) -> str:
    return "" if any(isinstance(b.grid, StructuredGrid) for b in flow.blocks) else "a structured block"


KIND = Kind(GridShape, "The sheet of a structured block on which one grid index is constant.", "look", "grid-surface",
            (Tile("add-grid-surface", "Grid surface", "Show the nodes of a structured block at one grid index."),),
            lambda store, _argument: new_grid_surface(store), lacks=_lacks, group="Surfaces")
