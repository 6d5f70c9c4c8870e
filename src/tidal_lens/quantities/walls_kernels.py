"""Compiled loops for distances to triangles."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel

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
def nearest_on_triangles(own: Array, near: Array, points: Array, triangles: Array, starts: Array, owners: Array, out: Array) -> None:
    """Distance from each point (m, 3) to the triangles that touch one of its near nodes (m, k)."""
    for n in range(own.shape[0]):
        best = np.inf
        for k in range(near.shape[1]):
            node = near[n, k]
            for e in range(starts[node], starts[node + 1]):
                t = owners[e]
                best = min(best, _to_triangle(own[n, 0], own[n, 1], own[n, 2], points, triangles[t, 0], triangles[t, 1],
                                              triangles[t, 2]))
        out[n] = np.sqrt(best)
