"""A flow result in memory: blocks, fields and boundaries over one packed array of points."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.extent import extent
from tidal_lens.flow.grid import Grid, StructuredGrid
from tidal_lens.flow.outside import Outside, outside_of
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import Roles
from tidal_lens.flow.seams import Seams, find_seams
from tidal_lens.flow.turned import Turned
from tidal_lens.flow.turning import Turning

_numbers = itertools.count(1)


def next_number() -> int:
    """A number that no flow has had: what is kept of a flow is kept by it."""
    return next(_numbers)


Place = Literal["node", "cell"]
BoundaryKind = Literal["wall", "hub", "casing", "blade", "symmetry", "periodic", "inlet", "outlet", "far field", "open", "axis"]
KINDS: tuple[BoundaryKind, ...] = get_args(BoundaryKind)
SOLID: tuple[BoundaryKind, ...] = ("wall", "hub", "casing", "blade")  # walls, those of machines by what they are of


@dataclass(frozen=True)
class Block:
    """One grid of the flow and where its points and cells stand in the packed arrays."""

    name: str
    grid: Grid
    first_point: int
    first_cell: int

    @property
    def points(self) -> slice:
        """The block's points in packed point arrays."""
        return slice(self.first_point, self.first_point + self.grid.n_points)

    @property
    def cells(self) -> slice:
        """The block's cells in packed cell arrays."""
        return slice(self.first_cell, self.first_cell + self.grid.n_cells)


@dataclass(frozen=True, eq=False)
class Field:
    """Values of one quantity as read, over all blocks.

    Attributes
    ----------
    name : str
        Name in the file.
    place : str
        ``node`` or ``cell``.
    values : ndarray, shape (n,) or (n, 3)
        Values at all nodes or cells, blocks one after another, in the file's precision.
    """

    name: str
    place: Place
    values: NDArray[Any]

    @property
    def components(self) -> int:
        """Number of components, 1 or 3."""
        return 1 if self.values.ndim == 1 else int(self.values.shape[1])


@dataclass(frozen=True, eq=False)
class Boundary:
    """A surface that bounds the flow.

    Attributes
    ----------
    name, kind : str
        Name, and what it is.
    points : ndarray, shape (n, 3)
        Its own points.
    faces : ndarray, shape (m, 4), int64
        Corners of its faces; a triangle repeats its last corner.
    nodes : ndarray, shape (n,), int64, or None
        The flow's nodes on which the points lie, where known.
    reason : str
        Why it is taken to be of that kind, in words.
    found : bool
        Whether it is no boundary of the file but was found from outer faces.
    polygons : ndarray, shape (m,), int64, or None
        The polygon of the file that each face was cut from, where some have more than four corners.
    inner : bool
        Whether it is a side of a wall of no thickness inside the flow.
    """

    name: str
    kind: BoundaryKind
    points: NDArray[np.float64]
    faces: NDArray[np.int64]
    nodes: NDArray[np.int64] | None = None
    reason: str = ""
    found: bool = False
    polygons: NDArray[np.int64] | None = None
    inner: bool = False

    @property
    def solid(self) -> bool:
        """Whether it is a wall, of whatever."""
        return self.kind in SOLID


@dataclass(frozen=True, eq=False)
class Flow:
    """A flow result at one moment.

    Attributes
    ----------
    title : str
        What to call it.
    path : Path
        The file that it came from.
    points : ndarray, shape (n, 3), float64
        Points of all blocks, one block after another.
    blocks, fields, boundaries
        Content; fields by their name.
    roles, reference
        Which fields are velocity and so on, and the free stream.
    si_units : bool
        Whether the file states that values are in SI units.
    notices : tuple of str
        What the user should know about how the file was read.
    offered : tuple of tuples of str
        All blocks and all quantities of the file, those left out included.
    normal, depth
        Of a plane flow, the plane's normal and how deep its one layer of cells is; else None and 0.
    layer_found
        Whether that layer of cells is the file's own.
    turned
        Of an axisymmetric flow, what its plane is turned about; else None.
    turning
        How blocks turn, as the file states it; else None.
    times, step
        Times of the chosen steps of the series that it belongs to, and which of them it is; empty for steady flow.
    all_times
        Times of all its steps, those left out included.
    number, mesh_number
        No other flow has the first; those on the same mesh share the second.
    """

    title: str
    path: Path
    points: NDArray[np.float64]
    blocks: tuple[Block, ...]
    fields: Mapping[str, Field]
    boundaries: tuple[Boundary, ...] = ()
    roles: Roles = field(default_factory=Roles)
    reference: ReferenceState = field(default_factory=ReferenceState)
    si_units: bool = False
    notices: tuple[str, ...] = ()
    normal: tuple[float, float, float] | None = None
    depth: float = 0.0
    times: tuple[float, ...] = ()
    step: int = 0
    all_times: tuple[float, ...] = ()
    offered: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
    layer_found: bool = False
    turned: Turned | None = None
    turning: Turning | None = None
    number: int = field(default_factory=next_number)
    mesh_number: int = field(default_factory=next_number)

    @property
    def n_points(self) -> int:
        """Number of points in all blocks."""
        return int(self.points.shape[0])

    @property
    def n_cells(self) -> int:
        """Number of cells in all blocks."""
        return sum(b.grid.n_cells for b in self.blocks)

    @cached_property
    def body(self) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
        """Least and greatest coordinates of the walls, if they are a body in the flow and not its enclosure; else None."""
        walls = [b.points for b in self.boundaries if b.solid and len(b.points)]
        if not walls:
            return None
        points = np.concatenate(walls)
        low, high = extent(points)
        outer_low, outer_high = self.bounds
        return (low, high) if bool(np.all(high - low < 0.7 * (outer_high - outer_low))) else None

    @cached_property
    def length(self) -> float:
        """Length of the body, or of the flow where there is none: its longest side."""
        low, high = self.body or self.bounds
        return float((high - low).max())

    @cached_property
    def stage(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """What is worth seeing first: a body and its surroundings, or the whole flow."""
        low, high = self.bounds
        if self.body is None:
            return low, high
        near, far = self.body
        room = 0.3 * float(np.linalg.norm(far - near))
        return np.maximum(near - room, low), np.minimum(far + room, high)

    @cached_property
    def bounds(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Least and greatest coordinates."""
        return extent(self.points)

    @cached_property
    def size(self) -> float:
        """Length of the diagonal of the bounds."""
        low, high = self.bounds
        return float(np.linalg.norm(high - low))

    @cached_property
    def seams(self) -> Seams:
        """Nodes of different blocks that lie on one another."""
        return find_seams(self.points, [(b.first_point, b.grid) for b in self.blocks])

    @cached_property
    def outside(self) -> Outside:
        """Faces that bound the whole flow."""
        return outside_of(self.points, [(b.first_point, b.first_cell, b.grid) for b in self.blocks], self.seams)

    @property
    def nbytes(self) -> int:
        """Memory that points, connectivity and fields take [bytes]."""
        grids = sum(0 if isinstance(b.grid, StructuredGrid) else b.grid.corners.nbytes for b in self.blocks)
        return self.points.nbytes + grids + sum(f.values.nbytes for f in self.fields.values())
