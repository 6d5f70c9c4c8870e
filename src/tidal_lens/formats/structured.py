"""Structured blocks as readers find them: with layers of others' cells round them, with holes, or one point thick."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Field
from tidal_lens.flow.faces import quads_of_sheet
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.formats.cells import uniform
from tidal_lens.formats.content import Sheet, Solid, block_of_cells
from tidal_lens.work import checkpoint

Form = Literal["uniform", "rectilinear", "curvilinear"]


def lattice_points(axes: Sequence[NDArray[Any]]) -> NDArray[np.float64]:
    """Points of a lattice with given coordinates along x, y and z, shape (n, 3), x fastest."""
    z, y, x = np.meshgrid(axes[2], axes[1], axes[0], indexing="ij")
    return np.column_stack([x.ravel(), y.ravel(), z.ravel()]).astype(np.float64)


def structured(points: NDArray[np.float64], dims: tuple[int, int, int], form: Form, fields: list[Field], own: NDArray[np.bool_],
               facts: dict[str, Any], where: str) -> Solid | Sheet | None:
    """A structured block, or a sheet where it is one point thick.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points, i fastest.
    dims : tuple of int
        Points along i, j, k.
    form : str
        ``uniform``, ``rectilinear`` or ``curvilinear``.
    fields : list of Field
        Values at nodes and cells.
    own : ndarray, shape (cells,), bool
        Cells that are its own and not hidden.
    facts : dict
        About the case.
    where : str
        For messages.
    """
    if sum(d > 1 for d in dims) < 3:
        sheet = np.arange(len(points), dtype=np.int64).reshape([d for d in dims[::-1] if d > 1])
        if sheet.ndim != 2:
            return None
        whole = bool(own.all())
        faces = quads_of_sheet(sheet)
        if not whole:
            fields = [f if f.place == "node" else Field(f.name, "cell", f.values[own]) for f in fields]
        return Sheet(points, faces if whole else faces[own], fields=fields, facts=facts,
                     dims=(sheet.shape[1], sheet.shape[0]) if whole else None)
    checkpoint()
    grid = StructuredGrid(dims, form)
    core, left = _core_of(own.reshape([d - 1 for d in dims[::-1]]))
    if core is None:
        return None
    if left:  # holes inside: the cells that are left have no more than their neighbours in common with a lattice
        return block_of_cells(points, uniform(12, lattice_cells(dims)), fields, facts, where, own)
    if core != tuple((0, d - 1) for d in dims[::-1]):
        grid, points, fields = _cropped(grid, points, fields, core)
    return Solid("", grid, points, fields, facts)


def lattice_cells(dims: tuple[int, int, int]) -> NDArray[np.int64]:
    """Corners of the cells of a lattice, shape (m, 8)."""
    index = np.arange(dims[0] * dims[1] * dims[2], dtype=np.int64).reshape(dims[::-1])
    a, b = slice(None, -1), slice(1, None)
    return np.stack([index[a, a, a], index[a, a, b], index[a, b, b], index[a, b, a],
                     index[b, a, a], index[b, a, b], index[b, b, b], index[b, b, a]], axis=-1).reshape(-1, 8)


_Box = tuple[tuple[int, int], tuple[int, int], tuple[int, int]]


def _core_of(own: NDArray[np.bool_]) -> tuple[_Box | None, int]:
    """The box of cells (k, j, i) that are a block's own, and how many in it are not; None where all belong to others."""
    if own.all():
        k, j, i = own.shape
        return ((0, k), (0, j), (0, i)), 0
    if not own.any():
        return None, 0
    ranges = []
    for axis in range(3):
        there = np.flatnonzero(own.any(axis=tuple(a for a in range(3) if a != axis)))
        ranges.append((int(there[0]), int(there[-1]) + 1))
    box = (ranges[0], ranges[1], ranges[2])
    inner = own[tuple(slice(a, b) for a, b in box)]
    return box, int(inner.size - inner.sum())


def _cropped(grid: StructuredGrid, points: NDArray[np.float64], fields: list[Field],
             core: _Box) -> tuple[StructuredGrid, NDArray[np.float64], list[Field]]:
    """A structured block without its layers of ghost cells."""
    cells = tuple(slice(a, b) for a, b in core)
    nodes = tuple(slice(a, b + 1) for a, b in core)
    dims = grid.dims

    def cut(values: NDArray[Any], place: str) -> NDArray[Any]:
        shape = dims[::-1] if place == "node" else tuple(d - 1 for d in dims[::-1])
        part = values.reshape(*shape, *values.shape[1:])[nodes if place == "node" else cells]
        return np.ascontiguousarray(part.reshape(-1, *values.shape[1:]))

    k, j, i = (b - a + 1 for a, b in core)
    return (StructuredGrid((i, j, k), grid.form), cut(points, "node"),
            [Field(f.name, f.place, cut(f.values, f.place)) for f in fields])
