"""The mesh: a box's surface wrapped round half the body, times layers from the wall to the outer boundary.

Cells are (wall quad, layer). Five panels of quads (nose, base, side, top, bottom) share the layer index, so no axis is
singular, and as every quad has opposite edges, four-point stencils exist everywhere, across the panels' edges too.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import brentq

from tidal_lens.demo.solver import body

Array = NDArray[np.float64]
Ints = NDArray[np.int64]
PANELS = ("nose", "base", "side", "top", "bottom")


@dataclass(frozen=True, eq=False)
class Mesh:
    """Mesh and metrics of the half model (y >= 0).

    Attributes
    ----------
    vertices : ndarray, shape (nv, layers + 1, 3)
        Points, wall first.
    panels : dict
        Vertex numbers of each panel, shape (a + 1, b + 1); its quads are numbered with b fastest.
    quads : ndarray, shape (nq, 4)
        Vertices of each quad, anticlockwise seen from outside.
    edges : ndarray, shape (ne, 4)
        Quads LL, L, R, RR of the stencil across each edge. Beyond the plane of symmetry are ghosts: nq + s mirrors quad
        mirrored[0, s], nq + ns + s mirrors mirrored[1, s].
    sides : ndarray, shape (nq, 4)
        Edge of each side of a quad; ``signs`` is 1 where the edge's face points out of the quad, else -1.
    beyond : ndarray, shape (nq, 4)
        Quad across each side.
    mirrored : ndarray, shape (2, ns)
        What the ghosts mirror.
    face_side : ndarray, shape (ne, layers, 3)
        Area vectors of the faces on edges, from L to R.
    face_up : ndarray, shape (nq, layers + 1, 3)
        Area vectors of the faces between layers, away from the wall.
    volume : ndarray, shape (nq, layers)
        Cell volumes.
    centre : ndarray, shape (nq + 2 ns, layers, 3)
        Cell centres, with those of ghosts.
    share : ndarray, shape (nq, layers + 1)
        Weight of the outer cell for values on the faces between layers.
    wall_gap : ndarray, shape (nq,)
        Distance of the first centre from the wall.
    """

    vertices: Array
    panels: dict[str, Ints]
    quads: Ints
    edges: Ints
    sides: Ints
    signs: Array
    beyond: Ints
    mirrored: Ints
    face_side: Array
    face_up: Array
    volume: Array
    centre: Array
    share: Array
    wall_gap: Array

    @property
    def n_cells(self) -> int:
        """Number of cells of the half model."""
        return int(self.volume.size)


def make_mesh(along: int, across: int, upright: int, layers: int, first: float) -> Mesh:
    """Wrap the box of ``along`` x ``across`` (half) x ``upright`` quads round the body.

    Parameters
    ----------
    along, across, upright : int
        Quads along x, y (one half) and z of the box.
    layers : int
        Layers of cells.
    first : float
        Thickness of the first layer in body lengths.
    """
    panels, lattice = _wrap(along, across, upright)
    quads = _quads(panels)
    ratio = np.tan(np.pi / 4 * (2.0 * lattice / np.array([along, 2 * across, upright]) - [1.0, 0.0, 1.0]))
    d = ratio / np.linalg.norm(ratio, axis=1)[:, None]
    polar, azimuth = np.degrees(np.arccos(np.clip(-d[:, 0], -1, 1))), np.arctan2(d[:, 2], np.maximum(d[:, 1], 0.0))
    inner, outer = body.wall(polar, azimuth), body.far(polar, azimuth)
    middle = lattice[:, 1] == 0
    inner[middle, 1] = outer[middle, 1] = 0.0
    turned = area_vectors(inner[quads])
    flip = (turned * (inner[quads].mean(axis=1) - [0.5, 0.0, 0.0])).sum(axis=1) < 0
    quads[flip] = quads[flip][:, [0, 3, 2, 1]]
    vertices = _rays(inner, outer, quads, middle, layers, first)
    return _metrics(vertices, panels, quads)


def _wrap(along: int, across: int, upright: int) -> tuple[dict[str, Ints], Ints]:
    """Vertex numbers of the panels and the place of each vertex on the box's lattice."""
    u, v, w = np.arange(along + 1), np.arange(across + 1), np.arange(upright + 1)
    places = {"nose": (np.zeros(1, int), v, w), "base": (np.full(1, along), v, w), "side": (u, np.full(1, across), w),
              "top": (u, v, np.full(1, upright)), "bottom": (u, v, np.zeros(1, int))}
    full = {name: np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).squeeze() for name, axes in places.items()}
    lattice, number = np.unique(np.concatenate([f.reshape(-1, 3) for f in full.values()]), axis=0, return_inverse=True)
    panels, first = {}, 0
    for name, f in full.items():
        count = f.shape[0] * f.shape[1]
        panels[name] = number.ravel()[first:first + count].reshape(f.shape[:2])
        first += count
    return panels, lattice


def _quads(panels: dict[str, Ints]) -> Ints:
    return np.concatenate([np.stack([p[:-1, :-1], p[1:, :-1], p[1:, 1:], p[:-1, 1:]], axis=-1).reshape(-1, 4)
                           for p in panels.values()])


def area_vectors(corners: Array) -> Array:
    """Area vectors of quads, shape (..., 3), from corners (..., 4, 3)."""
    return np.asarray(0.5 * np.cross(corners[..., 2, :] - corners[..., 0, :], corners[..., 3, :] - corners[..., 1, :]))


def _rays(inner: Array, outer: Array, quads: Ints, middle: NDArray[np.bool_], layers: int, first: float) -> Array:
    """Cubic rays that leave the wall, and meet the outer boundary, at right angles; layers grow geometrically."""
    def at_vertices(points: Array) -> Array:
        area = area_vectors(points[quads])
        total = np.zeros_like(points)
        for c in range(4):
            np.add.at(total, quads[:, c], area)
        for _ in range(4):  # a light smoothing turns the rays gradually round the rim
            total[middle, 1] = 0.0
            total /= np.linalg.norm(total, axis=1)[:, None]
            mean, count = total.copy(), np.ones(len(points))
            for a, b in ((0, 1), (1, 2), (2, 3), (3, 0)):
                np.add.at(mean, quads[:, a], total[quads[:, b]])
                np.add.at(mean, quads[:, b], total[quads[:, a]])
                np.add.at(count, quads[:, a], 1)
                np.add.at(count, quads[:, b], 1)
            total = mean / count[:, None]
        total[middle, 1] = 0.0
        return np.asarray(total / np.linalg.norm(total, axis=1)[:, None])

    length = np.linalg.norm(outer - inner, axis=1)[:, None]
    start, end = 0.5 * length * at_vertices(inner), 0.7 * length * at_vertices(outer)
    out = np.empty((len(inner), layers + 1, 3))
    for n in range(len(inner)):
        step = min(first / float(np.linalg.norm(start[n])), 0.4 / layers)
        growth = brentq(lambda g, step=step: step * (g**layers - 1.0) / (g - 1.0) - 1.0, 1.0 + 1e-9, 2.0)
        s = (step * (growth ** np.arange(layers + 1) - 1.0) / (growth - 1.0))[:, None]
        out[n] = ((1 + 2 * s) * (1 - s) ** 2 * inner[n] + s * (1 - s) ** 2 * start[n] + s * s * (3 - 2 * s) * outer[n]
                  + s * s * (s - 1) * end[n])
    return out


def _metrics(vertices: Array, panels: dict[str, Ints], quads: Ints) -> Mesh:
    nq, layers = len(quads), vertices.shape[1] - 1
    ends = np.stack([quads, np.roll(quads, -1, axis=1)], axis=-1).reshape(-1, 2)
    pairs, number = np.unique(np.sort(ends, axis=1), axis=0, return_inverse=True)
    sides = number.reshape(nq, 4)
    owner = np.full((len(pairs), 2), -1, np.int64)
    slot = np.zeros((len(pairs), 2), np.int64)
    for q in range(nq):
        for e in range(4):
            at = sides[q, e]
            which = 0 if owner[at, 0] < 0 else 1
            owner[at, which], slot[at, which] = q, e
    border = np.flatnonzero(owner[:, 1] < 0)
    ghost = np.full(len(pairs), -1, np.int64)
    ghost[border] = nq + np.arange(len(border))
    owner[border, 1] = ghost[border]
    beyond = np.where(owner[sides, 0] == np.arange(nq)[:, None], owner[sides, 1], owner[sides, 0])
    signs = np.where(owner[sides, 0] == np.arange(nq)[:, None], 1.0, -1.0)
    left, right = owner.T
    far_left = beyond[left, (slot[:, 0] + 2) % 4]
    inside = np.minimum(right, nq - 1)
    far_right = np.where(right < nq, beyond[inside, (slot[:, 1] + 2) % 4], ghost + len(border))
    edges = np.column_stack([far_left, left, right, far_right])
    mirrored = np.stack([left[border], far_left[border]])

    corner = np.stack([vertices[quads][:, :, :-1], vertices[quads][:, :, 1:]], axis=3)  # (nq, 4, layers, 2, 3)
    real = corner.transpose(0, 2, 1, 3, 4).reshape(nq, layers, 8, 3).mean(axis=2)
    centre = np.concatenate([real, real[mirrored.ravel()] * [1.0, -1.0, 1.0]])
    up = area_vectors(vertices[quads].transpose(0, 2, 1, 3))
    a, b = vertices[pairs[:, 0]], vertices[pairs[:, 1]]
    across = area_vectors(np.stack([a[:, :-1], b[:, :-1], b[:, 1:], a[:, 1:]], axis=-2))
    across *= np.sign((across * (centre[right] - centre[left])).sum(axis=-1))[..., None]
    across[border] *= [0.0, 1.0, 0.0]
    middle_side = 0.25 * (a[:, :-1] + b[:, :-1] + b[:, 1:] + a[:, 1:])
    middle_up = vertices[quads].mean(axis=1)
    volume = ((middle_up[:, 1:] * up[:, 1:]).sum(-1) - (middle_up[:, :-1] * up[:, :-1]).sum(-1)) / 3.0
    for e in range(4):
        volume += signs[:, e, None] * (middle_side[sides[:, e]] * across[sides[:, e]]).sum(-1) / 3.0
    if not volume.min() > 0.0:
        raise ValueError(f"{(volume <= 0).sum()} cells of the mesh are inside out")
    below = np.linalg.norm(real - middle_up[:, :-1], axis=-1)
    above = np.linalg.norm(real - middle_up[:, 1:], axis=-1)
    share = np.zeros((nq, layers + 1))
    share[:, 1:-1] = above[:, :-1] / (above[:, :-1] + below[:, 1:])
    wall_gap = ((real[:, 0] - middle_up[:, 0]) * up[:, 0]).sum(-1) / np.linalg.norm(up[:, 0], axis=-1)
    return Mesh(vertices, panels, quads, edges, sides, signs, beyond, mirrored, across, up, volume, centre, share, wall_gap)
