"""What one block, boundary or quantity is like: sizes, worst cells, extremes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Block, Boundary, Flow
from tidal_lens.flow.grid import CELL_NAMES, StructuredGrid, UnstructuredGrid
from tidal_lens.measures import kernels
from tidal_lens.work import Token, read_only, run_chunks

_CHUNK = 32768
Place = tuple[float, float, float]


@dataclass(frozen=True)
class Worst:
    """The worst value of a measure of quality, where it is, and its mean."""

    value: float
    place: Place
    mean: float


@dataclass(frozen=True)
class BlockReport:
    """What a block is like.

    Attributes
    ----------
    cells : tuple of (str, int)
        Kinds of cells and their numbers.
    points : int
        Number of points.
    low, high : tuple of float
        Bounds.
    volume : float
        Volume of all cells [length³].
    negative : int
        Cells of negative volume, counted against the hand of most cells of the block.
    smallest : Worst
        Least cell volume.
    skewness, aspect : Worst
        Greatest skewness (0 for a regular cell, 1 for a flat one) and aspect ratio (longest to shortest edge).
    """

    cells: tuple[tuple[str, int], ...]
    points: int
    low: Place
    high: Place
    volume: float
    negative: int
    smallest: Worst
    skewness: Worst
    aspect: Worst


@dataclass(frozen=True)
class ValuesReport:
    """Extremes of node values and where they are."""

    low: float
    low_place: Place
    high: float
    high_place: Place
    mean: float
    not_finite: int
    first_not_finite: Place | None


def _place(values: NDArray[np.float64]) -> Place:
    return float(values[0]), float(values[1]), float(values[2])


def corners_of(block: Block) -> NDArray[np.int32]:
    """Corners of a block's cells as (collapsed) hexahedra, shape (m, 8), counted within the block."""
    if isinstance(block.grid, UnstructuredGrid):
        return block.grid.corners
    index = np.arange(block.grid.n_points, dtype=np.int32).reshape(block.grid.dims[::-1])
    a, b = slice(None, -1), slice(1, None)
    return np.stack([index[a, a, a], index[a, a, b], index[a, b, b], index[a, b, a],
                     index[b, a, a], index[b, a, b], index[b, b, b], index[b, b, a]], axis=-1).reshape(-1, 8)


def inspect_block(flow: Flow, block: Block, token: Token | None = None) -> BlockReport:
    """Count and measure the cells of a block.

    Notes
    -----
    Skewness is that of the most oblique corner angle of any side: max((θmax − θr)/(180° − θr), (θr − θmin)/θr), with θr 90° in
    quadrilaterals and 60° in triangles (equiangle skewness: common practice, no source). Volumes are of hexahedra with bilinear sides.
    """
    points = read_only(flow.points[block.points])
    corners = corners_of(block)
    n = len(corners)
    volume, skewness, aspect = np.empty(n), np.empty(n), np.empty(n)
    run_chunks(lambda a, b: kernels.cell_quality(points, corners, volume, skewness, aspect, a, b), n, _CHUNK, token)
    hand = 1.0 if float(volume.sum()) >= 0.0 else -1.0
    volume *= hand

    def worst(values: NDArray[np.float64], at: int) -> Worst:
        return Worst(float(values[at]), _place(points[corners[at]].mean(axis=0)), float(values.mean()))

    if isinstance(block.grid, StructuredGrid):
        kinds: tuple[tuple[str, int], ...] = (("hexahedra", n),)
    else:
        types, counts = np.unique(block.grid.types, return_counts=True)
        kinds = tuple((CELL_NAMES[int(t)], int(c)) for t, c in zip(types, counts, strict=True))
    return BlockReport(kinds, len(points), _place(points.min(axis=0)), _place(points.max(axis=0)), float(volume.sum()),
                       int((volume < 0.0).sum()), worst(volume, int(volume.argmin())), worst(skewness, int(skewness.argmax())),
                       worst(aspect, int(aspect.argmax())))


def boundary_area(boundary: Boundary) -> float:
    """Area of a boundary [length²]."""
    a, b, c, d = (boundary.points[boundary.faces[:, k]] for k in range(4))
    return float(0.5 * np.linalg.norm(np.cross(c - a, d - b), axis=1).sum())


def inspect_values(flow: Flow, values: NDArray[np.float64]) -> ValuesReport:
    """Extremes of node values, shape (n,)."""
    good = np.isfinite(values)
    bad = int(len(values) - np.count_nonzero(good))
    first = _place(flow.points[int(np.argmin(good))]) if bad else None
    if bad == len(values):
        none = (np.nan, np.nan, np.nan)
        return ValuesReport(np.nan, none, np.nan, none, np.nan, bad, first)
    low = int(np.nanargmin(values)) if not bad else int(np.where(good, values, np.inf).argmin())
    high = int(np.nanargmax(values)) if not bad else int(np.where(good, values, -np.inf).argmax())
    mean = float(values.mean(dtype=np.float64, where=good)) if bad else float(values.mean(dtype=np.float64))
    return ValuesReport(float(values[low]), _place(flow.points[low]), float(values[high]), _place(flow.points[high]), mean, bad, first)
