"""Compiled loops: gradients on unstructured grids, and what follows from the velocity gradient on any."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel
from tidal_lens.quantities.fit_kernels import fit_quadratic, gather_ring

Array = Any


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
def gradient_unstructured(points: Array, values: Array, starts: Array, links: Array, outer: Array, out: Array, first: int,
                          begin: int, end: int) -> None:
    """Weighted least squares over edge neighbours; a quadratic fit over two rings at outer and lopsided nodes.

    points (n, 3), values (n, c <= 3), outer (n,) bool; row 0 of out (m, c, 3) is node ``first``. Weights are inverse squared
    distances. A stencil is lopsided where the first moment of the weighted neighbours shows that errors of second order do not cancel.
    """
    nc = values.shape[1]
    ring = np.empty(160, np.int64)
    slots = np.empty(512, np.int16)
    a, least = np.zeros((9, 12)), np.empty(9)
    rows = np.empty((7, len(ring)))
    for node in range(begin, end):
        # Unsigned, so that no index needs to be tested for a negative sign.
        n, row = np.uint64(node), np.uint64(node - first)
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
                        out[row, c, d] = a[d, 9 + c]
                continue
        det = xx * (yy * zz - yz * yz) - xy * (xy * zz - yz * xz) + xz * (xy * yz - yy * xz)
        inv = 1.0 / det
        i00, i01, i02 = (yy * zz - yz * yz) * inv, (xz * yz - xy * zz) * inv, (xy * yz - xz * yy) * inv
        i11, i12, i22 = (xx * zz - xz * xz) * inv, (xy * xz - xx * yz) * inv, (xx * yy - xy * xy) * inv
        out[row, 0, 0] = i00 * r0 + i01 * r1 + i02 * r2
        out[row, 0, 1] = i01 * r0 + i11 * r1 + i12 * r2
        out[row, 0, 2] = i02 * r0 + i12 * r1 + i22 * r2
        if nc == 3:
            out[row, 1, 0] = i00 * s0 + i01 * s1 + i02 * s2
            out[row, 1, 1] = i01 * s0 + i11 * s1 + i12 * s2
            out[row, 1, 2] = i02 * s0 + i12 * s1 + i22 * s2
            out[row, 2, 0] = i00 * t0 + i01 * t1 + i02 * t2
            out[row, 2, 1] = i01 * t0 + i11 * t1 + i12 * t2
            out[row, 2, 2] = i02 * t0 + i12 * t1 + i22 * t2


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
