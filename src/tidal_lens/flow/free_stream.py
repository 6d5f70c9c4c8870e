"""What the roles say of the flow's motion, and the free stream guessed from it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.flow.boundaries import Motion, motion_of, owners
from tidal_lens.flow.case import Boundary, Field, Place
from tidal_lens.flow.outside import Outside
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import Roles

_ONE_STREAM = 0.05  # of the usual speed: less is left of it by the mean where the flow runs every way

def velocity_in(fields: Mapping[str, Field], roles: Roles) -> tuple[NDArray[Any], Place] | None:
    """Velocity, or where there is none momentum, as read (n, 3), and where it stands; None without either."""
    names = roles.velocity or roles.momentum
    if not names:
        return None
    place = fields[names[0]].place
    if any(fields[n].place != place for n in names):
        return None
    return fields[names[0]].values if len(names) == 1 else np.column_stack([fields[n].values for n in names]), place


def motion_in(fields: Mapping[str, Field], roles: Roles, normal: tuple[float, float, float] | None) -> Motion | None:
    """How the flow moves at its outside; None without velocity."""
    found = velocity_in(fields, roles)
    return motion_of(*found, normal) if found is not None else None


@dataclass(frozen=True, eq=False)
class _Some:
    """Some nodes, and the cells that stand for them where values are at cells."""

    nodes: NDArray[np.int64]
    cells: NDArray[np.int64]

    def of(self, field: Field) -> NDArray[np.float64]:
        """The field's values there."""
        return field.values[self.nodes if field.place == "node" else self.cells].astype(np.float64)


def guessed_reference(boundaries: Sequence[Boundary], fields: Mapping[str, Field], roles: Roles, gamma: float, outside: Outside,
                      labels: NDArray[np.int64]) -> ReferenceState:
    """The state of the free stream by medians over the far field, else the inlets, else wherever the flow at the outside is fast.

    Parameters
    ----------
    boundaries : sequence of Boundary
        The flow's boundaries.
    fields, roles
        What was read, and what it is; velocity follows from momentum, pressure from energy.
    gamma : float
        Ratio of specific heats.
    outside : Outside
        The flow's outer faces, for the cells behind them.
    labels : ndarray, shape (n,)
        The same label for nodes that lie on one another.
    """
    if velocity_in(fields, roles) is None or not (roles.velocity or roles.density):
        return ReferenceState(gamma=gamma)
    state: ReferenceState | None = None
    owner = owners(outside.faces, boundaries, labels)
    for kind, words in (("far field", "the far field"), ("inlet", "the inlet"), ("", "the outer boundary where the flow is fast")):
        chosen = [n for n, b in enumerate(boundaries) if b.kind == kind or not kind]
        own = np.isin(owner, chosen)
        nodes = [boundaries[n].nodes for n in chosen]
        there = np.concatenate([np.empty(0, np.int64), *(n for n in nodes if n is not None)])
        some = _Some(distinct(there), distinct(outside.cells[own]))
        state = _state(some, fields, roles, gamma, f"guessed: median over {words}")
        if state is not None and any(state.velocity):
            return state
    return state or ReferenceState(gamma=gamma)


def _stream(velocity: NDArray[np.float64]) -> tuple[float, float, float]:
    """The median of velocities; zero where they run every way."""
    u, v, w = (float(c) for c in np.nanmedian(velocity, axis=0))
    usual = float(np.nanmedian(np.linalg.norm(velocity, axis=1)))
    return (u, v, w) if math.hypot(u, v, w) >= _ONE_STREAM * usual else (0.0, 0.0, 0.0)


def _state(some: _Some, fields: Mapping[str, Field], roles: Roles, gamma: float, origin: str) -> ReferenceState | None:
    """Medians over where the flow is more than half as fast as at the fastest of some places; None where it is still."""
    names = roles.velocity or roles.momentum
    place = fields[names[0]].place
    parts = [some.of(fields[n]) for n in names]
    velocity = parts[0] if len(parts) == 1 else np.column_stack(parts)
    density = some.of(fields[roles.density]) if roles.density and fields[roles.density].place == place else None
    if not roles.velocity:
        if density is None:
            return None
        with np.errstate(divide="ignore", invalid="ignore"):
            velocity = velocity / density[:, None]
    if len(velocity) == 0:
        return None
    speed = np.linalg.norm(velocity, axis=1)
    moving = speed > 0.5 * np.nanmax(speed, initial=0.0)
    if not moving.any():
        return None

    def median(values: NDArray[np.float64] | None, least: float = -np.inf) -> float | None:
        if values is None:
            return None
        finite = values[np.isfinite(values)]
        value = float(np.median(finite)) if len(finite) else np.nan
        return value if np.isfinite(value) and value > least else None

    def role(name: str | None) -> NDArray[np.float64] | None:
        if name is None:
            return None
        values = some.of(fields[name])
        return values[moving] if fields[name].place == place else values

    pressure = role(roles.pressure)
    if pressure is None and roles.energy and density is not None and fields[roles.energy].place == place:
        pressure = ((gamma - 1.0) * (some.of(fields[roles.energy]) - 0.5 * density * speed**2))[moving]
    return ReferenceState(median(pressure), median(role(roles.density), 0.0), _stream(velocity[moving]), gamma, origin)
