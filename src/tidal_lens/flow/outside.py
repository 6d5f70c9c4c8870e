"""The outside of a whole flow: its outer faces, those between blocks left out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.faces import outer_faces, outer_owners, outward_areas, unshared_mask
from tidal_lens.flow.grid import Grid
from tidal_lens.flow.seams import Seams
from tidal_lens.work import checkpoint


@dataclass(frozen=True, eq=False)
class Outside:
    """Faces that bound a flow.

    Attributes
    ----------
    faces : ndarray, shape (m, 4), int64
        Corners as the flow's nodes; a triangle repeats its last corner.
    areas : ndarray, shape (m, 3)
        Area vectors, outward.
    cells : ndarray, shape (m,), int64
        The flow's cell behind each.
    """

    faces: NDArray[np.int64]
    areas: NDArray[np.float64]
    cells: NDArray[np.int64]

    def of(self, chosen: NDArray[np.bool_]) -> Outside:
        """Some of the faces."""
        return Outside(self.faces[chosen], self.areas[chosen], self.cells[chosen])


def outside_of(points: NDArray[np.float64], grids: list[tuple[int, int, Grid]], seams: Seams,
               walls: NDArray[np.bool_] | None = None) -> Outside:
    """Outer faces of the whole flow.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points of all blocks.
    grids : list of (int, int, Grid)
        First point, first cell and grid of each block.
    seams : Seams
        Nodes of different blocks that lie on one another.
    walls : ndarray, shape (m,), bool, optional
        Which of the blocks' outer faces are walls, whatever lies on their other side.
    """
    faces = np.concatenate([first + outer_faces(grid) for first, _, grid in grids])
    counts = [len(outer_faces(grid)) for _, _, grid in grids]
    own = unshared_mask(faces, seams.labels(len(points))) if seams.n_groups else np.ones(len(faces), dtype=bool)
    if walls is not None:
        own |= walls
    checkpoint()
    parts = np.split(own, np.cumsum(counts)[:-1])
    areas = np.concatenate([outward_areas(grid, points[first:first + grid.n_points], part)
                            for (first, _, grid), part in zip(grids, parts, strict=True)])
    checkpoint()
    cells = np.concatenate([first + outer_owners(grid)[part] for (_, first, grid), part in zip(grids, parts, strict=True)])
    found = Outside(faces[own], areas, cells)
    if len(grids) == 1:
        return found
    inside = _between_blocks(points, found, np.repeat(np.arange(len(grids)), counts)[own])
    return found.of(~inside if walls is None else ~inside | walls[own])


def _near_another(middle: NDArray[np.float64], reach: NDArray[np.float64], block: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which faces lie so near the box of another block's faces that one of those may face them."""
    first = np.flatnonzero(np.diff(block, prepend=-1))
    faces = [slice(a, b) for a, b in zip(first, [*first[1:], len(block)], strict=True)]
    low, high = np.minimum.reduceat(middle, first), np.maximum.reduceat(middle, first)
    longest = np.maximum.reduceat(reach, first)
    near = np.zeros(len(middle), dtype=bool)
    for k, own in enumerate(faces):
        farthest = np.maximum(longest, longest[k])[:, None]
        meet = ((low[k] <= high + farthest) & (high[k] >= low - farthest)).all(axis=1)
        for other in np.flatnonzero(meet & (np.arange(len(faces)) != k)):
            reached = np.maximum(reach[own], longest[other])[:, None]
            near[own] |= ((middle[own] >= low[other] - reached) & (middle[own] <= high[other] + reached)).all(axis=1)
    return near


def _between_blocks(points: NDArray[np.float64], outside: Outside, block: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Faces that lie flat against those of another block, though their nodes differ: blocks of unlike fineness side by side."""
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    size = np.linalg.norm(outside.areas, axis=1)
    inside = np.zeros(len(outside.faces), dtype=bool)
    if len(inside) == 0:
        return inside
    middle = points[outside.faces].mean(axis=1)
    sound = np.flatnonzero((size > 0.0) & _near_another(middle, np.sqrt(size), block))
    if len(sound) == 0:
        return inside
    normal = outside.areas[sound] / size[sound, None]
    reach = np.sqrt(size[sound])
    checkpoint()
    near, at = cKDTree(middle[sound]).query(middle[sound], k=min(9, len(sound)), workers=2)
    near, at = np.asarray(near).reshape(len(sound), -1), np.asarray(at).reshape(len(sound), -1)
    for k in range(near.shape[1]):
        other = at[:, k]
        apart = middle[sound[other]] - middle[sound]
        larger = np.maximum(reach, reach[other])
        flat = np.abs((apart * normal).sum(axis=1)) < 1e-3 * np.minimum(reach, reach[other])
        facing = (normal * normal[other]).sum(axis=1) < -0.999
        inside[sound] |= (block[sound] != block[sound[other]]) & flat & facing & (near[:, k] < 0.75 * larger)
    return inside
