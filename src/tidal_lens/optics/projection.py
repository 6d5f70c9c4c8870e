"""Sums, means and extremes of quantities along the line of sight, over a picture."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.planes import unit
from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.optics import projection_kernels as kernels
from tidal_lens.quantities.smoothing import lattice_corners
from tidal_lens.quantities.walls import wall_faces
from tidal_lens.work import WORKERS, Token, in_turn, read_only, run_chunks

Vec = NDArray[np.float64]
PARTS = 2  # pictures that are added up side by side: always as many, so that the sum does not depend on the number of threads
_CELLS = 50_000
_ASIDE = (1.37e-6, 2.71e-6)  # pixels: no ray runs within a face of cells that stand along the sight, and counts on both sides of it
_UP = np.array([0.0, 0.0, 1.0])
KEPT = 4  # pictures
NOTHING = 6e-3  # of what a tenth of the nodes exceed: less is nothing; pictures err by five in a thousand of their strong places


@dataclass(frozen=True, eq=False)
class Aim:
    """A picture plane across the line of sight.

    Attributes
    ----------
    way, right, up : ndarray, shape (3,)
        Along the sight, away from the viewer, and the directions of columns and rows.
    corner : ndarray, shape (3,)
        Of the picture, left below.
    pixel : float
        Its width [length].
    rows, columns : int
        How many.
    far : float
        Depth of the plane behind all that is to be seen, along ``way``.
    """

    way: Vec
    right: Vec
    up: Vec
    corner: Vec
    pixel: float
    rows: int
    columns: int
    far: float

    @staticmethod
    def of(flow: Flow, direction: Vec, columns: int) -> Aim:
        """Of what of a flow is worth seeing, along a direction."""
        way = unit(direction)
        up = _UP - (_UP @ way) * way if abs(way[2]) < 0.95 else np.array([0.0, 1.0, 0.0]) - way[1] * way
        up = unit(up)
        right = np.cross(way, up)
        low, high = flow.stage
        box = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
        across, along, depth = box @ right, box @ up, box @ way
        wide, tall = float(np.ptp(across)), float(np.ptp(along))
        pixel = max(wide, tall * 1e-3, 1e-300) / columns
        rows = int(np.clip(np.ceil(tall / pixel), 2, 4 * columns))
        far = float(depth.max())
        corner = float(across.min()) * right + float(along.min()) * up + far * way
        return Aim(way, right, up, corner, pixel, rows, columns, far)

    def placed(self, points: Vec) -> Vec:
        """Places (n, 3) as column, row [pixels] and depth along the sight [length]."""
        to = np.column_stack([self.right / self.pixel, self.up / self.pixel, self.way])
        aside = np.array([*_ASIDE, float(self.corner @ self.way)])
        out = np.empty((len(points), 3))

        def some(begin: int, end: int) -> None:
            np.matmul(points[begin:end] - self.corner, to, out=out[begin:end])
            out[begin:end] += aside

        run_chunks(some, len(points), 32768)
        return out

    def places(self) -> Vec:
        """The middles of all pixels in space, on the plane behind, row by row, shape (rows · columns, 3)."""
        across = (np.arange(self.columns) + 0.5)[:, None] * (self.pixel * self.right)
        along = (np.arange(self.rows) + 0.5)[:, None] * (self.pixel * self.up) + self.corner
        return np.asarray((along[:, None] + across).reshape(-1, 3))


def walls_before(flow: Flow, aim: Aim) -> Vec:
    """Depth of the nearest wall at each pixel, shape (rows, columns); infinite where there is none."""
    depth = np.full((aim.rows, aim.columns), np.inf)
    used, numbers = _corners(flow, "walls")
    if len(numbers):
        points = aim.placed(flow.points[used])
        _nearest(points, numbers, depth)
        # Split along the other diagonal too: no cell of the flow in front reaches behind the farther of both.
        other = np.full_like(depth, np.inf)
        _nearest(points, np.roll(numbers, 1, axis=1), other)
        depth = np.where(np.isfinite(other), np.maximum(depth, other), depth)
    return depth


def _nearest(points: Vec, faces: NDArray[np.int64], depth: Vec) -> None:
    run_chunks(lambda a, b: kernels.nearest_walls(points, faces, depth, a, b), len(depth), max(-(-len(depth) // (2 * WORKERS)), 32))


def _corners(flow: Flow, which: Literal["walls", "outside"]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Nodes of the walls, or of all of the outside, and the faces (m, 4) by their numbers among those; kept with the flow."""
    kept_already: dict[str, tuple[NDArray[np.int64], NDArray[np.int64]]] = flow.__dict__.setdefault("_seen_faces", {})
    if which not in kept_already:
        faces = wall_faces(flow)[0] if which == "walls" else flow.outside.faces
        used, numbers = np.unique(faces, return_inverse=True)
        kept_already[which] = used, numbers.reshape(faces.shape).astype(np.int64)
    return kept_already[which]


def meets(flow: Flow, aim: Aim, walls: Vec) -> NDArray[np.bool_]:
    """Whether the ray at each pixel goes through the flow before it comes to a wall, shape (rows, columns)."""
    used, numbers = _corners(flow, "outside")
    front = np.full((aim.rows, aim.columns), np.inf)
    _nearest(aim.placed(flow.points[used]), numbers, front)
    return np.asarray(front < walls - 1e-9 * flow.size)


def along_sight(flow: Flow, values: NDArray[Any], aim: Aim, walls: Vec, token: Token | None = None, *,
                greatest: bool = False) -> Vec:
    """Sum of node values along each ray as far as the walls, shape (rows, columns, k); or their greatest, −∞ where a ray meets nothing.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : ndarray, shape (nodes, k)
        Linear within tetrahedra that cells are cut into.
    aim : Aim
        The picture.
    walls : ndarray, shape (rows, columns)
        See :func:`walls_before`; infinite where light passes.
    token : Token, optional
        Progress and cancel.
    greatest : bool
        The greatest value in the place of the sum.
    """
    points = read_only(aim.placed(flow.points))
    own = np.ascontiguousarray(np.nan_to_num(values.astype(np.float64)))
    if not greatest:
        own[np.abs(own) <= _floor(own)] = 0.0
    depth = read_only(walls + 1e-7 * flow.size)  # the wall itself is to be seen
    mode = kernels.GREATEST if greatest else kernels.SUM
    chunks, fixed = cell_ranges(flow), read_only(own)
    there = np.isfinite(depth)
    some = there.any(axis=1)
    clear = read_only(np.column_stack([np.where(some, there.argmax(axis=1), aim.columns),
                                       np.where(some, aim.columns - there[:, ::-1].argmax(axis=1), 0)]))

    def part(number: int) -> Vec:
        image = np.full((own.shape[1], aim.rows, aim.columns), -np.inf if greatest else 0.0)
        for at, (block, first, last) in enumerate(chunks):
            if at % PARTS == number:
                if token is not None:
                    token.check()
                grid = flow.blocks[block].grid
                shape = (*(n - 1 for n in grid.dims[:2]), last - first) if isinstance(grid, StructuredGrid) else (0, 0, 0)
                corners = read_only(cell_corners(flow, block, first, last))
                kernels.deposit(points, fixed, corners, np.array(shape, np.int64), depth, clear, mode, image)
        return image

    images = list(in_turn(part, PARTS))
    return np.moveaxis(np.maximum.reduce(images) if greatest else np.add.reduce(images), 0, 2)


def _floor(values: Vec) -> Vec:
    """Of each column of node values (n, k), what counts as nothing."""
    some = np.abs(values[::max(1, len(values) // 100_000)])
    typical = np.quantile(some, 0.9, axis=0) if len(some) else np.zeros(values.shape[1])
    return np.asarray(np.minimum(NOTHING * typical, 1e-3 * np.abs(values).max(axis=0, initial=0.0)))


def cell_ranges(flow: Flow) -> list[tuple[int, int, int]]:
    """Ranges of each block's cells, of layers where it is structured."""
    out = []
    for number, block in enumerate(flow.blocks):
        grid = block.grid
        if isinstance(grid, StructuredGrid):
            layers, step = grid.dims[2] - 1, max(1, _CELLS // max(1, (grid.dims[0] - 1) * (grid.dims[1] - 1)))
        else:
            layers, step = grid.n_cells, _CELLS
        out += [(number, a, min(a + step, layers)) for a in range(0, layers, step)]
    return out


def cell_corners(flow: Flow, number: int, first: int, last: int) -> NDArray[np.int64]:
    """Corners (m, 8) of such a range of a block's cells, as the flow's nodes."""
    block = flow.blocks[number]
    grid = block.grid
    own = lattice_corners(grid.dims, first, last) if isinstance(grid, StructuredGrid) else grid.corners[first:last]
    return np.add(own, block.first_point, dtype=np.int64)


def kept(flow: Flow, source: NDArray[Any], what: object, aim: Aim, walls: Vec, make: Callable[[], Vec]) -> Vec:
    """A picture of a source along a sight, kept with the flow while no more than two others come after it; not to be written to.

    What only says how it is looked at (a knife edge, a wavelength) then needs no rays again.
    """
    have: list[tuple[NDArray[Any], object, Vec]] = flow.__dict__.get("_sights", [])
    key = (what, aim.way.tobytes(), aim.rows, aim.columns, hash(walls.tobytes()))
    for its, told, picture in have:
        if its is source and told == key:
            return picture
    picture = read_only(make())
    flow.__dict__["_sights"] = [(source, key, picture), *have[:KEPT - 1]]
    return picture
