"""What a number does over time: its mean, how far it swings, and how long a swing takes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Vec = NDArray[np.float64]
WINDOW = "Hann"
_FINER = 16  # times as many frequencies as the record has of its own, so that peaks are drawn round
_LEAST = 6  # moments, below which there is no spectrum
_FLAT = 1e-9  # of the mean's size: such a swing is none


@dataclass(frozen=True, eq=False)
class Course:
    """A number over time; moments at which it is not known do not count.

    Attributes
    ----------
    mean, least, greatest : float
        The mean is that over time, between the first and the last moment at which it is known.
    amplitude, rms : float
        Half of the way from least to greatest; root of the mean square about the mean.
    period, swing : float
        Of the strongest oscillation: how long it takes, and its amplitude; not numbers where there is none.
    periods : float
        How many of them the record holds.
    frequency, strength : ndarray, shape (n,)
        Spectrum: amplitude over frequency, by the window of Hann.
    """

    mean: float
    least: float
    greatest: float
    amplitude: float
    rms: float
    period: float
    swing: float
    periods: float
    frequency: Vec
    strength: Vec


def course_of(times: Vec, values: Vec) -> Course:
    """What a number does over time.

    Parameters
    ----------
    times, values : ndarray, shape (n,)
        Rising moments, and the number at each.

    Notes
    -----
    The spectrum is that of values brought to even moments, less their mean, under the window of Hann (Harris 1978, On the use of windows
    for harmonic analysis with the discrete Fourier transform, Proc. IEEE 66). Its peak is where a sinusoid is sought that, with a
    mean, fits the values themselves best: a record of little more than one period tells its period by that.
    """
    from scipy.optimize import minimize_scalar

    good = np.isfinite(values) & np.isfinite(times)
    t, v = times[good], values[good]
    nan = float("nan")
    none = np.empty(0)
    if not len(t):
        return Course(nan, nan, nan, nan, nan, nan, nan, nan, none, none)
    span = float(t[-1] - t[0])
    mean = float(np.trapezoid(v, t) / span) if span > 0.0 else float(v.mean())
    rms = float(np.sqrt(np.trapezoid((v - mean) ** 2, t) / span)) if span > 0.0 else 0.0
    low, high = float(v.min()), float(v.max())
    amplitude = 0.5 * (high - low)
    if len(t) < _LEAST or span <= 0.0 or amplitude <= _FLAT * max(abs(mean), 1e-300):
        return Course(mean, low, high, amplitude, rms, nan, nan, nan, none, none)
    n = len(t)
    even = np.interp(np.linspace(t[0], t[-1], n), t, v) - mean
    window = 0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(n) / n)
    strength = np.abs(np.fft.rfft((even - (even * window).sum() / window.sum()) * window, _FINER * n)) * 2.0 / window.sum()
    frequency = np.asarray(np.fft.rfftfreq(_FINER * n, span / (n - 1)), np.float64)
    peak = float(frequency[int(strength.argmax())])
    fine = 1.0 / span
    found = minimize_scalar(lambda f: _misfit(t, v, f)[0], bounds=(max(peak - fine, 0.4 * fine), min(peak + fine, 0.5 * n * fine)),
                            method="bounded", options={"xatol": 1e-8 * fine})
    f = float(found.x)
    return Course(mean, low, high, amplitude, rms, 1.0 / f, _misfit(t, v, f)[1], span * f, frequency, strength)


def _misfit(t: Vec, v: Vec, f: float) -> tuple[float, float]:
    """Sum of squares that a mean and a sinusoid of a frequency leave, and its amplitude."""
    phase = 2.0 * np.pi * f * (t - t[0])
    basis = np.column_stack([np.ones(len(t)), np.cos(phase), np.sin(phase)])
    parts, *_ = np.linalg.lstsq(basis, v, rcond=None)
    return float(((v - basis @ parts) ** 2).sum()), float(np.hypot(parts[1], parts[2]))
