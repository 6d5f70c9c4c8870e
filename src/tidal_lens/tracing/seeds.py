"""Where lines start."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Vec = NDArray[np.float64]
_BITS = 10  # of each coordinate, in the order in which triangles are gone through
_SHARES = np.array([0.7548776662466927, 0.5698402909980532])  # of the plastic number: M. Roberts' additive sequence in two dimensions
_SHARES_3 = np.array([0.8191725133961645, 0.6710436067037893, 0.5497004779019703])  # the same in three


def seeds_on_line(start: tuple[float, float, float], end: tuple[float, float, float], count: int) -> NDArray[np.float64]:
    """Evenly spaced seeds from start to end, both included; shape (count, 3)."""
    return np.linspace(np.array(start, float), np.array(end, float), count) if count > 1 else np.array([start], float)


def seeds_on_faces(points: NDArray[np.float64], faces: NDArray[np.int64], count: int, off: float = 0.0) -> NDArray[np.float64]:
    """Seeds evenly by area over a surface, the same each time.

    Triangles are gone through along a curve that keeps near ones together (Morton 1966), and a seed is put where each equal part of
    the area is half spent.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Vertices.
    faces : ndarray, shape (m, 4)
        Corners; a triangle repeats its last one.
    count : int
        How many.
    off : float
        How far off it along its normals.

    Returns
    -------
    ndarray, shape (count, 3)
        None on a surface without area.
    """
    triangles = np.concatenate([faces[:, [0, 1, 2]], faces[faces[:, 2] != faces[:, 3]][:, [0, 2, 3]]])
    corners = points[triangles]
    areas = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    some = areas > 0.0
    if not some.any():
        return np.empty((0, 3))
    corners, areas = corners[some], areas[some]
    order = np.argsort(_along_curve(corners.mean(axis=1)), kind="stable")
    spent = np.cumsum(areas[order])
    at = order[np.searchsorted(spent, (np.arange(count) + 0.5) / count * spent[-1]).clip(max=len(order) - 1)]
    share = (0.5 + np.arange(1, count + 1)[:, None] * _SHARES) % 1.0
    share = np.where(share.sum(axis=1, keepdims=True) > 1.0, 1.0 - share, share)
    a, b, c = corners[at, 0], corners[at, 1], corners[at, 2]
    across = np.cross(b - a, c - a)
    lift = off * across / np.linalg.norm(across, axis=1)[:, None] if off else 0.0
    return np.asarray(a + share[:, :1] * (b - a) + share[:, 1:] * (c - a) + lift)


def _along_curve(places: NDArray[np.float64]) -> NDArray[np.int64]:
    low = places.min(axis=0)
    size = float((places.max(axis=0) - low).max())
    cells = ((places - low) / (size or 1.0) * ((1 << _BITS) - 1)).astype(np.int64)
    key = np.zeros(len(places), np.int64)
    for bit in range(_BITS):
        for axis in range(3):
            key |= ((cells[:, axis] >> bit) & 1) << (3 * bit + axis)
    return key


def seeds_on_rectangle(centre: Vec, across: Vec, up: Vec, count: int) -> Vec:
    """An even grid on a rectangle: about so many seeds, as far apart one way as the other, borders included; shape (n, 3).

    Parameters
    ----------
    centre, across, up : ndarray, shape (3,)
        Its middle, and its two sides.
    count : int
        How many; at least one.
    """
    wide, high = float(np.linalg.norm(across)), float(np.linalg.norm(up))
    columns = int(np.clip(round(float(np.sqrt(count * wide / high))), 1, count))
    rows = max(round(count / columns), 1)
    s, t = (np.linspace(-0.5, 0.5, n) if n > 1 else np.zeros(1) for n in (columns, rows))
    return np.asarray(centre + (s[None, :, None] * across + t[:, None, None] * up).reshape(-1, 3))


def seeds_on_disc(centre: Vec, right: Vec, up: Vec, inner: float, count: int) -> Vec:
    """Seeds evenly over a disc or ring, shape (count, 3): turned by the golden angle from one to the next (Vogel 1979), or round a circle.

    Parameters
    ----------
    centre, right, up : ndarray, shape (3,)
        Its middle, and two radii at right angles.
    inner : float
        Where a ring begins, as a share of the radius; all seeds are on the circle for 1.
    count : int
        How many.
    """
    n = np.arange(count)
    if inner >= 1.0:
        turn, radius = 2.0 * np.pi * n / count, np.ones(count)
    else:
        turn, radius = n * np.pi * (3.0 - np.sqrt(5.0)), np.sqrt(inner**2 + (1.0 - inner**2) * (n + 0.5) / count)
    return np.asarray(centre + (radius * np.cos(turn))[:, None] * right + (radius * np.sin(turn))[:, None] * up)


def seeds_in_ball(centre: Vec, radius: float, count: int) -> Vec:
    """Seeds evenly in a ball, shape (count, 3): an additive sequence in three dimensions, laid into it so that volumes are kept."""
    share = (0.5 + np.arange(1, count + 1)[:, None] * _SHARES_3) % 1.0
    height, turn = 2.0 * share[:, 0] - 1.0, 2.0 * np.pi * share[:, 1]
    out = radius * np.cbrt(share[:, 2])
    flat = np.sqrt(1.0 - height**2)
    return np.asarray(centre + out[:, None] * np.column_stack([flat * np.cos(turn), flat * np.sin(turn), height]))


def rows_of(seeds: Vec, sets: NDArray[np.int64]) -> NDArray[np.int64]:
    """Rows (n,) of seeds (n, 3) that stand one after another in sets (n,): a row ends with its set, and where the next one is far."""
    if len(seeds) < 2:
        return np.zeros(len(seeds), np.int64)
    gaps = np.linalg.norm(np.diff(seeds, axis=0), axis=1)
    apart = (gaps > 3.0 * np.median(gaps)) | (np.diff(sets) != 0)
    return np.concatenate([[0], np.cumsum(apart)])
