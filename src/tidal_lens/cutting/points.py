"""Points in the flow with values of their own: particles, measured places."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.sampling.mesh import Stencil, mesh_of
from tidal_lens.work import Token

_TOLD = 6  # values told of a point
_NEAR = 0.5  # cell widths off the mesh at which its values still count: facets and particles from elsewhere are not the mesh's


@dataclass(frozen=True, eq=False)
class Points:
    """Points in space.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        Where they are.
    stencil : Stencil
        Interpolation of node values to them; NaN outside the flow.
    own : mapping
        Values of their own, shape (n,), or (n, 3) for vectors.
    """

    points: NDArray[np.float64]
    stencil: Stencil
    own: Mapping[str, NDArray[Any]] = field(default_factory=dict)

    def take(self, rows: NDArray[np.int64]) -> Points:
        """Some of them."""
        return Points(self.points[rows], self.stencil.take(rows), {name: values[rows] for name, values in self.own.items()})

    @cached_property
    def scalars(self) -> Mapping[str, NDArray[Any]]:
        """Values of their own, shape (n,) each; of vectors their size and components."""
        return scalars_of(self.own)

    def told_at(self, point: int) -> str:
        """Values of its own of one of them."""
        own = ", ".join(f"{name} {float(values[point]):.4g}" for name, values in list(self.scalars.items())[:_TOLD])
        x, y, z = (float(c) for c in self.points[point])
        return f"Point {point + 1} at {x:.4g}, {y:.4g}, {z:.4g}{': ' if own else ''}{own}"

    @property
    def nbytes(self) -> int:
        """Memory that they take."""
        arrays = (self.points, self.stencil.ids, self.stencil.weights, *self.own.values())
        return sum(a.nbytes for a in arrays)


def scalars_of(own: Mapping[str, NDArray[Any]]) -> dict[str, NDArray[Any]]:
    """Scalars among values (n,) and vectors (n, 3); of vectors their size and components."""
    out: dict[str, NDArray[Any]] = {}
    for name, values in own.items():
        if values.ndim == 1:
            out[name] = values
            continue
        out[f"{name} size"] = np.sqrt((values.astype(np.float64) ** 2).sum(axis=1))
        out.update({f"{name} {axis}": values[:, n] for n, axis in enumerate("xyz")})
    return out


def points_in_flow(flow: Flow, points: NDArray[np.float64], own: Mapping[str, NDArray[Any]], token: Token | None = None) -> Points:
    """Points (n, 3) that come from elsewhere, laid into a flow."""
    return Points(points, values_at(flow, points, token), own)


def values_at(flow: Flow, points: NDArray[np.float64], token: Token | None, slack: float = _NEAR) -> Stencil:
    """How values at points (n, 3) from elsewhere follow from those at nodes; NaN for those further off the flow than some cell widths."""
    stencil, inside = mesh_of(flow, token).locate(points, slack=slack, token=token)
    weights = stencil.weights.copy()
    weights[~inside] = np.nan
    return Stencil(np.where(inside[:, None], stencil.ids, 0), weights)
