"""Hot loop of the quick look along the line of sight."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.jit import kernel

Array = NDArray[Any]


@kernel
def spread(places: Array, widths: Array, held: Array, cells: Array, aim: Array, pixel: float, depth: Array, starts: Array, sizes: Array,
           greatest: bool, image: Array) -> None:
    """Give what cells hold to the four pixels next to their middles, large cells to coarser pictures.

    Parameters
    ----------
    places : (m, 3)
        Middles of all cells [length].
    widths : (m,)
        Of all cells [length].
    held : (n, k)
        What some cells hold.
    cells : (n,) int
        Which they are.
    aim : (4, 3)
        The corner of the picture, and the directions of columns, rows and the sight.
    pixel : float
        Width of a pixel of the finest picture [length].
    depth : (h, w)
        Of the wall that is in the way at each pixel; infinite where there is none.
    starts : (levels,) int
        Where each picture begins; each is half as fine as the one before.
    sizes : (levels, 2) int
        Their rows and columns.
    greatest : bool
        What cells hold is not added up but raises what is less.
    image : (pixels, k)
        Added to, or raised.
    """
    levels, many = len(starts), held.shape[1]
    tall, wide = depth.shape
    far = aim[0, 0] * aim[3, 0] + aim[0, 1] * aim[3, 1] + aim[0, 2] * aim[3, 2]
    for n in range(len(cells)):
        cell = cells[n]
        px, py, pz = places[cell, 0] - aim[0, 0], places[cell, 1] - aim[0, 1], places[cell, 2] - aim[0, 2]
        x = (px * aim[1, 0] + py * aim[1, 1] + pz * aim[1, 2]) / pixel
        y = (px * aim[2, 0] + py * aim[2, 1] + pz * aim[2, 2]) / pixel
        z = px * aim[3, 0] + py * aim[3, 1] + pz * aim[3, 2] + far
        if not z < depth[min(max(int(y), 0), tall - 1), min(max(int(x), 0), wide - 1)]:
            continue
        level, share, size = 0, 1.0, widths[cell] / pixel
        while level < levels - 1 and size > 1.0:
            level, share, size = level + 1, 0.5 * share, 0.5 * size
        x, y = x * share - 0.5, y * share - 0.5
        column, row = int(np.floor(x)), int(np.floor(y))
        fx, fy = x - column, y - row
        per = share * share / (pixel * pixel)
        for down in range(2):
            for aside in range(2):
                r, c = row + down, column + aside
                if 0 <= r < sizes[level, 0] and 0 <= c < sizes[level, 1]:
                    weight = per * (fy if down else 1.0 - fy) * (fx if aside else 1.0 - fx)
                    to = starts[level] + r * sizes[level, 1] + c
                    for k in range(many):
                        if greatest:
                            image[to, k] = max(image[to, k], held[n, k])
                        else:
                            image[to, k] += weight * held[n, k]
