"""What measures have in common: lines that they are drawn as, and their first quantities."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.measures.sums import Facets
from tidal_lens.quantities.smoothing import node_volumes
from tidal_lens.quantities.store import FILE, QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.kinds.first_values import best_name
from tidal_lens.study.kinds.kind import See
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import number_text
from tidal_lens.tracing.streamlines import Lines

_LYING = 0.5  # cosine between a facet's normal and the plane's
Vec = NDArray[np.float64]
Quantities = Annotated[tuple[QuantityName, ...], Field(min_length=1, max_length=6)]


@dataclass(frozen=True, eq=False)
class MeasuredLines(Lines):
    """Lines along which something is measured."""

    def describe(self, _line: int) -> str:
        """What it is."""
        return "Measured along it: its chart stands in the ledger"


def as_whole(see: See, facets: Facets, points: Vec) -> Facets:
    """Facets on points (n, 3) as they count: of a plane flow over the depth that is said, of an axisymmetric one once round.

    What lies in its plane counts as it is.
    """
    flow = see.flow
    if flow.normal is None or not flow.depth > 0.0 or not len(facets.corners):
        return facets
    # Of second order: the way round the middle of each.
    by = _way(see, points[facets.corners].mean(axis=1)) / flow.depth
    lying = np.abs(facets.areas @ np.asarray(flow.normal)) > _LYING * facets.sizes
    return Facets(facets.corners, np.where(lying, 1.0, by)[:, None] * facets.areas)


def node_weights(see: See) -> Vec:
    """Shares of the nodes in the volume, shape (n,), as they count."""
    weights = node_volumes(see.flow, see.token)
    return weights if see.flow.normal is None else weights * round_or_deep(see)


def round_or_deep(see: See) -> Vec:
    """What volumes at the nodes are multiplied by, shape (n,)."""
    flow = see.flow
    return np.ones(flow.n_points) if flow.normal is None or not flow.depth > 0.0 else _way(see, flow.points) / flow.depth


def _way(see: See, points: Vec) -> Vec:
    turned = see.flow.turned
    return turned.circumference(points) if turned is not None else np.full(len(points), see.reference.depth or 1.0)


def told_depth(see: See) -> str:
    """How numbers of a plane flow are to be taken."""
    if see.flow.normal is None:
        return ""
    if see.flow.turned is not None:
        return ", once round the axis"
    return ", by unit depth" if see.reference.depth is None else f", over a depth of {number_text(see.reference.depth)}"


def whole_units(see: See) -> bool:
    """Whether areas and volumes are what their names say, in SI units."""
    return see.flow.si_units and (see.flow.normal is None or see.flow.turned is not None or see.reference.depth is not None)


def measured_lines(points: Vec, offsets: NDArray[np.int64], stencil: Stencil, along: Vec,
                   more: Mapping[str, Vec] | None = None) -> MeasuredLines:
    """Lines of points (n, 3), one after another, with how far along its line each is."""
    count = len(offsets) - 1
    return MeasuredLines(points, offsets, along, lambda: stencil, np.arange(count), np.zeros((count, 2), np.int64), np.zeros(count), count,
                         more or {})


def first_quantity(store: QuantityStore, *wanted: str) -> str | None:
    """The first of some quantities that the flow has, by name or as what an array of the file is, else the best one."""
    offered = {q.name for q in store.quantities() if not q.missing and q.components == 1}
    names = [name for what in wanted for name in (what, f"{FILE}{getattr(store.flow.roles, what, None)}")]
    return next((name for name in names if name in offered), None) or best_name(store)
