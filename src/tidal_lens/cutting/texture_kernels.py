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
            x, y = np.float32(column + 0.5), np.float32(row + 0.5)
            back_x, back_y, p, q, back_p, back_q = x, y, u, v, -u, -v
            ahead = behind = True
            for n in range(1, k + 1):  # both ways at once: each step waits for the one before
                if ahead:
                    x += p
                    y += q
                    ahead = (x >= 0.0) & (x < right) & (y >= 0.0) & (y < low)
                    if ahead:
                        r, c = U(np.int32(y)), U(np.int32(x))
                        p, q = ways[r, c, 0], ways[r, c, 1]
                        w = weights[U(k + n)]
                        total += w * noise[r, c]
                        weight += w
                        ahead = (p != 0.0) | (q != 0.0)
                if behind:
                    back_x += back_p
                    back_y += back_q
                    behind = (back_x >= 0.0) & (back_x < right) & (back_y >= 0.0) & (back_y < low)
                    if behind:
                        r, c = U(np.int32(back_y)), U(np.int32(back_x))
                        back_p, back_q = -ways[r, c, 0], -ways[r, c, 1]
                        w = weights[U(k - n)]
                        total += w * noise[r, c]
                        weight += w
                        behind = (back_p != 0.0) | (back_q != 0.0)
                elif not ahead:
                    break
            out[row, column] = total / weight if weight > 0.0 else np.float32(0.5)


@kernel
def trails(ways: Array, noise: Array, k: int, rows: Array, columns: Array, out: Array, reach: Array, begin: int, end: int) -> None:
    """Noise (h, w), from 0 to 255, along the streaks of pixels begin … end, k steps each way, as in :func:`streaks`.

    Written: out (n, 2 k + 1) uint8, nothing where a streak has ended; reach (n, 2) uint8: how many steps it has upstream and downstream.
    """
    height, width = noise.shape
    right, low = np.float32(width), np.float32(height)
    for n in range(begin, end):
        one = U(n)
        row, column = rows[one], columns[one]
        for s in range(2 * k + 1):
            out[one, U(s)] = 0
        out[one, U(k)] = noise[row, column]
        for side in range(2):
            sign = np.float32(1.0 if side == 1 else -1.0)
            x, y = np.float32(column + 0.5), np.float32(row + 0.5)
            p, q = sign * ways[row, column, 0], sign * ways[row, column, 1]
            steps = 0
            for _ in range(k):
                x += p
                y += q
                if not (0.0 <= x < right and 0.0 <= y < low):
                    break
                r, c = U(np.int32(y)), U(np.int32(x))
                p, q = sign * ways[r, c, 0], sign * ways[r, c, 1]
                steps += 1
                out[one, U(k + steps if side == 1 else k - steps)] = noise[r, c]
                if p == 0.0 and q == 0.0:
                    break
            reach[one, side] = steps


@kernel
def along_trails(noise: Array, reach: Array, weights: Array, sums: Array, out: Array, begin: int, end: int) -> None:
    """Weighted means, from 0 to 1, of what :func:`trails` found for pixels begin … end; sums (2 k + 2,) of the weights before each step."""
    count = len(weights)
    k = count // 2
    for n in range(begin, end):
        one = U(n)
        total = np.float32(0.0)
        for s in range(count):
            total += weights[U(s)] * np.float32(noise[one, U(s)])
        weight = sums[k + 1 + reach[one, 1]] - sums[k - reach[one, 0]]
        out[one] = total / (np.float32(255.0) * weight)
