"""Compiled metric differences of fourth order."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel

Array = Any


@kernel
def _stencil(n: int, index: int, weights: Array) -> int:
    """Twelve times the derivative along a grid line of n nodes: five weights, and where they begin relative to the node.

    Fourth order, one-sided near the ends; lines of fewer than five nodes get what their number allows.
    """
    for m in range(5):
        weights[m] = 0.0
    if n == 2:
        weights[0], weights[1] = -12.0, 12.0
        return -index
    if n < 5:
        first = min(max(index - 1, 0), n - 3)
        if index == first:
            weights[0], weights[1], weights[2] = -18.0, 24.0, -6.0
        elif index == first + 1:
            weights[0], weights[2] = -6.0, 6.0
        else:
            weights[0], weights[1], weights[2] = 6.0, -24.0, 18.0
        return first - index
    first = min(max(index - 2, 0), n - 5)
    at = index - first
    if at == 0:
        weights[0], weights[1], weights[2], weights[3], weights[4] = -25.0, 48.0, -36.0, 16.0, -3.0
    elif at == 1:
        weights[0], weights[1], weights[2], weights[3], weights[4] = -3.0, -10.0, 18.0, -6.0, 1.0
    elif at == 2:
        weights[0], weights[1], weights[3], weights[4] = 1.0, -8.0, 8.0, -1.0
    elif at == 3:
        weights[0], weights[1], weights[2], weights[3], weights[4] = -1.0, 6.0, -18.0, 10.0, 3.0
    else:
        weights[0], weights[1], weights[2], weights[3], weights[4] = 3.0, -16.0, 36.0, -48.0, 25.0
    return first - index


@inlined
def _differences(values: Array, v: int, p: int, q: int, r: int, ni: int, layer: int, a: Array, b: Array,
                 c: Array) -> tuple[float, float, float]:
    """Differences of a column along i, j and k: five nodes from p, q and r on with the weights a, b and c."""
    along = across = up = 0.0
    for m in range(5):
        if a[m] != 0.0:
            along += a[m] * values[p + m, v]
        if b[m] != 0.0:
            across += b[m] * values[q + m * ni, v]
        if c[m] != 0.0:
            up += c[m] * values[r + m * layer, v]
    return along, across, up


@kernel
def gradient_fourth_order(points: Array, dims: Array, values: Array, out: Array, begin: int, end: int) -> bool:
    """Gradient (n, c, 3) of values (n, c) in the grid layers k = begin..end; not finite where the metric is singular.

    True if all of it is finite.
    """
    sound = 0.0
    ni, nj, nk = dims[0], dims[1], dims[2]
    nc = values.shape[1]
    layer = ni * nj
    a, b, c = np.empty(5), np.empty(5), np.empty(5)
    metric = np.empty((3, 3))
    along = np.empty((3, 3))
    for k in range(begin, end):
        ck = _stencil(nk, k, c)
        for j in range(nj):
            bj = _stencil(nj, j, b)
            for i in range(ni):
                ai = _stencil(ni, i, a)
                n = i + ni * j + layer * k
                for axis in range(3):
                    metric[0, axis], metric[1, axis], metric[2, axis] = _differences(points, axis, n + ai, n + bj * ni, n + ck * layer, ni,
                                                                                     layer, a, b, c)
                for v in range(nc):
                    along[0, v], along[1, v], along[2, v] = _differences(values, v, n + ai, n + bj * ni, n + ck * layer, ni, layer, a, b, c)
                xr, yr, zr = metric[0, 0], metric[0, 1], metric[0, 2]
                xs, ys, zs = metric[1, 0], metric[1, 1], metric[1, 2]
                xt, yt, zt = metric[2, 0], metric[2, 1], metric[2, 2]
                rx, ry, rz = ys * zt - zs * yt, zs * xt - xs * zt, xs * yt - ys * xt
                inv = 1.0 / (xr * rx + yr * ry + zr * rz)
                sx, sy, sz = yt * zr - zt * yr, zt * xr - xt * zr, xt * yr - yt * xr
                tx, ty, tz = yr * zs - zr * ys, zr * xs - xr * zs, xr * ys - yr * xs
                for v in range(nc):
                    fr, fs, ft = inv * along[0, v], inv * along[1, v], inv * along[2, v]
                    gx, gy, gz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                    out[n, v, 0], out[n, v, 1], out[n, v, 2] = gx, gy, gz
                    sound += 0.0 * (gx + gy + gz)
    return sound == 0.0
