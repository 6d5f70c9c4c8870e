"""Recirculation: where the flow runs back, how far the fluid that does not come on reaches, and whether it is closed.

The region that runs back is only the inner part of a bubble. At each station along the stream the part of {u·e < c} that belongs to it
grows until what runs back through it and what runs on are equal: through the surface of a closed bubble nothing passes, so that is its
outline.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import Surface
from tidal_lens.features.bubble_outlines import Backflow, Outline, outline_of
from tidal_lens.features.connected import parts_of
from tidal_lens.features.finding import OFF_WALLS, Finding, Number, Reason, between, over
from tidal_lens.features.scales import Values, cell_widths, scales_of
from tidal_lens.features.zeros import Zero, zeros_of
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.smoothing import node_volumes
from tidal_lens.work import Token, stage

Vec = NDArray[np.float64]
MOST = 8  # regions whose outline is looked for, the largest first
SMALL = 1e-3  # of the largest's volume
SLOW = 0.01  # of the flow's speed: least speed back
CELLS = 2.0  # through it
_STILL = 0.1  # of its rates: what lines come in by, where it is a centre
_ALIKE = 0.7  # cosine between the stream and what a region runs back against
EVEN, FAST = 0.02, 0.5  # of a critical point: least by greatest rate, and the greatest by the flow's own rate


@dataclass(frozen=True, eq=False)
class Bubble:
    """One region that runs back, with its outline.

    Attributes
    ----------
    finding : Finding
        Its numbers.
    skin : Surface
        The outline where it was found, else the skin of what runs back; without what lies on walls.
    """

    finding: Finding
    skin: Surface


def find_bubbles(flow: Flow, values: Values, stream: Vec, token: Token | None = None, *,
                 density: str = "") -> tuple[list[Bubble], list[Finding]]:
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
    ahead = _direction(velocity, stream)
    back = np.nan_to_num(velocity @ ahead.astype(velocity.dtype))
    part = parts_of(flow, back < 0.0, token)
    flux = back if not density else back * values(density)
    width = cell_widths(flow, token)
    many = np.bincount(part[part >= 0])
    out: list[Bubble] = []
    at = np.zeros(flow.n_points, bool)
    chosen = [k for k in range(min(MOST, len(many))) if many[k] >= 4 and many[k] > SMALL * many[0]]
    for at_work, k in enumerate(chosen):
        region = _along_itself(Backflow(flow, back, flux, part == k, ahead, scales.speed, width), velocity, token)
        found = outline_of(region, stage(token, at_work / len(chosen), (at_work + 1) / len(chosen)))
        if found is not None:
            out.append(Bubble(_finding(region, found), found.skin))
            at |= region.own
    zeros = zeros_of(flow, velocity, _grown(flow, at, width), token)
    largest = max((b.finding.number("volume") for b in out), default=0.0)
    return ([replace(b, finding=_closed(b, zeros, ahead, largest, float(np.median(width)))) for b in out],
            [_critical(z, scales.rate, float(np.median(width))) for z in zeros])


def _along_itself(region: Backflow, velocity: NDArray[Any], token: Token | None) -> Backflow:
    """The region along the direction in which it runs back itself: that of a wake or a wall may differ from the stream's."""
    flow, own = region.flow, region.own
    mean = -(velocity[own].astype(np.float64) * node_volumes(flow, token)[own, None]).sum(axis=0)
    size = float(np.linalg.norm(mean))
    if not size > 0.0 or float(mean @ region.ahead) < _ALIKE * size:
        return region
    ahead = mean / size
    back = np.nan_to_num(velocity @ ahead.astype(velocity.dtype))
    part = parts_of(flow, back < 0.0, token)
    deepest = np.flatnonzero(own)[int(region.back[own].argmin())]
    if part[deepest] < 0:
        return region
    with np.errstate(divide="ignore", invalid="ignore"):
        flux = np.where(region.back != 0.0, region.flux / region.back, 1.0).astype(back.dtype)
    flux *= back
    return Backflow(flow, back, flux, part == part[deepest], ahead, region.speed, region.width)


def _direction(velocity: NDArray[Any], stream: Vec) -> Vec:
    size = float(np.linalg.norm(stream))
    if size > 0.0:
        return np.asarray(stream / size)
    mean = np.nan_to_num(velocity.astype(np.float64)).mean(axis=0)
    size = float(np.linalg.norm(mean))
    return np.asarray(mean / size) if size > 0.0 else np.array([1.0, 0.0, 0.0])


def _grown(flow: Flow, at: NDArray[np.bool_], width: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Nodes within a box a tenth larger, and two cells, than that of some."""
    if not at.any():
        return at
    points = flow.points[at]
    low, high = points.min(axis=0), points.max(axis=0)
    room = 0.1 * (high - low) + 2.0 * float(width[at].max())
    return np.asarray(((flow.points >= low - room) & (flow.points <= high + room)).all(axis=1))


def _finding(region: Backflow, found: Outline) -> Finding:
    own, skin, ahead, speed = region.own, found.skin, region.ahead, region.speed
    nodes, speeds = region.flow.points[own], region.back[own]
    across = np.linalg.svd(ahead[None])[2][1:]
    axes = np.array([np.eye(3)[a] for a in np.argsort(np.abs(ahead), kind="stable")[:2]])
    points = skin.points if len(skin.points) else nodes
    spans = [float(np.ptp(points @ axis)) for axis in (axes if np.abs(ahead).max() > 0.8 else across)]
    if region.flow.normal is not None:
        spans = [float(np.ptp(points @ np.cross(np.asarray(region.flow.normal), ahead)))]
    ends = points @ ahead
    least, length = float(speeds.min()), float(np.ptp(ends))
    depth = region.flow.depth
    inner = float(np.cbrt(found.reversed_volume) if region.flow.normal is None else np.sqrt(found.reversed_volume / depth))
    cells = inner / float(np.median(region.width[own]))
    missing = float(np.abs(found.left).mean())
    numbers = (Number("volume", found.volume, "m³"), Number("length", length, "m"),
               *((Number("width", max(spans), "m"),) if len(spans) > 1 else ()), Number("height", min(spans), "m"),
               Number("least velocity", least, "m/s"),
               Number("volume that runs back", found.reversed_volume, "m³"), Number("begins at", float(ends.min()), "m"),
               Number("ends at", float(ends.max()), "m"))
    reasons = (Reason(between(cells, 1.0, 8.0), f"{cells:.1f} cells through it (good: 8)"),
               Reason(between(float(found.met.mean()), 0.3, 0.95),
                      f"an outline that nothing passes through was found at {found.met.mean():.0%} of the stations"),
               Reason(between(1.0 - missing, 0.7, 1.0), f"{missing:.1%} of what runs back is not met by what runs on"))
    place = nodes[int(speeds.argmin())].copy()
    if region.flow.normal is not None:  # half way through the layer
        normal = np.asarray(region.flow.normal)
        place += (float((region.flow.points @ normal).mean()) - place @ normal) * normal
    reach = 0.5 * max(length, float(np.linalg.norm(np.ptp(nodes, axis=0))))
    return Finding("recirculation", place, reach, min(over(-least / speed, SLOW), over(cells, CELLS)), length,
                   float(np.cbrt(found.volume)), numbers, reasons=reasons, told=(f"Its middle is at {_text(nodes.mean(axis=0))}.",))


def _text(place: Vec) -> str:
    return ", ".join(f"{c:.4g}" for c in place)


def _closed(bubble: Bubble, zeros: list[Zero], ahead: Vec, largest: float, width: float) -> Finding:
    """With its closure: the saddle furthest downstream that lines come to from the bubble."""
    old, points = bubble.finding, bubble.skin.points
    told, numbers = list(old.told), list(old.numbers)
    there: list[Zero] = []
    if len(points):
        low, high = points.min(axis=0), points.max(axis=0)
        room = 0.1 * (high - low) + 2.0 * width
        there = [z for z in zeros if z.kind == "saddle" and not z.spirals and ((z.place >= low - room) & (z.place <= high + room)).all()]
    if there:
        saddle = max(there, key=lambda z: float(z.place @ ahead))
        shut = saddle.incoming == (1 if len(saddle.rates) == 2 else 2)
        numbers.insert(3, Number("closes at", float(saddle.place @ ahead), "m"))
        told.insert(0, f"Closed: lines come to the saddle at {_text(saddle.place)} from all round it." if shut else
                    f"Open: only lines in one plane come to the saddle at {_text(saddle.place)}; beside it fluid passes in and out.")
    else:
        told.insert(0, "No saddle was found that closes it: it ends on a wall, or is open.")
    return replace(old, score=min(old.score, over(old.number("volume"), SMALL * largest)), numbers=tuple(numbers), told=tuple(told))


def _critical(zero: Zero, rate: float, width: float) -> Finding:
    size = np.abs(zero.rates)
    fast = float(size.max())
    even = float(size.min() / fast) if fast > 0.0 else 0.0
    numbers = tuple(Number(f"rate {n + 1}", float(r), "1/s") for n, r in enumerate(np.sort(zero.rates.real)))
    many = len(zero.rates)
    still = float(np.abs(zero.rates.real).max()) < _STILL * fast and zero.spirals and many == 2
    ways = "Lines neither come in nor go out" if still else "Lines only go out" if not zero.incoming else \
        "Lines come in from all sides" if zero.incoming == many else \
        "Lines come in along a line" if zero.incoming == 1 else "Lines come in from all round in a plane"
    return Finding(zero.kind, zero.place, 2.0 * width, min(over(even, EVEN), over(fast / rate, FAST)), 0.0, fast / rate * 1e-6, numbers,
                   reasons=(Reason(between(even, 0.01, 0.2), "how well its rates are told apart"),),
                   told=(f"{ways}{'; they turn round it' if zero.spirals else ''}.",), letter=OFF_WALLS)
