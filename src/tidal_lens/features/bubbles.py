"""Recirculation: where the flow runs back, how far the fluid that does not come on reaches, and whether it is closed.

The region that runs back is only the inner part of a bubble. At each station along the stream the part of {u·e < c} that belongs to it grows
until what runs back through it and what runs on are equal: through the surface of a closed bubble nothing passes, so that is its outline.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from tidal_lens.cutting.contour import plane_cut
from tidal_lens.cutting.regions import Limit, region_content, region_skin
from tidal_lens.cutting.surface import Surface
from tidal_lens.features.connected import parts_of
from tidal_lens.features.finding import OFF_WALLS, Finding, Number, Reason, between, over
from tidal_lens.features.scales import Values, cell_widths, scales_of
from tidal_lens.features.zeros import Zero, zeros_of
from tidal_lens.flow.case import Flow
from tidal_lens.work import Token

Vec = NDArray[np.float64]
STATIONS = 40
MOST = 8  # regions whose outline is looked for, the largest first
SMALL = 1e-3  # of the largest's volume
SLOW = 0.01  # of the flow's speed: least speed back
CELLS = 2.0  # through it
ROOM = 2.0  # of the volume by the skin of what runs back: how far from it its outline may be
_TURNS = 14
_NO = 1e30


@dataclass(frozen=True, eq=False)
class Bubble:
    """One region that runs back, with its outline.

    Attributes
    ----------
    finding : Finding
        Its numbers.
    skin : Surface
        The outline where it was found, else the skin of what runs back.
    """

    finding: Finding
    skin: Surface


def find_bubbles(flow: Flow, values: Values, stream: Vec, token: Token | None = None, *, density: str = "") -> tuple[list[Bubble], list[Finding]]:
    """All regions of reversed flow, and the critical points of the velocity in them.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : callable
        Node values of velocity, and of the density.
    stream : ndarray, shape (3,)
        Velocity of the free stream; where it is zero the mean of the flow is taken.
    token : Token, optional
        Progress and cancel.
    density : str
        The quantity that is the density; mass fluxes are volume fluxes if empty.
    """
    velocity = values("velocity")
    scales = scales_of(flow, velocity, float(np.linalg.norm(stream)))
    ahead = _direction(flow, velocity, stream)
    back = np.asarray(velocity.astype(np.float64) @ ahead)
    with np.errstate(invalid="ignore"):
        part = parts_of(flow, back < 0.0, token)
    flux = back if not density else back * values(density)
    width = cell_widths(flow)
    many = np.bincount(part[part >= 0])
    chosen = [k for k in range(min(MOST, len(many))) if many[k] >= 4 and many[k] > SMALL * many[0]]
    out: list[Bubble] = []
    at = np.zeros(flow.n_points, bool)
    for k in chosen:
        if token is not None:
            token.check()
        found = _bubble(flow, back, flux, part == k, ahead, scales.speed, width, token)
        if found is not None:
            out.append(found)
            at |= part == k
    zeros = zeros_of(flow, velocity, _grown(flow, at, width), token)
    largest = max((b.finding.number("volume") for b in out), default=0.0)
    out = [_closed(b, zeros, ahead, largest, width, flow) for b in out]
    return out, [_critical(z, scales.rate, width, flow) for z in zeros]


def _direction(flow: Flow, velocity: NDArray[Any], stream: Vec) -> Vec:
    size = float(np.linalg.norm(stream))
    if size > 0.0:
        return np.asarray(stream / size)
    mean = np.nan_to_num(velocity.astype(np.float64)).mean(axis=0)
    size = float(np.linalg.norm(mean))
    return np.asarray(mean / size) if size > 0.0 else np.array([1.0, 0.0, 0.0])


def _grown(flow: Flow, at: NDArray[np.bool_], width: Vec) -> NDArray[np.bool_]:
    """Nodes within a box a tenth larger, and two cells, than that of some."""
    if not at.any():
        return at
    points = flow.points[at]
    low, high = points.min(axis=0), points.max(axis=0)
    room = 0.1 * (high - low) + 2.0 * float(width[at].max())
    return np.asarray(((flow.points >= low - room) & (flow.points <= high + room)).all(axis=1))


def _bubble(flow: Flow, back: Vec, flux: Vec, own: NDArray[np.bool_], ahead: Vec, speed: float, width: Vec,
            token: Token | None) -> Bubble | None:
    inner = np.where(own, back, np.maximum(back, _tiny(back)))
    reversed_volume = region_content(flow, [Limit(inner, 0.0, False)], None, token=token).volume
    if not reversed_volume > 0.0:
        return None
    along = flow.points @ ahead
    first, last = float(along[own].min()), float(along[own].max())
    hair = 1e-3 * (last - first)
    places = np.linspace(first + hair, last - hair, STATIONS)
    # It reaches half of its own radius or height beyond what runs back; further off other slow fluid begins, as in layers at walls.
    skin = region_skin(flow, [Limit(inner, 0.0, False)], token)
    reach = ROOM * reversed_volume / max(skin.area, 1e-300) + float(np.median(width[own]))
    near, _ = cKDTree(flow.points[own]).query(flow.points, distance_upper_bound=reach)
    levels, left, met = np.zeros(STATIONS), np.zeros(STATIONS), np.zeros(STATIONS, bool)
    for n, place in enumerate(places):
        if token is not None:
            token.check()
        levels[n], left[n], met[n] = _level(flow, back, flux, own, np.isfinite(near), place * ahead, ahead, speed, token)
    outer = np.interp(along, places, np.where(met, levels, 0.0), left=0.0, right=0.0)
    shifted = np.where(np.isfinite(near), back - outer, _NO)
    with np.errstate(invalid="ignore"):
        whole = parts_of(flow, shifted < 0.0, token)
    mine = np.isin(whole, np.unique(whole[own & (whole >= 0)])) & (whole >= 0)
    field = np.where(mine, shifted, np.maximum(np.abs(shifted), _tiny(back)))
    limit = [Limit(np.minimum(field, np.abs(back).max() + speed), 0.0, False)]
    skin = region_skin(flow, limit, token)
    volume = region_content(flow, limit, None, token=token).volume
    across = np.linalg.svd(ahead[None])[2][1:]
    axes = np.array([np.eye(3)[a] for a in np.argsort(np.abs(ahead), kind="stable")[:2]])
    spans = [float(np.ptp(skin.points @ axis)) if len(skin.points) else 0.0 for axis in (axes if np.abs(ahead).max() > 0.8 else across)]
    middle = flow.points[own].mean(axis=0)
    least = float(back[own].min())
    cells = float(np.cbrt(reversed_volume) / np.median(width[own]))
    score = min(over(-least / speed, SLOW), over(cells, CELLS))
    ends = skin.points @ ahead if len(skin.points) else np.array([first, last])
    length = float(np.ptp(ends))
    numbers = (Number("volume", volume, "m³"), Number("length", length, "m"),
               Number("width", max(spans), "m"), Number("height", min(spans), "m"), Number("least velocity", least, "m/s"),
               Number("volume that runs back", reversed_volume, "m³"), Number("begins at", float(ends.min()), "m"),
               Number("ends at", float(ends.max()), "m"))
    reasons = (Reason(between(cells, 1.0, 8.0), f"{cells:.1f} cells through it (good: 8)"),
               Reason(between(float(met.mean()), 0.3, 0.95), f"at {met.mean():.0%} of the stations an outline was found through which nothing passes"),
               Reason(between(1.0 - float(np.abs(left).mean()), 0.7, 1.0), f"{np.abs(left).mean():.1%} of what runs back is not met by what runs on"))
    place = flow.points[own][int(back[own].argmin())]
    return Bubble(Finding("recirculation", place, max(0.5 * length, float(np.linalg.norm(np.ptp(flow.points[own], axis=0))) * 0.5), score, length,
                          float(np.cbrt(volume)), numbers, reasons=reasons, told=(f"Its middle is at {_text(middle)}.",)), skin)


def _tiny(back: Vec) -> float:
    return 1e-9 * float(np.nanmax(np.abs(back)))


def _text(place: Vec) -> str:
    return ", ".join(f"{c:.4g}" for c in place)


def _level(flow: Flow, back: Vec, flux: Vec, own: NDArray[np.bool_], near: NDArray[np.bool_], point: Vec, ahead: Vec, speed: float,
           token: Token | None) -> tuple[float, float, bool]:
    """The c at which the part of {u·e < c} round what runs back lets nothing through, what is left of the flux, and whether it was met."""
    cut = plane_cut(flow, point, ahead, token)
    if not len(cut.faces):
        return 0.0, 0.0, False
    stencil = cut.stencil
    inside = stencil.apply(near.astype(np.float64)) > 0.5
    u, f, mine = stencil.apply(back), stencil.apply(flux), (stencil.apply(own.astype(np.float64)) > 0.25)
    seeds = mine & (u < 0.0) & inside
    if not seeds.any():
        return 0.0, 0.0, False
    faces = cut.faces[inside[cut.faces].all(axis=1)]
    pairs = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 3]], faces[:, [3, 0]]])

    def through(c: float) -> float:
        low = u < c
        good = low[pairs].all(axis=1)
        graph = coo_matrix((np.ones(int(good.sum()), np.int8), tuple(pairs[good].T)), (len(u), len(u)))
        part = connected_components(graph, directed=False)[1]
        here = np.isin(part, np.unique(part[seeds])) & low
        value = np.where(here, c - u, np.minimum(c - u, -1e-12 * speed))
        some = faces[here[faces].any(axis=1)]
        return _integral(cut, some, value, f)

    lost = through(0.0)
    if not lost < 0.0:
        return 0.0, 0.0, False
    high = float(u[inside].max())
    low, at_low, at_high = 0.0, lost, through(high)
    if at_high < 0.0:
        return high, at_high / lost, False
    for turn in range(_TURNS):
        # Of secants the one that keeps the zero between its ends; in the middle now and then, lest it creep.
        c = 0.5 * (low + high) if turn % 3 == 2 else low + (high - low) * min(max(-at_low / (at_high - at_low), 0.02), 0.98)
        now = through(c)
        if abs(now) < 2e-3 * abs(lost):
            return c, now / lost, True
        if now < 0.0:
            low, at_low = c, now
        else:
            high, at_high = c, now
    # It jumps where another part joins: what is below that belongs to it.
    return low, at_low / lost, abs(at_low) < 0.2 * abs(lost)


def _integral(cut: Surface, faces: NDArray[np.int64], value: Vec, f: Vec) -> float:
    """Integral of vertex values f over the part of faces where a vertex value is positive, both linear over triangles."""
    tri = np.concatenate([faces[:, :3], faces[faces[:, 2] != faces[:, 3]][:, [0, 2, 3]]])
    p = cut.points[tri]
    area = 0.5 * np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    v, g = value[tri], f[tri]
    order = np.argsort(-v, axis=1)
    v, g = np.take_along_axis(v, order, axis=1), np.take_along_axis(g, order, axis=1)
    inside = (v > 0.0).sum(axis=1)
    total = area * g.mean(axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        # One corner inside: the small triangle there. Two: all but the small one at the third.
        s, t = v[:, 0] / (v[:, 0] - v[:, 1]), v[:, 0] / (v[:, 0] - v[:, 2])
        one = area * s * t * (g[:, 0] + (g[:, 0] + s * (g[:, 1] - g[:, 0])) + (g[:, 0] + t * (g[:, 2] - g[:, 0]))) / 3.0
        s, t = v[:, 2] / (v[:, 2] - v[:, 1]), v[:, 2] / (v[:, 2] - v[:, 0])
        off = area * s * t * (g[:, 2] + (g[:, 2] + s * (g[:, 1] - g[:, 2])) + (g[:, 2] + t * (g[:, 0] - g[:, 2]))) / 3.0
    return float(np.where(inside == 3, total, np.where(inside == 2, total - off, np.where(inside == 1, one, 0.0))).sum())


def _closed(bubble: Bubble, zeros: list[Zero], ahead: Vec, largest: float, width: Vec, flow: Flow) -> Bubble:
    """With its closure: the saddle furthest downstream that lines come to from the bubble."""
    old = bubble.finding
    points = bubble.skin.points
    if len(points):
        low, high = points.min(axis=0), points.max(axis=0)
        room = 0.1 * (high - low) + 2.0 * float(np.median(width))
        there = [z for z in zeros if z.kind == "saddle" and not z.spirals and ((z.place >= low - room) & (z.place <= high + room)).all()]
    else:
        there = []
    told, numbers = list(old.told), list(old.numbers)
    if there:
        saddle = max(there, key=lambda z: float(z.place @ ahead))
        plane = len(saddle.rates) == 2
        shut = saddle.incoming == (1 if plane else 2)
        numbers.insert(4, Number("closes at", float(saddle.place @ ahead), "m"))
        told.insert(0, f"Closed: lines come to the saddle at {_text(saddle.place)} from all round it." if shut else
                    f"Open: only lines in one plane come to the saddle at {_text(saddle.place)}; beside it fluid passes in and out.")
    else:
        told.insert(0, "No saddle was found that closes it: it ends on a wall, or is open.")
    score = min(old.score, over(old.number("volume"), SMALL * largest))
    return Bubble(Finding(old.sort, old.place, old.reach, score, old.size, old.strength, tuple(numbers), old.curves, old.line, old.reasons,
                          tuple(told)), bubble.skin)


def _critical(zero: Zero, rate: float, width: Vec, flow: Flow) -> Finding:
    real, size = zero.rates.real, np.abs(zero.rates)
    even = float(size.min() / size.max()) if size.max() > 0.0 else 0.0
    numbers = tuple(Number(f"rate {n + 1}", float(r), "1/s") for n, r in enumerate(np.sort(real)))
    ways = f"Lines come in {'along a line' if zero.incoming == 1 else 'from all round in a plane' if zero.incoming == 2 else 'from all sides'}" \
        if zero.incoming else "Lines only go out"
    return Finding(zero.kind, zero.place, 2.0 * float(np.median(width)), min(over(even, 0.02), over(float(size.max()) / rate, 0.5)), 0.0,
                   float(size.max() / rate) * 1e-6, numbers, reasons=(Reason(between(even, 0.01, 0.2), "how well its rates are told apart"),),
                   told=(f"{ways}{'; they turn round it' if zero.spirals else ''}.",), letter=OFF_WALLS)



