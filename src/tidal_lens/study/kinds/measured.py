"""What measures have in common: lines that they are drawn as, and their first quantities."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.quantities.store import FILE, QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.kinds.first_values import best_name
from tidal_lens.study.value import QuantityName
from tidal_lens.tracing.streamlines import Lines

Vec = NDArray[np.float64]
Quantities = Annotated[tuple[QuantityName, ...], Field(min_length=1, max_length=6)]


@dataclass(frozen=True, eq=False)
class MeasuredLines(Lines):
    """Lines along which something is measured."""

    def describe(self, _line: int) -> str:
        """What it is."""
        return "Measured along it: its chart stands in the ledger"


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
