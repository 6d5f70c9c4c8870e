"""What a layer may come to."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.points import Points
from tidal_lens.cutting.surface import OwnSurface, Surface
from tidal_lens.features.found import FoundLines
from tidal_lens.quantities.names import OWN
from tidal_lens.tracing.streamlines import End, Lines

Geometry = Surface | Lines | Points
_END = "kind of its end"
CODES = {OWN + _END: {int(end): end.words for end in End}}  # quantities whose numbers stand for something, and for what


def own_values(geometry: Geometry) -> Mapping[str, NDArray[Any]]:
    """Scalars that a geometry brings along at its points, whatever the flow: by their names, shape (n,)."""
    if isinstance(geometry, FoundLines):
        return {"length along it": geometry.along, "number of the finding": _number_of(geometry), **geometry.more}
    if isinstance(geometry, OwnSurface):
        return geometry.own
    if isinstance(geometry, Lines):
        lines = np.repeat(np.arange(geometry.n_lines), np.diff(geometry.offsets))
        ends = np.where(geometry.ends[:, 1] != 0, geometry.ends[:, 1], geometry.ends[:, 0])  # upstream, where it was followed only there
        return {"time from the seed": geometry.time, "length from the seed": geometry.along,
                "number of the line": geometry.seeds[lines] + 1.0,
                "error of the line": geometry.error[lines], _END: ends[lines].astype(np.float64), **geometry.more}
    return geometry.scalars if isinstance(geometry, Points) else {}


def _number_of(lines: FoundLines) -> NDArray[Any]:
    return np.asarray(np.repeat(lines.seeds, np.diff(lines.offsets)) + 1.0)


def own_vectors(geometry: Geometry) -> Mapping[str, NDArray[Any]]:
    """The vectors among them, shape (n, 3)."""
    return {n: v for n, v in geometry.own.items() if v.ndim == 2} if isinstance(geometry, Points) else {}
