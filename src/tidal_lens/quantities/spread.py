"""How the values of a quantity are spread over the flow's volume, or over the area of its walls."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.work import checkpoint


@dataclass(frozen=True, eq=False)
class Distribution:
    """How the values of a quantity are spread.

    Attributes
    ----------
    low, high : float
        Least and greatest finite value.
    usual : tuple of float
        Range without the outermost half per cent of the volume on either side.
    counts : ndarray
        How much of the volume falls into even bins between the ends of ``usual`` widened by a fifth, limited to low and high; their sum is
        about the number of values.
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


def distribution_of(values: NDArray[Any], bins: int = 72, *, weights: NDArray[np.float64] | None = None,
                    coarse: bool = False) -> Distribution:
    """Distribution of values of shape (n,).

    Parameters
    ----------
    values : ndarray, shape (n,)
        Values; those that are not finite are left out.
    bins : int
        How many bins.
    weights : ndarray, shape (n,), optional
        Volume or area that each stands for; without them each counts as one.
    coarse : bool
        Whether they are a sample.
    """
    good = np.isfinite(values)
    finite = values[good]
    if len(finite) == 0:
        return Distribution(0.0, 0.0, (0.0, 0.0), np.zeros(bins, np.int64), (0.0, 0.0), len(values), coarse)
    checkpoint()
    low, high = float(finite.min()), float(finite.max())
    every = max(1, len(finite) // 400_000)
    sample = finite[::every]
    share = None if weights is None else weights[good][::every]
    if share is not None and not float(share.sum()) > 0.0:
        share = None
    a, b = _quantiles(sample, share)
    if not b > a:
        a, b = low, high
    checkpoint()
    room = 0.2 * (b - a)
    span = (max(low, a - room), min(high, b + room))
    if span[1] - span[0] <= 1e-9 * max(abs(low), abs(high), 1e-300):  # all but constant: one bin holds it all
        middle = 0.5 * (low + high)
        reach = max(abs(middle), 1e-12)
        counts, _ = np.histogram(sample, bins=bins, range=(middle - reach, middle + reach), weights=share)
    else:
        counts, _ = np.histogram(sample, bins=bins, range=span, weights=share)
    if share is not None:
        counts = np.ceil(counts * (len(sample) / float(share.sum())))
    return Distribution(low, high, (a, b), counts.astype(np.int64), span, len(values) - len(finite), coarse)


def _quantiles(sample: NDArray[Any], share: NDArray[np.float64] | None) -> tuple[float, float]:
    """Values below which lie half a per cent, and all but half a per cent."""
    if share is None:
        a, b = np.quantile(sample, [0.005, 0.995])
        return float(a), float(b)
    order = np.argsort(sample)
    below = np.cumsum(share[order])
    below = (below - 0.5 * share[order]) / below[-1]
    a, b = np.interp([0.005, 0.995], below, sample[order].astype(np.float64))
    return float(a), float(b)
