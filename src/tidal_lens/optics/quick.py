"""A quick look along the line of sight, while it is turned: each cell gives all that it holds to the pixels next to its middle.

Large cells give to coarser pictures, which are laid onto the fine one; so nothing is dotted, and nothing sharp where cells are large.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.volumes import cell_volumes
from tidal_lens.optics import quick_kernels as kernels
from tidal_lens.optics.projection import PARTS, Aim, Vec, cell_corners, cell_ranges
from tidal_lens.work import in_turn, read_only

LEVELS = 6
NOTHING = 2e-4  # of the greatest value by width: cells that hold less are left out
Small = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Middles:
    """Middles (m, 3), volumes (m,) and widths (m,) of all cells; kept with the flow."""

    places: Small
    volumes: Small
    widths: Small

    @staticmethod
    def of(flow: Flow) -> Middles:
        """Worked out at the first call."""
        ready: Middles | None = flow.__dict__.get("_middles")
        if ready is None:
            places, volumes, widths = (np.empty((flow.n_cells, *more), np.float32) for more in ((3,), (), ()))
            for rows, corners in _ranges(flow):
                own = flow.points[corners]
                places[rows] = own.mean(axis=1)
                widths[rows] = np.ptp(own, axis=1).max(axis=1)
                volumes[rows] = np.abs(cell_volumes(flow.points, corners))
            # Between the two, for cells that are long and thin: neither dotted nor washed out.
            ready = Middles(places, volumes, np.sqrt(widths * np.cbrt(volumes)))
            flow.__dict__["_middles"] = ready
        return ready


def _ranges(flow: Flow) -> list[tuple[slice, NDArray[Any]]]:
    out = []
    for number, first, last in cell_ranges(flow):
        block = flow.blocks[number]
        per = (block.grid.dims[0] - 1) * (block.grid.dims[1] - 1) if isinstance(block.grid, StructuredGrid) else 1
        rows = slice(block.first_cell + first * per, block.first_cell + last * per)
        out.append((rows, cell_corners(flow, number, first, last)))
    return out


@dataclass(frozen=True, eq=False)
class Held:
    """What cells hold of some values (m, k): those that hold anything worth it, and how much by their volume."""

    cells: NDArray[np.int64]
    held: Small

    @staticmethod
    def of(flow: Flow, source: NDArray[Any], what: object = None, columns: Callable[[], NDArray[Any]] | None = None, *,
           greatest: bool = False) -> Held:
        """Of node values (n, k), or of columns that follow from them; kept with the flow until others are asked for."""
        ready: tuple[NDArray[Any], object, Held] | None = flow.__dict__.get("_held")
        if ready is not None and ready[0] is source and ready[1] == what:
            return ready[2]
        values = source if columns is None else columns()
        middles = Middles.of(flow)
        means = np.empty((flow.n_cells, values.shape[1]), np.float32)
        for rows, corners in _ranges(flow):
            means[rows] = np.nan_to_num(values[corners]).mean(axis=1)
        weight = np.abs(means).max(axis=1) * middles.widths
        cells = np.flatnonzero(weight > NOTHING * float(weight.max(initial=0.0))) if not greatest else np.arange(flow.n_cells)
        found = Held(cells, means if greatest else means[cells] * middles.volumes[cells, None])
        flow.__dict__["_held"] = source, what, found
        return found


def quick_sum(flow: Flow, held: Held, mix: Vec, aim: Aim, walls: Vec) -> Vec:
    """About :func:`tidal_lens.optics.projection.along_sight`, of values mixed by a matrix (k, j); shape (rows, columns, j)."""
    out: Vec | None = None
    mixed = held.held * np.float32(mix[0, 0]) if mix.size == 1 else held.held @ mix.astype(np.float32)
    for part in reversed(_spread(flow, Held(held.cells, mixed), aim, walls, greatest=False)):
        rows, columns = part.shape[:2]
        out = part if out is None else part + _doubled(_doubled(out, 0), 1)[:rows, :columns]
    assert out is not None
    return out


def quick_greatest(flow: Flow, held: Held, aim: Aim, walls: Vec) -> Vec:
    """About the greatest value along the sight, −∞ where a ray meets nothing; shape (rows, columns, k)."""
    out: Vec | None = None
    for part in reversed(_spread(flow, held, aim, walls, greatest=True)):
        rows, columns = part.shape[:2]
        out = part if out is None else np.maximum(part, out.repeat(2, axis=0).repeat(2, axis=1)[:rows, :columns])
    assert out is not None
    return out


def _spread(flow: Flow, held: Held, aim: Aim, walls: Vec, *, greatest: bool) -> list[Vec]:
    """Pictures of small cells to large ones, each half as fine as the one before."""
    middles = Middles.of(flow)
    sizes = np.array([[-(-aim.rows // 2**n), -(-aim.columns // 2**n)] for n in range(LEVELS)], np.int64)
    ends = np.cumsum(sizes.prod(axis=1))
    starts = np.concatenate([[0], ends[:-1]]).astype(np.int64)
    places, widths, depth = read_only(middles.places), read_only(middles.widths), read_only(walls)
    frame, bounds = np.stack([aim.corner, aim.right, aim.up, aim.way]), np.linspace(0, len(held.cells), PARTS + 1).astype(int)

    def part(number: int) -> Vec:
        rows = slice(bounds[number], bounds[number + 1])
        own = np.full((int(ends[-1]), held.held.shape[1]), -np.inf if greatest else 0.0)
        kernels.spread(places, widths, read_only(held.held[rows]), read_only(held.cells[rows]), frame, aim.pixel, depth, starts, sizes,
                       greatest, own)
        return own

    image = (np.maximum if greatest else np.add).reduce(list(in_turn(part, PARTS)))
    return [image[a:b].reshape(rows, columns, -1) for a, b, (rows, columns) in zip(starts, ends, sizes, strict=True)]


def _doubled(values: Vec, axis: int) -> Vec:
    """Twice as many along an axis, linear between."""
    v = np.moveaxis(values, axis, 0)
    before, after = np.concatenate([v[:1], v[:-1]]), np.concatenate([v[1:], v[-1:]])
    out = np.empty((2 * len(v), *v.shape[1:]))
    out[::2], out[1::2] = 0.75 * v + 0.25 * before, 0.75 * v + 0.25 * after
    return np.moveaxis(out, 0, axis)
