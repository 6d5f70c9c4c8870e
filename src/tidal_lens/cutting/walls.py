"""Boundaries as surfaces that can be coloured."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import Surface, join
from tidal_lens.distinct import distinct
from tidal_lens.flow.case import Boundary, Flow
from tidal_lens.sampling.mesh import Stencil, mesh_of
from tidal_lens.work import Token


def boundary_surface(flow: Flow, names: tuple[str, ...], token: Token | None = None, blocks: tuple[str, ...] = ()) -> Surface:
    """The named boundaries as one surface, or what of them is on some blocks; names that the flow does not have are passed over."""
    chosen = [_on_blocks(flow, b, blocks) if blocks else b for b in flow.boundaries if b.name in names]
    parts: list[Surface] = []
    for boundary in chosen:
        if token is not None:
            token.check()
        parts.append(_surface_of(flow, boundary, token))
    return join(parts)


def _on_blocks(flow: Flow, boundary: Boundary, blocks: tuple[str, ...]) -> Boundary:
    """The faces of a boundary whose nodes are those of some blocks; all of one whose nodes are not known."""
    if boundary.nodes is None:
        return boundary
    own = np.zeros(flow.n_points, dtype=bool)
    for block in flow.blocks:
        if block.name in blocks:
            own[block.points] = True
    faces = boundary.faces[own[boundary.nodes][boundary.faces].all(axis=1)]
    used = distinct(faces)
    number = np.zeros(len(boundary.points), np.int64)
    number[used] = np.arange(len(used))
    return replace(boundary, points=boundary.points[used], faces=number[faces], nodes=boundary.nodes[used], polygons=None)


def _surface_of(flow: Flow, boundary: Boundary, token: Token | None) -> Surface:
    if boundary.nodes is not None:
        stencil = Stencil(boundary.nodes[:, None], np.ones((len(boundary.nodes), 1)))
        return Surface(_lifted(boundary) if boundary.inner else boundary.points, boundary.faces, stencil)
    # A boundary with points of its own, a little off the mesh: half a cell away still takes the mesh's values.
    stencil, _ = mesh_of(flow, token).locate(boundary.points, slack=0.5, token=token)
    return Surface(boundary.points, boundary.faces, stencil)


def _lifted(boundary: Boundary) -> NDArray[np.float64]:
    """Points of a side of a wall of no thickness, a hair into the flow: else the two sides would be drawn through one another."""
    a, b, c, d = (boundary.points[boundary.faces[:, n]] for n in range(4))
    areas = 0.5 * np.cross(c - a, d - b)  # outward: see where the sides are made
    inward = np.zeros_like(boundary.points)
    width = np.zeros(len(boundary.points))
    for n in range(4):
        np.add.at(inward, boundary.faces[:, n], -areas)
        np.maximum.at(width, boundary.faces[:, n], np.sqrt(np.linalg.norm(areas, axis=1)))
    size = np.maximum(np.linalg.norm(inward, axis=1), 1e-300)[:, None]
    return np.asarray(boundary.points + 0.01 * width[:, None] * inward / size)
