"""Surfaces and points that come from elsewhere, laid into the flow."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import Surface
from tidal_lens.flow.case import Flow
from tidal_lens.formats.bodies import read_body
from tidal_lens.sampling.mesh import Stencil, mesh_of
from tidal_lens.work import Token

_NEAR = 0.5  # cell widths off the mesh at which its values still count: a body's facets are not the mesh's
_CORNERS = np.array([(1, 0, 0), (-1, 0, 0), (0, 1, 0), (0, -1, 0), (0, 0, 1), (0, 0, -1)], float)
_FACES = np.array([(0, 2, 4), (2, 1, 4), (1, 3, 4), (3, 0, 4), (2, 0, 5), (1, 2, 5), (3, 1, 5), (0, 3, 5)])


def body_surface(flow: Flow, path: Path, token: Token | None = None) -> Surface:
    """A body from a file; where it lies in or at the flow it takes the flow's values.

    Raises
    ------
    FileError
        The file cannot be read.
    """
    points, faces = read_body(path)
    return Surface(points, faces, _values_at(flow, points, token))


def beads(flow: Flow, points: NDArray[np.float64], size: float, token: Token | None = None) -> Surface:
    """A small octahedron at each point (n, 3), of the flow's value there."""
    n = len(points)
    corners = (points[:, None, :] + size * _CORNERS).reshape(-1, 3)
    triangles = (6 * np.arange(n)[:, None, None] + _FACES).reshape(-1, 3)
    stencil = _values_at(flow, points, token)
    spread = np.repeat(np.arange(n), 6)
    return Surface(corners, np.column_stack([triangles, triangles[:, 2]]).astype(np.int64),
                   Stencil(stencil.ids[spread], stencil.weights[spread]))


def _values_at(flow: Flow, points: NDArray[np.float64], token: Token | None) -> Stencil:
    stencil, inside = mesh_of(flow, token).locate(points, slack=_NEAR, token=token)
    weights = stencil.weights.copy()
    weights[~inside] = np.nan
    return Stencil(np.where(inside[:, None], stencil.ids, 0), weights)
