"""Paths of particles with mass in steady flow: drag, gravity, buoyancy."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import CancelledError
from tidal_lens.flow.case import Flow
from tidal_lens.sampling.mesh import Mesh
from tidal_lens.tracing import particles_kernels as kernels
from tidal_lens.tracing.inner_walls import stopped
from tidal_lens.tracing.streamlines import End, Lines, stencil_of, tell_walls
from tidal_lens.work import Token, read_only, run_chunks

Law = Literal["stokes", "schiller-naumann", "ballistic"]
_LAWS: dict[Law, int] = {"stokes": 0, "schiller-naumann": 1, "ballistic": 2}
_CHUNK = 16
Vec = NDArray[np.float64]


@dataclass(frozen=True)
class Particle:
    """What flies, and how it is followed.

    Attributes
    ----------
    law : str
        Drag of a ball by Stokes (1851) or by Schiller and Naumann (1933), or by a ballistic coefficient.
    diameter, density : float
        Of a ball.
    ballistic : float
        m / (C_d A): mass by drag coefficient and area.
    gravity : tuple of float
        Acceleration.
    start : tuple of float or None
        Velocity at first; that of the flow for None.
    max_time, max_length, max_points, tolerance
        Limits, and the error allowed a step in cells.
    """

    law: Law = "schiller-naumann"
    diameter: float = 5e-5
    density: float = 1000.0
    ballistic: float = 1.0
    gravity: tuple[float, float, float] = (0.0, 0.0, -9.80665)
    start: tuple[float, float, float] | None = None
    max_time: float = np.inf
    max_length: float = np.inf
    max_points: int = 4000
    tolerance: float = 1e-4


def fly(flow: Flow, mesh: Mesh, fluid: tuple[NDArray[Any], NDArray[Any], NDArray[Any]], seeds: Vec, particle: Particle,
        token: Token | None = None) -> Lines:
    """Follow particles forward in time.

    Parameters
    ----------
    flow, mesh : Flow, Mesh
        The flow and its packed grids.
    fluid : tuple
        Its velocity (nodes, 3), density and viscosity (nodes,).
    seeds : ndarray, shape (n, 3)
        Where particles begin.
    particle : Particle
        What they are.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    Lines
        Their paths; ``more`` holds the particles' velocity and its size.
    """
    seeds = np.ascontiguousarray(seeds, np.float64).reshape(-1, 3)
    velocity, density, viscosity = fluid
    vel = read_only(np.ascontiguousarray(velocity, np.float64))
    gas = read_only(np.ascontiguousarray(np.column_stack([density, viscosity]), np.float64))
    first = read_only(np.broadcast_to(np.array(particle.start or (0.0, 0.0, 0.0)), seeds.shape).copy())
    ballistic = particle.law == "ballistic"
    size, dense = (particle.ballistic, 0.0) if ballistic else (particle.diameter, particle.density)
    most, gravity = particle.max_points, np.array(particle.gravity, np.float64)
    parts: dict[int, tuple[Any, ...]] = {}

    def one(begin: int, end: int) -> None:
        lines = end - begin
        p, q, v = np.empty((lines * most, 3)), np.empty((lines * most, 3)), np.empty((lines * most, 3))
        cell, time = np.empty((lines * most, 2), np.int64), np.empty(lines * most)
        count, reason, error = np.zeros(lines, np.int64), np.zeros(lines, np.int64), np.zeros(lines)
        kernels.fly(mesh.arrays, vel, gas, seeds, first, _LAWS[particle.law], size, dense, gravity, particle.start is None,
                    particle.tolerance, particle.max_time, particle.max_length, most, p, q, cell, time, v, count, reason, error, begin, end)
        rows = np.concatenate([np.arange(n * most, n * most + c) for n, c in enumerate(count)]).astype(np.int64)
        parts[begin] = p[rows], q[rows], cell[rows], time[rows], v[rows], count, reason, error

    run_chunks(one, len(seeds), _CHUNK, token)
    if sum(len(part[5]) for part in parts.values()) != len(seeds):
        raise CancelledError
    empty = (np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 2), np.int64), np.empty(0), np.empty((0, 3)), np.zeros(0, np.int64),
             np.zeros(0, np.int64), np.empty(0))
    joined = [parts[b] for b in sorted(parts)] or [empty]
    points, places, cells, time, speed, count, reason, error = (np.concatenate(column) for column in zip(*joined, strict=True))
    ends = np.column_stack([np.zeros(len(reason), np.int64), reason])
    total = count
    before = np.arange(len(points))
    (points, places, cells, kept), total = stopped(flow, mesh, (points, places, cells, before.astype(np.float64)), total, End.WALL, ends)
    row = np.clip(np.round(kept).astype(np.int64), 0, max(len(time) - 1, 0))
    alive = np.flatnonzero(total)
    offsets = np.concatenate([[0], np.cumsum(total[alive])])
    told = tell_walls(flow, points, offsets, ends[alive])
    own = speed[row]
    return Lines(points, offsets, time[row], partial(stencil_of, mesh, cells, places), alive, told, error[alive], len(seeds),
                 {"speed of the particle": np.linalg.norm(own, axis=1)})
