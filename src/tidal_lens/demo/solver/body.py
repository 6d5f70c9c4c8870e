"""The shape of Kittiwake and the surface far from it, as functions of a direction: polar angle from the nose, and azimuth.

Kittiwake is an invented slender lifting body of length 1: blunt nose, delta planform, flattening towards the rear, flat base
with a rounded rim. x runs backwards from the nose, y to the right, z up.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import PchipInterpolator

Array = NDArray[np.float64]
RIM = 0.03
NOSE_RADIUS, SWEEP = 0.02, 0.25
UPPER, LOWER = 0.078, 0.058
_RIM_BEGINS, _RIM_ENDS = 128.0, 136.0  # polar angles [deg] that the rim takes
_ROOT_OF_X = PchipInterpolator([0.0, 45.0, 72.0, 100.0, _RIM_BEGINS], [0.0, 0.15, 0.44, 0.76, np.sqrt(1.0 - RIM)])
_FAR_ANGLE = PchipInterpolator([0.0, 45.0, 90.0, 136.0, 180.0], [0.0, 28.0, 76.0, 157.0, 180.0])
FAR_FRONT, FAR_BACK, FAR_RADIUS, FAR_TILT = -0.09, 2.4, 1.0, np.radians(10.0)


def half_width(x: Array) -> Array:
    """Half width of the planform at x."""
    return np.asarray(np.sqrt(2.0 * NOSE_RADIUS * x + (SWEEP * x) ** 2))


def half_height(x: Array, above: NDArray[np.bool_]) -> Array:
    """Height above, or depth below, the plane z = 0 at x."""
    h = np.where(above, UPPER, LOWER)
    return np.asarray(h * np.sqrt(-np.expm1(-2.0 * NOSE_RADIUS * x / h**2)))


def wall(polar: Array, azimuth: Array) -> Array:
    """Points of the body.

    Parameters
    ----------
    polar : ndarray, shape (n,)
        Angle from the nose, 0 to 180 [deg]: at 180 is the middle of the base.
    azimuth : ndarray, shape (n,)
        Angle from +y towards +z [rad].

    Returns
    -------
    ndarray, shape (n, 3)
        Coordinates in body lengths.
    """
    x = np.where(polar < _RIM_BEGINS, _ROOT_OF_X(np.minimum(polar, _RIM_BEGINS)) ** 2, 1.0 - RIM)
    turn = np.clip((polar - _RIM_BEGINS) / (_RIM_ENDS - _RIM_BEGINS), 0.0, 1.0) * np.pi / 2
    inset = RIM * (1.0 - np.cos(turn))
    shrink = np.where(polar > _RIM_ENDS, (180.0 - polar) / (180.0 - _RIM_ENDS), 1.0)
    exponent = 2.0 + 0.8 * np.clip(x, 0.0, 1.0) ** 2
    c, s = np.cos(azimuth), np.sin(azimuth)
    size = (np.abs(c) ** exponent + np.abs(s) ** exponent) ** (-1.0 / exponent)
    y = shrink * (half_width(x) - inset) * c * size
    z = shrink * (half_height(x, s >= 0.0) - inset) * s * size
    return np.column_stack([x + RIM * np.sin(turn), y, z])


def far(polar: Array, azimuth: Array) -> Array:
    """Points of the outer boundary, an ellipsoid tilted into the wind; shapes as of :func:`wall`."""
    angle = np.radians(_FAR_ANGLE(polar))
    half = 0.5 * (FAR_BACK - FAR_FRONT)
    along, across = half * (1.0 - np.cos(angle)) + FAR_FRONT, FAR_RADIUS * np.sin(angle)
    y, up = across * np.cos(azimuth), across * np.sin(azimuth)
    return np.column_stack([along * np.cos(FAR_TILT) - up * np.sin(FAR_TILT), y, along * np.sin(FAR_TILT) + up * np.cos(FAR_TILT)])
