"""Palettes by the meaning of a quantity, mixed in the OKLab space so that steps look even.

References
----------
Ottosson 2020, A perceptual color space for image processing (OKLab; published on the author's web page).
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

SIZE = 512
_TO_LMS = np.array([[0.4122214708, 0.5363325363, 0.0514459929], [0.2119034982, 0.6806995451, 0.1073969566],
                    [0.0883024619, 0.2817188376, 0.6299787005]])
_TO_LAB = np.array([[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099],
                    [0.0259040371, 0.7827717662, -0.8086757660]])

# Deep water to sand: lightness rises all the way, so it reads in grey and for the colour-blind.
EVEN = ("#16223F", "#17456B", "#1B6E86", "#3E968C", "#7FB98B", "#C4D59A", "#F6EDBF")
# Water and land about a pale shore: blue against brown is told apart by all common kinds of colour blindness.
BELOW = ("#0B2E4F", "#1D5F8A", "#6BA3C2", "#C9DDE3", "#F5F2E8")
ABOVE = ("#F5F2E8", "#EBD3AE", "#CF9A5B", "#9A5B1E", "#57290A")
# Below and above Mach 1: two ramps that do not meet.
SUBSONIC = ("#14304F", "#1F6487", "#5FA5B5", "#C3DFDD")
SUPERSONIC = ("#F3D08A", "#DD8A4E", "#AE3F53", "#5C1646")

# Two more for who has a reason: from night to embers, from forest to straw. Lightness rises in both.
EMBER = ("#1C1230", "#552057", "#97345A", "#CF5F47", "#EC9E4C", "#F8E4AE")
MOSS = ("#10261F", "#27503F", "#5C7F58", "#97A877", "#CFCFA3", "#F3F0DC")

# Ink on paper, for what light through the flow shows.
INK = ("#FBF9F4", "#A9ADAC", "#1F2A33")

# What may be chosen in the place of what a quantity's meaning asks for, and how each is called.
CHOICES = {"": "By meaning", "even": "Water", "ember": "Ember", "moss": "Moss", "signed": "About zero", "mach": "Break at 1",
           "angle": "Once round", "ink": "Ink", "paper": "Chalk"}

# Once round: ends where it begins; light at zero, dark at half a turn.
ROUND = ("#3A1F4A", "#1D5F8A", "#5FA5B5", "#F3EBD2", "#CF9A5B", "#8E3B4E", "#3A1F4A")


def to_oklab(rgb: NDArray[np.float64]) -> NDArray[np.float64]:
    """OKLab coordinates of sRGB colours in 0..1, shape (n, 3)."""
    linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    return np.asarray(np.cbrt(linear @ _TO_LMS.T) @ _TO_LAB.T)


def from_oklab(lab: NDArray[np.float64]) -> NDArray[np.float64]:
    """Colours (sRGB, 0..1) of OKLab coordinates, shape (n, 3)."""
    linear = (lab @ np.linalg.inv(_TO_LAB).T) ** 3 @ np.linalg.inv(_TO_LMS).T
    linear = np.clip(linear, 0.0, 1.0)
    return np.asarray(np.where(linear <= 0.0031308, linear * 12.92, 1.055 * linear ** (1 / 2.4) - 0.055))


def parse(colour: str) -> NDArray[np.float64]:
    """#RRGGBB as three numbers in 0..1."""
    return np.array([int(colour[n:n + 2], 16) / 255.0 for n in (1, 3, 5)])


def _ramp(stops: tuple[str, ...], at: NDArray[np.float64]) -> NDArray[np.float64]:
    lab = to_oklab(np.array([parse(s) for s in stops]))
    where = np.linspace(0.0, 1.0, len(stops))
    return from_oklab(np.column_stack([np.interp(at, where, lab[:, c]) for c in range(3)]))


@lru_cache(maxsize=64)
def _table(scale: str, low: float, high: float) -> bytes:
    x = (np.arange(SIZE) + 0.5) / SIZE
    ramps = {"even": EVEN, "ember": EMBER, "moss": MOSS, "angle": ROUND, "ink": INK, "paper": INK[::-1]}
    if scale in ramps:
        rgb = _ramp(ramps[scale], x)
    else:
        middle = 1.0 if scale == "mach" else 0.0
        value = low + (high - low) * x
        under = value < middle
        rgb = np.empty((SIZE, 3))
        if scale == "mach":
            rgb[under] = _ramp(SUBSONIC, np.clip(value[under], 0.0, 1.0))
            rgb[~under] = _ramp(SUPERSONIC, np.clip((value[~under] - 1.0) / max(high - 1.0, 0.4), 0.0, 1.0))
        else:
            reach = max(abs(low), abs(high), 1e-300)
            rgb[under] = _ramp(BELOW, 1.0 + np.clip(value[under] / reach, -1.0, 0.0))
            rgb[~under] = _ramp(ABOVE, np.clip(value[~under] / reach, 0.0, 1.0))
    out = np.full((SIZE, 4), 255, np.uint8)
    out[:, :3] = np.round(255 * rgb)
    return out.tobytes()


def palette(scale: str, low: float, high: float, bands: int = 0, *, flipped: bool = False) -> NDArray[np.uint8]:
    """Colours from low to high for a kind of quantity; shape (SIZE, 4).

    Parameters
    ----------
    scale : str
        ``even``, ``ember``, ``moss``, ``signed`` (pale at 0), ``mach`` (breaks at exactly 1) ``angle`` (ends as it begins),
        ``ink`` (dark above) or ``paper`` (dark below).
    low, high : float
        Ends of the colour key.
    bands : int
        Of how many plain colours; smooth for 0.
    flipped : bool
        The other way round; a palette that breaks at Mach 1 stays as it is.
    """
    turned = flipped and scale != "mach"
    ends = (-high, -low) if turned and scale == "signed" else (low, high)
    table = np.frombuffer(_table(scale, *ends), np.uint8).reshape(SIZE, 4)
    table = table[::-1] if turned else table
    if bands:
        share = (np.arange(SIZE) + 0.5) / SIZE
        table = table[((np.floor(share * bands) + 0.5) / bands * SIZE).astype(int)]
    return table
