"""Quantities of the catalogue that are no formulas, each from one moment of a flow."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.annulus import Annulus, annulus_of
from tidal_lens.quantities import criteria, stream_function, walls
from tidal_lens.quantities.methods import Frame, unit_vector
from tidal_lens.quantities.moment import Moment

Values = NDArray[Any]


def _criterion(of: Callable[..., Values]) -> Callable[[Moment], Values]:
    def compute(moment: Moment) -> Values:
        return moment.from_velocity_gradient(of)

    return compute


def _viscosity(moment: Moment) -> Values:
    return np.asarray(moment.get("viscosity"))


def _mass_flux(moment: Moment) -> Values:
    return np.asarray(np.asarray(moment.get("density"))[:, None] * np.asarray(moment.get("velocity")))


def _axis(moment: Moment) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    """Direction and a point of the axis: what the flow is turned about, else the chosen one."""
    turned = moment.flow.turned
    return (moment.vector("axis"), moment.vector("axis_point")) if turned is None else (turned.axis, turned.point)


def _turning(moment: Moment) -> Values:
    """Rate of rotation at the nodes (n,): blocks that are not said to turn stand."""
    flow = moment.flow
    out = np.zeros(flow.n_points)
    for block in flow.blocks:
        frame = _frame_of(moment, block.name)
        out[block.points] = frame.rate if frame is not None else 0.0
    return out


def _frame_of(moment: Moment, block: str) -> Frame | None:
    """The frame that a block turns in; None for one that stands."""
    methods = moment.store.methods
    own = next((f for f in methods.frames if block in f.blocks), None)
    if own is not None or (methods.turning and block not in methods.turning):
        return own
    return Frame((), methods.axis_point, methods.axis, methods.spin)


def _frame_velocity(moment: Moment) -> Values:
    """Ω × r of the frame of each block at its nodes (n, 3)."""
    flow = moment.flow
    out = np.zeros(flow.points.shape)
    for block in flow.blocks:
        frame = _frame_of(moment, block.name)
        if frame is not None and frame.rate != 0.0:
            rate = frame.rate * np.array(unit_vector(frame.axis))
            out[block.points] = np.cross(rate, flow.points[block.points] - np.array(frame.point))
    return out


def _annulus(moment: Moment) -> Annulus:
    try:
        return annulus_of(moment.flow, moment.vector("axis_point"), moment.vector("axis"))
    except ValueError as why:
        raise MissingQuantityError(f"There is no share of span: {why}.", "",
                                   "Say in the Case station which boundaries are hub and casing.") from why


COMPUTED: dict[str, Callable[[Moment], Values]] = {
    "velocity-gradient": lambda m: m.velocity_gradient(),
    "vorticity": lambda m: m.turning("vorticity"),
    "q": lambda m: m.turning("q"),
    "lambda2": _criterion(criteria.lambda2),
    "delta": _criterion(criteria.discriminant),
    "swirling-strength": _criterion(criteria.swirling_strength),
    "swirl-axis": _criterion(criteria.swirl_axis),
    "stream-function": lambda m: stream_function.plane(m.flow, np.asarray(m.get("velocity"))),
    "stokes-stream-function": lambda m: stream_function.stokes(m.flow, np.asarray(m.get("velocity")), *_axis(m)),
    "mass-stream-function": lambda m: stream_function.plane(m.flow, _mass_flux(m)),
    "mass-stokes-stream-function": lambda m: stream_function.stokes(m.flow, _mass_flux(m), *_axis(m)),
    "turning-rate": _turning,
    "frame-velocity": _frame_velocity,
    "span-share": lambda m: _annulus(m).shares(m.flow.points)[:, 1],
    "wall-normal": lambda m: walls.normals(m.flow),
    "first-height": lambda m: walls.first_heights(m.flow),
    "wall-distance": lambda m: walls.distances(m.flow, m.token),
    "wall-shear": lambda m: walls.shear(m.flow, np.asarray(m.get("velocity-gradient")), _viscosity(m)),
    "wall-rise": lambda m: walls.rise(m.flow, m.gradient(np.asarray(m.get("temperature")))[:, 0, :]),
}
# Those of them that hold derivatives along directions in space.
DIFFERENTIATED = frozenset(COMPUTED) - {"stream-function", "stokes-stream-function", "mass-stream-function", "mass-stokes-stream-function",
                                        "span-share", "turning-rate", "frame-velocity", "wall-normal", "first-height", "wall-distance"}
