"""How the values of a quantity are spread."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, eq=False)
class Distribution:
    """How the values of a quantity are spread over the nodes.

    Attributes
    ----------
    low, high : float
        Least and greatest finite value.
    usual : tuple of float
        Range without the outermost half per cent on either side.
    counts : ndarray
        Nodes in even bins between the ends of ``usual`` widened by a fifth, limited to low and high.
    span : tuple of float
        Ends of the bins.
    not_finite : int
        Number of values that are not finite.
    coarse : bool
        Whether it is that of a sample: a first look while the whole is being worked out.
    """

    low: float
    high: float
    usual: tuple[float, float]
    counts: NDArray[np.int64]
    span: tuple[float, float]
    not_finite: int
    coarse: bool = False


def distribution_of(values: NDArray[Any], bins: int = 72, *, coarse: bool = False) -> Distribution:
    """Distribution of values of shape (n,)."""
    finite = values[np.isfinite(values)]
    if len(finite) == 0:
        return Distribution(0.0, 0.0, (0.0, 0.0), np.zeros(bins, np.int64), (0.0, 0.0), len(values), coarse)
    low, high = float(finite.min()), float(finite.max())
    sample = finite[:: max(1, len(finite) // 400_000)]
    a, b = (float(v) for v in np.quantile(sample, [0.005, 0.995]))
    if not b > a:
        a, b = low, high
    room = 0.2 * (b - a)
    span = (max(low, a - room), min(high, b + room))
    if span[1] - span[0] <= 1e-9 * max(abs(low), abs(high), 1e-300):  # all but constant: one bin holds it all
        middle = 0.5 * (low + high)
        reach = max(abs(middle), 1e-12)
        counts, _ = np.histogram(sample, bins=bins, range=(middle - reach, middle + reach))
    else:
        counts, _ = np.histogram(sample, bins=bins, range=span)
    return Distribution(low, high, (a, b), counts.astype(np.int64), span, len(values) - len(finite), coarse)
