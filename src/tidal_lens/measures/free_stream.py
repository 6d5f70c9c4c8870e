"""The free stream as it is at a boundary or at a point of the flow."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil, mesh_of
from tidal_lens.work import Token


def boundary_state(store: QuantityStore, name: str, token: Token | None = None) -> ReferenceState:
    """Area-weighted averages of pressure, density and velocity over a boundary.

    Raises
    ------
    MissingQuantityError
        There is no such boundary on the flow's nodes.
    """
    boundary = next((b for b in store.flow.boundaries if b.name == name and b.nodes is not None and len(b.faces)), None)
    if boundary is None or boundary.nodes is None:
        raise MissingQuantityError(f"The boundary {name!r} does not lie on the flow's nodes.", store.flow.title, "Choose another one.")
    corners = boundary.points[boundary.faces]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1]), axis=1)
    # A triangle repeats its last corner: thirds, as of a quadrilateral quarters.
    triangle = boundary.faces[:, 2] == boundary.faces[:, 3]
    share = np.where(triangle[:, None], [1 / 3, 1 / 3, 1 / 6, 1 / 6], 0.25) * area[:, None]
    weights = np.bincount(boundary.faces.ravel(), share.ravel(), minlength=len(boundary.nodes))
    total = float(weights.sum())
    if total <= 0.0:
        raise MissingQuantityError(f"The boundary {name!r} has no area.", store.flow.title, "Choose another one.")
    return _state(store, Stencil(boundary.nodes[None, :], weights[None, :] / total), f"average over {name}", token)


def point_state(store: QuantityStore, place: tuple[float, float, float], token: Token | None = None) -> ReferenceState:
    """Pressure, density and velocity at a point.

    Raises
    ------
    MissingQuantityError
        The point is outside the flow.
    """
    stencil, inside = mesh_of(store.flow, token).locate(np.array([place]))
    if not inside[0]:
        raise MissingQuantityError("The point is outside the flow.", store.flow.title, "The Case station shows the bounds of the flow.")
    return _state(store, stencil, "at the point " + ", ".join(f"{c:.6g}" for c in place), token)


def _state(store: QuantityStore, stencil: Stencil, origin: str, token: Token | None) -> ReferenceState:
    def at(values: NDArray[np.float64]) -> float:
        return float(np.dot(values[stencil.ids[0]].astype(float), stencil.weights[0]))

    def known(name: str, there: bool, least: float = -np.inf) -> float | None:
        value = at(store.values(name, token)) if there else np.nan
        return value if np.isfinite(value) and value > least else None

    roles = store.flow.roles
    velocity = (0.0, 0.0, 0.0)
    if roles.has_velocity:
        columns = store.values("velocity", token)
        velocity = (at(columns[:, 0]), at(columns[:, 1]), at(columns[:, 2]))
        if not np.isfinite(velocity).all():
            raise MissingQuantityError("The velocity is not finite there.", store.flow.title, "Choose another place.")
    return ReferenceState(known("pressure", roles.has_pressure), known("density", roles.density is not None, 0.0), velocity,
                          store.reference.gamma, origin)
