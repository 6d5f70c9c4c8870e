"""Critical points of the velocity: where it is zero off the walls, and what lines do round them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features.scales import cell_widths
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities.smoothing import lattice_corners
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.work import Token

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
SLACK = 1e-6  # of a share: zeros on faces are found from either side, and merged
SAME = 1.0  # cell widths: zeros that are no further apart are one
_CELLS = 200_000  # that are looked at together
FAR = 1.5  # cell widths to each side: over which the gradient at a zero is taken
_SIX = ((0, 1, 2, 6), (0, 2, 3, 6), (0, 3, 7, 6), (0, 7, 4, 6), (0, 4, 5, 6), (0, 5, 1, 6))  # of a hexahedron, round its diagonal
_TWO = ((0, 1, 2), (0, 2, 3))  # of its face across a plane flow


@dataclass(frozen=True, eq=False)
class Zero:
    """A critical point.

    Attributes
    ----------
    place : ndarray, shape (3,)
        Where.
    gradient : ndarray, shape (3, 3)
        Of the velocity there, [i, j] = ∂u_i/∂x_j; in a plane flow of its part in the plane.
    rates : ndarray, complex
        Its eigenvalues; two in a plane flow.
    """

    place: Vec
    gradient: Vec
    rates: NDArray[np.complex128]

    @property
    def kind(self) -> Literal["node", "focus", "saddle"]:
        """A saddle draws lines in and sends them out; a focus turns them, a node does not."""
        real = self.rates.real
        if real.min() < 0.0 < real.max() and not (self.spirals and len(self.rates) == 2):
            return "saddle"
        return "focus" if self.spirals else "node"

    @property
    def spirals(self) -> bool:
        """Whether lines turn round it."""
        size = float(np.abs(self.rates).max(initial=0.0))
        return bool(np.abs(self.rates.imag).max(initial=0.0) > 1e-6 * size)

    @property
    def incoming(self) -> int:
        """In how many directions lines come in."""
        return int((self.rates.real < 0.0).sum())


def zeros_of(flow: Flow, velocity: NDArray[Any], at: NDArray[np.bool_] | None = None, token: Token | None = None) -> list[Zero]:
    """Zeros of a velocity that is linear within tetrahedra that cells are cut into.

    Parameters
    ----------
    flow : Flow
        The flow.
    velocity : ndarray, shape (nodes, 3)
        At nodes; cells where it is zero at three corners (walls) are left out.
    at : ndarray, shape (nodes,), bool, optional
        Only cells that have one of these nodes.
    token : Token, optional
        Progress and cancel.
    """
    found = []
    greatest = float(np.abs(np.nan_to_num(velocity, posinf=0.0, neginf=0.0)).max(initial=0.0))
    still = (np.abs(velocity) <= 1e-7 * greatest).all(axis=1)
    plane = flow.normal is not None
    for block in flow.blocks:
        for corners in _corners(block):
            if token is not None:
                token.check()
            cells = _changing(flow, velocity, still, at, corners)
            if len(cells):
                found.append(_plane_zeros(flow, velocity, cells) if plane else _space_zeros(flow, velocity, cells))
    return _measured(flow, velocity, _merged(flow, [z for part in found for z in part]))


def _corners(block: Block) -> Iterator[Ints]:
    """Corners (m, 8) of the block's cells as the flow's nodes, some layers at a time."""
    grid = block.grid
    if not isinstance(grid, StructuredGrid):
        for a in range(0, grid.n_cells, _CELLS):
            yield grid.corners[a:a + _CELLS].astype(np.int64) + block.first_point
        return
    thick = max(1, _CELLS // max(1, grid.dims[0] * grid.dims[1]))
    last = grid.dims[2] - 1
    for k in range(0, last, thick):
        yield lattice_corners(grid.dims, k, min(k + thick, last)).astype(np.int64) + block.first_point


def _changing(flow: Flow, velocity: NDArray[Any], still: NDArray[np.bool_], at: NDArray[np.bool_] | None, corners: Ints) -> Ints:
    """The cells in which each component changes its sign; in a plane flow those in the plane."""
    if at is not None:
        corners = corners[at[corners].any(axis=1)]
    axes = [a for a in range(3) if flow.normal is None or abs(flow.normal[a]) < 0.9]
    for axis in axes:
        own = velocity[:, axis][corners]
        corners = corners[(own.min(axis=1) <= 0.0) & (own.max(axis=1) >= 0.0)]
    return np.asarray(corners[still[corners].sum(axis=1) < 3])  # a single one is the zero itself, a face of them a wall


def _space_zeros(flow: Flow, velocity: NDArray[Any], cells: Ints) -> list[Zero]:
    tetra = np.concatenate([cells[:, way] for way in _SIX])
    p, u = flow.points[tetra], velocity[tetra].astype(np.float64)
    edges, rises = p[:, 1:] - p[:, :1], u[:, 1:] - u[:, :1]
    volume = np.abs(np.linalg.det(edges))
    change = np.linalg.det(rises)
    good = (volume > 0.0) & (np.abs(change) > 1e-12 * np.abs(rises).max(axis=(1, 2)) ** 3)
    edges, rises, p, u = edges[good], rises[good], p[good], u[good]
    if not len(p):
        return []
    share = -np.linalg.solve(np.swapaxes(rises, 1, 2), u[:, 0, :, None])[:, :, 0]
    inside = (share >= -SLACK).all(axis=1) & (share.sum(axis=1) <= 1.0 + SLACK)
    out = []
    for n in np.flatnonzero(inside):
        gradient = np.linalg.solve(edges[n], rises[n]).T  # edges · ∇uᵀ = rises
        out.append(Zero(p[n, 0] + share[n] @ edges[n], gradient, np.linalg.eigvals(gradient).astype(np.complex128)))
    return out


def _plane_zeros(flow: Flow, velocity: NDArray[Any], cells: Ints) -> list[Zero]:
    normal = np.asarray(flow.normal, np.float64)
    frame = np.linalg.svd(normal[None])[2][1:]
    height = flow.points[cells] @ normal
    # Whichever pair of opposite sides lies in the plane is the cell's face: its four lowest corners, in their order round it.
    faces = np.take_along_axis(cells, _ring(flow.points[cells] @ frame.T, height), axis=1)
    lift = 0.5 * flow.depth * normal
    out = []
    for way in _TWO:
        tri = faces[:, way]
        p, u = flow.points[tri], velocity[tri].astype(np.float64) @ frame.T
        edges, rises = (p[:, 1:] - p[:, :1]) @ frame.T, u[:, 1:] - u[:, :1]
        good = (np.abs(np.linalg.det(edges)) > 0.0) & (np.abs(np.linalg.det(rises)) > 1e-12 * np.abs(rises).max(axis=(1, 2)) ** 2)
        for n in np.flatnonzero(good):
            share = -np.linalg.solve(rises[n].T, u[n, 0])
            if (share >= -SLACK).all() and share.sum() <= 1.0 + SLACK:
                flat = np.linalg.solve(edges[n], rises[n]).T
                place = p[n, 0] + share @ (p[n, 1:] - p[n, :1]) + lift
                out.append(Zero(place, frame.T @ flat @ frame, np.linalg.eigvals(flat).astype(np.complex128)))
    return out


def _ring(flat: Vec, height: Vec) -> Ints:
    """Four corners of each cell on its lower side, in their order round it; a triangle repeats one."""
    low = np.argsort(height, axis=1, kind="stable")[:, :4]
    own = np.take_along_axis(flat, low[:, :, None], axis=1)
    off = own - own.mean(axis=1, keepdims=True)
    round_it = np.argsort(np.arctan2(off[:, :, 1], off[:, :, 0]), axis=1, kind="stable")
    return np.asarray(np.take_along_axis(low, round_it, axis=1))


def _measured(flow: Flow, velocity: NDArray[Any], zeros: list[Zero]) -> list[Zero]:
    """With gradients by differences over three cells: within one tetrahedron they are rough."""
    if not zeros or flow.normal is not None:
        return zeros
    mesh = mesh_of(flow)
    places = np.array([z.place for z in zeros])
    step = FAR * np.nan_to_num(mesh.locate(places)[0].apply(cell_widths(flow)))
    there = places[:, None, None] + step[:, None, None, None] * np.array([-1.0, 1.0])[None, None, :, None] * np.eye(3)[None, :, None]
    stencil, inside = mesh.locate(there.reshape(-1, 3))
    u = stencil.apply_vectors(velocity).reshape(len(zeros), 3, 2, 3)
    good = inside.reshape(len(zeros), 6).all(axis=1) & np.isfinite(u).all(axis=(1, 2, 3)) & (step > 0.0)
    out = []
    for n, zero in enumerate(zeros):
        gradient = ((u[n, :, 1] - u[n, :, 0]) / (2.0 * step[n])).T if good[n] else zero.gradient
        out.append(Zero(zero.place, gradient, np.linalg.eigvals(gradient).astype(np.complex128)))
    return out


def _merged(flow: Flow, zeros: list[Zero]) -> list[Zero]:
    """Those that are apart, the first of each place."""
    from scipy.spatial import cKDTree

    if not zeros:
        return []
    places = np.array([z.place for z in zeros])
    stencil, _ = mesh_of(flow).locate(places)
    width = np.nan_to_num(stencil.apply(cell_widths(flow)))
    gone = np.zeros(len(zeros), bool)
    kept = []
    order = np.lexsort(places.T[::-1])
    tree = cKDTree(places)
    for n in order:
        if not gone[n]:
            kept.append(zeros[n])
            gone[tree.query_ball_point(places[n], SAME * max(float(width[n]), 1e-12 * flow.size))] = True
    return kept
