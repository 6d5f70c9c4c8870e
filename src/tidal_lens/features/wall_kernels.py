"""Hot loop over walls: how much lines of the wall shear draw together, or will draw apart, on their way."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.jit import kernel, piece

Array = NDArray[Any]
MOST = 4000  # triangles passed


@piece
def _rates(g: Array, v: Array, tri: int, b0: float, b1: float, b2: float, k: Array) -> float:
    """Rates of the three shares for a length of one along the vector; its size."""
    x = b0 * v[tri, 0, 0] + b1 * v[tri, 1, 0] + b2 * v[tri, 2, 0]
    y = b0 * v[tri, 0, 1] + b1 * v[tri, 1, 1] + b2 * v[tri, 2, 1]
    z = b0 * v[tri, 0, 2] + b1 * v[tri, 1, 2] + b2 * v[tri, 2, 2]
    size = np.sqrt(x * x + y * y + z * z)
    scale = 1.0 / size if size > 0.0 else 0.0
    for d in range(3):
        k[d] = scale * (g[tri, d, 0] * x + g[tri, d, 1] * y + g[tri, d, 2] * z)
    return float(size)


@piece
def _spreading(g: Array, v: Array, normal: Array, tri: int, b0: float, b1: float, b2: float) -> float:
    """Rate at which neighbouring lines draw apart, by their distance and length: m · J · m / |v|, m across the vector in the triangle."""
    x = b0 * v[tri, 0, 0] + b1 * v[tri, 1, 0] + b2 * v[tri, 2, 0]
    y = b0 * v[tri, 0, 1] + b1 * v[tri, 1, 1] + b2 * v[tri, 2, 1]
    z = b0 * v[tri, 0, 2] + b1 * v[tri, 1, 2] + b2 * v[tri, 2, 2]
    size = np.sqrt(x * x + y * y + z * z)
    if not size > 0.0:
        return 0.0
    mx = (normal[tri, 1] * z - normal[tri, 2] * y) / size
    my = (normal[tri, 2] * x - normal[tri, 0] * z) / size
    mz = (normal[tri, 0] * y - normal[tri, 1] * x) / size
    total = 0.0
    for d in range(3):
        total += (v[tri, d, 0] * mx + v[tri, d, 1] * my + v[tri, d, 2] * mz) * (g[tri, d, 0] * mx + g[tri, d, 1] * my + g[tri, d, 2] * mz)
    return float(total / size)


@kernel
def gathered(g: Array, v: Array, normal: Array, corners: Array, beside: Array, sign: float, still: float, length: float, out: Array,
             begin: int, end: int) -> None:
    """Greatest running sum of what lines spread (sign 1: ahead) or drew together (−1: on the way here), from triangles' middles.

    Parameters
    ----------
    g, v : (t, 3, 3)
        Gradients of the shares of corners, and the vector at them, laid into each triangle.
    normal : (t, 3)
        Of triangles.
    corners, beside : (t, 3) int64
        Corners, and the triangle beyond the edge opposite each, −1 for none.
    sign, still, length
        Which way; the size at which the vector counts as nought; how far.
    out : (t,)
        Written.
    """
    k, new = np.empty(3), np.empty(3)
    for n in range(begin, end):
        tri = n
        b0 = b1 = b2 = 1.0 / 3.0
        gone, total, best = 0.0, 0.0, 0.0
        before, turned_back = -1, 0
        for _ in range(MOST):
            if gone >= length or not _rates(g, v, tri, b0, b1, b2, k) > still:
                break
            step = 1e300
            for d in range(3):
                rate, share = sign * k[d], b0 if d == 0 else b1 if d == 1 else b2
                if rate < 0.0 and share > 1e-12:
                    step = min(step, share / -rate)
            step = min(step, length - gone)
            if not step < 1e299:
                break
            # By the direction half way there.
            half = 0.5 * step
            m0, m1, m2 = b0 + half * sign * k[0], b1 + half * sign * k[1], b2 + half * sign * k[2]
            if not _rates(g, v, tri, m0, m1, m2, k) > still:
                break
            step, through = length - gone, -1
            for d in range(3):
                rate, share = sign * k[d], b0 if d == 0 else b1 if d == 1 else b2
                if rate < 0.0:
                    far = max(share, 0.0) / -rate
                    if far < step:
                        step, through = far, d
            half = 0.5 * step
            total += step * sign * _spreading(g, v, normal, tri, b0 + half * sign * k[0], b1 + half * sign * k[1], b2 + half * sign * k[2])
            best = max(best, total)
            gone += step
            if through < 0:
                break
            new[0], new[1], new[2] = b0 + step * sign * k[0], b1 + step * sign * k[1], b2 + step * sign * k[2]
            new[through] = 0.0
            other = beside[tri, through]
            if other < 0:
                break
            if other == before:  # both sides lead to the edge: the line goes on along it, and draws no more together
                turned_back += 1
                if turned_back > 2:
                    break
            c0 = c1 = c2 = 0.0
            for d in range(3):
                if d == through:
                    continue
                name = corners[tri, d]
                if corners[other, 0] == name:
                    c0 = max(new[d], 0.0)
                elif corners[other, 1] == name:
                    c1 = max(new[d], 0.0)
                else:
                    c2 = max(new[d], 0.0)
            whole = c0 + c1 + c2
            if not whole > 0.0:
                break
            b0, b1, b2 = c0 / whole, c1 / whole, c2 / whole
            before, tri = tri, other
        out[n] = best
