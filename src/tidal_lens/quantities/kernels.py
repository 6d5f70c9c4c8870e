"""Compiled loops: gradients on unstructured grids, and what follows from the velocity gradient on any."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel, piece
from tidal_lens.quantities.fit_kernels import LANES, U, fit_quadratics

Array = Any
_ENTRY = 6 * LANES  # of a neighbour: three differences of place and three of values
_EDGES = 32  # neighbours of a node that are summed up at a time


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


@piece
def _take_differences(points: Array, values: Array, node: int, near: Array, begin: int, end: int, room: int, lane: int, out: Array) -> None:
    """Places and values of the neighbours near[begin:end] less those of a node, as entries of a lane; entries of nothing up to ``room``."""
    n, at, nc = U(node), U(lane), values.shape[1]
    x, y, z = points[n, 0], points[n, 1], points[n, 2]
    f, g, h = values[n, 0], values[n, nc // 2], values[n, nc - 1]
    for e in range(begin, end):
        o = U(near[U(e)])
        out[at], out[at + U(LANES)], out[at + U(2 * LANES)] = points[o, 0] - x, points[o, 1] - y, points[o, 2] - z
        out[at + U(3 * LANES)] = values[o, 0] - f
        if nc == 3:
            out[at + U(4 * LANES)], out[at + U(5 * LANES)] = values[o, 1] - g, values[o, 2] - h
        at += U(_ENTRY)
    for _ in range(end - begin, room):
        out[at] = out[at + U(LANES)] = out[at + U(2 * LANES)] = 0.0
        out[at + U(3 * LANES)] = out[at + U(4 * LANES)] = out[at + U(5 * LANES)] = 0.0
        at += U(_ENTRY)


@inlined
def _sum_edge(near: Array, i: Any, s: Array, q: Any) -> Any:
    """Add a neighbour to the normal matrix, the first moment and the distances; its place times its weight."""
    x, y, z = near[i], near[i + U(LANES)], near[i + U(2 * LANES)]
    d2 = x * x + y * y + z * z
    w = 1.0 / d2 if d2 > 0.0 else 0.0
    wx, wy, wz = w * x, w * y, w * z
    s[q] += wx * x
    s[q + U(LANES)] += wx * y
    s[q + U(2 * LANES)] += wx * z
    s[q + U(3 * LANES)] += wy * y
    s[q + U(4 * LANES)] += wy * z
    s[q + U(5 * LANES)] += wz * z
    s[q + U(6 * LANES)] += x
    s[q + U(7 * LANES)] += y
    s[q + U(8 * LANES)] += z
    s[q + U(9 * LANES)] += np.sqrt(d2)
    return wx, wy, wz


@piece
def _sum_edges(near: Array, count: int, nc: int, s: Array) -> None:
    """Weighted sums over ``count`` neighbours: six of the normal matrix, the first moment, all distances, nine of the right-hand sides."""
    for m in range(count):
        e = U(m * _ENTRY)
        if nc == 3:
            for lane in range(LANES):
                q = U(lane)
                i = e + q
                wx, wy, wz = _sum_edge(near, i, s, q)
                for c in range(3):
                    f = near[i + U((3 + c) * LANES)]
                    s[q + U((10 + 3 * c) * LANES)] += wx * f
                    s[q + U((11 + 3 * c) * LANES)] += wy * f
                    s[q + U((12 + 3 * c) * LANES)] += wz * f
        else:
            for lane in range(LANES):
                q = U(lane)
                i = e + q
                wx, wy, wz = _sum_edge(near, i, s, q)
                f = near[i + U(3 * LANES)]
                s[q + U(10 * LANES)] += wx * f
                s[q + U(11 * LANES)] += wy * f
                s[q + U(12 * LANES)] += wz * f


@piece
def _solve_linear(s: Array) -> None:
    """Gradients in place of the right-hand sides; in place of the distances how lopsided the neighbours lie, from 0 to 1."""
    for lane in range(LANES):
        q = U(lane)
        xx, xy, xz = s[q], s[q + U(LANES)], s[q + U(2 * LANES)]
        yy, yz, zz = s[q + U(3 * LANES)], s[q + U(4 * LANES)], s[q + U(5 * LANES)]
        mx, my, mz = s[q + U(6 * LANES)], s[q + U(7 * LANES)], s[q + U(8 * LANES)]
        s[q + U(9 * LANES)] = np.sqrt(mx * mx + my * my + mz * mz) / s[q + U(9 * LANES)]
        c0, c1, c2 = yy * zz - yz * yz, xz * yz - xy * zz, xy * yz - xz * yy
        inv = 1.0 / (xx * c0 + xy * c1 + xz * c2)
        i00, i01, i02 = c0 * inv, c1 * inv, c2 * inv
        i11, i12, i22 = (xx * zz - xz * xz) * inv, (xy * xz - xx * yz) * inv, (xx * yy - xy * xy) * inv
        for c in range(3):
            at = q + U((10 + 3 * c) * LANES)
            x, y, z = s[at], s[at + U(LANES)], s[at + U(2 * LANES)]
            s[at] = i00 * x + i01 * y + i02 * z
            s[at + U(LANES)] = i01 * x + i11 * y + i12 * z
            s[at + U(2 * LANES)] = i02 * x + i12 * y + i22 * z


@kernel
def gradient_unstructured(points: Array, values: Array, starts: Array, links: Array, outer: Array, out: Array, first: int,
                          begin: int, end: int) -> None:
    """Weighted least squares over edge neighbours; a quadratic fit over two rings at outer and lopsided nodes.

    points (n, 3), values (n, c <= 3), outer (n,) bool; row 0 of out (m, c, 3) is node ``first``. Weights are inverse squared
    distances. A stencil is lopsided where the first moment of the weighted neighbours shows that errors of second order do not cancel.
    """
    near, s = np.zeros(_EDGES * _ENTRY), np.empty(19 * LANES)
    todo, waiting = np.empty(end - begin, np.int64), begin - begin  # a plain 0 would have the fit compiled for that number alone
    for base in range(begin, end, LANES):
        most = 0
        for node in range(base, min(base + LANES, end)):
            most = max(most, starts[node + 1] - starts[node])
        for m in range(len(s)):
            s[m] = 0.0
        for edge in range(0, most, _EDGES):
            room = min(most - edge, _EDGES)
            for lane in range(LANES):
                node = min(base + lane, end - 1)
                low = min(starts[node] + edge, starts[node + 1])
                _take_differences(points, values, node, links, low, min(low + room, starts[node + 1]), room, lane, near)
            _sum_edges(near, room, values.shape[1], s)
        _solve_linear(s)
        for node in range(base, min(base + LANES, end)):
            q, row = U(node - base), U(node - first)
            for c in range(values.shape[1]):
                for d in range(3):
                    out[row, c, d] = s[q + U((10 + 3 * c + d) * LANES)]
            if outer[node] or s[q + U(9 * LANES)] > 0.16:
                todo[waiting] = node
                waiting += 1
    fit_quadratics(points, values, starts, links, todo, waiting, out, first)


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
