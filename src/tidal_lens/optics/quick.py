"""A quick look along the line of sight, while it is turned: each cell gives all that it holds to the pixels next to its middle.

Large cells give to coarser pictures, which are laid onto the fine one; so nothing is dotted, and nothing sharp where cells are large.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.volumes import cell_volumes
from tidal_lens.optics.projection import Aim, Vec, cell_corners, cell_ranges

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
    def of(flow: Flow, values: NDArray[Any]) -> Held:
        """Of node values (n, k), kept with the flow until others are asked for."""
        ready: tuple[NDArray[Any], Held] | None = flow.__dict__.get("_held")
        if ready is not None and ready[0] is values:
            return ready[1]
        middles = Middles.of(flow)
        means = np.empty((flow.n_cells, values.shape[1]), np.float32)
        for rows, corners in _ranges(flow):
            means[rows] = np.nan_to_num(values[corners]).mean(axis=1)
        weight = np.abs(means).max(axis=1) * middles.widths
        cells = np.flatnonzero(weight > NOTHING * float(weight.max(initial=0.0)))
        found = Held(cells, means[cells] * middles.volumes[cells, None])
        flow.__dict__["_held"] = values, found
        return found


def quick_sum(flow: Flow, held: Held, mix: Vec, aim: Aim, walls: Vec) -> Vec:
    """About :func:`tidal_lens.optics.projection.along_sight`, of values mixed by a matrix (k, j); shape (rows, columns, j)."""
    middles = Middles.of(flow)
    turned = np.stack([aim.right, aim.up, aim.way], axis=1).astype(np.float32)
    off = middles.places[held.cells] - aim.corner.astype(np.float32)
    seen = off @ turned
    x, y = seen[:, 0] / aim.pixel, seen[:, 1] / aim.pixel
    depth = seen[:, 2] + float(aim.corner @ aim.way)
    level = np.clip(np.ceil(np.log2(np.maximum(middles.widths[held.cells] / aim.pixel, 1e-9))), 0, LEVELS - 1).astype(np.int64)
    column, row = np.clip(x.astype(np.int64), 0, aim.columns - 1), np.clip(y.astype(np.int64), 0, aim.rows - 1)
    open_to = depth < walls[row, column]
    own = held.held @ mix.astype(np.float32)
    out: Vec | None = None
    for n in range(LEVELS - 1, -1, -1):
        rows, columns = -(-aim.rows // 2**n), -(-aim.columns // 2**n)
        here = np.flatnonzero((level == n) & open_to)
        part = _spread(x[here] / 2**n, y[here] / 2**n, own[here] / (aim.pixel * 2**n) ** 2, rows, columns)
        out = part if out is None else part + _doubled(_doubled(out, 0), 1)[:rows, :columns]
    assert out is not None
    return out


def _spread(x: Small, y: Small, held: Small, rows: int, columns: int) -> Vec:
    """Values given to the four pixels next to each place."""
    i, j = np.floor(x - 0.5).astype(np.int64), np.floor(y - 0.5).astype(np.int64)
    fx, fy = x - 0.5 - i, y - 0.5 - j
    out = np.zeros((rows * columns, held.shape[1]))
    for down in (0, 1):
        for aside in (0, 1):
            weight = (fx if aside else 1.0 - fx) * (fy if down else 1.0 - fy)
            good = (i + aside >= 0) & (i + aside < columns) & (j + down >= 0) & (j + down < rows)
            at = ((j + down) * columns + i + aside)[good]
            for k in range(held.shape[1]):
                out[:, k] += np.bincount(at, weight[good] * held[good, k], rows * columns)
    return out.reshape(rows, columns, -1)


def _doubled(values: Vec, axis: int) -> Vec:
    """Twice as many along an axis, linear between."""
    v = np.moveaxis(values, axis, 0)
    before, after = np.concatenate([v[:1], v[:-1]]), np.concatenate([v[1:], v[-1:]])
    out = np.empty((2 * len(v), *v.shape[1:]))
    out[::2], out[1::2] = 0.75 * v + 0.25 * before, 0.75 * v + 0.25 * after
    return np.moveaxis(out, 0, axis)
