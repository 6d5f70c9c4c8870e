"""Compiled loops for distances to triangles."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel
from tidal_lens.sampling.kernels import spread

Array = Any


@inlined
def _to_triangle(x: float, y: float, z: float, points: Array, a: int, b: int, c: int) -> float:
    """Squared distance from a point to a triangle: by the region of its plane in which the point's foot lies."""
    abx, aby, abz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    acx, acy, acz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    px, py, pz = x - points[a, 0], y - points[a, 1], z - points[a, 2]
    d1, d2 = abx * px + aby * py + abz * pz, acx * px + acy * py + acz * pz
    bb, cc, bc = abx * abx + aby * aby + abz * abz, acx * acx + acy * acy + acz * acz, abx * acx + aby * acy + abz * acz
    det = bb * cc - bc * bc
    s = t = 0.0
    inside = False
    if det > 1e-30 * bb * cc:
        s, t = (d1 * cc - d2 * bc) / det, (d2 * bb - d1 * bc) / det
        inside = s >= 0.0 and t >= 0.0 and s + t <= 1.0
    if inside:
        dx, dy, dz = px - s * abx - t * acx, py - s * aby - t * acy, pz - s * abz - t * acz
        return float(dx * dx + dy * dy + dz * dz)
    # Else the nearest point lies on an edge.
    u = min(max(d1 / bb, 0.0), 1.0) if bb > 0.0 else 0.0
    dx, dy, dz = px - u * abx, py - u * aby, pz - u * abz
    best = dx * dx + dy * dy + dz * dz
    u = min(max(d2 / cc, 0.0), 1.0) if cc > 0.0 else 0.0
    dx, dy, dz = px - u * acx, py - u * acy, pz - u * acz
    best = min(best, dx * dx + dy * dy + dz * dz)
    ex, ey, ez = acx - abx, acy - aby, acz - abz
    qx, qy, qz = px - abx, py - aby, pz - abz
    ee = ex * ex + ey * ey + ez * ez
    u = min(max((ex * qx + ey * qy + ez * qz) / ee, 0.0), 1.0) if ee > 0.0 else 0.0
    dx, dy, dz = qx - u * ex, qy - u * ey, qz - u * ez
    return float(min(best, dx * dx + dy * dy + dz * dz))


@kernel
def curve_keys(centres: Array, low: Array, scale: Array, keys: Array) -> None:
    """Place of each point (m, 3) on a space-filling (Morton) curve."""
    for n in range(centres.shape[0]):
        key = 0
        for d in range(3):
            key |= spread(int((centres[n, d] - low[d]) * scale[d])) << d
        keys[n] = key


@inlined
def _to_box(x: float, y: float, z: float, boxes: Array, row: int) -> float:
    """Squared distance from a point to a box."""
    dx = max(max(boxes[row, 0] - x, x - boxes[row, 3]), 0.0)
    dy = max(max(boxes[row, 1] - y, y - boxes[row, 4]), 0.0)
    dz = max(max(boxes[row, 2] - z, z - boxes[row, 5]), 0.0)
    return float(dx * dx + dy * dy + dz * dz)


@kernel
def nearest_on_triangles(own: Array, points: Array, triangles: Array, boxes: Array, starts: Array, out: Array, begin: int,
                         end: int) -> None:
    """Distance from the points begin..end of own (m, 3) to the nearest of all triangles.

    boxes (rows, 6) hold the levels of the tree one after another, first those of the triangles; starts (levels + 1,) is where each begins.
    """
    top = starts.shape[0] - 2
    stack = np.empty((8 * (top + 2) + 8, 2), np.int64)
    last = 0
    for n in range(begin, end):
        x, y, z = own[n, 0], own[n, 1], own[n, 2]
        # Nodes come in rows: what was nearest to the one before leaves little to look at.
        best = _to_triangle(x, y, z, points, triangles[last, 0], triangles[last, 1], triangles[last, 2])
        depth = 0
        for row in range(starts[top], starts[top + 1]):
            stack[depth, 0] = top
            stack[depth, 1] = row
            depth += 1
        while depth > 0:
            depth -= 1
            level, row = stack[depth, 0], stack[depth, 1]
            if not _to_box(x, y, z, boxes, row) < best:
                continue
            below = starts[level - 1] + 8 * (row - starts[level])
            for child in range(below, min(below + 8, starts[level])):
                if not _to_box(x, y, z, boxes, child) < best:
                    continue
                if level > 1:
                    stack[depth, 0] = level - 1
                    stack[depth, 1] = child
                    depth += 1
                    continue
                found = _to_triangle(x, y, z, points, triangles[child, 0], triangles[child, 1], triangles[child, 2])
                if found < best:
                    best = found
                    last = child
        out[n] = np.sqrt(best)
