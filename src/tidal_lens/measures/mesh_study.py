"""How a number changes as the mesh is made finer: observed order, extrapolated value, grid convergence index."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

_FORMAL = 2.0  # the order that two meshes are taken to have
_THREE, _TWO = 1.25, 3.0  # safety factors of three meshes and of two: Roache 1994
_TURNS = 200


@dataclass(frozen=True)
class Convergence:
    """What meshes tell of a number.

    Attributes
    ----------
    order : float
        Observed; NaN where there are two meshes only, or the number does not converge.
    extrapolated : float
        What it would be on an infinitely fine mesh.
    index : float
        Grid convergence index of the finest mesh, as a part of the number there.
    verdict : str
        ``converges``, ``oscillates``, ``diverges``, ``the same``, or ``order 2 assumed``.
    """

    order: float
    extrapolated: float
    index: float
    verdict: str


def convergence_of(sizes: Sequence[float], values: Sequence[float]) -> Convergence:
    """Roache 1994 (J. Fluids Eng. 116, 405) for two or three meshes; for uneven ratios by Celik et al. 2008 (J. Fluids Eng. 130, 078001).

    Parameters
    ----------
    sizes : sequence of float
        Of cells of the two or three meshes, the finest first.
    values : sequence of float
        The number on each.

    Raises
    ------
    ValueError
        There are not two or three, or they do not grow coarser.
    """
    h, f = np.asarray(sizes, np.float64), np.asarray(values, np.float64)
    if len(h) not in (2, 3) or len(f) != len(h) or not (np.diff(h) > 1e-6 * h[0]).all():
        raise ValueError("two or three meshes are needed, each coarser than the one before")
    nan = float("nan")
    near = float(f[1] - f[0])
    scale = max(float(np.abs(f).max()), 1e-300)
    if not np.isfinite(f).all():
        return Convergence(nan, nan, nan, "not known")
    if np.abs(np.diff(f)).max() <= 1e-12 * scale:
        return Convergence(nan, float(f[0]), 0.0, "the same")
    ratio = h[1] / h[0]
    if len(h) == 2:
        return _estimate(f, near, ratio, _FORMAL, _TWO, nan, "order 2 assumed")
    far = float(f[2] - f[1])
    if abs(near) <= 1e-12 * scale:
        return Convergence(nan, float(f[0]), 0.0, "the same")
    order = _order(near, far, ratio, h[2] / h[1])
    if not np.isfinite(order) or order <= 0.0:
        return Convergence(nan, nan, nan, "diverges")
    return _estimate(f, near, ratio, order, _THREE, order, "converges" if near * far > 0.0 else "oscillates")


def _order(near: float, far: float, fine: float, coarse: float) -> float:
    """Observed order; by fixed-point iteration where the ratios of the meshes differ."""
    if far == 0.0:
        return float("nan")
    sign = np.sign(far / near)
    order = abs(np.log(abs(far / near))) / np.log(fine)
    for _ in range(_TURNS):
        above, below = fine**order - sign, coarse**order - sign
        if above <= 0.0 or below <= 0.0:
            return float("nan")
        # Signed: a difference that grows as meshes grow finer is no convergence.
        new = (np.log(abs(far / near)) + np.log(above / below)) / np.log(fine)
        if abs(new - order) < 1e-12:
            break
        order = 0.5 * (order + new)
        if order <= 1e-6:
            return -1.0
    return float(order)


def _estimate(f: np.ndarray[tuple[int, ...], np.dtype[np.float64]], near: float, ratio: float, order: float, safety: float, observed: float,
              verdict: str) -> Convergence:
    gain = ratio**order - 1.0
    share = abs(near / f[0]) if f[0] else float("nan")
    return Convergence(observed, float(f[0] - near / gain), safety * share / gain, verdict)
