"""What the roles say of the flow's motion, and the free stream guessed from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.boundaries import Motion, motion_of
from tidal_lens.flow.case import Boundary, Field, Place
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import Roles


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


def guessed_reference(boundaries: Sequence[Boundary], fields: Mapping[str, Field], roles: Roles, gamma: float) -> ReferenceState:
    """The state of the free stream by medians over the inlets, else the far field, else wherever the flow at the outside is fast."""
    found = velocity_in(fields, roles)
    if found is None or not roles.velocity or found[1] != "node":
        return ReferenceState(gamma=gamma)
    for kind, words in (("far field", "the far field"), ("inlet", "the inlet"), ("", "the outer boundary where the flow is fast")):
        nodes = [b.nodes for b in boundaries if b.nodes is not None and (b.kind == kind or not kind)]
        if nodes:
            state = boundary_reference(np.unique(np.concatenate(nodes)), fields, roles, gamma, f"guessed: median over {words}")
            if state is not None:
                return state
    return ReferenceState(gamma=gamma)


def boundary_reference(nodes: NDArray[np.int64], fields: Mapping[str, Field], roles: Roles, gamma: float,
                       origin: str) -> ReferenceState | None:
    """Medians over those of some nodes at which the flow is more than half as fast as at the fastest; None where it is still."""
    found = velocity_in(fields, roles)
    if found is None or found[1] != "node":
        return None
    own = found[0][nodes].astype(float)
    speed = np.linalg.norm(own, axis=1)
    moving = nodes[speed > 0.5 * np.nanmax(speed, initial=0.0)]
    if len(moving) == 0:
        return None

    def median(name: str | None, least: float = -np.inf) -> float | None:
        if name is None or fields[name].place != "node":
            return None
        value = float(np.nanmedian(fields[name].values[moving]))
        return value if np.isfinite(value) and value > least else None

    u, v, w = (float(c) for c in np.nanmedian(found[0][moving], axis=0))
    return ReferenceState(median(roles.pressure), median(roles.density, 0.0), (u, v, w), gamma, origin)
