"""Stream functions of plane flows and of the meridional plane of axisymmetric ones."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities.links import links_of

Values = NDArray[Any]
Triple = tuple[float, float, float]


def plane(flow: Flow, velocity: Values) -> Values:
    """Stream function ψ of a plane flow with dψ = n · (u × dr), zero at its least.

    It is the least-squares fit to the flow through all edges of the mesh: exact to second order where the flow is free of
    divergence, and otherwise that part of it.

    Parameters
    ----------
    flow : Flow
        A plane flow.
    velocity : ndarray, shape (n, 3)
        Node values.

    Returns
    -------
    ndarray, shape (n,)
        [m²/s].
    """
    a, b = _edges(flow)
    along = flow.points[b] - flow.points[a]
    rise = np.cross(0.5 * (velocity[a].astype(float) + velocity[b]), along) @ _normal(flow)
    return _fitted(flow, a, b, rise)


def stokes(flow: Flow, velocity: Values, axis: Triple, point: Triple) -> Values:
    """Stokes stream function Ψ with dΨ = r (u_axial dr − u_radial da), zero at its least, for an axis in the plane of the flow.

    Parameters as of :func:`plane`; shape (n,), [m³/s].

    Raises
    ------
    MissingQuantityError
        The axis does not lie in the plane of the flow.
    """
    e = np.asarray(axis)
    if abs(float(e @ _normal(flow))) > 1e-6:
        raise MissingQuantityError("The axis does not lie in the plane of the flow.", flow.title,
                                   "Choose an axis along it in the Derive station, under Choices.")
    outward = np.cross(_normal(flow), e)
    r = (flow.points - np.asarray(point)) @ outward  # on the other side of the axis it is negative, and so is dr: Ψ is right on both
    a, b = _edges(flow)
    along = flow.points[b] - flow.points[a]
    u = 0.5 * (velocity[a].astype(float) + velocity[b])
    # Of a product of r and u that both change along the edge, Simpson's rule for parabolas.
    middle = 0.5 * (r[a] + r[b])
    ends = sum(r[c, None] * velocity[c].astype(float) for c in (a, b))
    mean = (ends + 4.0 * middle[:, None] * u) / 6.0
    rise = (mean @ e) * (along @ outward) - (mean @ outward) * (along @ e)
    return _fitted(flow, a, b, rise)


def _normal(flow: Flow) -> NDArray[np.float64]:
    if flow.normal is None:
        raise MissingQuantityError("A stream function is that of a plane flow.", flow.title)
    return np.asarray(flow.normal)


def _edges(flow: Flow) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Both ends of all edges of the mesh, each once within a block."""
    ones: list[NDArray[np.int64]] = []
    others: list[NDArray[np.int64]] = []
    for block in flow.blocks:
        if isinstance(block.grid, StructuredGrid):
            index = np.arange(block.grid.n_points).reshape(block.grid.dims[::-1])
            pairs = [(index[:-1], index[1:]), (index[:, :-1], index[:, 1:]), (index[:, :, :-1], index[:, :, 1:])]
            a, b = (np.concatenate([p[n].ravel() for p in pairs]) for n in (0, 1))
        else:
            near = links_of(block.grid)
            a = np.repeat(np.arange(block.grid.n_points), np.diff(near.starts))
            b = near.links.astype(np.int64)
            a, b = a[a < b], b[a < b]
        ones.append(a + block.first_point)
        others.append(b + block.first_point)
    return np.concatenate(ones), np.concatenate(others)


def _fitted(flow: Flow, a: NDArray[np.int64], b: NDArray[np.int64], rise: Values) -> Values:
    """Node values whose differences along edges are nearest to given ones."""
    from scipy.sparse import coo_array, diags_array
    from scipy.sparse.csgraph import connected_components
    from scipy.sparse.linalg import spsolve

    _, place = np.unique(flow.seams.labels(flow.n_points), return_inverse=True)
    n = int(place.max()) + 1
    a, b = place[a], place[b]
    rise = np.where(np.isfinite(rise), rise, 0.0)
    linked = coo_array((np.ones(len(a)), (a, b)), shape=(n, n)).tocsr()
    linked = linked + linked.T
    system: Any = diags_array(np.asarray(linked.sum(axis=1)).ravel()) - linked
    right = np.bincount(b, rise, n) - np.bincount(a, rise, n)
    count, part = connected_components(linked, directed=False)
    held = np.zeros(n)
    held[[int(np.argmax(part == c)) for c in range(count)]] = 1.0  # one value of each part is free
    found = np.asarray(spsolve((system + diags_array(held)).tocsc(), right))
    least = np.full(count, np.inf)
    np.minimum.at(least, part, found)
    return np.asarray((found - least[part])[place])
