"""Compiled loops for lines bound to a surface of triangles."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import folded, kernel
from tidal_lens.tracing.kernels import LEFT, LENGTH, OUTSIDE, STEPS, STILL

Array = Any
U = np.uint64
_STEP = 0.4  # of a triangle's size, at most
_EDGE = 1e-12


@folded
def _rates(g: Array, v: Array, tri: Any, b0: float, b1: float, b2: float, out: Array) -> float:
    """Rates of the three shares for a step of length one along the vector; its size."""
    at = U(tri)
    x = b0 * v[at, 0, 0] + b1 * v[at, 1, 0] + b2 * v[at, 2, 0]
    y = b0 * v[at, 0, 1] + b1 * v[at, 1, 1] + b2 * v[at, 2, 1]
    z = b0 * v[at, 0, 2] + b1 * v[at, 1, 2] + b2 * v[at, 2, 2]
    size = np.sqrt(x * x + y * y + z * z)
    scale = 1.0 / size if size > 0.0 else 0.0
    for k in range(3):
        out[k] = scale * (g[at, k, 0] * x + g[at, k, 1] * y + g[at, k, 2] * z)
    return float(size)


@kernel
def follow(g: Array, v: Array, sizes: Array, corners: Array, beside: Array, start: Array, shares: Array, sign: float, still: float,
           max_length: float, max_points: int, out_tri: Array, out_b: Array, out_s: Array, count: Array, reason: Array, begin: int,
           end: int) -> None:
    """Follow a vector over triangles from seeds begin … end by Runge and Kutta's fourth-order method in shares of the corners.

    Parameters
    ----------
    g : (t, 3, 3)
        Gradients of the shares of the corners of each triangle; they lie in it.
    v : (t, 3, 3)
        The vector at its corners, laid into it.
    sizes : (t,)
        Square roots of twice the areas.
    corners : (t, 3) int64
        Corners; one number for all that stand at one place.
    beside : (t, 3) int64
        The triangle on the other side of the edge opposite each corner, or -1.
    start : (n,) int64
        Triangles of the seeds; -1 for none.
    shares : (n, 3)
        Their places in these.
    sign, still, max_length, max_points
        Which way; size at which the vector counts as nought; limits.
    out_tri, out_b, out_s : (lines · max_points,) int64, (…, 3), (…,)
        Written: triangle and shares of each point, and how far from the seed.
    count, reason : (lines,) int64
        Written.
    """
    k1, k2, k3, k4, b, c = np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    for n in range(begin, end):
        line = n - begin
        row = line * max_points
        count[line] = 0
        tri = start[n]
        if tri < 0:
            reason[line] = OUTSIDE
            continue
        for d in range(3):
            b[d] = shares[n, d]
        out_tri[row], out_s[row] = tri, 0.0
        for d in range(3):
            out_b[row, d] = b[d]
        made, gone, idle, small = 1, 0.0, 0, 1.0
        reason[line] = STEPS
        held = -1  # the edge that is slid along: both its sides lead to it
        while made < max_points:
            if not _rates(g, v, tri, b[0], b[1], b[2], k1) > still:
                reason[line] = STILL
                break
            h = min(small * _STEP * sizes[U(tri)], max_length - gone)
            if held >= 0 and sign * k1[held] >= 0.0:
                held = -1
            if held >= 0:  # along the edge, as far as the vector has a part along it
                one, two = (held + 1) % 3, (held + 2) % 3
                part = 0.5 * (k1[one] - k1[two])
                for d in range(3):
                    c[d] = 0.0
                c[one], c[two] = b[one] + sign * h * part, b[two] - sign * h * part
                if abs(h * part) < 1e-3 * h / sizes[U(tri)] * 0.1:
                    reason[line] = STILL
                    break
            share, through, last = 1.0, -1, -1
            for _attempt in range(6):  # a step out of the triangle is taken again as far as its edge, by the rule of false position
                if held < 0:
                    s = sign * h
                    _rates(g, v, tri, b[0] + 0.5 * s * k1[0], b[1] + 0.5 * s * k1[1], b[2] + 0.5 * s * k1[2], k2)
                    _rates(g, v, tri, b[0] + 0.5 * s * k2[0], b[1] + 0.5 * s * k2[1], b[2] + 0.5 * s * k2[2], k3)
                    _rates(g, v, tri, b[0] + s * k3[0], b[1] + s * k3[1], b[2] + s * k3[2], k4)
                    for d in range(3):
                        c[d] = b[d] + s / 6.0 * (k1[d] + 2.0 * k2[d] + 2.0 * k3[d] + k4[d])
                share, through = 1.0, -1
                if last >= 0 and b[last] > c[last]:
                    share, through = b[last] / (b[last] - c[last]), last
                for d in range(3):
                    if d != held and c[d] < -_EDGE and b[d] - c[d] > 0.0:
                        t = max(b[d], 0.0) / (b[d] - c[d])
                        if t < share:
                            share, through = t, d
                if held >= 0 or through < 0 or abs(c[through]) < 1e-9 or share < 1e-6:
                    share = min(share, 1.0)
                    break
                last = through
                h *= share
            if held < 0 and k1[0] * k4[0] + k1[1] * k4[1] + k1[2] * k4[2] < 0.0:  # a point of rest lies before it: come nearer
                small *= 0.5
                if small < 1e-3:
                    reason[line] = STILL
                    break
                continue
            total = 0.0
            for d in range(3):
                c[d] = max(b[d] + share * (c[d] - b[d]), 0.0)
                total += c[d]
            for d in range(3):
                c[d] /= total
            if through >= 0:
                c[through] = 0.0
            step = share * h
            gone += step
            if share > 1e-9 or through < 0:
                row = line * max_points + made
                out_tri[row], out_s[row] = tri, gone
                for d in range(3):
                    out_b[row, d] = c[d]
                made += 1
                idle = 0 if step > 0.02 * _STEP * sizes[U(tri)] else idle + 1
            else:
                idle += 1
            if idle > 40:
                reason[line] = STILL
                break
            for d in range(3):
                b[d] = c[d]
            if gone >= max_length * (1.0 - 1e-12):
                reason[line] = LENGTH
                break
            if through < 0:
                continue
            other = beside[U(tri), through]
            if other < 0:
                reason[line] = LEFT
                break
            for d in range(3):
                k2[d] = 0.0
            opposite = -1
            for d in range(3):
                found = False
                for e in range(3):
                    if e != through and corners[U(other), d] == corners[U(tri), e]:
                        k2[d] = b[e]
                        found = True
                if not found:
                    opposite = d
            _rates(g, v, other, k2[0], k2[1], k2[2], k3)
            if opposite >= 0 and sign * k3[opposite] < 0.0:  # it leads back: the edge is slid along, on this side
                held = through
                continue
            held = -1
            tri = other
            for d in range(3):
                b[d] = k2[d]
        count[line] = made
