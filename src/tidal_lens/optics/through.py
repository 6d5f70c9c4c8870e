"""Sums, means, extremes and attenuation of any quantity along the line of sight."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.optics.projection import Aim, Vec, along_sight, kept, meets
from tidal_lens.optics.quick import Held, quick_greatest, quick_sum
from tidal_lens.work import Token

Kind = Literal["sum", "mean", "greatest", "least", "attenuation"]


def seen_through(flow: Flow, values: NDArray[Any], kind: Kind, aim: Aim, walls: Vec, token: Token | None = None, *,
                 quick: bool = False) -> Vec:
    """Sum, mean, greatest, least of a quantity (nodes,) along the sight, or exp(−its sum); not a number where a ray meets nothing.

    Returns
    -------
    ndarray, shape (rows, columns)
    """
    if kind in ("greatest", "least"):
        sign = 1.0 if kind == "greatest" else -1.0

        def signed() -> NDArray[Any]:
            return sign * np.asarray(values, np.float64)[:, None]

        if quick:
            found = quick_greatest(flow, Held.of(flow, values, kind, signed, greatest=True), aim, walls)[:, :, 0]
        else:
            found = kept(flow, values, kind, aim, walls, lambda: along_sight(flow, signed(), aim, walls, token, greatest=True))[:, :, 0]
        return np.where(np.isfinite(found), sign * found, np.nan)

    if kind in ("sum", "attenuation"):  # how long its way is does not count
        alone = np.asarray(values)[:, None]
        if quick:
            total = quick_sum(flow, Held.of(flow, values, "sum", lambda: alone), np.eye(1), aim, walls)[:, :, 0]
        else:
            total = kept(flow, values, "sum", aim, walls, lambda: along_sight(flow, alone, aim, walls, token))[:, :, 0]
        with np.errstate(over="ignore"):
            return np.where(meets(flow, aim, walls), total if kind == "sum" else np.exp(-total), np.nan)

    def with_length() -> NDArray[Any]:
        return np.column_stack([np.asarray(values, np.float64), np.ones(len(values))])

    if quick:
        both = quick_sum(flow, Held.of(flow, values, "mean", with_length), np.eye(2), aim, walls)
    else:
        both = kept(flow, values, "mean", aim, walls, lambda: along_sight(flow, with_length(), aim, walls, token))
    total, length = both[:, :, 0], both[:, :, 1]
    met = length > (1e-2 if quick else 1e-9) * flow.size
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(met, total / length, np.nan)
