"""Integrals of node values over a volume, and how a value is distributed in it."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.measures import sum_kernels as kernels
from tidal_lens.work import Token, run_chunks

Vec = NDArray[np.float64]
_CHUNK = 131072
_NO_SCALARS, _NO_VECTORS = np.empty(0), np.empty((0, 3))


@dataclass(frozen=True)
class Contents:
    """What a volume holds; not numbers where the flow does not say.

    Attributes
    ----------
    volume, integral : float
        Of the part in which the value is known, and the value's integral over it.
    square : float
        Integral of the square of the value less its mean.
    mass, by_mass : float
        Mass, and the integral of the value by mass.
    kinetic, enstrophy : float
        Kinetic energy; half of the vorticity squared, by volume.
    least, greatest : tuple of (float, int)
        Extremes, and the nodes at which they are.
    """

    volume: float
    integral: float
    square: float
    mass: float
    by_mass: float
    kinetic: float
    enstrophy: float
    least: tuple[float, int]
    greatest: tuple[float, int]

    @property
    def mean(self) -> float:
        """By volume."""
        return self.integral / self.volume


def contents_of(weights: Vec, values: NDArray[Any], density: NDArray[Any] | None = None, velocity: NDArray[Any] | None = None,
                vorticity: NDArray[Any] | None = None, token: Token | None = None) -> Contents | None:
    """Integrals with the weights of :func:`tidal_lens.quantities.smoothing.node_volumes`; None where nothing is known.

    Parameters
    ----------
    weights : ndarray, shape (n,)
        Of the nodes; zero for those outside.
    values : ndarray, shape (n,)
        What is averaged.
    density : ndarray, shape (n,), optional
        Mass by volume.
    velocity, vorticity : ndarray, shape (n, 3), optional
        For the energy and the enstrophy.
    token : Token, optional
        Progress and cancel.
    """
    known = np.flatnonzero((weights[:_CHUNK] > 0.0) & np.isfinite(values[:_CHUNK]))
    about = float(values[known].mean(dtype=np.float64)) if len(known) else 0.0
    parts: dict[int, tuple[Vec, NDArray[np.int64]]] = {}

    def chunk(begin: int, end: int) -> None:
        sums, where = np.zeros(10), np.zeros(2, np.int64)
        sums[7:9] = np.inf, -np.inf
        kernels.over_nodes(weights[begin:end], _plain(values, begin, end), _plain(density, begin, end), _plain(velocity, begin, end, 3),
                           _plain(vorticity, begin, end, 3), about, sums, where)
        parts[begin] = sums, where + begin

    run_chunks(chunk, len(weights), _CHUNK, token)
    rows = [parts[begin] for begin in sorted(parts)]
    all_sums = np.array([sums for sums, _ in rows]).reshape(-1, 10)
    total = all_sums.sum(axis=0)
    if not total[0] > 0.0:
        return None
    low, high = int(all_sums[:, 7].argmin()), int(all_sums[:, 8].argmax())
    nan = float("nan")
    mean = float(total[1] / total[0])
    return Contents(float(total[0]), float(total[1]), max(float(total[2] - total[0] * (mean - about) ** 2), 0.0),
                    float(total[3]) if density is not None else nan, float(total[4]) if density is not None else nan,
                    float(total[5]) if density is not None and velocity is not None else nan,
                    float(total[6]) if vorticity is not None else nan,
                    (float(all_sums[low, 7]), int(rows[low][1][0])), (float(all_sums[high, 8]), int(rows[high][1][1])))


def distribution(weights: Vec, values: NDArray[Any], low: float, high: float, bins: int,
                 by: NDArray[Any] | None = None) -> tuple[Vec, Vec]:
    """Middles of even bins (b,), and the share of all weight in each by unit of the value (b,): its integral is one.

    Parameters
    ----------
    weights, values : ndarray, shape (n,)
        What each weighs, and values; those that are not known do not count.
    low, high : float
        Ends of the bins.
    bins : int
        How many.
    by : ndarray, shape (n,), optional
        Weights are multiplied by it: a density makes mass of volume.
    """
    if not high > low:
        room = max(abs(low), 1.0) * 1e-6
        low, high = low - room, high + room
    counts, lock = np.zeros(bins), threading.Lock()

    def chunk(begin: int, end: int) -> None:
        own, some = weights[begin:end], np.zeros(bins)
        kernels.into_bins(own if by is None else own * by[begin:end], _plain(values, begin, end), low, high, some)
        with lock:
            np.add(counts, some, out=counts)

    run_chunks(chunk, len(weights), _CHUNK)
    edges = np.linspace(low, high, bins + 1)
    total = float(counts.sum())
    return 0.5 * (edges[:-1] + edges[1:]), counts / (total * (edges[1] - edges[0])) if total > 0.0 else counts


def _plain(values: NDArray[Any] | None, begin: int, end: int, columns: int = 1) -> Vec:
    if values is None:
        return _NO_SCALARS if columns == 1 else _NO_VECTORS
    return np.ascontiguousarray(values[begin:end], np.float64)
