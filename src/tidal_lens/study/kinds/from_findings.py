"""What is laid at a finding: a cut across it, seeds around it, a profile through it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.planes import unit
from tidal_lens.distinct import distinct
from tidal_lens.features.finding import Finding
from tidal_lens.features.found import FoundLines, FoundSurface
from tidal_lens.flow.case import Flow
from tidal_lens.measures.sums import Facets
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.dressings import Ribbons
from tidal_lens.study.geometry import Geometry
from tidal_lens.study.kinds.first_values import best_name, rounded
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.measured import first_quantity
from tidal_lens.study.kinds.profile import ProfileShape
from tidal_lens.study.kinds.seeds import BallSeeds, DiscSeeds, PointSeeds
from tidal_lens.study.kinds.slice import SliceShape, at_length
from tidal_lens.study.kinds.streamlines import StreamShape
from tidal_lens.study.looks import LineLook, SurfaceLook

Vec = NDArray[np.float64]
_WIDE, _LEAST = 10.0, 0.08  # width of a cut across a vortex in radii, and the least as a share of the flow's length
_ROUND = 24  # seeds round a core
_THROUGH, _NEAR = 0.06, 6  # of the flow's length: half of a profile; faces of a sheet whose mean direction it goes along
_SHEETS = ("shock", "sonic surface")
_OFF = 0.004  # of the flow's length: seeds beside a line on a wall


def _triple(v: Vec) -> tuple[float, float, float]:
    return float(v[0]), float(v[1]), float(v[2])


def line_number(geometry: Geometry, finding: int) -> int | None:
    """Which of the card's lines is that of a finding; None where it has none."""
    if not isinstance(geometry, FoundLines):
        return None
    found = np.flatnonzero(geometry.seeds == finding)
    return int(found[0]) if len(found) else None


def _strongest(finding: Finding) -> float:
    """How far along its line a finding is strongest."""
    steps = np.linalg.norm(np.diff(finding.line, axis=0), axis=1)
    ends = np.concatenate([[0.0], np.cumsum(steps)])
    at = int(np.linalg.norm(finding.line - finding.place, axis=1).argmin())
    return float(ends[at] if 0 < at < len(ends) - 1 else 0.5 * ends[-1])


def cut_across(store: QuantityStore, finding: Finding, name: str, card: str, line: int | None) -> Begun:
    """A slice across a finding: of a line normal to it, moved along it by its bead; else along the stream through its place.

    Parameters
    ----------
    store : QuantityStore
        Of the flow.
    finding, name
        The finding, and what it is called.
    card, line
        The card that found it, and which of its lines it is.
    """
    flow = store.flow
    look = SurfaceLook(colour_by=best_name(store))
    if line is not None and flow.normal is None and len(finding.line) > 2:
        radius = finding.number("radius")
        width = max(_WIDE * radius if np.isfinite(radius) else 0.0, _LEAST * flow.length)
        shape = SliceShape(direction=(1.0, 0.0, 0.0), position=0.0, limit="disc", width=float(f"{width:.3g}"), height=float(f"{width:.3g}"),
                           across=card, line=line, along=float(f"{_strongest(finding):.5g}"))
        return Begun(f"Across {name}", shape, look)
    stream = np.array(store.reference.velocity)
    way = flow.normal if flow.normal is not None else _aside(stream)
    normal = unit(way)
    width = float(f"{max(3.0 * finding.reach, _LEAST * flow.length):.3g}")
    shape = SliceShape(direction=_triple(normal), position=float(normal @ finding.place), centre=_triple(finding.place),
                       limit="whole" if flow.normal is not None else "rectangle", width=width, height=width)
    return Begun(f"Through {name}", shape, look)


def profile_through(store: QuantityStore, finding: Finding, name: str, geometry: Geometry, number: int) -> Begun:
    """A profile where a finding is strongest: across a sheet along the stream, through a core, off a wall; else along the stream.

    Parameters
    ----------
    store : QuantityStore
        Of the flow.
    finding, name
        The finding, and what it is called.
    geometry, number : Geometry, int
        What its card came to, and which of its findings it is.
    """
    flow = store.flow
    half, place, begin = _THROUGH * flow.length, finding.place, -1.0
    way = np.array(store.reference.velocity) if np.any(store.reference.velocity) else np.array([1.0, 0.0, 0.0])
    if finding.sort in _SHEETS and isinstance(geometry, FoundSurface) and (geometry.owners == number).any():
        own = Facets.of(geometry.points, geometry.faces[geometry.owners == number])
        near = np.argsort(np.linalg.norm(geometry.points[own.corners].mean(axis=1) - place, axis=1))[:_NEAR]
        across = own.toward(own.areas[near[0]]).areas[near].sum(axis=0)
        way = across if across @ way >= 0.0 else -across
    elif len(finding.line) > 2 and finding.sort == "vortex":
        place, axis = at_length(finding.line, _strongest(finding))
        way = np.cross(axis, np.array([0.0, 0.0, 1.0]) if abs(axis[2]) < 0.9 else np.array([1.0, 0.0, 0.0]))
        half = max(0.5 * _WIDE * finding.number("radius"), 1e-3 * flow.length) if np.isfinite(finding.number("radius")) else half
    elif len(finding.line) > 2 or finding.sort in ("node", "focus", "saddle"):
        way, begin = _beside_wall(flow, place[None])[0] - place, 0.0
    else:
        half = max(half, finding.reach)
    way = unit(_triple(way)) if np.any(way) else np.array([1.0, 0.0, 0.0])
    wanted = (first_quantity(store, q) for q in ("mach" if finding.sort in _SHEETS else "speed", "pressure"))
    start, end = (rounded(place + share * half * way, 1e-5 * flow.size) for share in (begin, 1.0))
    shape = ProfileShape(start=start, end=end, quantities=tuple(dict.fromkeys(q for q in wanted if q)) or ("",))
    return Begun(f"Profile of {name}", shape, LineLook(width=3.0, colour="#B0246B"))


def _aside(stream: Vec) -> Vec:
    """The axis that is most across the stream."""
    return np.asarray(np.eye(3)[int(np.argmin(np.abs(stream)))] if np.any(stream) else np.array([0.0, 1.0, 0.0]))


def seed_around(store: QuantityStore, finding: Finding, name: str) -> Begun:
    """Ribbons round a core; lines from beside a line on a wall; else lines through a small ball."""
    flow = store.flow
    look = LineLook(colour_by=best_name(store), width=1.5)
    reach = float(f"{max(3.0 * finding.size, 0.5 * flow.length):.3g}")
    title = f"Around {name}"
    if finding.sort == "vortex" and len(finding.line) > 2:
        steps = np.linalg.norm(np.diff(finding.line, axis=0), axis=1)
        place, way = at_length(finding.line, 0.1 * float(steps.sum()))
        radius = max(0.7 * finding.number("radius"), 1e-9 * flow.length)
        ring = DiscSeeds(centre=_triple(place), direction=_triple(way), radius=radius, inner=0.6, count=_ROUND)
        return Begun(title, StreamShape(seeds=(ring,), direction="both", max_length=reach), look.with_(ribbons=Ribbons(wide=0.003)))
    if len(finding.line) > 2:
        rows = finding.line[distinct(np.linspace(0, len(finding.line) - 1, 40).round().astype(int))]
        points = _beside_wall(flow, rows)
        return Begun(title, StreamShape(seeds=(PointSeeds(points=tuple(map(_triple, points))),), max_length=reach), look)
    radius = max(0.25 * finding.reach, 1e-9 * flow.length)
    if flow.normal is not None:
        disc = DiscSeeds(centre=_triple(finding.place), direction=flow.normal, radius=radius, count=40)
        return Begun(title, StreamShape(seeds=(disc,), max_length=reach), look)
    ball = BallSeeds(centre=_triple(finding.place), radius=radius, count=40)
    return Begun(title, StreamShape(seeds=(ball,), max_length=reach), look)


def _beside_wall(flow: Flow, points: Vec) -> Vec:
    """Places a little off the nearest nodes of walls, into the flow."""
    from scipy.spatial import cKDTree

    from tidal_lens.quantities.walls import normals

    n = normals(flow)
    on = np.flatnonzero(np.isfinite(n[:, 0]))
    if not len(on):
        return points
    near = on[cKDTree(flow.points[on]).query(points)[1]]
    return np.asarray(points + _OFF * flow.length * n[near])
