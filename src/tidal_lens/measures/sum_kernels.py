"""Compiled loops that add up over triangles and nodes."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel

Array = Any


@inlined
def _triangle(points: Array, a: int, b: int, c: int, t: int, corners: Array, areas: Array) -> None:
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    corners[t, 0], corners[t, 1], corners[t, 2] = a, b, c
    areas[t, 0] = 0.5 * (uy * vz - uz * vy)
    areas[t, 1] = 0.5 * (uz * vx - ux * vz)
    areas[t, 2] = 0.5 * (ux * vy - uy * vx)


@kernel
def halves(points: Array, faces: Array, seconds: Array, corners: Array, areas: Array, begin: int, end: int) -> None:
    """Corners and area vectors (k, 3) of faces begin … end: points (n, 3), faces (m, 4); second halves stand at ``seconds``."""
    for f in range(begin, end):
        _triangle(points, faces[f, 0], faces[f, 1], faces[f, 2], f, corners, areas)
        if faces[f, 2] != faces[f, 3]:
            _triangle(points, faces[f, 0], faces[f, 2], faces[f, 3], seconds[f], corners, areas)


@inlined
def above(a: float, b: float, c: float) -> float:
    """Mean over a triangle of what of a value, linear between its corners', is above zero."""
    low, high = min(a, min(b, c)), max(a, max(b, c))
    middle = a + b + c - low - high
    mean = (a + b + c) / 3.0
    if low >= 0.0:
        return mean
    if high <= 0.0:
        return 0.0
    # A third of the height of the small tetrahedron over the part that is above, or below.
    if middle <= 0.0:
        return high * high * high / (3.0 * (high - low) * (high - middle))
    return mean - low * low * low / (3.0 * (middle - low) * (high - low))


@kernel
def over_triangles(corners: Array, areas: Array, values: Array, velocity: Array, density: Array, used: Array, sums: Array, begin: int,
                   end: int) -> None:
    """Add up over triangles begin … end; those with a corner at which the value is not known count for the whole area only.

    Parameters
    ----------
    corners : (k, 3) int, areas : (k, 3)
    values : (n,), velocity : (n, 3) or (0, 3), density : (n,) or (0,)
        Without density what is carried is volume.
    used : (n,) bool
        Set where a vertex counts.
    sums : (10,)
        Area, all area, value, its square, what goes along the normal and against it, volume flow, value by what goes either way, by
        the net, and what goes either way.
    """
    mass, volume = np.empty(3), np.empty(3)
    for t in range(begin, end):
        ax, ay, az = areas[t, 0], areas[t, 1], areas[t, 2]
        size = np.sqrt(ax * ax + ay * ay + az * az)
        sums[1] += size
        q0, q1, q2 = values[corners[t, 0]], values[corners[t, 1]], values[corners[t, 2]]
        total = q0 + q1 + q2
        if not np.isfinite(total):
            continue
        sums[0] += size
        sums[2] += size * total / 3.0
        sums[3] += size * (total * total + q0 * q0 + q1 * q1 + q2 * q2) / 12.0
        for c in range(3):
            used[corners[t, c]] = True
        if velocity.shape[0] == 0:
            continue
        for c in range(3):
            n = corners[t, c]
            volume[c] = velocity[n, 0] * ax + velocity[n, 1] * ay + velocity[n, 2] * az
            mass[c] = volume[c] * (density[n] if density.shape[0] > 0 else 1.0)
        net = mass[0] + mass[1] + mass[2]
        if not np.isfinite(net):
            continue
        forth = above(mass[0], mass[1], mass[2])
        sums[4] += forth
        sums[5] += forth - net / 3.0
        sums[6] += (volume[0] + volume[1] + volume[2]) / 3.0
        m0, m1, m2 = abs(mass[0]), abs(mass[1]), abs(mass[2])
        sums[7] += ((m0 + m1 + m2) * total + m0 * q0 + m1 * q1 + m2 * q2) / 12.0
        sums[8] += (net * total + mass[0] * q0 + mass[1] * q1 + mass[2] * q2) / 12.0
        sums[9] += (m0 + m1 + m2) / 3.0


@kernel
def over_nodes(weights: Array, values: Array, density: Array, velocity: Array, vorticity: Array, about: float, sums: Array,
               where: Array) -> None:
    """Add up over nodes what values weigh; those of no weight, or at which the value is not known, do not count.

    Parameters
    ----------
    weights, values : (m,), density : (m,) or (0,), velocity, vorticity : (m, 3) or (0, 3)
    about : float
        From which squares are taken.
    sums : (10,)
        Weight, value, square of the value less ``about``, mass, mass times value, kinetic energy, enstrophy, least, greatest, how many.
    where : (2,) int
        At which node it is least and greatest.
    """
    for n in range(weights.shape[0]):
        w, q = weights[n], values[n]
        if not w > 0.0 or not np.isfinite(q):
            continue
        sums[0] += w
        sums[1] += w * q
        sums[2] += w * (q - about) ** 2
        sums[9] += 1.0
        if q < sums[7]:
            sums[7], where[0] = q, n
        if q > sums[8]:
            sums[8], where[1] = q, n
        if density.shape[0] > 0:
            m = w * density[n]
            sums[3] += m
            sums[4] += m * q
            if velocity.shape[0] > 0:
                sums[5] += 0.5 * m * (velocity[n, 0] ** 2 + velocity[n, 1] ** 2 + velocity[n, 2] ** 2)
        if vorticity.shape[0] > 0:
            sums[6] += 0.5 * w * (vorticity[n, 0] ** 2 + vorticity[n, 1] ** 2 + vorticity[n, 2] ** 2)


@kernel
def into_bins(weights: Array, values: Array, low: float, high: float, counts: Array) -> None:
    """Add weights (m,) to even bins between two values."""
    by = counts.shape[0] / (high - low)
    for n in range(weights.shape[0]):
        q = values[n]
        if weights[n] > 0.0 and q >= low and q <= high:
            counts[min(int((q - low) * by), counts.shape[0] - 1)] += weights[n]
