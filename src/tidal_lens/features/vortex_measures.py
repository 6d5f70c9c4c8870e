"""What circles round a core tell of a vortex: its radius, circulation, swirl, and whether it is one at all."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.features import vortex_kernels as kernels
from tidal_lens.features.scales import FREE, has_walls
from tidal_lens.features.vortices import Core, Tank
from tidal_lens.quantities.walls import distances
from tidal_lens.work import Token, read_only, run_chunks

Vec = NDArray[np.float64]
AROUND = 16  # places on a circle
WIDE = 24  # circles, half a cell apart
TO_WALL = 0.97  # of the distance to the wall
_FEW, _MANY = 9, 25  # stations along a core


@dataclass(frozen=True, eq=False)
class Stations:
    """What is known at stations along a core.

    Attributes
    ----------
    rows : ndarray, shape (k,), int
        Which of the core's points they are.
    radius, swirl_speed, round, axial : ndarray, shape (k,)
        Radius at which the fluid turns fastest, the mean speed there against the centre's, the least by the mean speed round half of that
        radius, and the speed along the core. Not a number where no greatest speed was met before a wall, or before the flow ends.
    width : ndarray, shape (k,)
        Of cells.
    """

    rows: NDArray[np.int64]
    radius: Vec
    swirl_speed: Vec
    round: Vec
    axial: Vec
    width: Vec

    @property
    def peaked(self) -> NDArray[np.bool_]:
        """Where the greatest speed was met."""
        return np.isfinite(self.radius)

    @property
    def circulation(self) -> Vec:
        """Round the core, 2π r u."""
        return 2.0 * np.pi * self.radius * self.swirl_speed

    @property
    def swirl(self) -> Vec:
        """Speed round by speed along."""
        with np.errstate(divide="ignore", invalid="ignore"):
            return self.swirl_speed / np.abs(self.axial)


def tangents(points: Vec) -> Vec:
    """Unit directions of a line at its points (n, 3), over two points to each side."""
    n = len(points)
    at = np.arange(n)
    way = points[np.minimum(at + 2, n - 1)] - points[np.maximum(at - 2, 0)]
    return np.asarray(way / np.maximum(np.linalg.norm(way, axis=1), 1e-300)[:, None])


def _evenly(count: int) -> NDArray[np.int64]:
    """Stations among so many points."""
    return distinct(np.linspace(0, count - 1, int(np.clip(count // 6, _FEW, _MANY))).round().astype(np.int64))


def measured(tank: Tank, cores: Sequence[Core], velocity: NDArray[np.float32], token: Token | None = None) -> list[Stations]:
    """Stations of each core.

    Parameters
    ----------
    tank : Tank
        What the cores were found in.
    cores : sequence of Core
        Lines.
    velocity : ndarray, shape (nodes, 3), float32
        In any unit: speeds come in it.
    token : Token, optional
        Progress and cancel.
    """
    if not cores:
        return []
    rows = [_evenly(len(c.points)) for c in cores]
    ways = np.concatenate([tangents(c.points)[r] for c, r in zip(cores, rows, strict=True)])
    places = np.concatenate([c.points[r] for c, r in zip(cores, rows, strict=True)])
    width = np.concatenate([c.widths[r] for c, r in zip(cores, rows, strict=True)])
    far = distances(tank.flow, token, places) if has_walls(tank.flow) else np.full(len(places), FREE)
    steps = 0.5 * width
    with np.errstate(divide="ignore"):
        most = np.clip(np.minimum(TO_WALL * far, 0.5 * WIDE * width) / np.maximum(steps, 1e-300), 0, WIDE).astype(np.int64)
    n = len(places)
    mean, least, count = np.full((n, WIDE), np.nan), np.full((n, WIDE), np.nan), np.zeros(n, np.int64)
    at, axes, field = read_only(places), read_only(ways), read_only(velocity)
    run_chunks(lambda a, b: kernels.circles(tank.mesh.arrays, field, at, axes, steps, most, AROUND, mean, least, count, a, b), n, 16, token)
    radius, speed, roundness = _peaks(mean, least, count, steps)
    stencil, _ = tank.mesh.locate(places)
    axial = (stencil.apply_vectors(velocity) * ways).sum(axis=1)
    stops = np.cumsum([len(r) for r in rows])[:-1]
    parts = [np.split(a, stops) for a in (radius, speed, roundness, axial, width)]
    return [Stations(r, *(part[k] for part in parts)) for k, r in enumerate(rows)]


def _peaks(mean: Vec, least: Vec, count: NDArray[np.int64], steps: Vec) -> tuple[Vec, Vec, Vec]:
    """Radius of the first greatest speed of each station, that speed, and the roundness at half of the radius."""
    n = len(mean)
    # The centre itself is the first: nothing turns there.
    u = np.hstack([np.zeros((n, 1)), mean])
    k = np.arange(1, WIDE)
    rises = (u[:, 1:-1] >= u[:, :-2]) & (u[:, 1:-1] >= u[:, 2:]) & (u[:, 1:-1] > 0.0) & (k[None] + 1 <= count[:, None])
    there = rises.any(axis=1)
    at = rises.argmax(axis=1) + 1
    row = np.arange(n)
    a, b, c = u[row, at - 1], u[row, at], u[row, np.minimum(at + 1, WIDE)]
    with np.errstate(divide="ignore", invalid="ignore"):
        bend = a - 2.0 * b + c
        shift = np.where(bend < 0.0, np.clip(0.5 * (a - c) / bend, -0.5, 0.5), 0.0)
    radius = np.where(there, (at + shift) * steps, np.nan)
    speed = np.where(there, b - 0.25 * (a - c) * shift, np.nan)
    half = np.clip(np.round(0.5 * (at + shift)), 1, WIDE).astype(np.int64)
    with np.errstate(divide="ignore", invalid="ignore"):
        roundness = np.where(there, np.maximum(least[row, half - 1], 0.0) / mean[row, half - 1], 0.0)
    return radius, speed, np.nan_to_num(roundness)
