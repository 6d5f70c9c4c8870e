"""Scales that findings are measured by: speeds, lengths, cells, distances to walls."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.quantities.smoothing import node_volumes
from tidal_lens.work import Token

Values = Callable[[str], NDArray[Any]]
FREE = 1e30  # the distance to walls where there are none
_USUAL = 0.995


@dataclass(frozen=True)
class Scales:
    """Speed and length that belong to a flow."""

    speed: float
    length: float

    @property
    def rate(self) -> float:
        """Speed by length [1/s]."""
        return self.speed / self.length


def scales_of(flow: Flow, velocity: NDArray[Any], speed: float) -> Scales:
    """The free stream's speed, else the greatest usual one; the length of the body, else of the flow."""
    if not speed > 0.0:
        sizes = np.sqrt((velocity[:: max(1, len(velocity) // 200_000)].astype(np.float64) ** 2).sum(axis=1))
        sizes = sizes[np.isfinite(sizes)]
        speed = float(np.quantile(sizes, _USUAL)) if len(sizes) else 0.0
    return Scales(speed if speed > 0.0 else 1.0, flow.length if flow.length > 0.0 else 1.0)


def cell_widths(flow: Flow, token: Token | None = None) -> NDArray[np.float32]:
    """Width of the cells at each node, shape (n,): the cube root of its share of the volume, in a plane flow the root of the area's."""
    ready: NDArray[np.float32] | None = flow.__dict__.get("_widths")
    if ready is None:
        share = node_volumes(flow, token)
        ready = (np.cbrt(share) if flow.normal is None else np.sqrt(2.0 * share / flow.depth)).astype(np.float32)
        flow.__dict__["_widths"] = ready
    return ready


def has_walls(flow: Flow) -> bool:
    """Whether any boundary is a wall."""
    return any(b.solid and b.nodes is not None and len(b.faces) for b in flow.boundaries)


def bins(points: NDArray[np.float64], widths: NDArray[np.float64], cells: float) -> NDArray[np.int64]:
    """A number for each place (n,): those in one box of about some cells' width share it, whatever the size of cells there."""
    level = np.round(np.log2(np.maximum(widths * cells, 1e-300)))
    low = points.min(axis=0, initial=np.inf) if len(points) else 0.0
    where = np.floor((points - low) / np.exp2(level)[:, None]).astype(np.int64)
    return np.unique(np.column_stack([level.astype(np.int64), where]), axis=0, return_inverse=True)[1].ravel()


def least_of_each(group: NDArray[np.int64], values: NDArray[Any]) -> NDArray[np.int64]:
    """Row of the least value in each group, the least value first."""
    order = np.lexsort((values, group))
    first = order[np.concatenate([[True], np.diff(group[order]) != 0])] if len(order) else order
    return first[np.argsort(values[first], kind="stable")]
