"""Compiled loops: gradients on structured blocks by metric differences."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import folded, inlined, kernel, summing

Array = Any
# Nodes of a row that are worked on together: what lies between the steps then stays in the innermost cache.
_TILE = 64
_ROW = 3 * _TILE
_RUN = 16  # nodes of a tile whose products are worked out together


@kernel
def _stencil(n: int, index: int, fourth_order: bool) -> tuple[int, int, int, int, int, float, float, float, float, float]:
    """A multiple of the derivative along a grid line of n nodes: offsets from the node, and their weights.

    Of second or fourth order, one-sided at the ends; lines of fewer than three or five nodes get what their number allows. The multiple
    cancels between coordinates and values. Terms that are not needed repeat the first with no weight.
    """
    if n == 2:
        return -index, 1 - index, -index, -index, -index, -1.0, 1.0, 0.0, 0.0, 0.0
    if not fourth_order or n < 5:
        if 0 < index < n - 1:
            return -1, 1, -1, -1, -1, -1.0, 1.0, 0.0, 0.0, 0.0
        side = 1 if index == 0 else -1
        return 0, side, 2 * side, 0, 0, -3.0 * side, 4.0 * side, -1.0 * side, 0.0, 0.0
    if 1 < index < n - 2:
        return -2, -1, 1, 2, -2, 1.0, -8.0, 8.0, -1.0, 0.0
    side = 1 if index < 2 else -1
    if index in (0, n - 1):
        return 0, side, 2 * side, 3 * side, 4 * side, -25.0 * side, 48.0 * side, -36.0 * side, 16.0 * side, -3.0 * side
    return -side, 0, side, 2 * side, 3 * side, -3.0 * side, -10.0 * side, 18.0 * side, -6.0 * side, 1.0 * side


@folded
def _difference(flat: Array, begin: int, step: int, count: int, out: Array, where: int) -> None:
    """What lies ``step`` after less what lies ``step`` before ``count`` numbers from ``begin`` on, as they stand in memory."""
    after, before, to = np.uint64(begin + step), np.uint64(begin - step), np.uint64(where)
    for number in range(count):
        m = np.uint64(number)
        out[to + m] = flat[after + m] - flat[before + m]


@kernel
def _combine(flat: Array, begin: int, step: int, count: int, n: int, index: int, fourth_order: bool, out: Array, where: int) -> None:
    """The same by any stencil: grid lines have n nodes, and this is number ``index`` of them."""
    first, second, third, fourth, fifth, u, v, w, x, y = _stencil(n, index, fourth_order)
    a, b, c = np.uint64(begin + step * first), np.uint64(begin + step * second), np.uint64(begin + step * third)
    d, e, to = np.uint64(begin + step * fourth), np.uint64(begin + step * fifth), np.uint64(where)
    for number in range(count):
        m = np.uint64(number)
        out[to + m] = u * flat[a + m] + v * flat[b + m] + w * flat[c + m] + x * flat[d + m] + y * flat[e + m]


@folded
def _differences(flat: Array, nc: int, dims: Array, i: int, j: int, k: int, count: int, fourth_order: bool, out: Array,
                 where: int) -> None:
    """Differences along the three directions of ``nc`` components of ``count`` nodes of a row from node (i, j, k) on."""
    ni, nj, nk = dims[0], dims[1], dims[2]
    begin = nc * (i + ni * (j + nj * k))
    reach = 2 if fourth_order and ni >= 5 else 1
    low, high = min(max(reach - i, 0), count), max(min(ni - reach - i, count), 0)
    high = max(low, high)
    if reach == 1:
        _difference(flat, begin + nc * low, nc, nc * (high - low), out, where + nc * low)
    elif high > low:
        _combine(flat, begin + nc * low, nc, nc * (high - low), ni, i + low, fourth_order, out, where + nc * low)
    for number in range(low):
        _combine(flat, begin + nc * number, nc, nc, ni, i + number, fourth_order, out, where + nc * number)
    for number in range(high, count):
        _combine(flat, begin + nc * number, nc, nc, ni, i + number, fourth_order, out, where + nc * number)
    if not fourth_order and 0 < j < nj - 1:
        _difference(flat, begin, nc * ni, nc * count, out, where + _ROW)
    else:
        _combine(flat, begin, nc * ni, nc * count, nj, j, fourth_order, out, where + _ROW)
    if not fourth_order and 0 < k < nk - 1:
        _difference(flat, begin, nc * ni * nj, nc * count, out, where + 2 * _ROW)
    else:
        _combine(flat, begin, nc * ni * nj, nc * count, nk, k, fourth_order, out, where + 2 * _ROW)


@inlined
def _metric(d: Array, i: Any, one: Any) -> Any:
    """Gradients of the indices r, s, t times the determinant, and one over it, from the differences of coordinates.

    Lastly zero, if the determinant is neither too large nor too small for the precision of ``d``. (Numbers of the lesser precision keep
    that of the others.)
    """
    r = np.uint64(3) * i
    s, t = r + np.uint64(_ROW), r + np.uint64(2 * _ROW)
    xr, yr, zr = d[r], d[r + np.uint64(1)], d[r + np.uint64(2)]
    xs, ys, zs = d[s], d[s + np.uint64(1)], d[s + np.uint64(2)]
    xt, yt, zt = d[t], d[t + np.uint64(1)], d[t + np.uint64(2)]
    rx, ry, rz = ys * zt - zs * yt, zs * xt - xs * zt, xs * yt - ys * xt
    det = xr * rx + yr * ry + zr * rz
    inv = one / det
    sx, sy, sz = yt * zr - zt * yr, zt * xr - xt * zr, xt * yr - yt * xr
    tx, ty, tz = yr * zs - zr * ys, zr * xs - xr * zs, xr * ys - yr * xs
    return rx, ry, rz, sx, sy, sz, tx, ty, tz, inv, np.float32(0.0) * (det + np.float32(100.0) * inv)


@folded
def _products(d: Array, nc: int, count: int, one: Any, g: Array) -> None:
    """Gradients from differences of coordinates and, behind them, of values: component c along axis a in row 3 c + a of g.

    The last row is zero where all that is sound, else not a number. Runs of a fixed length, the last of them beyond ``count``: so the
    compiler knows that rows do not meet, and takes several nodes at a time.
    """
    for begin in range(0, count, _RUN):
        if nc == 3:
            for number in range(_RUN):
                i = np.uint64(begin) + np.uint64(number)
                rx, ry, rz, sx, sy, sz, tx, ty, tz, inv, nothing = _metric(d, i, one)
                r = np.uint64(3 * _ROW) + np.uint64(3) * i
                s, t = r + np.uint64(_ROW), r + np.uint64(2 * _ROW)
                fr, fs, ft = inv * d[r], inv * d[s], inv * d[t]
                xx, xy, xz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                fr, fs, ft = inv * d[r + np.uint64(1)], inv * d[s + np.uint64(1)], inv * d[t + np.uint64(1)]
                yx, yy, yz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                fr, fs, ft = inv * d[r + np.uint64(2)], inv * d[s + np.uint64(2)], inv * d[t + np.uint64(2)]
                zx, zy, zz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                g[i], g[i + np.uint64(_TILE)], g[i + np.uint64(2 * _TILE)] = xx, xy, xz
                g[i + np.uint64(3 * _TILE)], g[i + np.uint64(4 * _TILE)], g[i + np.uint64(5 * _TILE)] = yx, yy, yz
                g[i + np.uint64(6 * _TILE)], g[i + np.uint64(7 * _TILE)], g[i + np.uint64(8 * _TILE)] = zx, zy, zz
                g[i + np.uint64(9 * _TILE)] = nothing + np.float32(0.0) * (xx + yy + zz)
        else:
            for number in range(_RUN):
                i = np.uint64(begin) + np.uint64(number)
                rx, ry, rz, sx, sy, sz, tx, ty, tz, inv, nothing = _metric(d, i, one)
                r = np.uint64(3 * _ROW) + i
                fr, fs, ft = inv * d[r], inv * d[r + np.uint64(_ROW)], inv * d[r + np.uint64(2 * _ROW)]
                gx, gy, gz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                g[i], g[i + np.uint64(_TILE)], g[i + np.uint64(2 * _TILE)] = gx, gy, gz
                g[i + np.uint64(9 * _TILE)] = nothing + np.float32(0.0) * (gx + gy + gz)


@summing
def _nothing(g: Array, count: int) -> float:
    """Zero if the gradients of a tile are sound."""
    total = g[9 * _TILE]
    for number in range(1, count):
        total += g[np.uint64(9 * _TILE) + np.uint64(number)]
    return float(total)


@folded
def _tile(x: Array, v: Array, nc: int, dims: Array, i: int, j: int, k: int, count: int, fourth_order: bool, d: Array, g: Array) -> bool:
    """Gradients of ``count`` nodes of a row from (i, j, k) on into g, all in the precision of d and g; whether they are finite."""
    _differences(x, 3, dims, i, j, k, count, fourth_order, d, 0)
    _differences(v, nc, dims, i, j, k, count, fourth_order, d, 3 * _ROW)
    g[0] = 1.0
    _products(d, nc, count, g[0], g)
    return _nothing(g, count) == 0.0


@kernel
def _lay_gradient(g: Array, nc: int, first: int, count: int, out: Array) -> None:
    """Write the gradients of a tile to nodes ``first`` and following."""
    if nc == 3:
        for number in range(count):
            i, n = np.uint64(number), np.uint64(first + number)
            out[n, 0, 0], out[n, 0, 1], out[n, 0, 2] = g[i], g[i + np.uint64(_TILE)], g[i + np.uint64(2 * _TILE)]
            out[n, 1, 0], out[n, 1, 1] = g[i + np.uint64(3 * _TILE)], g[i + np.uint64(4 * _TILE)]
            out[n, 1, 2], out[n, 2, 0] = g[i + np.uint64(5 * _TILE)], g[i + np.uint64(6 * _TILE)]
            out[n, 2, 1], out[n, 2, 2] = g[i + np.uint64(7 * _TILE)], g[i + np.uint64(8 * _TILE)]
        return
    for number in range(count):
        i, n = np.uint64(number), np.uint64(first + number)
        out[n, 0, 0], out[n, 0, 1], out[n, 0, 2] = g[i], g[i + np.uint64(_TILE)], g[i + np.uint64(2 * _TILE)]


@kernel
def _lay_vortices(g: Array, first: int, count: int, vorticity: Array, q: Array) -> None:
    """Write vorticity and Q of a tile to nodes ``first`` and following."""
    for number in range(count):
        i, n = np.uint64(number), np.uint64(first + number)
        xx, xy, xz = g[i], g[i + np.uint64(_TILE)], g[i + np.uint64(2 * _TILE)]
        yx, yy, yz = g[i + np.uint64(3 * _TILE)], g[i + np.uint64(4 * _TILE)], g[i + np.uint64(5 * _TILE)]
        zx, zy, zz = g[i + np.uint64(6 * _TILE)], g[i + np.uint64(7 * _TILE)], g[i + np.uint64(8 * _TILE)]
        vorticity[n, 0], vorticity[n, 1], vorticity[n, 2] = zy - yz, xz - zx, yx - xy
        q[n] = xx * yy + yy * zz + zz * xx - xy * yx - yz * zy - xz * zx


@kernel
def gradient_structured(points: Array, dims: Array, values: Array, out: Array, begin: int, end: int, fourth_order: bool) -> bool:
    """Gradient by metric differences in the grid layers k = begin..end.

    points (n, 3), values (n, c), out (n, c, 3) with out[p, i, j] = d(values_i)/d(x_j); not finite where the metric is
    singular (collapsed edges). Differences are taken in double precision, products of them in that of the values, and once more in
    double precision where that ran over. True if all of it is finite.
    """
    ni, nj = dims[0], dims[1]
    nc = values.shape[1]
    x, v = points.reshape(-1), values.reshape(-1)
    d, g = np.zeros(6 * _ROW, values.dtype), np.empty(10 * _TILE, values.dtype)
    wide_d, wide_g = np.zeros(6 * _ROW), np.empty(10 * _TILE)
    sound = True
    for k in range(begin, end):
        for j in range(nj):
            row = ni * (j + nj * k)
            for i in range(0, ni, _TILE):
                count = min(_TILE, ni - i)
                if _tile(x, v, nc, dims, i, j, k, count, fourth_order, d, g):
                    _lay_gradient(g, nc, row + i, count, out)
                else:
                    sound &= _tile(x, v, nc, dims, i, j, k, count, fourth_order, wide_d, wide_g)
                    _lay_gradient(wide_g, nc, row + i, count, out)
    return sound


@kernel
def vortices_structured(points: Array, dims: Array, u: Array, vorticity: Array, q: Array, begin: int, end: int, fourth_order: bool) -> bool:
    """Vorticity (n, 3) and Q (n,) in the layers k = begin..end; the gradient is not written. True if all of it is finite."""
    ni, nj = dims[0], dims[1]
    x, v = points.reshape(-1), u.reshape(-1)
    d, g = np.zeros(6 * _ROW, u.dtype), np.empty(10 * _TILE, u.dtype)
    wide_d, wide_g = np.zeros(6 * _ROW), np.empty(10 * _TILE)
    sound = True
    for k in range(begin, end):
        for j in range(nj):
            row = ni * (j + nj * k)
            for i in range(0, ni, _TILE):
                count = min(_TILE, ni - i)
                if _tile(x, v, 3, dims, i, j, k, count, fourth_order, d, g):
                    _lay_vortices(g, row + i, count, vorticity, q)
                else:
                    sound &= _tile(x, v, 3, dims, i, j, k, count, fourth_order, wide_d, wide_g)
                    _lay_vortices(wide_g, row + i, count, vorticity, q)
    return sound


@kernel
def gradient_at(points: Array, dims: Array, values: Array, nodes: Array, out: Array, fourth_order: bool) -> None:
    """Gradient (m, c, 3) of values at some nodes (m,)."""
    ni, nj = dims[0], dims[1]
    nc = values.shape[1]
    x, v = points.reshape(-1), values.reshape(-1)
    d, g = np.zeros(6 * _ROW), np.empty(10 * _TILE)
    for m in range(nodes.shape[0]):
        n = nodes[m]
        _tile(x, v, nc, dims, n % ni, n // ni % nj, n // (ni * nj), 1, fourth_order, d, g)
        _lay_gradient(g, nc, m, 1, out)


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
