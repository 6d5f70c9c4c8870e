"""Hot loop over the planes of a bubble: what passes the part that belongs to it."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.cutting.level_kernels import root_of
from tidal_lens.jit import kernel, piece

Array = Any


@piece
def _over_triangle(area: float, v0: float, v1: float, v2: float, f0: float, f1: float, f2: float) -> float:
    """Integral of f over the part of a triangle where v is positive, both linear between its corners."""
    if v0 < v1:
        v0, v1, f0, f1 = v1, v0, f1, f0
    if v1 < v2:
        v1, v2, f1, f2 = v2, v1, f2, f1
        if v0 < v1:
            v0, v1, f0, f1 = v1, v0, f1, f0
    if not v0 > 0.0:
        return 0.0
    if v2 > 0.0:
        return area * (f0 + f1 + f2) / 3.0
    if v1 > 0.0:  # all but the small triangle at the third corner
        s, t = v2 / (v2 - v1), v2 / (v2 - v0)
        return area * ((f0 + f1 + f2) - s * t * (3.0 * f2 + s * (f1 - f2) + t * (f0 - f2))) / 3.0
    s, t = v0 / (v0 - v1), v0 / (v0 - v2)  # the small one at the first
    return area * s * t * (3.0 * f0 + s * (f1 - f0) + t * (f2 - f0)) / 3.0


@kernel
def passing(points: Array, faces: Array, u: Array, f: Array, seeds: Array, c: float, least: float, part: Array, mine: Array) -> float:
    """Integral of f over the part of faces (m, 4) where u < c that hangs together with a seed; u and f linear over triangles.

    ``least`` is how far u is taken to be above c at vertices of other parts, at least; ``part`` and ``mine`` (n,) are scratch.
    """
    for vertex in range(len(u)):
        part[vertex] = vertex
        mine[vertex] = False
    for face in range(len(faces)):
        for k in range(4):
            a, b = faces[face, k], faces[face, (k + 1) & 3]
            if u[a] < c and u[b] < c:
                part[root_of(part, a)] = root_of(part, b)
    for vertex in range(len(u)):
        if seeds[vertex]:
            mine[root_of(part, vertex)] = True
    total = 0.0
    for face in range(len(faces)):
        for half in range(2):
            i, j, k = faces[face, 0], faces[face, 1 + half], faces[face, 2 + half]
            if j == k:
                continue
            va = c - u[i] if u[i] < c and mine[root_of(part, i)] else min(c - u[i], -least)
            vb = c - u[j] if u[j] < c and mine[root_of(part, j)] else min(c - u[j], -least)
            vc = c - u[k] if u[k] < c and mine[root_of(part, k)] else min(c - u[k], -least)
            if not max(va, max(vb, vc)) > 0.0:
                continue
            ax, ay, az = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
            bx, by, bz = points[k, 0] - points[i, 0], points[k, 1] - points[i, 1], points[k, 2] - points[i, 2]
            area = 0.5 * np.sqrt((ay * bz - az * by) ** 2 + (az * bx - ax * bz) ** 2 + (ax * by - ay * bx) ** 2)
            total += _over_triangle(area, va, vb, vc, f[i], f[j], f[k])
    return total
