"""Lines as tubes and ribbons, and marks along them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.tracing import solids_kernels as kernels
from tidal_lens.work import read_only, run_chunks

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
_SIDES = 8  # of a tube; fewer where there are very many points
_MANY = 200_000
_TURN, _PIECES = 0.25, 64  # radians that a ribbon turns from one of its points to the next; pieces of a step at most


def frames(points: Vec, offsets: Ints) -> tuple[Vec, Vec, Vec]:
    """Tangents, normals and what is across both (n, 3) along lines, carried without turning about them."""
    tangents, normals = np.empty_like(points), np.empty_like(points)
    source, begins = read_only(np.ascontiguousarray(points)), read_only(np.ascontiguousarray(offsets))
    run_chunks(lambda a, b: kernels.carry(source, begins, tangents, normals, a, b), len(offsets) - 1, 64)
    return tangents, normals, np.cross(tangents, normals)


def turning(tangents: Vec, offsets: Ints, time: Vec, vorticity: Vec) -> Vec:
    """By how much a small piece of fluid has turned about the line since its seed [rad]: half the streamwise vorticity over time.

    Parameters
    ----------
    tangents, vorticity : ndarray, shape (n, 3)
        At the points of the lines; of a vorticity that is not known nothing turns.
    time : ndarray, shape (n,)
        From the seed on.
    """
    rate = 0.5 * np.nan_to_num((vorticity * tangents).sum(axis=1))
    step = 0.5 * (rate[1:] + rate[:-1]) * np.diff(time)
    return _from_seeds(step, offsets, time)


def _from_seeds(steps: Vec, offsets: Ints, time: Vec) -> Vec:
    """The sum of steps from point to point (n - 1,) since the seed of each line, or its first point."""
    steps[offsets[1:-1] - 1] = 0.0  # from one line to the next
    total = np.concatenate([[0.0], np.cumsum(steps)])
    line = np.repeat(np.arange(len(offsets) - 1), np.diff(offsets))
    begin = offsets[:-1].copy()
    seeds = np.flatnonzero(time == 0.0)
    begin[line[seeds]] = seeds
    return np.asarray(total - total[begin][line])


def _steps(offsets: Ints) -> Ints:
    """The points that have one after them on their line."""
    has = np.ones(int(offsets[-1]), dtype=bool)
    has[offsets[1:] - 1] = False
    return np.flatnonzero(has)


def refined(points: Vec, offsets: Ints, turned: Vec) -> tuple[Vec, Ints, Vec, Ints]:
    """Lines with points more where an angle (n,) changes much from one to the next: points, offsets, angles, and the old point of each."""
    before = _steps(offsets)
    many = np.ones(len(points), np.int64)  # pieces of the step after each point
    many[before] = np.clip(np.ceil(np.abs(turned[before + 1] - turned[before]) / _TURN), 1, _PIECES).astype(np.int64)
    old = np.repeat(np.arange(len(points)), many)
    share = (np.arange(len(old)) - np.repeat(np.cumsum(many) - many, many)) / many[old]
    following = np.minimum(old + 1, len(points) - 1)
    out = points[old] + share[:, None] * (points[following] - points[old])
    angles = turned[old] + share * (turned[following] - turned[old])
    starts = np.concatenate([[0], np.cumsum(many)])[offsets]
    return out, starts.astype(np.int64), angles, np.where(share > 0.5, following, old)


def tubes(points: Vec, offsets: Ints, radii: Vec) -> tuple[Vec, Ints, Ints]:
    """Tubes of radii (n,) about lines.

    Returns
    -------
    points, faces, owners
        Vertices (m, 3), faces (k, 4), and the point of its line that each vertex is about.
    """
    sides = _SIDES if len(points) <= _MANY else 5
    _tangents, normals, across = frames(points, offsets)
    turn = 2.0 * np.pi * np.arange(sides) / sides
    ring = np.cos(turn)[:, None] * normals[:, None, :] + np.sin(turn)[:, None] * across[:, None, :]
    places = (points[:, None, :] + radii[:, None, None] * ring).reshape(-1, 3)
    at = sides * _steps(offsets)[:, None] + np.arange(sides)
    beside = sides * _steps(offsets)[:, None] + (np.arange(sides) + 1) % sides
    faces = np.stack([at, beside, beside + sides, at + sides], axis=-1).reshape(-1, 4)
    return places, faces.astype(np.int64), np.repeat(np.arange(len(points)), sides)


def ribbons(points: Vec, offsets: Ints, width: float, turned: Vec, across: tuple[Vec, Vec]) -> tuple[Vec, Ints, Ints]:
    """Ribbons of a width along lines; ``turned`` (n,) is their angle against frames whose two directions ``across`` are given.

    Returns
    -------
    points, faces, owners
        As of :func:`tubes`.
    """
    way = np.cos(turned)[:, None] * across[0] + np.sin(turned)[:, None] * across[1]
    places = (points[:, None, :] + 0.5 * width * np.stack([-way, way], axis=1)).reshape(-1, 3)
    at = 2 * _steps(offsets)
    return places, np.column_stack([at, at + 1, at + 3, at + 2]).astype(np.int64), np.repeat(np.arange(len(points)), 2)


def even_marks(along: Vec, offsets: Ints, every: float, phase: float = 0.0) -> tuple[Ints, Ints, Vec]:
    """Places on lines where a rising value (n,) is a whole number of times ``every``: the point before, that after, the share between.

    With a ``phase`` they are so far on, from 0 to 1 of the way to the next.
    """
    before = _steps(offsets)
    low, high = along[before] - phase * every, along[before + 1] - phase * every
    first, last = np.floor(low / every) + 1, np.floor(high / every)
    seeds = np.flatnonzero(np.isin(before, offsets[:-1]) & (low == 0.0))  # where a line begins at its seed there is one too
    many = np.clip(last - first + 1, 0, 10_000).astype(np.int64)
    which = np.repeat(np.arange(len(before)), many)
    rank = np.arange(len(which)) - np.repeat(np.cumsum(many) - many, many)
    value = (first[which] + rank) * every
    t = (value - low[which]) / (high[which] - low[which])
    a = np.concatenate([before[which], before[seeds]])
    return a, a + 1, np.concatenate([t, np.zeros(len(seeds))])


def lengths_from_seeds(points: Vec, offsets: Ints, time: Vec) -> Vec:
    """Arc length along lines from their seeds (n,), negative upstream of them."""
    return _from_seeds(np.linalg.norm(np.diff(points, axis=0), axis=1), offsets, time)
