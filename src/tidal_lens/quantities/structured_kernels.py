"""Compiled loops: gradients on structured blocks by metric differences."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import folded, inlined, kernel, piece, summing

Array = Any
U = np.uint64  # of unsigned numbers none needs to be tested for a negative sign
# Nodes of a row that are worked on together: what lies between the steps then stays in the innermost cache.
_TILE = 64
_ROW = 3 * _TILE
_RUN = 16  # nodes of a tile whose products are worked out together


@piece
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
    after, before, to = U(begin + step), U(begin - step), U(where)
    for number in range(count):
        m = U(number)
        out[to + m] = flat[after + m] - flat[before + m]


@piece
def _combine(flat: Array, begin: int, step: int, count: int, n: int, index: int, fourth_order: bool, out: Array, where: int) -> None:
    """The same by any stencil: grid lines have n nodes, and this is number ``index`` of them."""
    first, second, third, fourth, fifth, u, v, w, x, y = _stencil(n, index, fourth_order)
    a, b, c = U(begin + step * first), U(begin + step * second), U(begin + step * third)
    d, e, to = U(begin + step * fourth), U(begin + step * fifth), U(where)
    for number in range(count):
        m = U(number)
        out[to + m] = u * flat[a + m] + v * flat[b + m] + w * flat[c + m] + x * flat[d + m] + y * flat[e + m]


@piece
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
def _metric(d: Array, r: Any, one: Any) -> Any:
    """Gradients of the indices r, s, t times the determinant, and one over it, from the differences of coordinates.

    Lastly zero, if the determinant is neither too large nor too small for the precision of ``d``. (Numbers of the lesser precision keep
    that of the others.)
    """
    s, t = r + U(_ROW), r + U(2 * _ROW)
    xr, yr, zr = d[r], d[r + U(1)], d[r + U(2)]
    xs, ys, zs = d[s], d[s + U(1)], d[s + U(2)]
    xt, yt, zt = d[t], d[t + U(1)], d[t + U(2)]
    rx, ry, rz = ys * zt - zs * yt, zs * xt - xs * zt, xs * yt - ys * xt
    det = xr * rx + yr * ry + zr * rz
    inv = one / det
    sx, sy, sz = yt * zr - zt * yr, zt * xr - xt * zr, xt * yr - yt * xr
    tx, ty, tz = yr * zs - zr * ys, zr * xs - xr * zs, xr * ys - yr * xs
    return rx, ry, rz, sx, sy, sz, tx, ty, tz, inv, np.float32(0.0) * (det + np.float32(100.0) * inv)


@folded
def _vector_products(d: Array, of: Any, one: Any, g: Array, to: Any) -> None:
    """Gradients of a vector in a run of nodes from differences of coordinates and, behind them, of values.

    Component c along axis a ends up in row 3 c + a of g; the last row is zero where all that is sound, else not a number. A run has a
    fixed length: so the compiler knows that rows do not meet, and takes several nodes at a time.
    """
    for number in range(_RUN):
        i, r = to + U(number), of + U(3) * U(number)
        rx, ry, rz, sx, sy, sz, tx, ty, tz, inv, nothing = _metric(d, r, one)
        r += U(3 * _ROW)
        s, t = r + U(_ROW), r + U(2 * _ROW)
        fr, fs, ft = inv * d[r], inv * d[s], inv * d[t]
        xx, xy, xz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
        fr, fs, ft = inv * d[r + U(1)], inv * d[s + U(1)], inv * d[t + U(1)]
        yx, yy, yz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
        fr, fs, ft = inv * d[r + U(2)], inv * d[s + U(2)], inv * d[t + U(2)]
        zx, zy, zz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
        g[i], g[i + U(_TILE)], g[i + U(2 * _TILE)] = xx, xy, xz
        g[i + U(3 * _TILE)], g[i + U(4 * _TILE)], g[i + U(5 * _TILE)] = yx, yy, yz
        g[i + U(6 * _TILE)], g[i + U(7 * _TILE)], g[i + U(8 * _TILE)] = zx, zy, zz
        g[i + U(9 * _TILE)] = nothing + np.float32(0.0) * (xx + yy + zz)


@piece
def _scalar_products(d: Array, of: Any, values: Any, one: Any, g: Array, to: Any) -> None:
    """The same for one component, whose differences begin at ``values``."""
    for number in range(_RUN):
        i, v = to + U(number), values + U(number)
        rx, ry, rz, sx, sy, sz, tx, ty, tz, inv, nothing = _metric(d, of + U(3) * U(number), one)
        fr, fs, ft = inv * d[v], inv * d[v + U(_ROW)], inv * d[v + U(2 * _ROW)]
        gx, gy, gz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
        g[i], g[i + U(_TILE)], g[i + U(2 * _TILE)] = gx, gy, gz
        g[i + U(9 * _TILE)] = nothing + np.float32(0.0) * (gx + gy + gz)


@summing
def _nothing(g: Array, count: int) -> float:
    """Zero if the gradients of a tile are sound."""
    total = g[9 * _TILE]
    for number in range(1, count):
        total += g[U(9 * _TILE) + U(number)]
    return float(total)


@folded
def _tile(x: Array, v: Array, nx: int, nc: int, dims: Array, i: int, j: int, k: int, count: int, fourth_order: bool, d: Array,
          g: Array) -> bool:
    """Gradients of ``count`` nodes of a row from (i, j, k) on into g, all in the precision of d and g; whether they are finite.

    ``nx`` is the number of coordinates, three: as a number that the compiler does not know it is compiled for once.
    """
    _differences(x, nx, dims, i, j, k, count, fourth_order, d, 0 * nx)
    _differences(v, nc, dims, i, j, k, count, fourth_order, d, 3 * _ROW)
    g[0] = 1.0
    one = g[0]
    for run in range(0, count, _RUN):
        if nc == 3:
            _vector_products(d, U(3 * run), one, g, U(run))
        else:
            _scalar_products(d, U(3 * run), U(3 * _ROW + run), one, g, U(run))
    return _nothing(g, count) == 0.0


@piece
def _lay_gradient(g: Array, nc: int, first: int, count: int, out: Array) -> None:
    """Write the gradients of a tile to nodes ``first`` and following."""
    if nc == 3:
        for number in range(count):
            i, n = U(number), U(first + number)
            out[n, 0, 0], out[n, 0, 1], out[n, 0, 2] = g[i], g[i + U(_TILE)], g[i + U(2 * _TILE)]
            out[n, 1, 0], out[n, 1, 1] = g[i + U(3 * _TILE)], g[i + U(4 * _TILE)]
            out[n, 1, 2], out[n, 2, 0] = g[i + U(5 * _TILE)], g[i + U(6 * _TILE)]
            out[n, 2, 1], out[n, 2, 2] = g[i + U(7 * _TILE)], g[i + U(8 * _TILE)]
        return
    for number in range(count):
        i, n = U(number), U(first + number)
        out[n, 0, 0], out[n, 0, 1], out[n, 0, 2] = g[i], g[i + U(_TILE)], g[i + U(2 * _TILE)]


@piece
def _lay_vortices(g: Array, first: int, count: int, vorticity: Array, q: Array) -> None:
    """Write vorticity and Q of a tile to nodes ``first`` and following."""
    for number in range(count):
        i, n = U(number), U(first + number)
        xx, xy, xz = g[i], g[i + U(_TILE)], g[i + U(2 * _TILE)]
        yx, yy, yz = g[i + U(3 * _TILE)], g[i + U(4 * _TILE)], g[i + U(5 * _TILE)]
        zx, zy, zz = g[i + U(6 * _TILE)], g[i + U(7 * _TILE)], g[i + U(8 * _TILE)]
        vorticity[n, 0], vorticity[n, 1], vorticity[n, 2] = zy - yz, xz - zx, yx - xy
        q[n] = xx * yy + yy * zz + zz * xx - xy * yx - yz * zy - xz * zx


@kernel
def gradient_structured(points: Array, dims: Array, values: Array, room: Array, out: Array, vorticity: Array, q: Array, wanted: Array,
                        at: int, told: Array, first: int, begin: int, end: int, fourth_order: bool) -> bool:
    """Gradient by metric differences in the grid layers k = begin..end; or vorticity and Q that follow from it. Row 0 is node ``first``.

    points (n, 3), values (n, c), out (n, c, 3) with out[p, i, j] = d(values_i)/d(x_j), or empty if vorticity (n, 3) and q (n,) are
    asked for, with the gradients of a vector at some nodes alone: wanted (m,) in rising order, from number ``at`` on, in told (m, 3, 3).
    Not finite where the metric is singular (collapsed edges). Differences of coordinates are taken in double precision; products are in
    that of ``room``. False if anything is not finite, or runs over in that precision.
    """
    ni, nj = dims[0], dims[1]
    nc = values.shape[1]
    x, v = points.reshape(-1), values.reshape(-1)
    d, g = np.zeros(6 * _ROW, room.dtype), np.empty(10 * _TILE, room.dtype)
    sound = True
    for k in range(begin, end):
        for j in range(nj):
            row = ni * (j + nj * k)
            for i in range(0, ni, _TILE):
                count = min(_TILE, ni - i)
                sound &= _tile(x, v, points.shape[1], nc, dims, i, j, k, count, fourth_order, d, g)
                if len(out) > 0:
                    _lay_gradient(g, nc, row + i - first, count, out)
                else:
                    _lay_vortices(g, row + i - first, count, vorticity, q)
                    while at < len(wanted) and wanted[at] < row + i + count:
                        for c in range(9):
                            told[at, c // 3, c % 3] = g[wanted[at] - row - i + c * _TILE]
                        at += 1
    return sound


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
