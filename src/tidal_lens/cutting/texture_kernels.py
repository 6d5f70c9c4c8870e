"""Compiled loops that draw a flow as streaks over a picture: line integral convolution in the plane of the screen.

Source: Cabral & Leedom 1993, Imaging vector fields using line integral convolution, Proc. SIGGRAPH.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel

Array = Any
U = np.uint64  # of unsigned numbers none needs to be tested for a negative sign


@kernel
def rasterise(places: Array, depths: Array, ways: Array, faces: Array, seen: Array, slack: float, out: Array) -> None:
    """Directions on the screen of what is seen of a surface.

    Parameters
    ----------
    places : (n, 2)
        Vertices on the screen [pixels].
    depths : (n,)
        How far they are before the eye.
    ways : (n, 2)
        Directions of the flow there [pixels].
    faces : (m, 4) int64
        A triangle repeats its last corner.
    seen : (h, w) float32
        Depth of what is seen at each pixel.
    slack : float
        Share of a depth by which it may differ from that.
    out : (h, w, 2) float32
        Written where the surface is what is seen.
    """
    height, width = seen.shape
    for f in range(faces.shape[0]):
        for half in range(2):
            a, b, c = faces[f, 0], faces[f, 1 + half], faces[f, 2 + half]
            if b == c or a == c:
                continue
            ax, ay, bx, by, cx, cy = places[a, 0], places[a, 1], places[b, 0], places[b, 1], places[c, 0], places[c, 1]
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            if area == 0.0 or depths[a] <= 0.0 or depths[b] <= 0.0 or depths[c] <= 0.0 or not np.isfinite(area):
                continue
            left, right = max(int(np.floor(min(ax, bx, cx))), 0), min(int(np.ceil(max(ax, bx, cx))), width - 1)
            top, bottom = max(int(np.floor(min(ay, by, cy))), 0), min(int(np.ceil(max(ay, by, cy))), height - 1)
            for row in range(top, bottom + 1):
                y = row + 0.5
                for column in range(left, right + 1):
                    x = column + 0.5
                    u = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) / area
                    v = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / area
                    if u < -1e-3 or v < -1e-3 or u + v > 1.001:
                        continue
                    depth = (1.0 - u - v) * depths[a] + u * depths[b] + v * depths[c]
                    if abs(depth - seen[row, column]) > slack * depth:
                        continue
                    out[row, column, 0] = (1.0 - u - v) * ways[a, 0] + u * ways[b, 0] + v * ways[c, 0]
                    out[row, column, 1] = (1.0 - u - v) * ways[a, 1] + u * ways[b, 1] + v * ways[c, 1]


@kernel
def streaks(ways: Array, noise: Array, weights: Array, out: Array, begin: int, end: int) -> None:
    """Noise (h, w) smeared along unit directions (h, w, 2), in rows begin … end of out (h, w); NaN where there is none.

    weights (2 k + 1,): of the steps of a pixel each, from k upstream to k downstream.
    """
    height, width = noise.shape
    k = (len(weights) - 1) // 2
    right, low = np.float32(width), np.float32(height)
    for row in range(begin, end):
        for column in range(width):
            u, v = ways[row, column, 0], ways[row, column, 1]
            if u == 0.0 and v == 0.0:
                out[row, column] = np.nan
                continue
            total, weight = weights[k] * noise[row, column], weights[k]
            for side in range(2):
                sign = np.float32(1.0 if side == 0 else -1.0)
                way = 1 if side == 0 else -1
                x, y = np.float32(column + 0.5), np.float32(row + 0.5)
                p, q = sign * u, sign * v
                at = k
                for _ in range(k):
                    x += p
                    y += q
                    if not (0.0 <= x < right and 0.0 <= y < low):
                        break
                    r, c = U(np.int32(y)), U(np.int32(x))
                    p, q = sign * ways[r, c, 0], sign * ways[r, c, 1]
                    at += way
                    w = weights[U(at)]
                    total += w * noise[r, c]
                    weight += w
                    if p == 0.0 and q == 0.0:
                        break
            out[row, column] = total / weight if weight > 0.0 else np.float32(0.5)
