"""Compiled loops: gradients on structured and unstructured grids, and what follows from the velocity gradient."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel
from tidal_lens.quantities.fit_kernels import fit_quadratic, gather_ring

Array = Any


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
def _border_row(points: Array, values: Array, out: Array, ni: int, nj: int, nk: int, first: int, step: int, j: int,
                k: int) -> None:
    """Nodes first, first + step, … of a grid row by the general formula, of which at least one index is at its end."""
    nc = values.shape[1]
    b0, b1, b2, v0, v1, v2 = _line(nj, ni, j)
    c0, c1, c2, w0, w1, w2 = _line(nk, ni * nj, k)
    for i in range(first, ni, step):
        n = i + ni * (j + nj * k)
        a0, a1, a2, u0, u1, u2 = _line(ni, 1, i)
        p0, p1, p2 = np.uint64(n + a0), np.uint64(n + a1), np.uint64(n + a2)
        q0, q1, q2 = np.uint64(n + b0), np.uint64(n + b1), np.uint64(n + b2)
        r0, r1, r2 = np.uint64(n + c0), np.uint64(n + c1), np.uint64(n + c2)
        m = np.uint64(n)
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
def gradient_structured(points: Array, dims: Array, values: Array, out: Array, begin: int, end: int) -> None:
    """Gradient by metric differences in the grid layers k = begin..end.

    points (n, 3), values (n, c), out (n, c, 3) with out[p, i, j] = d(values_i)/d(x_j); not finite where the metric is
    singular (collapsed edges). Differences are taken twice as large, which cancels.
    """
    ni, nj, nk = dims[0], dims[1], dims[2]
    nc = values.shape[1]
    layer = ni * nj
    for k in range(begin, end):
        for j in range(nj):
            if k == 0 or k == nk - 1 or j == 0 or j == nj - 1 or ni < 3:
                _border_row(points, values, out, ni, nj, nk, 0, 1, j, k)
                continue
            _border_row(points, values, out, ni, nj, nk, 0, ni - 1, j, k)
            row = ni * (j + nj * k)
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
                    out[n, c, 0] = fr * rx + fs * sx + ft * tx
                    out[n, c, 1] = fr * ry + fs * sy + ft * ty
                    out[n, c, 2] = fr * rz + fs * sz + ft * tz


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
def all_finite(values: Array, begin: int, end: int) -> bool:
    """Whether rows begin..end of an array of shape (n, components, 3) are finite."""
    sound = 0.0
    for n in range(begin, end):
        for c in range(values.shape[1]):
            sound += 0.0 * (values[n, c, 0] + values[n, c, 1] + values[n, c, 2])
    return sound == 0.0


@kernel
def from_velocity_gradient(grad: Array, vorticity: Array, q: Array, begin: int, end: int) -> None:
    """Vorticity (n, 3) and Q (n,) from grad (n, 3, 3) with grad[p, i, j] = d(u_i)/d(x_j)."""
    for node in range(begin, end):
        n = np.uint64(node)
        xx, xy, xz = grad[n, 0, 0], grad[n, 0, 1], grad[n, 0, 2]
        yx, yy, yz = grad[n, 1, 0], grad[n, 1, 1], grad[n, 1, 2]
        zx, zy, zz = grad[n, 2, 0], grad[n, 2, 1], grad[n, 2, 2]
        vorticity[n, 0] = zy - yz
        vorticity[n, 1] = xz - zx
        vorticity[n, 2] = yx - xy
        q[n] = xx * yy + yy * zz + zz * xx - xy * yx - yz * zy - xz * zx


@kernel
def turning_structured(points: Array, dims: Array, u: Array, grad: Array, vorticity: Array, q: Array, begin: int,
                       end: int) -> bool:
    """Velocity gradient, vorticity and Q in the layers k = begin..end; inside the block without reading anything back.

    True if all of them are finite.
    """
    sound = 0.0
    ni, nj, nk = dims[0], dims[1], dims[2]
    layer = ni * nj
    for k in range(begin, end):
        for j in range(nj):
            row = ni * (j + nj * k)
            if k == 0 or k == nk - 1 or j == 0 or j == nj - 1 or ni < 3:
                _border_row(points, u, grad, ni, nj, nk, 0, 1, j, k)
                from_velocity_gradient(grad, vorticity, q, row, row + ni)
                for m in range(row, row + ni):
                    sound += 0.0 * q[m]
                continue
            _border_row(points, u, grad, ni, nj, nk, 0, ni - 1, j, k)
            from_velocity_gradient(grad, vorticity, q, row, row + 1)
            from_velocity_gradient(grad, vorticity, q, row + ni - 1, row + ni)
            sound += 0.0 * (q[row] + q[row + ni - 1])
            for i in range(1, ni - 1):
                n = np.uint64(row + i)
                a0, a1 = n - np.uint64(1), n + np.uint64(1)
                b0, b1 = n - np.uint64(ni), n + np.uint64(ni)
                c0, c1 = n - np.uint64(layer), n + np.uint64(layer)
                rx, ry, rz, sx, sy, sz, tx, ty, tz, inv = _metric(points, a0, a1, b0, b1, c0, c1)
                fr, fs, ft = inv * (u[a1, 0] - u[a0, 0]), inv * (u[b1, 0] - u[b0, 0]), inv * (u[c1, 0] - u[c0, 0])
                xx, xy, xz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                fr, fs, ft = inv * (u[a1, 1] - u[a0, 1]), inv * (u[b1, 1] - u[b0, 1]), inv * (u[c1, 1] - u[c0, 1])
                yx, yy, yz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                fr, fs, ft = inv * (u[a1, 2] - u[a0, 2]), inv * (u[b1, 2] - u[b0, 2]), inv * (u[c1, 2] - u[c0, 2])
                zx, zy, zz = fr * rx + fs * sx + ft * tx, fr * ry + fs * sy + ft * ty, fr * rz + fs * sz + ft * tz
                grad[n, 0, 0], grad[n, 0, 1], grad[n, 0, 2] = xx, xy, xz
                grad[n, 1, 0], grad[n, 1, 1], grad[n, 1, 2] = yx, yy, yz
                grad[n, 2, 0], grad[n, 2, 1], grad[n, 2, 2] = zx, zy, zz
                vorticity[n, 0], vorticity[n, 1], vorticity[n, 2] = zy - yz, xz - zx, yx - xy
                second = xx * yy + yy * zz + zz * xx - xy * yx - yz * zy - xz * zx
                q[n] = second
                sound += 0.0 * second
    return sound == 0.0


@kernel
def gradient_unstructured(points: Array, values: Array, starts: Array, links: Array, outer: Array, out: Array,
                          begin: int, end: int) -> None:
    """Weighted least squares over edge neighbours; a quadratic fit over two rings at outer and lopsided nodes.

    points (n, 3), values (n, c <= 3), out (n, c, 3), outer (n,) bool. Weights are inverse squared distances. A stencil
    is lopsided where the first moment of the weighted neighbours shows that errors of second order do not cancel.
    """
    nc = values.shape[1]
    ring = np.empty(160, np.int64)
    slots = np.empty(512, np.int16)
    a, least = np.zeros((9, 12)), np.empty(9)
    rows = np.empty((7, len(ring)))
    for node in range(begin, end):
        # Unsigned, so that no index needs to be tested for a negative sign.
        n = np.uint64(node)
        x0, y0, z0 = points[n, 0], points[n, 1], points[n, 2]
        xx = xy = xz = yy = yz = zz = 0.0
        mx = my = mz = total = 0.0
        r0 = r1 = r2 = 0.0
        s0 = s1 = s2 = 0.0
        t0 = t1 = t2 = 0.0
        for e in range(starts[n], starts[n + np.uint64(1)]):
            o = np.uint64(links[np.uint64(e)])
            dx, dy, dz = points[o, 0] - x0, points[o, 1] - y0, points[o, 2] - z0
            d2 = dx * dx + dy * dy + dz * dz
            if d2 == 0.0:
                continue
            w = 1.0 / d2
            wx, wy, wz = w * dx, w * dy, w * dz
            xx += wx * dx
            xy += wx * dy
            xz += wx * dz
            yy += wy * dy
            yz += wy * dz
            zz += wz * dz
            mx += dx
            my += dy
            mz += dz
            total += np.sqrt(d2)
            f = values[o, 0] - values[n, 0]
            r0 += wx * f
            r1 += wy * f
            r2 += wz * f
            if nc == 3:
                f = values[o, 1] - values[n, 1]
                s0 += wx * f
                s1 += wy * f
                s2 += wz * f
                f = values[o, 2] - values[n, 2]
                t0 += wx * f
                t1 += wy * f
                t2 += wz * f
        lopsided = np.sqrt(mx * mx + my * my + mz * mz) > 0.16 * total
        if outer[n] or lopsided:
            count = gather_ring(node, starts, links, ring, slots)
            if count >= 12 and fit_quadratic(points, values, n, ring, count, a, rows, least):
                for c in range(nc):
                    for d in range(3):
                        out[n, c, d] = a[d, 9 + c]
                continue
        det = xx * (yy * zz - yz * yz) - xy * (xy * zz - yz * xz) + xz * (xy * yz - yy * xz)
        inv = 1.0 / det
        i00, i01, i02 = (yy * zz - yz * yz) * inv, (xz * yz - xy * zz) * inv, (xy * yz - xz * yy) * inv
        i11, i12, i22 = (xx * zz - xz * xz) * inv, (xy * xz - xx * yz) * inv, (xx * yy - xy * xy) * inv
        out[n, 0, 0] = i00 * r0 + i01 * r1 + i02 * r2
        out[n, 0, 1] = i01 * r0 + i11 * r1 + i12 * r2
        out[n, 0, 2] = i02 * r0 + i12 * r1 + i22 * r2
        if nc == 3:
            out[n, 1, 0] = i00 * s0 + i01 * s1 + i02 * s2
            out[n, 1, 1] = i01 * s0 + i11 * s1 + i12 * s2
            out[n, 1, 2] = i02 * s0 + i12 * s1 + i22 * s2
            out[n, 2, 0] = i00 * t0 + i01 * t1 + i02 * t2
            out[n, 2, 1] = i01 * t0 + i11 * t1 + i12 * t2
            out[n, 2, 2] = i02 * t0 + i12 * t1 + i22 * t2


@kernel
def cells_to_nodes(m_corners: Array, own: Array, values: Array, sums: Array, counts: Array) -> None:
    """Add cell values (cells, c) to the nodes (n, c) at their distinct corners; own[cell, corner] says which count."""
    for cell in range(m_corners.shape[0]):
        for corner in range(8):
            if own[cell, corner]:
                node = m_corners[cell, corner]
                counts[node] += 1
                for c in range(values.shape[1]):
                    sums[node, c] += values[cell, c]
