"""Seeds where no line has come near yet, until a space or a surface is covered evenly."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token

_BATCH = 48  # lines that are followed before it is looked again where there are none
_APART = 3  # cells between two seeds of a batch
MOST_CELLS = 4_000_000
Vec = NDArray[np.float64]


def lattice(low: Vec, high: Vec, spacing: float) -> Vec:
    """Middles of the cells of a cubic lattice over a box, shape (n, 3); a box thinner than a cell has one layer in its middle."""
    count = np.maximum(np.round((high - low) / spacing), 1).astype(np.int64)
    axes = [a + (np.arange(n) + 0.5) * (b - a) / n for a, b, n in zip(low, high, count, strict=True)]
    z, y, x = np.meshgrid(*axes[::-1], indexing="ij")
    return np.column_stack([x.ravel(), y.ravel(), z.ravel()])


def fill(candidates: Vec, spacing: float, follow: Callable[[Vec], Lines], taken: Lines | None, most: int, token: Token) -> Vec:
    """Choose seeds among candidates so that lines from them come by everywhere, and none begins where one has come by.

    Parameters
    ----------
    candidates : ndarray, shape (n, 3)
        Where lines may begin.
    spacing : float
        Size of the cells, of which each is to be passed through by a line.
    follow : callable
        Lines from seeds.
    taken : Lines or None
        Lines that are there already.
    most : int
        How many seeds at most.
    token : Token
        Progress and cancel.

    Returns
    -------
    ndarray, shape (m, 3)
        The seeds.
    """
    if len(candidates) == 0:
        return np.empty((0, 3))
    low = candidates.min(axis=0) - 0.5 * spacing
    own = _cells(candidates, low, spacing)
    free = np.ones(len(candidates), dtype=bool)
    size = own.max(axis=0) + 2
    marked = np.zeros(int(np.prod(size)), dtype=bool)
    flat = _flat(own, size)
    if taken is not None and taken.n_lines:
        _mark(marked, size, taken, low, spacing)
    chosen: list[Vec] = []
    count, pattern = 0, _flat(own % _APART, np.full(3, _APART))
    many = float(len(candidates))
    while count < most:
        free &= ~marked[flat]
        left = np.flatnonzero(free)
        if len(left) == 0:
            break
        token.check()
        token.report(max(1.0 - len(left) / many, count / most))
        # Of one batch no two are near one another: the pattern of which most are left.
        best = np.bincount(pattern[left]).argmax()
        of_it = left[pattern[left] == best]
        batch = of_it[np.linspace(0, len(of_it) - 1, min(_BATCH, len(of_it), most - count)).astype(int)]
        lines = follow(candidates[batch])
        _mark(marked, size, lines, low, spacing)
        free[batch] = False
        chosen.append(candidates[batch])
        count += len(batch)
    return np.concatenate(chosen) if chosen else np.empty((0, 3))


def _cells(points: Vec, low: Vec, spacing: float) -> NDArray[np.int64]:
    return np.floor((points - low) / spacing).astype(np.int64)


def _flat(cells: NDArray[np.int64], size: NDArray[np.int64]) -> NDArray[np.int64]:
    return np.asarray((cells[:, 2] * size[1] + cells[:, 1]) * size[0] + cells[:, 0])


def _mark(marked: NDArray[np.bool_], size: NDArray[np.int64], lines: Lines, low: Vec, spacing: float) -> None:
    """Mark the cells that lines pass through: points no further apart than half a cell are laid on them."""
    if not lines.n_lines:
        return
    has = np.ones(len(lines.points), dtype=bool)
    has[lines.offsets[1:] - 1] = False
    before = np.flatnonzero(has)
    way = lines.points[before + 1] - lines.points[before]
    many = np.ceil(2.0 * np.linalg.norm(way, axis=1) / spacing).astype(np.int64)
    which = np.repeat(np.arange(len(before)), many)
    share = (np.arange(len(which)) - np.repeat(np.cumsum(many) - many, many)) / many[which]
    laid = np.concatenate([lines.points[before][which] + share[:, None] * way[which], lines.points])
    cells = _cells(laid, low, spacing)
    there = ((cells >= 0) & (cells < size)).all(axis=1)
    marked[_flat(cells[there], size)] = True
