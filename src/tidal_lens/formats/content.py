"""What every reader hands on: solid blocks and surfaces, checked, of linear cells."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import BoundaryKind, Field, Place
from tidal_lens.flow.grid import COLLAPSE, OWN_CORNERS, Grid, UnstructuredGrid
from tidal_lens.flow.volumes import turn_cells
from tidal_lens.formats.cells import FLAT, SKIPPED, Cells, Linear, check_cells, flat_cells, linear_cells
from tidal_lens.formats.hanging import find_hanging
from tidal_lens.formats.polyhedra import Added, cut
from tidal_lens.work import checkpoint

DAMAGED = "Write it again from the solver."
LEFT_OUT = "Left out beside its solid cells: "
PLACES: tuple[Place, ...] = ("node", "cell")
_FARTHEST = 1e100


@dataclass(frozen=True, eq=False)
class Solid:
    """A block of three-dimensional cells with its fields and the file's facts about the case.

    ``whole`` names what it is a piece of, where a solver's partition cut it; it is empty for a block of its own.
    """

    name: str
    grid: Grid
    points: NDArray[np.float64]
    fields: list[Field]
    facts: dict[str, Any]
    notices: list[str] = field(default_factory=list)
    whole: str = ""


@dataclass(frozen=True, eq=False)
class Sheet:
    """A surface.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        Points.
    faces : ndarray, shape (m, 4), int64
        Corners; a triangle repeats its last.
    notices : list of str
        What was left out.
    kind : str or None
        The boundary's kind if the file states it.
    fields, facts
        Its own values, if it is all there is of the flow.
    dims : tuple of int or None
        Points along its two directions if it is structured.
    polygons : ndarray, shape (m,), int64, or None
        The polygon that each face was cut from, where some were cut.
    curves : list
        Boundaries of a plane flow that lie on it: name, kind if it is told, and edges (k, 2).
    """

    points: NDArray[np.float64]
    faces: NDArray[np.int64]
    notices: list[str] = field(default_factory=list)
    kind: BoundaryKind | None = None
    fields: list[Field] = field(default_factory=list)
    facts: dict[str, Any] = field(default_factory=dict)
    dims: tuple[int, int] | None = None
    polygons: NDArray[np.int64] | None = None
    curves: list[tuple[str, BoundaryKind | None, NDArray[np.int64]]] = field(default_factory=list)


def finite_points(points: NDArray[Any], where: str) -> NDArray[np.float64]:
    """Points as they are kept.

    Raises
    ------
    FileError
        Some are not finite.
    """
    kept = np.ascontiguousarray(points, dtype=np.float64)
    largest = max(float(kept.max(initial=0.0)), -float(kept.min(initial=0.0)))
    checkpoint()
    if not largest < _FARTHEST:
        bad = ~(np.abs(kept) < _FARTHEST).all(axis=1)
        raise FileError(f"{int(bad.sum()):,} points have coordinates that are not finite or beyond {_FARTHEST:.0e}, the first is point "
                        f"{int(bad.argmax()):,}.", where, DAMAGED)
    return kept


def kept_field(name: str, place: str, values: NDArray[Any], count: int, where: str) -> Field | None:
    """A field as it is kept: 1 or 3 components, of the file's precision; None where it is no such thing.

    Raises
    ------
    FileError
        It has another number of values than there are nodes or cells.
    """
    if values.dtype.kind not in "fiub" or values.ndim > 2:
        return None
    if values.ndim == 2 and values.shape[1] == 1:
        values = values[:, 0]
    if values.ndim == 2 and values.shape[1] == 2:
        values = np.column_stack([values, np.zeros(len(values), values.dtype)])
    if len(values) != count:
        raise FileError(f"{name} has {len(values):,} values for {count:,} {place}s.", where, DAMAGED)
    if values.ndim == 2 and values.shape[1] != 3:
        return None
    dtype = values.dtype if values.dtype in (np.float32, np.float64) else np.dtype(np.float64)
    return Field(name, "node" if place == "node" else "cell", np.ascontiguousarray(values, dtype=dtype))


def block_of_cells(points: NDArray[np.float64], cells: Cells, fields: list[Field], facts: dict[str, Any], where: str,
                   keep: NDArray[np.bool_] | None = None, *, used_up: bool = False) -> Solid | Sheet | None:
    """A block of the solid cells in a list, or a surface of its flat ones if there are none.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Finite points.
    cells : Cells
        All its cells.
    fields : list of Field
        Values at all its nodes and cells.
    facts : dict
        About the case.
    where : str
        For messages.
    keep : ndarray, shape (m,), bool, optional
        Which cells belong to it and are not hidden.
    used_up : bool
        The lists of cells are not needed afterwards: their memory is given back before more is taken.

    Raises
    ------
    FileError
        The list of cells makes no sense.
    """
    check_cells(cells, len(points), where)
    checkpoint()
    wanted = np.ones(len(cells.types), dtype=bool) if keep is None else keep
    linear = linear_cells(cells, wanted, points, where)
    if linear is None:
        faces, parents = flat_cells(cells, wanted, where)
        if len(faces) == 0:
            return None
        flat = [f if f.place == "node" else replace(f, values=f.values[parents]) for f in fields]
        cut_up = len(parents) and bool((parents[1:] == parents[:-1]).any())
        return Sheet(points, faces, fields=flat, facts=facts, polygons=parents if cut_up else None)
    checkpoint()
    left = _left_out(cells, wanted)
    told = [f"{LEFT_OUT}{left}."] if left else []
    if used_up:
        cells.drop()
    return replace(_packed(linear, *_extended(points, fields, linear.added), facts), notices=told)


def _left_out(cells: Cells, wanted: NDArray[np.bool_]) -> str:
    """Cells of fewer dimensions in a list of solid ones, in words."""
    counts = {"surface cells": np.isin(cells.types, [*FLAT]), "lines and points": np.isin(cells.types, [*SKIPPED])}
    return ", ".join(f"{n:,} {words}" for words, which in counts.items() if (n := int((which & wanted).sum())))


def _extended(points: NDArray[np.float64], fields: list[Field], added: list[Added]) -> tuple[NDArray[np.float64], list[Field]]:
    """Points and node values with those that cutting added."""
    for more in added:
        fields = [replace(f, values=np.concatenate([f.values, more.values(f.values)])) if f.place == "node" else f for f in fields]
        points = np.concatenate([points, more.values(points)])
    return points, fields


def at_nodes(solid: Solid, field: Field) -> Field:
    """A cell field of a block at its nodes: the plain mean of the cells round each."""
    grid = solid.grid
    columns = field.values.reshape(len(field.values), -1)
    sums, counts = np.zeros((grid.n_points, columns.shape[1])), np.zeros(grid.n_points)
    if isinstance(grid, UnstructuredGrid):
        for kind, corners in OWN_CORNERS.items():
            some = np.flatnonzero(grid.types == kind)
            for corner in corners if len(some) else ():
                nodes = grid.corners[some, corner]
                counts += np.bincount(nodes, minlength=grid.n_points)
                for c in range(columns.shape[1]):
                    sums[:, c] += np.bincount(nodes, columns[some, c], grid.n_points)
    else:
        i, j, k = grid.dims
        lattice, many = sums.reshape(k, j, i, -1), counts.reshape(k, j, i)
        cells = columns.reshape(k - 1, j - 1, i - 1, -1)
        for at in np.ndindex(2, 2, 2):
            part = tuple(slice(a, n - 1 + a) for a, n in zip(at, (k, j, i), strict=True))
            lattice[part] += cells
            many[part] += 1.0
    with np.errstate(invalid="ignore", divide="ignore"):
        means = (sums / counts[:, None]).astype(field.values.dtype)
    return Field(field.name, "node", means.reshape(-1, *field.values.shape[1:]))


def conforming(solid: Solid) -> Solid:
    """A block with hanging nodes taken up by the cells they hang on; the same where there are none."""
    grid, points = solid.grid, solid.points
    found = find_hanging(grid, points) if isinstance(grid, UnstructuredGrid) else None
    if found is None or not isinstance(grid, UnstructuredGrid):
        return solid
    made = cut(found.faces, np.arange(len(found.cells)), points, len(points))
    rest = np.ones(grid.n_cells, dtype=bool)
    rest[found.cells] = False
    corners = [grid.corners[rest], *(own[:, COLLAPSE[kind]].astype(np.int32) for kind, own, _ in made.parts)]
    types = [grid.types[rest], *(np.full(len(own), kind, np.uint8) for kind, own, _ in made.parts)]
    parents = [np.flatnonzero(rest), *(found.cells[whose] for _, _, whose in made.parts)]
    told = f"{len(found.cells):,} cells beside finer ones"
    both = Linear(np.concatenate(corners), np.concatenate(types), np.concatenate(parents), [],
                  f"{grid.origin}, {told}" if grid.origin else f"cut from {told}")
    new = _packed(both, *_extended(points, solid.fields, [made.centres]), solid.facts)
    return replace(new, name=solid.name, notices=solid.notices, whole=solid.whole)


def _packed(linear: Linear, points: NDArray[np.float64], fields: list[Field], facts: dict[str, Any]) -> Solid:
    """The block with its own points only, its cells turned to positive volume."""
    corners = linear.corners
    used = np.zeros(len(points), dtype=bool)
    used[corners] = True
    if not used.all():
        number = np.cumsum(used, dtype=np.int32) - 1
        corners, points = number[corners], points[used]
        fields = [replace(f, values=f.values[used]) if f.place == "node" else f for f in fields]
    checkpoint()
    turn_cells(points, corners, linear.types)
    same = bool(len(linear.parents)) and np.array_equal(linear.parents, np.arange(len(linear.parents)))
    values = [f if f.place == "node" or (same and len(f.values) == len(linear.parents)) else replace(f, values=f.values[linear.parents])
              for f in fields]
    return Solid("", UnstructuredGrid(len(points), corners, linear.types, linear.origin), points, values, facts)
