"""Boundaries: what kind one is by its name, and which there are where the file names none."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Block, Boundary, BoundaryKind
from tidal_lens.flow.faces import outer_faces, unshared_mask
from tidal_lens.flow.seams import Seams

_WORDS: tuple[tuple[BoundaryKind, str], ...] = (
    ("symmetry", "symm"),
    ("far field", "far.?field|freestream|free.?stream"),
    ("inlet", "inlet|inflow"),
    ("outlet", "outlet|outflow|exit"),
    ("wall", "wall|body|surface|wing|fuselage|blade|hub|shroud|airfoil|aerofoil|floor|ground|hull|cylinder|sphere"),
)


def kind_from_name(name: str) -> BoundaryKind | None:
    """Guess the kind of a boundary from its name, or None."""
    return next((kind for kind, pattern in _WORDS if re.search(pattern, name, re.IGNORECASE)), None)


def boundary_of_faces(name: str, kind: BoundaryKind, points: NDArray[np.float64],
                      faces: NDArray[np.int64]) -> Boundary:
    """Make a boundary of faces that are given by the flow's nodes."""
    nodes, compact = np.unique(faces, return_inverse=True)
    return Boundary(name, kind, points[nodes], compact.reshape(faces.shape).astype(np.int64), nodes)


def outside_of(points: NDArray[np.float64], blocks: tuple[Block, ...], seams: Seams) -> NDArray[np.int64]:
    """Outer faces of the whole flow, those on seams between blocks left out; shape (m, 4), flow's node numbers."""
    faces = np.concatenate([b.first_point + outer_faces(b.grid) for b in blocks])
    return faces[unshared_mask(faces, seams.labels(len(points)))] if seams.n_groups else faces


def find_boundaries(points: NDArray[np.float64], outside: NDArray[np.int64],
                    speed: NDArray[Any] | None) -> tuple[Boundary, ...]:
    """Tell no-slip walls from the rest of the outside.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points of the flow.
    outside : ndarray, shape (m, 4)
        Its outer faces.
    speed : ndarray, shape (n,), or None
        Velocity magnitude at nodes; a face on whose corners it vanishes is wall.
    """
    if speed is None or len(speed) == 0:
        return (boundary_of_faces("outside", "open", points, outside),) if len(outside) else ()
    limit = 1e-6 * float(np.nanmax(speed, initial=0.0))
    still = np.all(speed[outside] <= limit, axis=1)
    found: list[Boundary] = []
    if still.any():
        found.append(boundary_of_faces("wall (found)", "wall", points, outside[still]))
    if (~still).any():
        found.append(boundary_of_faces("outside", "open", points, outside[~still]))
    return tuple(found)
