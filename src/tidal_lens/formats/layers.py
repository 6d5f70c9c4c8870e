"""Planar flows that come as one layer of three-dimensional cells between two parallel planes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Field
from tidal_lens.flow.extent import extent
from tidal_lens.formats.content import Solid
from tidal_lens.formats.reading import takes_layers_as_plane

_FLAT = 1e-6  # of the flow's size: how far from the planes nodes may be
_ALIKE = 1e-3  # of the greatest value: how much the two planes' values may differ
_MOST = 2_000_000
_FOUND = "PlanarFound"


def as_plane(solids: list[Solid]) -> list[Solid]:
    """The blocks, told to be a plane flow where they are one layer of cells whose two sides are alike; else as they are."""
    if any("PlanarNormal" in s.facts for s in solids) or not takes_layers_as_plane():
        return solids
    n_points = sum(len(s.points) for s in solids)
    if not 8 <= n_points <= _MOST:
        return solids
    points = np.concatenate([s.points for s in solids])
    some = points[:: max(1, n_points // 2000)]
    for normal in _candidates(some):
        if len(np.unique(np.round((some @ normal - float((some @ normal).min())) / max(float(np.ptp(some @ normal)), 1e-300), 4))) > 2:
            continue
        height = points @ normal
        low, high = float(height.min()), float(height.max())
        room = _FLAT * float(np.linalg.norm(np.subtract(*extent(points))))
        above = height > 0.5 * (low + high)
        if high - low > room and bool((np.abs(height - np.where(above, high, low)) <= room).all()) and all(
                _alike(s, normal, 0.5 * (low + high)) for s in solids):
            facts = {"PlanarNormal": tuple(float(c) for c in normal), "PlanarDepth": (high - low,), _FOUND: (1.0,)}
            return [replace(s, facts={**s.facts, **facts}) for s in solids]
    return solids


def was_found(solids: list[Solid]) -> bool:
    """Whether a plane flow was one layer of cells in the file."""
    return any(_FOUND in s.facts for s in solids)


def _candidates(points: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Directions along which the layer may be one cell thick: the axes, and those in which the points spread least."""
    middle = points - points.mean(axis=0)
    ways = np.linalg.eigh(middle.T @ middle)[1].T
    return [*np.eye(3)[np.argsort(np.ptp(points, axis=0))], *(w * np.sign(w[np.abs(w).argmax()]) for w in ways)]


def _alike(solid: Solid, normal: NDArray[np.float64], middle: float) -> bool:
    """Whether each node has one over it on the other plane, and values that are as good as the same."""
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    above = solid.points @ normal > middle
    if 2 * int(above.sum()) != len(above):
        return False
    flat = solid.points - np.outer(solid.points @ normal, normal)
    room = _FLAT * float(np.linalg.norm(np.subtract(*extent(solid.points))))
    lower, upper = np.flatnonzero(~above), np.flatnonzero(above)
    distance, at = cKDTree(flat[upper]).query(flat[lower], workers=2)
    if float(np.max(distance, initial=0.0)) > 2.0 * room:
        return False
    return all(_same(f, lower, upper[at]) for f in solid.fields if f.place == "node")


def _same(field: Field, lower: NDArray[np.int64], upper: NDArray[np.int64]) -> bool:
    a, b = field.values[lower].astype(np.float64), field.values[upper].astype(np.float64)
    top = float(np.abs(a).max(initial=0.0, where=np.isfinite(a)))
    return float(np.abs(a - b).max(initial=0.0, where=np.isfinite(a) & np.isfinite(b))) <= _ALIKE * top
