"""The height of an interface between two layers, from a profile by integration."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Vec = NDArray[np.float64]
_ONE = 1e-9  # of the square of the mean: such a profile is even


@dataclass(frozen=True)
class TwoLayers:
    """Two layers that have the same integrals as a profile.

    Attributes
    ----------
    height : float
        Of the interface above the beginning; not a number where there is one layer only.
    lower, upper : float
        Mean of each: that of the lower one is the value at the beginning.
    """

    height: float
    lower: float
    upper: float


def two_layers(along: Vec, values: Vec) -> TwoLayers:
    """The interface by two integrals, of the value and of its inverse.

    Parameters
    ----------
    along, values : ndarray, shape (n,)
        Rising heights from the floor up, and a positive value, such as the absolute temperature.

    Raises
    ------
    ValueError
        A value is not positive, or there are fewer than three.

    References
    ----------
    .. [1] Janssens & Tran 1992, Data reduction of room tests for zone model validation, J. Fire Sciences 10, 528-555: both
       integrals over the room's height are those of two even layers of which the lower one has the lowest temperature.
    """
    good = np.isfinite(values) & np.isfinite(along)
    z, v = along[good] - along[good][0] if good.any() else along[good], values[good]
    if len(v) < 3:
        raise ValueError("fewer than three values are known along it")
    if float(v.min()) <= 0.0:
        raise ValueError("the value is not positive everywhere along it")
    room = float(z[-1])
    first, second = float(np.trapezoid(v, z)), float(np.trapezoid(1.0 / v, z))
    low = float(v[0])
    below = first + second * low**2 - 2.0 * low * room
    excess = first * second - room**2  # zero where all is even, by Cauchy's and Schwarz's inequality
    if excess <= _ONE * room**2 or below <= 0.0:
        return TwoLayers(float("nan"), low, first / room)
    height = min(max(low * excess / below, 0.0), room)
    sums = np.concatenate([[0.0], np.cumsum(0.5 * (v[1:] + v[:-1]) * np.diff(z))])
    above = first - float(np.interp(height, z, sums))
    return TwoLayers(height, low, above / (room - height) if height < room else float(v[-1]))
