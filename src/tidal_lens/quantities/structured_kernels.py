"""Compiled loops: gradients on structured blocks by metric differences."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel
from tidal_lens.quantities.kernels import from_velocity_gradient

Array = Any
# Nodes of a row that are worked on together: what lies between the steps then stays in the innermost cache.
_TILE = 64
_ROW = 3 * _TILE


@kernel
def _line(n: int, stride: int, index: int) -> tuple[int, int, int, float, float, float]:
    """Twice the second-order difference along a grid line: three offsets and their weights, one-sided at the ends."""
    if n == 2:
        if index == 0:
            return 0, stride, 0, -2.0, 2.0, 0.0
        return -stride, 0, 0, -2.0, 2.0, 0.0
    if index == 0:
        return 0, stride, 2 * stride, -3.0, 4.0, -1.0
    if index == n - 1:
        return -2 * stride, -stride, 0, 1.0, -4.0, 3.0
    return -stride, stride, 0, -1.0, 1.0, 0.0


@kernel
def _border_row(points: Array, values: Array, out: Array, shift: int, ni: int, nj: int, nk: int, first: int, step: int, j: int,
                k: int) -> None:
    """Nodes first, first + step, … of a grid row by the general formula, which holds at ends too; row 0 of out is node ``shift``."""
    nc = values.shape[1]
    b0, b1, b2, v0, v1, v2 = _line(nj, ni, j)
    c0, c1, c2, w0, w1, w2 = _line(nk, ni * nj, k)
    for i in range(first, ni, step):
        n = i + ni * (j + nj * k)
        a0, a1, a2, u0, u1, u2 = _line(ni, 1, i)
        p0, p1, p2 = np.uint64(n + a0), np.uint64(n + a1), np.uint64(n + a2)
        q0, q1, q2 = np.uint64(n + b0), np.uint64(n + b1), np.uint64(n + b2)
        r0, r1, r2 = np.uint64(n + c0), np.uint64(n + c1), np.uint64(n + c2)
        m = np.uint64(n - shift)
        xr = u0 * points[p0, 0] + u1 * points[p1, 0] + u2 * points[p2, 0]
        yr = u0 * points[p0, 1] + u1 * points[p1, 1] + u2 * points[p2, 1]
        zr = u0 * points[p0, 2] + u1 * points[p1, 2] + u2 * points[p2, 2]
        xs = v0 * points[q0, 0] + v1 * points[q1, 0] + v2 * points[q2, 0]
        ys = v0 * points[q0, 1] + v1 * points[q1, 1] + v2 * points[q2, 1]
        zs = v0 * points[q0, 2] + v1 * points[q1, 2] + v2 * points[q2, 2]
        xt = w0 * points[r0, 0] + w1 * points[r1, 0] + w2 * points[r2, 0]
        yt = w0 * points[r0, 1] + w1 * points[r1, 1] + w2 * points[r2, 1]
        zt = w0 * points[r0, 2] + w1 * points[r1, 2] + w2 * points[r2, 2]
        rx, ry, rz = ys * zt - zs * yt, zs * xt - xs * zt, xs * yt - ys * xt
        inv = 1.0 / (xr * rx + yr * ry + zr * rz)
        sx, sy, sz = yt * zr - zt * yr, zt * xr - xt * zr, xt * yr - yt * xr
        tx, ty, tz = yr * zs - zr * ys, zr * xs - xr * zs, xr * ys - yr * xs
        for c in range(nc):
            fr = inv * (u0 * values[p0, c] + u1 * values[p1, c] + u2 * values[p2, c])
            fs = inv * (v0 * values[q0, c] + v1 * values[q1, c] + v2 * values[q2, c])
            ft = inv * (w0 * values[r0, c] + w1 * values[r1, c] + w2 * values[r2, c])
            out[m, c, 0] = fr * rx + fs * sx + ft * tx
            out[m, c, 1] = fr * ry + fs * sy + ft * ty
            out[m, c, 2] = fr * rz + fs * sz + ft * tz


@inlined
def _metric(points: Array, a0: Any, a1: Any, b0: Any, b1: Any, c0: Any,
            c1: Any) -> tuple[float, float, float, float, float, float, float, float, float, float]:
    """Gradients of the indices r, s, t times the determinant, and one over it, from the six nodes around."""
    xr = points[a1, 0] - points[a0, 0]
    yr = points[a1, 1] - points[a0, 1]
    zr = points[a1, 2] - points[a0, 2]
    xs = points[b1, 0] - points[b0, 0]
    ys = points[b1, 1] - points[b0, 1]
    zs = points[b1, 2] - points[b0, 2]
    xt = points[c1, 0] - points[c0, 0]
    yt = points[c1, 1] - points[c0, 1]
    zt = points[c1, 2] - points[c0, 2]
    rx, ry, rz = ys * zt - zs * yt, zs * xt - xs * zt, xs * yt - ys * xt
    inv = 1.0 / (xr * rx + yr * ry + zr * rz)
    sx, sy, sz = yt * zr - zt * yr, zt * xr - xt * zr, xt * yr - yt * xr
    tx, ty, tz = yr * zs - zr * ys, zr * xs - xr * zs, xr * ys - yr * xs
    return rx, ry, rz, sx, sy, sz, tx, ty, tz, inv


@kernel
def _difference(flat: Array, at: int, step: int, count: int, out: Array, where: int) -> None:
    """What lies ``step`` after less what lies ``step`` before ``count`` numbers from ``at`` on, as they stand in memory."""
    after, before, to = np.uint64(at + step), np.uint64(at - step), np.uint64(where)
    for number in range(count):
        m = np.uint64(number)
        out[to + m] = flat[after + m] - flat[before + m]


@kernel
def _tile(x: Array, u: Array, ni: int, layer: int, first: int, count: int, d: Array, g: Array) -> None:
    """Gradient and Q of ``count`` nodes from ``first`` on, in rows of g (10 · tile); d (18 · tile) holds the differences meanwhile.

    x and u are the coordinates and three components one after another. In three steps, each of which the processor takes for several
    nodes at a time: differences, products, and the laying out that is left to the caller.
    """
    _difference(x, 3 * first, 3, 3 * count, d, 0)
    _difference(x, 3 * first, 3 * ni, 3 * count, d, _ROW)
    _difference(x, 3 * first, 3 * layer, 3 * count, d, 2 * _ROW)
    _difference(u, 3 * first, 3, 3 * count, d, 3 * _ROW)
    _difference(u, 3 * first, 3 * ni, 3 * count, d, 4 * _ROW)
    _difference(u, 3 * first, 3 * layer, 3 * count, d, 5 * _ROW)
    for number in range(count):
        i = np.uint64(number)
        r = np.uint64(3) * i
        s, t = r + np.uint64(_ROW), r + np.uint64(2 * _ROW)
        xr, yr, zr = d[r], d[r + np.uint64(1)], d[r + np.uint64(2)]
        xs, ys, zs = d[s], d[s + np.uint64(1)], d[s + np.uint64(2)]
        xt, yt, zt = d[t], d[t + np.uint64(1)], d[t + np.uint64(2)]
        rx, ry, rz = ys * zt - zs * yt, zs * xt - xs * zt, xs * yt - ys * xt
        inv = 1.0 / (xr * rx + yr * ry + zr * rz)
        sx, sy, sz = yt * zr - zt * yr, zt * xr - xt * zr, xt * yr - yt * xr
        tx, ty, tz = yr * zs - zr * ys, zr * xs - xr * zs, xr * ys - yr * xs
        r, s, t = r + np.uint64(3 * _ROW), s + np.uint64(3 * _ROW), t + np.uint64(3 * _ROW)
        fr, fs, ft = inv * d[r], inv * d[s], inv * d[t]
        xx, xy, xz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
        fr, fs, ft = inv * d[r + np.uint64(1)], inv * d[s + np.uint64(1)], inv * d[t + np.uint64(1)]
        yx, yy, yz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
        fr, fs, ft = inv * d[r + np.uint64(2)], inv * d[s + np.uint64(2)], inv * d[t + np.uint64(2)]
        zx, zy, zz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
        g[i], g[i + np.uint64(_TILE)], g[i + np.uint64(2 * _TILE)] = xx, xy, xz
        g[i + np.uint64(3 * _TILE)], g[i + np.uint64(4 * _TILE)], g[i + np.uint64(5 * _TILE)] = yx, yy, yz
        g[i + np.uint64(6 * _TILE)], g[i + np.uint64(7 * _TILE)], g[i + np.uint64(8 * _TILE)] = zx, zy, zz
        g[i + np.uint64(9 * _TILE)] = xx * yy + yy * zz + zz * xx - xy * yx - yz * zy - xz * zx


@kernel
def _lay_gradient(g: Array, first: int, count: int, out: Array) -> float:
    """Write the gradients of a tile to nodes ``first`` and following; zero if all of it is finite."""
    sound = 0.0
    for number in range(count):
        i, n = np.uint64(number), np.uint64(first + number)
        out[n, 0, 0], out[n, 0, 1], out[n, 0, 2] = g[i], g[i + np.uint64(_TILE)], g[i + np.uint64(2 * _TILE)]
        out[n, 1, 0], out[n, 1, 1] = g[i + np.uint64(3 * _TILE)], g[i + np.uint64(4 * _TILE)]
        out[n, 1, 2], out[n, 2, 0] = g[i + np.uint64(5 * _TILE)], g[i + np.uint64(6 * _TILE)]
        out[n, 2, 1], out[n, 2, 2] = g[i + np.uint64(7 * _TILE)], g[i + np.uint64(8 * _TILE)]
        sound += 0.0 * g[i + np.uint64(9 * _TILE)]
    return sound


@kernel
def _lay_vortices(g: Array, first: int, count: int, vorticity: Array, q: Array) -> float:
    """Write vorticity and Q of a tile to nodes ``first`` and following; zero if all of it is finite."""
    sound = 0.0
    for number in range(count):
        i, n = np.uint64(number), np.uint64(first + number)
        vorticity[n, 0] = g[i + np.uint64(7 * _TILE)] - g[i + np.uint64(5 * _TILE)]
        vorticity[n, 1] = g[i + np.uint64(2 * _TILE)] - g[i + np.uint64(6 * _TILE)]
        vorticity[n, 2] = g[i + np.uint64(3 * _TILE)] - g[i + np.uint64(_TILE)]
        second = g[i + np.uint64(9 * _TILE)]
        q[n] = second
        sound += 0.0 * second
    return sound


@kernel
def _nothing(values: Array, begin: int, end: int) -> float:
    """Zero if rows begin..end of an array of shape (n, components, 3) are finite."""
    total = 0.0
    for n in range(begin, end):
        for c in range(values.shape[1]):
            total += 0.0 * (values[n, c, 0] + values[n, c, 1] + values[n, c, 2])
    return total


@kernel
def gradient_structured(points: Array, dims: Array, values: Array, out: Array, begin: int, end: int) -> bool:
    """Gradient by metric differences in the grid layers k = begin..end.

    points (n, 3), values (n, c), out (n, c, 3) with out[p, i, j] = d(values_i)/d(x_j); not finite where the metric is
    singular (collapsed edges). Differences are taken twice as large, which cancels. True if all of it is finite.
    """
    ni, nj, nk = dims[0], dims[1], dims[2]
    nc = values.shape[1]
    layer = ni * nj
    x, v = points.reshape(-1), values.reshape(-1)
    d, g = np.empty(6 * _ROW), np.empty(10 * _TILE)
    sound = 0.0
    for k in range(begin, end):
        for j in range(nj):
            row = ni * (j + nj * k)
            if k == 0 or k == nk - 1 or j == 0 or j == nj - 1 or ni < 3:
                _border_row(points, values, out, 0, ni, nj, nk, 0, 1, j, k)
                sound += _nothing(out, row, row + ni)
                continue
            _border_row(points, values, out, 0, ni, nj, nk, 0, ni - 1, j, k)
            sound += _nothing(out, row, row + 1) + _nothing(out, row + ni - 1, row + ni)
            if nc == 3:
                for first in range(row + 1, row + ni - 1, _TILE):
                    count = min(_TILE, row + ni - 1 - first)
                    _tile(x, v, ni, layer, first, count, d, g)
                    sound += _lay_gradient(g, first, count, out)
                continue
            for i in range(1, ni - 1):
                # Unsigned, so that no index needs to be tested for a negative sign.
                n = np.uint64(row + i)
                a0, a1 = n - np.uint64(1), n + np.uint64(1)
                b0, b1 = n - np.uint64(ni), n + np.uint64(ni)
                c0, c1 = n - np.uint64(layer), n + np.uint64(layer)
                rx, ry, rz, sx, sy, sz, tx, ty, tz, inv = _metric(points, a0, a1, b0, b1, c0, c1)
                for c in range(nc):
                    fr = inv * (values[a1, c] - values[a0, c])
                    fs = inv * (values[b1, c] - values[b0, c])
                    ft = inv * (values[c1, c] - values[c0, c])
                    gx, gy, gz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                    out[n, c, 0], out[n, c, 1], out[n, c, 2] = gx, gy, gz
                    sound += 0.0 * (gx + gy + gz)
    return sound == 0.0


@kernel
def mend_gradient(dims: Array, out: Array) -> int:
    """Replace gradients that are not finite by the mean of finite ones next to them; return how many were mended."""
    ni, nj, nk = dims[0], dims[1], dims[2]
    mended = 0
    for k in range(nk):
        for j in range(nj):
            for i in range(ni):
                n = i + ni * (j + nj * k)
                for c in range(out.shape[1]):
                    if np.isfinite(out[n, c, 0]) and np.isfinite(out[n, c, 1]) and np.isfinite(out[n, c, 2]):
                        continue
                    a = b = e = 0.0
                    count = 0
                    for dk in range(max(k - 1, 0), min(k + 2, nk)):
                        for dj in range(max(j - 1, 0), min(j + 2, nj)):
                            for di in range(max(i - 1, 0), min(i + 2, ni)):
                                o = di + ni * (dj + nj * dk)
                                if np.isfinite(out[o, c, 0]) and np.isfinite(out[o, c, 1]) and np.isfinite(out[o, c, 2]):
                                    a += out[o, c, 0]
                                    b += out[o, c, 1]
                                    e += out[o, c, 2]
                                    count += 1
                    if count > 0:
                        out[n, c, 0], out[n, c, 1], out[n, c, 2] = a / count, b / count, e / count
                        mended += 1
    return mended


@kernel
def vortices_structured(points: Array, dims: Array, u: Array, vorticity: Array, q: Array, begin: int, end: int) -> bool:
    """Vorticity (n, 3) and Q (n,) in the layers k = begin..end; the gradient is not written. True if all of it is finite."""
    ni, nj, nk = dims[0], dims[1], dims[2]
    layer = ni * nj
    x, v = points.reshape(-1), u.reshape(-1)
    d, g = np.empty(6 * _ROW), np.empty(10 * _TILE)
    border = np.empty((ni, 3, 3))
    sound = 0.0
    for k in range(begin, end):
        for j in range(nj):
            row = ni * (j + nj * k)
            if k == 0 or k == nk - 1 or j == 0 or j == nj - 1 or ni < 3:
                _border_row(points, u, border, row, ni, nj, nk, 0, 1, j, k)
                from_velocity_gradient(border, vorticity[row:row + ni], q[row:row + ni], 0, ni)
                sound += _nothing(border, 0, ni)
                continue
            _border_row(points, u, border, row, ni, nj, nk, 0, ni - 1, j, k)
            for i in (0, ni - 1):
                from_velocity_gradient(border[i:i + 1], vorticity[row + i:row + i + 1], q[row + i:row + i + 1], 0, 1)
                sound += _nothing(border, i, i + 1)
            for first in range(row + 1, row + ni - 1, _TILE):
                count = min(_TILE, row + ni - 1 - first)
                _tile(x, v, ni, layer, first, count, d, g)
                sound += _lay_vortices(g, first, count, vorticity, q)
    return sound == 0.0


@kernel
def gradient_at(points: Array, dims: Array, values: Array, nodes: Array, out: Array) -> None:
    """Gradient (m, c, 3) of values at some nodes (m,)."""
    ni, nj = dims[0], dims[1]
    for m in range(nodes.shape[0]):
        n = nodes[m]
        _border_row(points, values, out, n - m, ni, nj, dims[2], n % ni, ni, n // ni % nj, n // (ni * nj))
