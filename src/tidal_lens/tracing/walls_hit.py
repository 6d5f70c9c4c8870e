"""Which boundary a line came to, and how it stands there."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow

Vec = NDArray[np.float64]
_NEAR = 8  # faces looked at about a place


def _faces(flow: Flow) -> tuple[Vec, Vec, NDArray[np.int64]]:
    """Middles and unit normals of all faces of all boundaries, and the number of the boundary of each."""
    ready: tuple[Vec, Vec, NDArray[np.int64]] | None = flow.__dict__.get("_boundary_faces")
    if ready is None:
        corners = [b.points[b.faces] for b in flow.boundaries]
        quads = np.concatenate([np.empty((0, 4, 3)), *corners])
        normal = np.cross(quads[:, 2] - quads[:, 0], quads[:, 3] - quads[:, 1])
        normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
        ready = quads.mean(axis=1), normal, np.repeat(np.arange(len(corners)), [len(c) for c in corners])
        flow.__dict__["_boundary_faces"] = ready
    return ready


def normals_at(flow: Flow, places: Vec, velocity: Vec) -> Vec:
    """Unit normals (n, 3) of the walls that are met at places (n, 3) by what goes on at a velocity (n, 3): of the face met first."""
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    middles, normals, owner = _faces(flow)
    wall = np.array([b.solid for b in flow.boundaries], bool)[owner] if len(owner) else np.empty(0, bool)
    middles, normals = middles[wall], normals[wall]
    if len(places) == 0 or len(middles) == 0:
        return np.full((len(places), 3), np.nan)
    near = cKDTree(middles).query(places, k=min(_NEAR, len(middles)))[1].reshape(len(places), -1)
    rate = (normals[near] * velocity[:, None, :]).sum(axis=2)
    away = np.abs(((middles[near] - places[:, None, :]) * normals[near]).sum(axis=2))
    speed = np.linalg.norm(velocity, axis=1)[:, None]
    soon = away / np.maximum(np.abs(rate), 1e-6 * speed + 1e-300)
    best = soon.argmin(axis=1)
    rows = np.arange(len(places))
    return np.asarray(normals[near[rows, best]] * np.sign(rate[rows, best])[:, None])


def boundaries_at(flow: Flow, places: Vec) -> list[str]:
    """Names of the boundaries nearest to places (n, 3); nothing where a flow has none."""
    from scipy.spatial import cKDTree

    middles, _, owner = _faces(flow)
    if len(middles) == 0:
        return [""] * len(places)
    nearest = np.atleast_1d(cKDTree(middles).query(places.reshape(-1, 3))[1])
    return [flow.boundaries[owner[n]].name for n in nearest]
