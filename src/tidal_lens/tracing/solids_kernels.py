"""Compiled loops for tubes and ribbons: frames carried along lines without turning about them."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel

Array = Any


@kernel
def carry(points: Array, offsets: Array, tangents: Array, normals: Array, begin: int, end: int) -> None:
    """Unit tangents and normals (n, 3) along lines begin … end.

    The normal of a line begins as near to z as can be, else to y, and is then carried on by reflecting it twice a step, which turns it
    about the line only to the fourth order of the step (Wang et al. 2008, Computation of rotation minimizing frames, ACM Trans. Graph. 27).
    """
    t, r, v = np.empty(3), np.empty(3), np.empty(3)
    for line in range(begin, end):
        first, last = offsets[line], offsets[line + 1] - 1
        for n in range(first, last + 1):
            a, b = max(n - 1, first), min(n + 1, last)
            size = 0.0
            for d in range(3):
                t[d] = points[b, d] - points[a, d]
                size += t[d] * t[d]
            size = np.sqrt(size)
            for d in range(3):
                tangents[n, d] = t[d] / size if size > 0.0 else (tangents[n - 1, d] if n > first else (1.0 if d == 0 else 0.0))
        up = 2 if abs(tangents[first, 2]) < 0.9 else 1
        size = 0.0
        for d in range(3):
            r[d] = (1.0 if d == up else 0.0) - tangents[first, up] * tangents[first, d]
            size += r[d] * r[d]
        size = np.sqrt(size)
        for d in range(3):
            r[d] /= size
            normals[first, d] = r[d]
        for n in range(first, last):
            c1 = rr = tt = 0.0
            for d in range(3):
                v[d] = points[n + 1, d] - points[n, d]
                c1 += v[d] * v[d]
                rr += v[d] * r[d]
                tt += v[d] * tangents[n, d]
            c2 = rr2 = 0.0
            for d in range(3):
                t[d] = tangents[n, d] - (2.0 / c1 * tt * v[d] if c1 > 0.0 else 0.0)
                r[d] = r[d] - (2.0 / c1 * rr * v[d] if c1 > 0.0 else 0.0)
            for d in range(3):
                v[d] = tangents[n + 1, d] - t[d]
                c2 += v[d] * v[d]
                rr2 += v[d] * r[d]
            if c2 > 0.0:
                for d in range(3):
                    r[d] -= 2.0 / c2 * rr2 * v[d]
            dot = size = 0.0
            for d in range(3):
                dot += r[d] * tangents[n + 1, d]
            for d in range(3):
                r[d] -= dot * tangents[n + 1, d]
                size += r[d] * r[d]
            size = np.sqrt(size)
            for d in range(3):
                r[d] = r[d] / size if size > 0.0 else normals[n, d]
                normals[n + 1, d] = r[d]
