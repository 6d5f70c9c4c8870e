"""The mesh of one passage of the rotor: one block of cells along the axis (i), round it (j) and from hub to casing (k).

x is the axis, the angle goes from y to z, and the rotor turns so. Lengths are in tip radii. The blade stands between j = nj of one
passage and j = 0 of the next; above its tip both sides meet, and the faces there are like any others between passages.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import brentq
from scipy.spatial import cKDTree

Array = NDArray[np.float64]
BLADES = 9
PITCH = 2.0 * np.pi / BLADES
SPEED = 0.55  # of the tip, in sound speeds of the inlet's total state
X_IN, X_OUT, TIP = -0.50, 1.05, 0.98  # the tip as a share of the span
AXIAL, WORK = 0.3025, 0.1375  # design: axial speed ahead; change of r cθ


def hub(x: Array) -> Array:
    """Radius of the hub."""
    t = np.clip((x + 0.15) / 0.65, 0.0, 1.0)
    return np.asarray(0.50 + 0.08 * t**3 * (10.0 - 15.0 * t + 6.0 * t * t))


def edges_of(eta: Array) -> tuple[Array, Array]:
    """Where the blade begins and ends along the axis, by the share of span."""
    return 0.04 * eta, 0.38 - 0.03 * eta


def camber(eta: float, count: int = 401) -> tuple[Array, Array, Array]:
    """Shares of the axial chord, the blade's angle [rad] and its place round the axis, by the mean line; 0 at half chord."""
    first, last = edges_of(np.array(eta))
    s = np.linspace(0.0, 1.0, count)
    x = first + s * (last - first)
    r = hub(x) + eta * (1.0 - hub(x))
    behind = AXIAL * 0.75 / (1.0 - 0.58**2) / 1.05  # the annulus grows narrower, walls take 5 %
    ahead = np.arctan(SPEED * r[0] / AXIAL) - np.radians(2.0)
    turned = np.arctan((SPEED * r[-1] - WORK / r[-1]) / behind) - np.radians(8.0 - 4.0 * eta)
    beta = ahead + s * (turned - ahead)
    slope = -np.tan(beta) / r
    theta = np.concatenate([[0.0], np.cumsum(0.5 * (slope[1:] + slope[:-1]) * np.diff(x))])
    return s, beta, theta - np.interp(0.5, s, theta)


def _stretched(count: int, first: float) -> Array:
    """Shares 0 to 1 in ``count`` steps that grow evenly from ``first``."""
    if abs(first * count - 1.0) < 1e-9:
        return np.linspace(0.0, 1.0, count + 1)
    ratio = brentq(lambda q: first * (q**count - 1.0) - (q - 1.0), 1.0 + 1e-9, 3.0) if first * count < 1.0 else 1.0
    steps = ratio ** np.arange(count)
    return np.asarray(np.concatenate([[0.0], np.cumsum(steps)]) / steps.sum())


def _both_ends(count: int, first: float, last: float) -> Array:
    """Shares 0 to 1 whose steps are ``first`` and ``last`` at the ends and grow towards the middle."""
    def steps(q: float) -> Array:
        n = np.arange(count)
        return np.asarray(np.minimum(first * q**n, last * q ** (count - 1 - n)))

    ratio = brentq(lambda q: steps(q).sum() - 1.0, 1.0, 3.0)
    out = np.concatenate([[0.0], np.cumsum(steps(ratio))])
    return np.asarray(out / out[-1])


@dataclass(frozen=True)
class Counts:
    """Cells ahead of the blade, on it and behind, round the axis, below the tip and above it."""

    ahead: int = 24
    on: int = 64
    behind: int = 36
    around: int = 40
    below: int = 36
    above: int = 8

    @property
    def cells(self) -> tuple[int, int, int]:
        """Along i, j and k."""
        return self.ahead + self.on + self.behind, self.around, self.below + self.above


@dataclass(frozen=True, eq=False)
class Mesh:
    """Points and metrics of the passage.

    Attributes
    ----------
    counts : Counts
        Cells.
    points : ndarray, shape (ni + 1, nj + 1, nk + 1, 3)
        Nodes.
    area : tuple of 3 ndarrays
        Area vectors of the faces across i, j and k, towards the greater index.
    sweep : tuple of 3 ndarrays
        The volume that each face passes over in unit time: of Ω × r through its two triangles, exactly.
    volume : ndarray, shape (ni, nj, nk)
        Of cells, by Gauss's theorem over the same triangles, so that cells close to rounding.
    centre : ndarray, shape (ni + 4, nj + 4, nk + 4, 3)
        Cell centres, with those of two ghosts at each side.
    share : tuple of 3 ndarrays
        Weight of the cell beyond in values on faces.
    length : ndarray, shape (ni + 4, nj + 4, nk)
        Mixing lengths.
    bladed : ndarray of bool, shape (ni, nk)
        Where the faces j = 0 and j = nj are the blade's.
    """

    counts: Counts
    points: Array
    area: tuple[Array, Array, Array]
    sweep: tuple[Array, Array, Array]
    volume: Array
    centre: Array
    share: tuple[Array, Array, Array]
    length: Array
    bladed: NDArray[np.bool_]


def shape_of(counts: Counts, thick: float = 1.0, even: bool = False) -> Array:
    """Nodes of the passage, shape (ni + 1, nj + 1, nk + 1, 3).

    Parameters
    ----------
    counts : Counts
        Cells.
    thick : float
        Factor on the blade's thickness.
    even : bool
        Whether cells are even round the axis.
    """
    ni, nj, nk = counts.cells
    fine = 64.0 / counts.on  # coarser meshes have coarser cells at walls too
    low = _both_ends(counts.below, 1.7e-3 * fine, 2.2e-3 * fine) * TIP
    high = 1.0 - (1.0 - TIP) * _stretched(counts.above, min(0.045 * fine, 1.0 / counts.above))[::-1]
    eta = np.concatenate([low, high[1:]])
    chord = _both_ends(counts.on, 0.0024 * fine, 0.006 * fine)
    ahead = _stretched(counts.ahead, 0.0024 * fine * 0.34 / 0.5)[::-1]
    behind = _stretched(counts.behind, 0.006 * fine * 0.34 / 0.68)
    around = np.linspace(0.0, 1.0, nj + 1) if even else _both_ends(nj, 3.2e-3 * fine, 3.2e-3 * fine)
    points = np.empty((ni + 1, nj + 1, nk + 1, 3))
    for k, h in enumerate(eta):
        first, last = (float(v) for v in edges_of(np.array(h)))
        x = np.concatenate([first - (first - X_IN) * ahead, first + chord[1:] * (last - first), last + (X_OUT - last) * behind[1:]])
        r = hub(x) + h * (1.0 - hub(x))
        s, beta, theta = camber(float(h))
        middle = np.interp(np.clip((x - first) / (last - first), 0.0, 1.0), s, theta)
        # Behind the blade lines follow its last angle, which dies away to a third.
        away = np.maximum(x - last, 0.0)
        slope = -np.tan(beta[-1]) / r * (0.3 + 0.7 * np.exp(-away / 0.25))
        step = np.concatenate([[0.0], 0.5 * (slope[1:] + slope[:-1]) * np.diff(x)])
        middle = middle + np.cumsum(np.where(x > last, step, 0.0))
        share = np.clip((x - first) / (last - first), 0.0, 1.0)
        angle = np.interp(share, s, beta)
        length = (last - first) / np.cos(float(beta.mean()))
        normal = (0.12 - 0.05 * h) * 2.598 * np.sqrt(share) * (1.0 - share) * length * thick
        normal *= 1.0 if h <= 0.92 else max(0.0, 1.0 - ((h - 0.92) / (TIP - 0.92)) ** 2)
        half = 0.5 * normal / (r * np.cos(angle))
        at = (middle + half)[:, None] + around[None] * (PITCH - 2.0 * half)[:, None]
        points[:, :, k] = np.stack([np.broadcast_to(x[:, None], at.shape), r[:, None] * np.cos(at), r[:, None] * np.sin(at)], axis=-1)
    return points


def _faces(p: Array, q: Array, r: Array, s: Array) -> tuple[Array, Array, Array]:
    """Area vectors of quads p q r s, the volumes that they sweep as all turns about x, and their shares of x·dS."""
    # i, j, k are left-handed.
    one, two = 0.5 * np.cross(r - p, q - p), 0.5 * np.cross(s - p, r - p)
    middles = (p + q + r) / 3.0, (p + r + s) / 3.0
    axis = np.array([SPEED, 0.0, 0.0])
    sweep = sum((np.cross(axis, m) * a).sum(-1) for m, a in zip(middles, (one, two), strict=True))
    moment = sum((m * a).sum(-1) for m, a in zip(middles, (one, two), strict=True))
    return one + two, np.asarray(sweep), np.asarray(moment)


def turned(v: Array, angle: float) -> Array:
    """Vectors (…, 3) turned about x."""
    c, s = np.cos(angle), np.sin(angle)
    return np.stack([v[..., 0], c * v[..., 1] - s * v[..., 2], s * v[..., 1] + c * v[..., 2]], axis=-1)


def make_mesh(counts: Counts = Counts(), *, blades: bool = True, points: Array | None = None) -> Mesh:
    """The mesh of the passage; without blades the sides are periodic everywhere."""
    ni, nj, nk = counts.cells
    p = shape_of(counts) if points is None else points
    a, b = slice(None, -1), slice(1, None)
    across_i = _faces(p[:, a, a], p[:, b, a], p[:, b, b], p[:, a, b])
    across_j = _faces(p[a, :, a], p[a, :, b], p[b, :, b], p[b, :, a])
    across_k = _faces(p[a, a], p[b, a], p[b, b], p[a, b])
    volume = (np.diff(across_i[2], axis=0) + np.diff(across_j[2], axis=1) + np.diff(across_k[2], axis=2)) / 3.0
    if float(volume.min()) <= 0.0:
        raise ValueError(f"the mesh has {int((volume <= 0).sum())} cells turned inside out")
    middle = np.mean([p[u, v, w] for u in (a, b) for v in (a, b) for w in (a, b)], axis=0)
    bladed = np.zeros((ni, nk), dtype=bool)
    if blades:
        bladed[counts.ahead:counts.ahead + counts.on, :counts.below] = True
    centre = np.empty((ni + 4, nj + 4, nk + 4, 3))
    centre[2:-2, 2:-2, 2:-2] = middle
    for n in (1, 0):  # beyond the first and the last: mirrored in line
        centre[n, 2:-2, 2:-2] = 2 * centre[n + 1, 2:-2, 2:-2] - centre[n + 2, 2:-2, 2:-2]
        centre[-1 - n, 2:-2, 2:-2] = 2 * centre[-2 - n, 2:-2, 2:-2] - centre[-3 - n, 2:-2, 2:-2]
    for n in (1, 0):
        centre[:, 2:-2, n] = 2 * centre[:, 2:-2, n + 1] - centre[:, 2:-2, n + 2]
        centre[:, 2:-2, -1 - n] = 2 * centre[:, 2:-2, -2 - n] - centre[:, 2:-2, -3 - n]
    centre[:, :2], centre[:, -2:] = turned(centre[:, -4:-2], -PITCH), turned(centre[:, 2:4], PITCH)
    share = tuple(_share(centre, p, axis) for axis in range(3))
    length = np.zeros((ni + 4, nj + 4, nk))
    length[2:-2, 2:-2] = np.minimum(0.41 * _wall_distance(p, middle, bladed), 0.006)
    length[:2], length[-2:] = length[2], length[-3]
    length[:, :2], length[:, -2:] = length[:, -4:-2], length[:, 2:4]
    return Mesh(counts, p, (across_i[0], across_j[0], across_k[0]), (across_i[1], across_j[1], across_k[1]), volume, centre,
                (share[0], share[1], share[2]), length, bladed)


def _share(centre: Array, points: Array, axis: int) -> Array:
    """By the distances of the two cells' centres from the face's."""
    a, b = slice(None, -1), slice(1, None)
    others = [d for d in range(3) if d != axis]
    pick = [[slice(None)] * 3 for _ in range(4)]
    for n, one in enumerate(pick):
        one[others[0]], one[others[1]] = (a, b)[n % 2], (a, b)[n // 2]
    face = np.mean([points[tuple(one)] for one in pick], axis=0)
    inner = [slice(2, -2)] * 3
    low, high = list(inner), list(inner)
    low[axis], high[axis] = slice(1, -2), slice(2, -1)
    before = np.linalg.norm(face - centre[tuple(low)], axis=-1)
    beyond = np.linalg.norm(centre[tuple(high)] - face, axis=-1)
    return np.asarray(before / (before + beyond))


def _wall_distance(p: Array, middle: Array, bladed: NDArray[np.bool_]) -> Array:
    """Of the cells' centres from the hub, the casing and the blades, where that is short; shape (ni, nj, nk)."""
    x, r = middle[..., 0], np.hypot(middle[..., 1], middle[..., 2])
    a, b = slice(None, -1), slice(1, None)
    low, high = (0.25 * (s[a, a] + s[a, b] + s[b, a] + s[b, b]) for s in (p[:, :, 0], p[:, :, -1]))
    sag = hub(low[..., 0]) - np.hypot(low[..., 1], low[..., 2]), 1.0 - np.hypot(high[..., 1], high[..., 2])  # facets are chords
    out = np.minimum(r - hub(x) + sag[0][..., None], 1.0 - r - sag[1][..., None])
    if not bladed.any():
        return np.asarray(out)
    nj = middle.shape[1]
    i, k = np.nonzero(bladed)
    blade = np.ones_like(out)
    for side, turn in ((0, 0.0), (0, PITCH), (-1, 0.0), (-1, -PITCH)):
        q = p[:, side]
        corners = [turned(v, turn) for v in (q[i, k], q[i, k + 1], q[i + 1, k + 1], q[i + 1, k])]
        spread = [((1 - u) * (1 - v), (1 - u) * v, u * v, u * (1 - v)) for u in (0.17, 0.5, 0.83) for v in (0.17, 0.5, 0.83)]
        samples = np.concatenate([sum(g * c for g, c in zip(one, corners, strict=True)) for one in spread])
        far, _ = cKDTree(samples).query(middle.reshape(-1, 3), distance_upper_bound=0.05)
        blade = np.minimum(blade, np.where(np.isfinite(far), far, 1.0).reshape(out.shape))
        if turn == 0.0:  # near the blade's own face: from its plane
            normal = np.cross(corners[2] - corners[0], corners[3] - corners[1])
            normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
            rows = np.arange(nj // 4) if side == 0 else np.arange(nj - nj // 4, nj)
            off = middle[i[:, None], rows, k[:, None]] - np.mean(corners, axis=0)[:, None]
            blade[i[:, None], rows, k[:, None]] = np.minimum(np.abs((off * normal[:, None]).sum(-1)), np.linalg.norm(off, axis=-1))
    return np.asarray(np.minimum(out, blade))
