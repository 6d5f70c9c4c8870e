"""A flow round a ball."""

from dataclasses import replace

import numpy as np

from making import flow_of
from tidal_lens.flow.case import Boundary
from tidal_lens.flow.grid import HEXAHEDRON, UnstructuredGrid


def shell(n=13):
    """A shell of hexahedra round a ball of radius 1, its inner side a wall: six patches, welded."""
    a = np.tan(np.linspace(-np.pi / 4, np.pi / 4, n))
    s, t = (g.ravel() for g in np.meshgrid(a, a, indexing="ij"))
    sides = []
    for axis in range(3):
        for sign in (1.0, -1.0):
            p = np.empty((n * n, 3))
            p[:, axis], p[:, (axis + 1) % 3], p[:, (axis + 2) % 3] = sign, sign * s, t
            sides.append(p / np.linalg.norm(p, axis=1)[:, None])
    every = np.concatenate(sides)
    _, first, place = np.unique(np.round(every, 9), axis=0, return_index=True, return_inverse=True)
    ball, count = every[first], len(first)
    index = place.reshape(6, n, n)
    quads = np.stack([index[:, :-1, :-1], index[:, 1:, :-1], index[:, 1:, 1:], index[:, :-1, 1:]], axis=-1).reshape(-1, 4)
    cells = np.hstack([quads, quads + count]).astype(np.int32)
    points = np.concatenate([ball, 1.3 * ball])
    grid = UnstructuredGrid(2 * count, cells, np.full(len(cells), HEXAHEDRON, np.uint8))
    flow = flow_of([(points, grid)], {"Velocity": points.copy()})
    return replace(flow, boundaries=(Boundary("ball", "wall", points, quads.astype(np.int64), np.arange(len(points))),))
