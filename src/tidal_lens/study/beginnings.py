"""What new layers start as, and what a case shows when it is opened."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from tidal_lens.flow.boundaries import PLANE
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import FILE, Quantity, QuantityStore
from tidal_lens.study.model import (
    BodyLayer,
    BodyShape,
    IsoLayer,
    IsoShape,
    LineLook,
    PointsLayer,
    PointsShape,
    SliceLayer,
    SliceShape,
    StreamLayer,
    StreamShape,
    Study,
    SurfaceLook,
    Vector,
    WallLayer,
    WallShape,
)

AXES = ("x", "y", "z")
_SLOW = 0.3  # Mach number: below it the speed tells more
_LABELS = re.compile(r"(?<![a-z])(id|ids|index|rank|proc|processor|partition|part|zone|block|region|material|physical|entity|number|group|"
                     r"level|normal|normals|valid|mask)(?![a-z])", re.IGNORECASE)


def round_to(value: float, step: float) -> float:
    """The value at the nearest round number finer than a step."""
    if step <= 0 or not np.isfinite(step):
        return value
    unit = 10.0 ** np.floor(np.log10(step))
    return float(f"{round(value / unit) * unit:.12g}")


def best_quantity(store: QuantityStore) -> Quantity | None:
    """What a flow is first coloured by: Mach number, or speed where that is low or unknown; without velocity the most telling array."""
    offered = {q.name: q for q in store.quantities() if q.components == 1 and not q.missing}
    if "mach" in offered and store.distribution("mach").high >= _SLOW:
        return store.describe("mach")
    if "speed" in offered:
        return offered["speed"]
    for role in ("pressure", "temperature", "density"):
        field = getattr(store.flow.roles, role)
        if field is not None and f"{FILE}{field}" in offered:
            return offered[f"{FILE}{field}"]
    own = [q for name, q in offered.items() if name.startswith(FILE)]
    return max(own, key=lambda q: _telling(store, q), default=next(iter(offered.values()), None))


def _telling(store: QuantityStore, quantity: Quantity) -> float:
    """How much of its range an array uses: numbers of parts and constants are below all others."""
    if _LABELS.search(quantity.title):
        return -1.0
    counts = store.distribution(quantity.name).counts
    filled = counts[counts > 0] / max(int(counts.sum()), 1)
    return float(-(filled * np.log(filled)).sum())


def new_slice(study: Study, flow: Flow, store: QuantityStore, axis: int) -> SliceLayer:
    """A slice through the middle, coloured by the best quantity."""
    low, high = flow.bounds
    position = round_to(0.5 * float(low[axis] + high[axis]), 0.01 * float(high[axis] - low[axis]))
    best = best_quantity(store)
    return SliceLayer(id=study.new_id("slice"), name=study.new_name(f"Slice {AXES[axis]}"),
                      shape=SliceShape(axis=axis, position=position),
                      look=SurfaceLook(colour_by=best.name if best else None))


def _enclosed(flow: Flow) -> bool:
    """Whether walls are most of the outside, so that plain they would hide all that is inside."""
    if flow.body is not None or flow.normal is not None:
        return False
    corners = [b.points[b.faces] for b in flow.boundaries if b.kind == "wall" and len(b.faces)]
    area = sum(0.5 * float(np.linalg.norm(np.cross(c[:, 2] - c[:, 0], c[:, 3] - c[:, 1]), axis=1).sum()) for c in corners)
    return area > 0.5 * float(np.linalg.norm(flow.outside.areas, axis=1).sum())


def new_walls(study: Study, flow: Flow) -> WallLayer:
    """All walls of the flow, plain; translucent where they enclose it, and so are all boundaries where there are no walls."""
    walls = tuple(b.name for b in flow.boundaries if b.kind == "wall")
    look = SurfaceLook() if walls and not _enclosed(flow) else SurfaceLook(opacity=0.25)
    return WallLayer(id=study.new_id("wall"), name=study.new_name("Walls"),
                     shape=WallShape(boundaries=walls or tuple(b.name for b in flow.boundaries)), look=look)


def new_isosurface(study: Study, store: QuantityStore, quantity: str) -> IsoLayer:
    """An isosurface at a telling value: Mach 1, a positive Q, else the upper quartile of the usual range.

    Round a body, Q starts at twenty times (speed / body length)²: vortices rather than the thin layers at walls, where it is greatest.
    """
    spread = store.distribution(quantity)
    described = store.describe(quantity)
    low, high = spread.usual
    value = low + 0.75 * (high - low)
    if described.scale == "mach" and spread.low < 1.0 < spread.high:
        value = 1.0
    elif described.name == "q" and high > 0:
        value = 0.25 * high
        if store.flow.body is not None and store.reference.speed > 0:
            value = 20.0 * (store.reference.speed / float((store.flow.body[1] - store.flow.body[0]).max())) ** 2
    if not spread.low <= value <= spread.high:
        value = 0.5 * (spread.low + spread.high)
    value = round_to(value, 0.01 * (high - low))
    best = best_quantity(store)
    return IsoLayer(id=study.new_id("iso"), name=study.new_name(f"{described.title} isosurface"),
                    shape=IsoShape(quantity=quantity, value=value),
                    look=SurfaceLook(colour_by=best.name if best else None, opacity=0.85))


def new_streamlines(study: Study, flow: Flow, store: QuantityStore) -> StreamLayer:
    """A seed line at right angles to the free stream: across the middle of the flow, or close before a body in it."""
    low, high = flow.body or flow.bounds
    middle, span = 0.5 * (low + high), high - low
    wind = np.abs(np.array(store.reference.velocity))
    along = int(np.argmax(wind)) if wind.any() else int(np.argmax(span))
    across = max((a for a in range(3) if a != along), key=lambda a: float(span[a]))
    start, end = middle.copy(), middle.copy()
    reach = 0.35 if flow.body is None else 0.6
    start[across] -= reach * span[across]
    end[across] += reach * span[across]
    if flow.body is not None:
        upstream = -np.sign(store.reference.velocity[along]) or -1.0
        front = low[along] if upstream < 0 else high[along]
        edge = flow.bounds[0 if upstream < 0 else 1][along]
        start[along] = end[along] = front + 0.5 * np.clip(edge - front, -0.1 * span[along], 0.1 * span[along])
        start, end = np.clip(start, *flow.bounds), np.clip(end, *flow.bounds)  # a half model ends at its plane of symmetry
    step = 0.01 * float(span.max())
    best = best_quantity(store)
    return StreamLayer(id=study.new_id("lines"), name=study.new_name("Streamlines"),
                       shape=StreamShape(start=_rounded(start, step), end=_rounded(end, step), count=30,
                                         max_length=round_to(2.0 * flow.size, 0.1 * flow.size)),
                       look=LineLook(colour_by=best.name if best else None))


def new_seed_list(study: Study, flow: Flow, store: QuantityStore, points: tuple[Vector, ...], source: str) -> StreamLayer:
    """Streamlines from a list of seeds."""
    like = new_streamlines(study, flow, store)
    return like.model_copy(update={"shape": like.shape.with_(listed=points, source=source[:200])})


def new_points(study: Study, flow: Flow, store: QuantityStore, points: tuple[Vector, ...], source: str) -> PointsLayer:
    """Points of a list, plain."""
    return PointsLayer(id=study.new_id("points"), name=study.new_name("Points"), shape=PointsShape(points=points, source=source[:200]))


def new_body(study: Study, path: Path) -> BodyLayer:
    """A body from a file, plain."""
    return BodyLayer(id=study.new_id("body"), name=study.new_name(path.stem[:200]), shape=BodyShape(path=str(path)))


def _rounded(point: np.ndarray[tuple[int, ...], np.dtype[np.float64]], step: float) -> tuple[float, float, float]:
    x, y, z = (round_to(float(c), step) for c in point)
    return x, y, z


def _plane_study(study: Study, flow: Flow, store: QuantityStore) -> Study:
    """The plane itself: a slice where a coordinate is constant on it, else the layer's own side."""
    across = np.abs(np.array(flow.normal))
    if across.max() > 1.0 - 1e-9:
        return study.adding(new_slice(study, flow, store, int(across.argmax())))
    best = best_quantity(store)
    sides = tuple(b.name for b in flow.boundaries if b.reason == PLANE)[:1]
    return study.adding(WallLayer(id=study.new_id("wall"), name=study.new_name("Plane"), shape=WallShape(boundaries=sides),
                                  look=SurfaceLook(colour_by=best.name if best else None)))


def first_study(flow: Flow, store: QuantityStore) -> Study:
    """What opening a case shows: its walls, its outline and one mid-plane."""
    study = Study(case=str(flow.path))
    if any(b.kind == "wall" for b in flow.boundaries):
        study = study.adding(new_walls(study, flow))
    if flow.normal is not None:
        return _plane_study(study, flow, store)
    low, high = flow.bounds
    span = high - low
    wind = np.abs(np.array(store.reference.velocity))
    # The plane that holds the stream and, of the other two, the shorter way: a symmetry plane more often than not.
    along = int(np.argmax(wind)) if wind.any() else int(np.argmax(span))
    rest = [a for a in range(3) if a != along]
    normal = 1 if 1 in rest else max(rest, key=lambda a: float(span[a]))
    return study.adding(new_slice(study, flow, store, normal))
