"""Where a node quantity takes a value, and where planes and other quadrics cut the flow."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.marching import NO_FORM, cut_blocks
from tidal_lens.cutting.surface import Surface
from tidal_lens.flow.case import Flow
from tidal_lens.work import Token, read_only

_NOTHING = read_only(np.empty(0))


def isosurface(flow: Flow, values: NDArray[Any], level: float, token: Token | None = None,
               blocks: Collection[int] | None = None) -> Surface:
    """Surface on which node values take a level.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : ndarray, shape (nodes,)
        Node values, linear along the edges of cells. The same array again is cut faster: where it cannot be met is kept.
    level : float
        The value.
    token : Token, optional
        Checked between blocks.
    blocks : collection of int, optional
        Numbers of the blocks that are cut; all where nothing is said.

    Returns
    -------
    Surface
        Empty where the level is not met.
    """
    if values.shape != (flow.n_points,):
        raise ValueError(f"{values.shape} values for {flow.n_points} nodes")
    return _cut(flow, values, NO_FORM, level, token, blocks)


def axis_slice(flow: Flow, axis: int, position: float, token: Token | None = None) -> Surface:
    """Cut by the plane on which one coordinate takes a value.

    Parameters
    ----------
    axis : int
        0, 1 or 2 for x, y or z.
    position : float
        The coordinate; on the very border of the flow it is taken a hair inside.
    """
    return plane_cut(flow, position * np.eye(3)[axis], np.eye(3)[axis], token)


def plane_cut(flow: Flow, point: Sequence[float] | NDArray[np.float64], direction: Sequence[float] | NDArray[np.float64],
              token: Token | None = None, blocks: Collection[int] | None = None) -> Surface:
    """Cut by the plane through a point across a direction (both of shape (3,)); on the very border of the flow a hair inside.

    Raises
    ------
    ValueError
        The direction has no length.
    """
    normal = np.asarray(direction, np.float64) / max(float(np.linalg.norm(direction)), 1e-300)
    if not 0.5 < float(np.linalg.norm(normal)) < 2.0:
        raise ValueError("the direction of a cut needs a length")
    level = float(normal @ np.asarray(point, np.float64))
    low, high = flow.bounds
    least = float(np.minimum(normal * low, normal * high).sum())
    most = float(np.maximum(normal * low, normal * high).sum())
    hair = 1e-9 * max(most - least, 1e-300)
    if least - hair <= level <= most + hair:
        level = min(max(level, least + hair), most - hair)
    return _cut(flow, _NOTHING, read_only(np.concatenate([np.zeros(6), normal, [0.0]])), level, token, blocks)


def quadric_cut(flow: Flow, form: Sequence[float] | NDArray[np.float64], level: float, token: Token | None = None,
                blocks: Collection[int] | None = None) -> Surface:
    """Cut by the surface on which a form of the second degree takes a value; vertices lie on it to rounding.

    Parameters
    ----------
    form : sequence of 9 floats
        The coefficients of x², y², z², x y, x z, y z, x, y and z.
    level : float
        The value.
    """
    a = np.asarray(form, np.float64)
    return _cut(flow, _NOTHING, read_only(np.concatenate([a, [1.0 if a[:6].any() else 0.0]])), level, token, blocks)


def _cut(flow: Flow, values: NDArray[Any], form: NDArray[np.float64], level: float, token: Token | None,
         blocks: Collection[int] | None = None) -> Surface:
    if token is not None:
        token.check()
    return cut_blocks(flow, [n for n in range(len(flow.blocks)) if blocks is None or n in blocks], values, form, level, token)
