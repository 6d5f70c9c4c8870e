"""Vortices as findings: cores that something turns round, with their numbers and what speaks for and against them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features import vortex_kernels as kernels
from tidal_lens.features.finding import Finding, Number, Reason, between, over
from tidal_lens.features.scales import Values
from tidal_lens.features.vortex_measures import Stations, measured
from tidal_lens.features.vortices import Core, Tank, core_lines, evened, joined
from tidal_lens.flow.case import Flow
from tidal_lens.work import Token, stage

Vec = NDArray[np.float64]
ROUND = 0.25  # least by mean speed round half of the radius: shear layers are at 0.1
LONG = 3.0  # radii
FAST = 0.02  # of the flow's speed
SHORT = 4.0  # cell widths: shorter lines are not looked at


def _end(number: int) -> str:
    """How a core line ends."""
    return {kernels.LEFT: "leaves the flow", kernels.FADED: "fades", kernels.LOST: "loses its clear core", kernels.WALL: "meets a wall",
            kernels.CLOSED: "closes on itself", kernels.LONG: "was followed no further"}[number]


def find_vortices(flow: Flow, values: Values, speed: float, token: Token | None = None, *, pressure: str = "") -> list[Finding]:
    """All candidates for vortices of a flow, clear ones and others.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : callable
        Node values of velocity, vorticity, λ2 and the pressure.
    speed : float
        Of the free stream; 0 where there is none.
    token : Token, optional
        Progress and cancel.
    pressure : str
        The quantity that is told along cores as their pressure; none if empty.
    """
    tank = Tank.of(flow, values, speed, stage(token, 0.0, 0.3))
    plane = flow.normal is not None
    cores = [c for c in core_lines(tank, stage(token, 0.3, 0.7)) if plane or c.length > SHORT * float(np.median(c.widths))]
    with np.errstate(over="ignore", invalid="ignore"):
        velocity = (values("velocity") / tank.scales.speed).astype(np.float32, copy=False)
    stations = measured(tank, cores, velocity, stage(token, 0.7, 0.85))
    # What nothing turns round may lie in line with a vortex and be none.
    turned = np.array([_typical(s.radius) if _typical(s.round[s.peaked]) > ROUND else 0.0 for s in stations])
    whole = cores if plane else [evened(c) for c in joined(cores, turned)]
    if not plane:
        cores, stations = whole, measured(tank, whole, velocity, stage(token, 0.85, 1.0))
    return [_finding(tank, c, s, values, pressure) for c, s in zip(cores, stations, strict=True) if s.peaked.any()]


def _place(point: Vec) -> str:
    return ", ".join(f"{c:.4g}" for c in point)


def _typical(values: Vec) -> float:
    finite = values[np.isfinite(values)]
    return float(np.median(finite)) if len(finite) else 0.0


def _finding(tank: Tank, core: Core, found: Stations, values: Values, pressure: str) -> Finding:
    scales, on = tank.scales, found.peaked
    downstream = float(np.nansum(found.axial)) >= 0.0
    radius, fast = _typical(found.radius), _typical(found.swirl_speed)
    roundness = float(np.median(found.round[on]))
    cells, length = _typical(found.radius / found.width), core.length
    long = 1.0 if tank.flow.normal is not None else over(length, LONG * radius)
    score = min(over(roundness, ROUND), long, over(fast, FAST))
    circulation = found.circulation * scales.speed
    at = int(np.nanargmax(np.abs(np.where(on, circulation, np.nan))))
    points = core.points if downstream else core.points[::-1]
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(core.points, axis=0), axis=1))])

    def curve(stations: Vec) -> Vec:
        good = np.isfinite(stations)
        full = np.interp(along, along[found.rows[good]], stations[good]) if good.any() else np.full(len(along), np.nan)
        return full if downstream else full[::-1]

    axial = np.abs(found.axial) * scales.speed
    curves = {"radius": curve(found.radius), "circulation": curve(circulation), "swirl": curve(np.where(on, found.swirl, np.nan)),
              "speed along the core": curve(axial)}
    numbers = [Number("circulation", _typical(circulation), "m²/s"), Number("radius", radius, "m"),
               Number("swirl", _typical(found.swirl[on])),
               Number("length", length, "m"), Number("greatest circulation", float(circulation[at]), "m²/s"),
               Number("greatest speed round it", float(np.nanmax(found.swirl_speed)) * scales.speed, "m/s"),
               Number("speed along it", _typical(axial), "m/s")]
    if pressure:
        stencil, _ = tank.mesh.locate(points)
        curves["core pressure"] = own = stencil.apply(values(pressure))
        if np.isfinite(own).any():
            numbers.insert(3, Number("least core pressure", float(np.nanmin(own)), pressure))
    ends = core.ends if downstream else core.ends[::-1]
    # Looking along the line: the vorticity points along the core, so the fluid turns to the right of it.
    turning = "clockwise" if downstream else "anticlockwise"
    how = f"It {_end(ends[0])}." if core.closed else f"Upstream it {_end(ends[0])}, downstream it {_end(ends[1])}."
    told = how, f"Seen along its line it turns {turning}.", f"From {_place(points[0])} to {_place(points[-1])}."
    reasons = (Reason(between(cells, 1.0, 3.0), f"{cells:.1f} cells to a radius (good: 3)"),
               Reason(float(on.mean()), f"its radius was met at {on.mean():.0%} of the stations before a wall or an end"),
               Reason(between(roundness, 0.1, 0.6),
                      f"the slowest place round it has {roundness:.0%} of the mean speed (at least {ROUND:.0%})"),
               Reason(between(1.0 - float(core.missed.mean()), 0.5, 0.95), f"{core.missed.mean():.0%} of it bridged without a clear core"))
    strength = float(abs(circulation[at])) / (scales.speed * scales.length) * min(1.0, length / (LONG * radius))
    reach = max(radius, float(np.median(core.widths)))
    return Finding("vortex", core.points[found.rows[at]], reach, score, length, strength, tuple(numbers), curves,
                   np.ascontiguousarray(points), reasons, told)
