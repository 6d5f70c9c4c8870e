"""Paths of particles with mass in steady flow: drag, gravity, buoyancy, heat, loss of mass, and what walls do to them."""

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
from tidal_lens.tracing.walls_hit import normals_at
from tidal_lens.work import Token, read_only, run_chunks

Law = Literal["stokes", "schiller-naumann", "ballistic"]
AtWalls = Literal["stop", "bounce", "pass"]
_LAWS: dict[Law, int] = {"stokes": 0, "schiller-naumann": 1, "ballistic": 2}
_CHUNK = 16
_BOUNCES = 50
_SETTLED = 1e-2  # of the fastest that it was: slower than that off a wall it stays there
Vec = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Heat:
    """What a ball takes up of the gas's heat (Ranz and Marshall 1952), and what that does to it.

    Attributes
    ----------
    capacity : float
        Specific heat of the particle.
    temperature : float
        Its own at first.
    boils, latent : float
        Temperature at which it loses mass, and the heat that each of its mass takes then.
    prandtl : float
        Of the gas.
    """

    capacity: float = 4186.0
    temperature: float = 288.15
    boils: float = np.inf
    latent: float = 2.257e6
    prandtl: float = 0.72


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
    walls, restitution : str, float
        Whether a wall stops it, throws it back with a share of the speed across the wall, or lets it pass.
    heat : Heat or None
        Of a ball.
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
    walls: AtWalls = "stop"
    restitution: float = 0.8
    heat: Heat | None = None


@dataclass(frozen=True, eq=False)
class _Ways:
    """Points of some particles, one after another: places, place in the cell, cell, time, velocity, temperature and diameter."""

    points: Vec
    places: Vec
    cells: Ints
    time: Vec
    velocity: Vec
    state: Vec

    def take(self, rows: Ints) -> _Ways:
        return _Ways(*(getattr(self, name)[rows] for name in self.__dataclass_fields__))

    @staticmethod
    def joined(parts: list[_Ways]) -> _Ways:
        nothing = _Ways(np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 2), np.int64), np.empty(0), np.empty((0, 3)), np.empty((0, 2)))
        return _Ways(*(np.concatenate([getattr(part, name) for part in (nothing, *parts)]) for name in nothing.__dataclass_fields__))


@dataclass(frozen=True, eq=False)
class _Flight:
    """From a start, or a wall, to the next: the ways, points of each, why each ended, its error."""

    ways: _Ways
    count: Ints
    reason: Ints
    error: Vec


@dataclass(frozen=True, eq=False)
class _Starts:
    """Where particles begin, how fast, and their time, way, temperature, diameter and first diameter (n, 5)."""

    places: Vec
    velocity: Vec
    begun: Vec


def fly(flow: Flow, mesh: Mesh, fluid: tuple[NDArray[Any], ...], seeds: Vec, particle: Particle, token: Token | None = None) -> Lines:
    """Follow particles forward in time.

    Parameters
    ----------
    flow, mesh : Flow, Mesh
        The flow and its packed grids.
    fluid : tuple
        Its velocity (nodes, 3), density and viscosity (nodes,); where heat is followed its temperature and conductivity too.
    seeds : ndarray, shape (n, 3)
        Where particles begin.
    particle : Particle
        What they are.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    Lines
        Their paths; ``more`` holds the particles' speed, and their temperature and diameter where heat is followed.
    """
    seeds = np.ascontiguousarray(seeds, np.float64).reshape(-1, 3)
    vel = read_only(np.ascontiguousarray(fluid[0], np.float64))
    gas = read_only(np.ascontiguousarray(np.column_stack(fluid[1:5 if particle.heat else 3]), np.float64))
    size = particle.ballistic if particle.law == "ballistic" else particle.diameter
    begun = np.tile([0.0, 0.0, particle.heat.temperature if particle.heat else 0.0, size, size], (len(seeds), 1))
    starts = _Starts(seeds, np.tile(np.array(particle.start or (0.0, 0.0, 0.0), np.float64), (len(seeds), 1)), begun)
    who = np.arange(len(seeds))
    ends, error, made = np.zeros(len(seeds), np.int64), np.zeros(len(seeds)), np.zeros(len(seeds), np.int64)
    parts, owners = [], []
    for bounce in range(_BOUNCES + 1):
        flight = _flown(mesh, vel, gas, starts, particle, with_flow=particle.start is None and bounce == 0, token=token)
        flight = _ended(flow, mesh, flight, particle)
        ends[who], error[who] = flight.reason, error[who] + flight.error
        made[who] += flight.count
        parts.append(flight.ways)
        owners.append(np.repeat(who, flight.count))
        if particle.walls != "bounce":
            break
        starts, back = _thrown_back(flow, flight, starts, particle.restitution)
        back = back[made[who[back]] < particle.max_points]
        if len(back) == 0:
            break
        starts = _Starts(starts.places[back], starts.velocity[back], starts.begun[back])
        who = who[back]
    owner = np.concatenate(owners)
    order = np.argsort(owner, kind="stable")
    ways, owner = _Ways.joined(parts).take(order), owner[order]
    total = np.bincount(owner, minlength=len(seeds))
    alive = np.flatnonzero(total)
    offsets = np.concatenate([[0], np.cumsum(total[alive])])
    more = {"speed of the particle": np.linalg.norm(ways.velocity, axis=1)}
    if particle.heat:
        more |= {"temperature of the particle": ways.state[:, 0], "diameter of the particle": ways.state[:, 1]}
    told = np.column_stack([np.zeros(len(alive), np.int64), ends[alive]])
    return Lines(ways.points, offsets, ways.time, partial(stencil_of, mesh, ways.cells, ways.places), alive, told, error[alive], len(seeds),
                 more)


def _flown(mesh: Mesh, vel: Vec, gas: Vec, starts: _Starts, particle: Particle, *, with_flow: bool, token: Token | None) -> _Flight:
    """Until they end or leave the mesh."""
    heat = particle.heat or Heat()
    own = np.array([heat.capacity, heat.boils, heat.latent, heat.prandtl])
    dense = 0.0 if particle.law == "ballistic" else particle.density
    most, gravity = particle.max_points, np.array(particle.gravity, np.float64)
    first, velocity, begun = (read_only(np.ascontiguousarray(a)) for a in (starts.places, starts.velocity, starts.begun))
    parts: dict[int, _Flight] = {}

    def one(begin: int, end: int) -> None:
        lines = end - begin
        rows = lines * most
        ways = _Ways(np.empty((rows, 3)), np.empty((rows, 3)), np.empty((rows, 2), np.int64), np.empty(rows), np.empty((rows, 3)),
                     np.empty((rows, 2)))
        count, reason, error = np.zeros(lines, np.int64), np.zeros(lines, np.int64), np.zeros(lines)
        kernels.fly(mesh.arrays, vel, gas, first, velocity, begun, _LAWS[particle.law], dense, own, gravity, with_flow, particle.tolerance,
                    particle.max_time, particle.max_length, most, ways.points, ways.places, ways.cells, ways.time, ways.velocity,
                    ways.state, count, reason, error, begin, end)
        kept = np.concatenate([np.arange(n * most, n * most + c) for n, c in enumerate(count)]).astype(np.int64)
        parts[begin] = _Flight(ways.take(kept), count, reason, error)

    run_chunks(one, len(first), _CHUNK, token)
    if sum(len(part.count) for part in parts.values()) != len(first):
        raise CancelledError
    done = [parts[b] for b in sorted(parts)]
    nothing = np.zeros(0, np.int64)
    return _Flight(_Ways.joined([part.ways for part in done]), np.concatenate([nothing, *(part.count for part in done)]),
                   np.concatenate([nothing, *(part.reason for part in done)]), np.concatenate([np.empty(0), *(p.error for p in done)]))


def _ended(flow: Flow, mesh: Mesh, flight: _Flight, particle: Particle) -> _Flight:
    """With what walls have to do with it: inner ones end a way, and a way out beside one ended at it."""
    if particle.walls == "pass":
        return flight
    ways, ends = flight.ways, np.column_stack([np.zeros(len(flight.reason), np.int64), flight.reason])
    # The rows that are left follow from the time alone, which a cut way ends with anew.
    (points, places, cells, time), count = stopped(flow, mesh, (ways.points, ways.places, ways.cells, ways.time), flight.count, End.WALL,
                                                   ends)
    if len(time) != len(ways.time) or not np.array_equal(count, flight.count):
        of, whole = np.repeat(np.arange(len(count)), count), np.repeat(np.arange(len(flight.count)), flight.count)
        firsts = np.cumsum(flight.count) - flight.count
        rank = np.arange(len(of)) - np.repeat(np.cumsum(count) - count, count)
        rows = np.minimum(firsts[of] + rank, firsts[of] + flight.count[of] - 1)
        assert (whole[rows] == of).all()
        ways = _Ways(points, places, cells, time, ways.velocity[rows], ways.state[rows])
    else:
        ways = _Ways(points, places, cells, time, ways.velocity, ways.state)
    alive = np.flatnonzero(count)
    if len(alive):
        ends[alive] = tell_walls(flow, points, np.concatenate([[0], np.cumsum(count[alive])]), ends[alive])
    return _Flight(ways, count, ends[:, 1], flight.error)


def _thrown_back(flow: Flow, flight: _Flight, starts: _Starts, restitution: float) -> tuple[_Starts, Ints]:
    """Starts of those that ended at a wall, thrown back; which these are."""
    hit = np.flatnonzero((flight.reason == End.WALL) & (flight.count > 0))
    last = np.cumsum(flight.count)[hit] - 1
    ways = flight.ways
    velocity = ways.velocity[last]
    normal = normals_at(flow, ways.points[last], velocity)
    across = (velocity * normal).sum(axis=1)
    after = velocity - (1.0 + restitution) * across[:, None] * normal
    firsts, flown = np.cumsum(flight.count) - flight.count, flight.count > 0
    fastest = np.zeros(len(flight.count))
    if flown.any():
        fastest[flown] = np.maximum.reduceat(np.linalg.norm(ways.velocity, axis=1), firsts[flown])
    goes_on = np.isfinite(after).all(axis=1) & (restitution * np.abs(across) > _SETTLED * fastest[hit])
    hit, last, after = hit[goes_on], last[goes_on], after[goes_on]
    begun = starts.begun.copy()
    steps = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(ways.points, axis=0), axis=1))])
    begun[hit, 0] = ways.time[last]
    begun[hit, 1] += steps[last] - steps[firsts[hit]]
    begun[hit, 2:4] = ways.state[last]
    places, speeds = starts.places.copy(), starts.velocity.copy()
    places[hit], speeds[hit] = ways.points[last], after
    return _Starts(places, speeds, begun), hit
