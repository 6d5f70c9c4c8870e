"""What cards came to, as it is written to files of other programs."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.points import Points
from tidal_lens.formats.written import Geometry
from tidal_lens.quantities.names import OWN
from tidal_lens.study.evaluate import Evaluated, Evaluator, quantities_on_keys
from tidal_lens.study.model import Study
from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token


def quantities_in_use(study: Study) -> list[str]:
    """Names of the quantities that colour or shape anything on the table, in the order of the deck."""
    return list(dict.fromkeys(name for layer in study.layers for name in quantities_on_keys(layer)))


def values_of(evaluator: Evaluator, names: list[str], token: Token) -> dict[str, NDArray[np.float64]]:
    """Node values by the titles of quantities."""
    out: dict[str, NDArray[np.float64]] = {}
    for name in names:
        if name.startswith(OWN):
            continue
        out[evaluator.store.describe(name).title] = evaluator.store.values(name, token)
        token.check()
    return out


def geometry_of(result: Evaluated, values: dict[str, NDArray[np.float64]]) -> Geometry:
    """What a card came to, with node quantities brought to its points."""
    geometry = result.geometry
    own = {name: geometry.stencil.apply(v) for name, v in values.items()}
    if isinstance(geometry, Lines):
        return Geometry(geometry.points, None, geometry.offsets, {"time": geometry.time, **own})
    if isinstance(geometry, Points):
        return Geometry(geometry.points, None, None, {**geometry.own, **{n: v for n, v in own.items() if n not in geometry.own}})
    return Geometry(geometry.points, geometry.faces, None, own)
