"""Lines bound to a surface: of the wall shear over walls, as an oil film shows them, or of any vector over any card."""

from __future__ import annotations

from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from tidal_lens.sampling.mesh import Stencil
from tidal_lens.sampling.nearest import nearest_on
from tidal_lens.tracing import surface_kernels as kernels
from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token, read_only, run_chunks

_CHUNK = 64
Vec = NDArray[np.float64]
Ints = NDArray[np.int64]


class Faces(Protocol):
    """What lines are bound to: see :class:`tidal_lens.cutting.surface.Surface`."""

    @property
    def points(self) -> Vec:
        """Vertices, shape (n, 3)."""

    @property
    def faces(self) -> Ints:
        """Corners, shape (m, 4); a triangle repeats its last."""

    @property
    def stencil(self) -> Stencil:
        """Interpolation of node values to the vertices."""


def lines_on(surface: Faces, vectors: Vec, seeds: Vec, *, direction: Literal["forward", "backward", "both"] = "both",
             max_length: float = np.inf, max_points: int = 4000, token: Token | None = None) -> Lines:
    """Follow a vector over a surface.

    Parameters
    ----------
    surface : Faces
        The surface; vertices at one place count as one, so that lines cross seams.
    vectors : ndarray, shape (vertices, 3)
        The vector at its vertices; only its part along each face counts, linear over it.
    seeds : ndarray, shape (n, 3)
        Where lines begin: at the nearest place of the surface.
    direction, max_length, max_points
        As of :class:`tidal_lens.tracing.streamlines.TraceSettings`.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    Lines
        Their time is the length from the seed.
    """
    triangles = np.concatenate([surface.faces[:, [0, 1, 2]], surface.faces[surface.faces[:, 2] != surface.faces[:, 3]][:, [0, 2, 3]]])
    corners = surface.points[triangles]
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    twice = np.linalg.norm(across, axis=1)
    good = twice > 1e-12 * max(float(twice.max(initial=0.0)), 1e-300)
    triangles, corners, across, twice = triangles[good], corners[good], across[good], twice[good]
    if len(triangles) == 0 or len(seeds) == 0:
        return _none(len(seeds))
    normal = across / twice[:, None]
    gradients = np.stack([np.cross(normal, corners[:, (k + 2) % 3] - corners[:, (k + 1) % 3]) / twice[:, None] for k in range(3)], axis=1)
    v = np.nan_to_num(vectors[triangles])
    v -= (v * normal[:, None]).sum(axis=2)[:, :, None] * normal[:, None]
    still = 1e-5 * float(np.linalg.norm(v, axis=2).max(initial=0.0))
    places = _welded(surface.points)[triangles]
    start, shares = nearest_on(corners, seeds)
    g, vec, sizes, own = (read_only(a) for a in (gradients, v, np.sqrt(twice), places))
    beside, first, at = (read_only(a) for a in (neighbours_of(places), start, shares))
    parts: dict[tuple[int, float], tuple[Any, ...]] = {}

    def one(begin: int, end: int) -> None:
        lines = end - begin
        for sign in {"forward": (1.0,), "backward": (-1.0,), "both": (-1.0, 1.0)}[direction]:
            tri, b, s = np.empty(lines * max_points, np.int64), np.empty((lines * max_points, 3)), np.empty(lines * max_points)
            count, reason = np.zeros(lines, np.int64), np.zeros(lines, np.int64)
            kernels.follow(g, vec, sizes, own, beside, first, at, sign, still, float(max_length), max_points, tri, b, s, count, reason,
                           begin, end)
            rows = np.concatenate([np.arange(n * max_points, n * max_points + c) for n, c in enumerate(count)]).astype(np.int64)
            parts[begin, sign] = tri[rows], b[rows], sign * s[rows], count, reason

    run_chunks(one, len(seeds), _CHUNK, token)
    return _joined(surface, triangles, parts, direction, len(seeds))


def _none(count: int) -> Lines:
    empty = np.empty(0)
    return Lines(np.empty((0, 3)), np.zeros(1, np.int64), empty, lambda: Stencil(np.empty((0, 1), np.int64), np.empty((0, 1))),
                 np.empty(0, np.int64), np.empty((0, 2), np.int64), empty, count)


def _joined(surface: Faces, triangles: Ints, parts: dict[tuple[int, float], tuple[Any, ...]], direction: str, count: int) -> Lines:
    """Backward halves reversed, then forward halves, line by line."""
    tri: list[Ints] = []
    shares: list[Vec] = []
    far: list[Vec] = []
    offsets, seeds, ends = [0], [], []
    for begin in sorted({b for b, _ in parts}):
        halves = {sign: parts[begin, sign] for sign in (-1.0, 1.0) if (begin, sign) in parts}
        firsts = {sign: np.concatenate([[0], np.cumsum(half[3])]) for sign, half in halves.items()}
        for n in range(len(next(iter(halves.values()))[3])):
            rows = {sign: slice(int(firsts[sign][n]), int(firsts[sign][n + 1])) for sign in halves}
            if all(r.stop == r.start for r in rows.values()):
                continue
            pieces = []
            if -1.0 in halves:
                back = halves[-1.0]
                pieces.append(tuple(a[rows[-1.0]][::-1][:None if direction == "backward" else -1] for a in back[:3]))
            if 1.0 in halves:
                pieces.append(tuple(a[rows[1.0]] for a in halves[1.0][:3]))
            for piece in pieces:
                tri.append(piece[0])
                shares.append(piece[1])
                far.append(piece[2])
            offsets.append(offsets[-1] + sum(len(p[0]) for p in pieces))
            seeds.append(begin + n)
            ends.append([int(halves[s][4][n]) if s in halves else 0 for s in (-1.0, 1.0)])
    if not seeds:
        return _none(count)
    at, b = triangles[np.concatenate(tri)], np.concatenate(shares)
    points = np.einsum("nk,nkd->nd", b, surface.points[at])

    def places() -> Stencil:
        own = surface.stencil
        ids = np.concatenate([own.ids[at[:, k]] for k in range(3)], axis=1)
        weights = np.concatenate([b[:, k, None] * own.weights[at[:, k]] for k in range(3)], axis=1)
        return Stencil(ids, weights)

    return Lines(points, np.array(offsets, np.int64), np.concatenate(far), places, np.array(seeds, np.int64), np.array(ends, np.int64),
                 np.zeros(len(seeds)), count)


def _welded(points: Vec) -> Ints:
    """One number for all vertices at one place."""
    size = max(float(np.ptp(points, axis=0).max(initial=0.0)), 1e-300)
    keys = np.round((points - points.min(axis=0)) / (1e-7 * size)).astype(np.int64)
    return np.unique(keys, axis=0, return_inverse=True)[1].ravel().astype(np.int64)


def neighbours_of(corners: Ints) -> Ints:
    """The triangle beyond the edge opposite each corner (t, 3); -1 where there is none, or several."""
    count = len(corners)
    edges = np.sort(np.concatenate([corners[:, [(k + 1) % 3, (k + 2) % 3]] for k in range(3)]), axis=1)
    keys = edges[:, 0] * (int(corners.max()) + 1) + edges[:, 1]
    order = np.argsort(keys, kind="stable")
    ordered = keys[order]
    pairs = np.flatnonzero(ordered[1:] == ordered[:-1])
    alone = np.ones(len(ordered) - 1, dtype=bool)  # of edges of three triangles no two are neighbours
    alone[1:] &= ordered[1:-1] != ordered[:-2]
    alone[:-1] &= ordered[1:-1] != ordered[2:]
    pairs = pairs[alone[pairs]]
    out = np.full(3 * count, -1, np.int64)
    a, b = order[pairs], order[pairs + 1]
    out[a], out[b] = b % count, a % count
    return out.reshape(3, count).T.copy()
