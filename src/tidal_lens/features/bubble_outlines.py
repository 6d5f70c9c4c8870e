"""How far a bubble reaches at a station: the part of the plane that fluid leaves as fast as it comes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.contour import plane_cut
from tidal_lens.cutting.regions import Limit, region_content, region_skin
from tidal_lens.cutting.surface import Surface
from tidal_lens.distinct import distinct
from tidal_lens.features import bubble_kernels as kernels
from tidal_lens.features.connected import parts_of
from tidal_lens.features.sheets import evened
from tidal_lens.flow.case import Flow
from tidal_lens.work import Token, stage

Vec = NDArray[np.float64]
STATIONS = 40
ROOM = 2.0  # of the volume by the skin of what runs back: how far from it its outline may be
MET = 2e-3  # of what runs back: so little may be left
JUMP = 0.2  # the same where another part joins, and it jumps
_TURNS = 14
LIFT = 0.4  # of its size: so far before its plane the bubble of a plane flow is drawn
EVEN = 4  # averagings of the outline's vertices


@dataclass(frozen=True, eq=False)
class Backflow:
    """A connected region that runs back.

    Attributes
    ----------
    flow : Flow
        The flow.
    back : ndarray, shape (nodes,)
        Velocity along the stream.
    flux : ndarray, shape (nodes,)
        The same by the density.
    own : ndarray, shape (nodes,), bool
        Nodes of the region.
    ahead : ndarray, shape (3,)
        The stream's direction.
    speed : float
        Of the flow.
    width : ndarray, shape (nodes,)
        Of cells.
    """

    flow: Flow
    back: Vec
    flux: Vec
    own: NDArray[np.bool_]
    ahead: Vec
    speed: float
    width: NDArray[np.float32]

    @property
    def hair(self) -> float:
        """Next to nothing of a velocity."""
        return 1e-9 * float(np.nanmax(np.abs(self.back)))

    @property
    def inner(self) -> Limit:
        """The condition that only this region meets."""
        return Limit(np.where(self.own, self.back, np.maximum(self.back, self.hair)), 0.0, False)


@dataclass(frozen=True, eq=False)
class Outline:
    """What was found of a bubble's outline.

    Attributes
    ----------
    skin : Surface
        Its surface, but for what lies on walls.
    volume, reversed_volume : float
        Within it, and of what runs back.
    met : ndarray, shape (stations,), bool
        Where it was found.
    left : ndarray, shape (stations,)
        What of the flux back is not met by what runs on.
    """

    skin: Surface
    volume: float
    reversed_volume: float
    met: NDArray[np.bool_]
    left: Vec


def outline_of(region: Backflow, token: Token | None = None) -> Outline | None:
    """The outline of a bubble; None where nothing runs back between nodes."""
    from scipy.spatial import cKDTree

    flow, own = region.flow, region.own
    reversed_volume = region_content(flow, [region.inner], None, token=stage(token, 0.0, 0.0)).volume
    if not reversed_volume > 0.0:
        return None
    own_along = flow.points[own] @ region.ahead
    first, last = float(own_along.min()), float(own_along.max())
    hair = 1e-3 * (last - first)
    places = np.linspace(first + hair, last - hair, STATIONS)
    # It reaches half of its own radius or height beyond what runs back; further off other slow fluid begins, as in layers at walls.
    skin = region_skin(flow, [region.inner], stage(token, 0.0, 0.0))
    sides = 0.0 if flow.normal is None else 2.0 * reversed_volume / flow.depth  # of a layer of a plane flow
    reach = ROOM * reversed_volume / max(skin.area - sides, 1e-300) + float(np.median(region.width[own]))
    box = _box_round(flow, own, 2.0 * reach)
    far = cKDTree(flow.points[own]).query(flow.points[box], distance_upper_bound=2.0 * reach)[0]
    near = np.zeros(flow.n_points, bool)
    near[box] = far < reach
    levels, left, met = np.zeros(STATIONS), np.zeros(STATIONS), np.zeros(STATIONS, bool)
    for n, place in enumerate(places):
        if token is not None:
            token.check()
            token.report(n / STATIONS)
        levels[n], left[n], met[n] = _level(region, near, place, stage(token, n / STATIONS, n / STATIONS))
    outer = np.interp(flow.points[box] @ region.ahead, places, np.where(met, levels, 0.0), left=0.0, right=0.0)
    # No further off than it may reach: by a slope, so that it ends there smoothly.
    limit_of_reach = np.where(np.isfinite(far), far / reach - 1.0, 1.0) * region.speed
    shifted = np.maximum(region.back[box] - outer, limit_of_reach)
    flagged = np.zeros(flow.n_points, bool)
    flagged[box] = shifted < 0.0
    whole = parts_of(flow, flagged, token)
    mine = (np.isin(whole, distinct(whole[own & (whole >= 0)])) & (whole >= 0))[box]
    del whole, flagged
    top = float(np.abs(region.back).max()) + region.speed
    field = np.full(flow.n_points, top, region.back.dtype)
    field[box] = np.minimum(np.where(mine, shifted, np.maximum(np.abs(shifted), region.hair)), top)
    limit = [Limit(field, 0.0, False)]
    skin = region_skin(flow, limit, stage(token, 0.95, 0.95))
    volume = region_content(flow, limit, None, token=stage(token, 0.98, 0.98)).volume
    held = _on_outside(flow, skin)
    # What lies on walls is theirs to show; in a plane flow all is seen from its sides.
    hidden = held[skin.faces].all(axis=1) if flow.normal is None else np.zeros(len(skin.faces), bool)
    lift = 0.0 if flow.normal is None else LIFT * float(np.cbrt(volume)) * np.asarray(flow.normal)
    free = Surface(skin.points + lift, skin.faces[~hidden], skin.stencil)
    return Outline(evened(free, EVEN, held), volume, reversed_volume, met, left)


def _box_round(flow: Flow, own: NDArray[np.bool_], room: float) -> NDArray[np.int64]:
    """Nodes in the box of some, and a little room round it."""
    low, high = flow.points[own].min(axis=0) - room, flow.points[own].max(axis=0) + room
    inside = np.ones(flow.n_points, bool)
    for axis in range(3):
        inside &= (flow.points[:, axis] >= low[axis]) & (flow.points[:, axis] <= high[axis])
    return np.flatnonzero(inside)


def _on_outside(flow: Flow, skin: Surface) -> NDArray[np.bool_]:
    """Vertices that lie on walls and other boundaries."""
    outer = np.zeros(flow.n_points, bool)
    outer[flow.outside.faces] = True
    return np.asarray((outer[skin.stencil.ids] | (skin.stencil.weights == 0.0)).all(axis=1))


@dataclass(frozen=True, eq=False)
class _Station:
    """What of a plane is near a region: vertices with the velocity and the flux through the plane, and those that are the region's."""

    points: Vec
    faces: NDArray[np.int64]
    u: Vec
    f: Vec
    seeds: NDArray[np.bool_]

    def through(self, c: float, speed: float) -> float:
        """What passes the part where the velocity is below c that belongs to the region."""
        part, mine = np.empty(len(self.u), np.int64), np.empty(len(self.u), bool)
        return float(kernels.passing(self.points, self.faces, self.u, self.f, self.seeds, float(c), 1e-12 * speed, part, mine))


def _level(region: Backflow, near: NDArray[np.bool_], place: float, token: Token | None) -> tuple[float, float, bool]:
    """The c at which the part of {u·e < c} round what runs back lets nothing through, what is left of the flux, and whether it was met."""
    cut = plane_cut(region.flow, place * region.ahead, region.ahead, token)
    inside = cut.stencil.apply(near.astype(np.float32)) > 0.5
    faces = cut.faces[inside[cut.faces].all(axis=1)] if len(cut.faces) else cut.faces
    used, numbers = np.unique(faces, return_inverse=True)
    stencil = cut.stencil.take(used)
    u, flux = (np.asarray(stencil.apply(values), np.float64) for values in (region.back, region.flux))
    own = stencil.apply(region.own.astype(np.float32)) > 0.25
    station = _Station(cut.points[used], numbers.reshape(faces.shape), u, flux, own & (u < 0.0))
    if not station.seeds.any():
        return 0.0, 0.0, False
    lost = station.through(0.0, region.speed)
    if not lost < 0.0:
        return 0.0, 0.0, False
    low, high, at_low = 0.0, float(u.max()), lost
    at_high = station.through(high, region.speed)
    if at_high < 0.0:
        return high, at_high / lost, False
    for turn in range(_TURNS):
        # Of secants the one that keeps the zero between its ends; in the middle now and then, lest it creep.
        c = 0.5 * (low + high) if turn % 3 == 2 else low + (high - low) * min(max(-at_low / (at_high - at_low), 0.02), 0.98)
        now = station.through(c, region.speed)
        if abs(now) < MET * abs(lost):
            return c, now / lost, True
        if now < 0.0:
            low, at_low = c, now
        else:
            high, at_high = c, now
    # It jumps where another part joins: what is below that belongs to it.
    return low, at_low / lost, abs(at_low) < JUMP * abs(lost)
