"""Hot loops that add up a flow along the line of sight, a triangle at a time.

Cells are cut into tetrahedra, in which values are linear. What a ray gathers in one is F(out) − F(in), where F(z) = ∫ f dz; written for the
plane of a face, in which f and z are linear in the picture, F = f z − ½ g z² with the slope g of f along the sight. So each face adds a
polynomial to the pixels that it covers, and between two tetrahedra of a cell only the jump of the slope is left. A cell that is no larger
than a pixel gives all it holds to the four pixels next to its middle, so that nothing is lost between rays.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.jit import folded, kernel, making, one_by_one

Array = NDArray[Any]
SMALL = 1.5  # pixels
SUM, GREATEST = 0, 1
FLAT = 1e-12  # share of a cell's extents: tetrahedra and triangles with less hold nothing
TETRAHEDRA = np.array([[0, 1, 2, 6], [0, 2, 3, 6], [0, 3, 7, 6], [0, 7, 4, 6], [0, 4, 5, 6], [0, 5, 1, 6]], np.int64)
# Its faces as triangles, all turned outwards: those at the first corner, towards neighbours before it, then those at the seventh.
OUTER = np.array([[0, b, a] for _, a, b, _ in TETRAHEDRA] + [[6, a, b] for _, a, b, _ in TETRAHEDRA], np.int64)
ALONG = np.array([2, 2, 0, 0, 1, 1, 0, 1, 1, 2, 2, 0], np.int64)  # across which index of a lattice each of them stands


@kernel
def deposit(points: Array, values: Array, corners: Array, lattice: Array, depth: Array, clear: Array, mode: int, image: Array) -> None:
    """Add cells to a picture.

    Parameters
    ----------
    points : (n, 3)
        Nodes: two coordinates in pixels, and the depth along the line of sight.
    values : (n, k)
        What is added up; cells with nothing but zeros are left out of sums.
    corners : (m, 8) int
        Corners of (collapsed) hexahedra.
    lattice : (3,) int
        How many cells each way where they stand in a lattice, the first index fastest: faces between two are then met once. Else zeros.
    depth : (h, w)
        Of the wall that is in the way at each pixel; infinite where there is none.
    clear : (h, 2) int
        In each row the first column with a wall, and that after the last.
    mode : int
        The sum, or the greatest value.
    image : (k, h, w)
        Added to, or raised.
    """
    one_by_one()
    many, count = values.shape[1], corners.shape[0]
    p, own = np.empty((8, 3)), np.empty((8, many))
    slope, middle, way = np.zeros((count, many)), np.zeros(count), np.zeros(count)
    tall, wide = depth.shape
    for cell in range(count):
        left = low = near = 1e300
        right = high = far = -1e300
        worth = mode == GREATEST
        for c in range(8):
            node = corners[cell, c]
            p[c, 0], p[c, 1], p[c, 2] = points[node, 0], points[node, 1], points[node, 2]
            left, right = min(left, p[c, 0]), max(right, p[c, 0])
            low, high = min(low, p[c, 1]), max(high, p[c, 1])
            near, far = min(near, p[c, 2]), max(far, p[c, 2])
            for k in range(many):
                own[c, k] = values[node, k]
                worth = worth or own[c, k] != 0.0
        if not worth or right < 0.0 or high < 0.0 or left > wide or low > tall:
            continue
        middle[cell] = 0.5 * (near + far)
        if mode == GREATEST:  # which is at some face, whichever way that is turned
            way[cell] = 1.0
            continue
        for c in range(8):
            p[c, 2] -= middle[cell]  # small numbers: what cancels within a cell is no larger than what it holds
        if max(right - left, high - low) < SMALL:
            _whole(p, own, middle[cell], depth, image)
        else:
            way[cell] = _slope(p, own, FLAT * (right - left + 1.0) * (high - low + 1.0) * (far - near), slope[cell])
    step = np.array([1, lattice[0], lattice[0] * lattice[1]], np.int64)
    at, beyond = np.zeros(3, np.int64), np.empty(3, np.int64)
    for cell in range(count):
        some = way[cell] != 0.0
        for axis in range(3):
            beyond[axis] = -1
            if at[axis] + 1 < lattice[axis]:
                beyond[axis] = cell + step[axis]
                some = some or way[beyond[axis]] != 0.0
        if some:
            for c in range(8):
                node = corners[cell, c]
                p[c, 0], p[c, 1], p[c, 2] = points[node, 0], points[node, 1], points[node, 2] - middle[cell]
                for k in range(many):
                    own[c, k] = values[node, k]
            for t in range(12):
                other = beyond[ALONG[t]] if t >= 6 else -1
                if (t >= 6 or at[ALONG[t]] == 0) and (way[cell] != 0.0 or (other >= 0 and way[other] != 0.0)):
                    _triangle(p, own, OUTER[t, 0], OUTER[t, 1], OUTER[t, 2], cell, other, way, slope, middle, depth, clear, mode, image)
        if lattice[0] > 0:
            at[0] += 1
            if at[0] == lattice[0]:
                at[0] = 0
                at[1] += 1
                if at[1] == lattice[1]:
                    at[1] = 0
                    at[2] += 1


@folded
def _slope(p: Array, own: Array, flat: float, slope: Array) -> float:
    """Write the mean slope along the sight; 1 or −1 by the turn of the cell's corners, 0 where it is flat."""
    many = own.shape[1]
    volume = 0.0
    for t in range(12):
        a, b, c = OUTER[t, 0], OUTER[t, 1], OUTER[t, 2]
        one = (p[b, 0] - p[a, 0]) * (p[c, 1] - p[a, 1]) - (p[b, 1] - p[a, 1]) * (p[c, 0] - p[a, 0])
        volume += one * (p[a, 2] + p[b, 2] + p[c, 2])
        for k in range(many):
            slope[k] += one * (own[a, k] + own[b, k] + own[c, k])
    if not abs(volume) > flat:
        return 0.0
    for k in range(many):
        slope[k] /= volume
    return 1.0 if volume > 0.0 else -1.0


@folded
def _triangle(p: Array, own: Array, a: int, b: int, c: int, cell: int, other: int, way: Array, slope: Array, middle: Array, depth: Array,
              clear: Array, mode: int, image: Array) -> None:
    """Add what a triangle gives to the pixels that it covers: as a side of a cell, and as one of the cell beyond it where there is one."""
    # From below upwards: a, b, c.
    turned = 1.0
    if p[b, 1] < p[a, 1]:
        a, b, turned = b, a, -turned
    if p[c, 1] < p[a, 1]:
        a, c, turned = c, a, -turned
    if p[c, 1] < p[b, 1]:
        b, c, turned = c, b, -turned
    tall, wide = depth.shape
    ax, ay, bx, by, cx, cy = p[a, 0], p[a, 1], p[b, 0], p[b, 1], p[c, 0], p[c, 1]
    first, last = max(int(np.ceil(ay - 0.5)), 0), min(int(np.ceil(cy - 0.5)), tall)
    if last <= first:
        return
    area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    if not abs(area) > FLAT * (cy - ay) * (abs(bx - ax) + abs(cx - ax)):
        return
    turn = int(np.ceil(by - 0.5))
    by_area = 1.0 / area
    if area < 0.0:
        turned = -turned
    here, there = turned * way[cell], 0.0
    off = 0.0
    if other >= 0:
        there, off = -turned * way[other], middle[cell] - middle[other]
    zx = ((p[b, 2] - p[a, 2]) * (cy - ay) - (p[c, 2] - p[a, 2]) * (by - ay)) * by_area
    zy = ((p[c, 2] - p[a, 2]) * (bx - ax) - (p[b, 2] - p[a, 2]) * (cx - ax)) * by_area
    long = (cx - ax) / (cy - ay)
    lower = (bx - ax) / (by - ay) if by > ay else 0.0
    upper = (cx - bx) / (cy - by) if cy > by else 0.0
    mirrored = area < 0.0  # the long side, from a to c, is that to the right
    both, apart = here + there, there * off
    # Depth and values are told from a pixel next to the lowest corner on. (here z + there z') f − (here g z² + there g' z'²) / 2, with
    # z' = z + off, is then a polynomial of columns s and rows t. A cell is before a wall or behind it, with both its sides: walls are
    # made of faces of cells.
    left = int(ax)
    x0, y0, m = left + 0.5 - ax, first + 0.5 - ay, middle[cell]
    z0 = p[a, 2] + zx * x0 + zy * y0
    for k in range(image.shape[0]):
        fa = own[a, k]
        fb, fc = own[b, k] - fa, own[c, k] - fa
        fx = (fb * (cy - ay) - fc * (by - ay)) * by_area
        fy = (fc * (bx - ax) - fb * (cx - ax)) * by_area
        f0 = fa + fx * x0 + fy * y0
        half, half_there = 0.5 * slope[cell, k], 0.0
        if other >= 0:
            half_there = 0.5 * slope[other, k]
        zero, single, twice = there * half_there * off * off, 2.0 * there * half_there * off, here * half + there * half_there
        g0, g1 = both * z0 + apart, both * f0 - single - 2.0 * twice * z0
        constant = g0 * f0 - (zero + z0 * (single + z0 * twice))
        ex, ey = g0 * fx + g1 * zx, g0 * fy + g1 * zy
        xx, yy = zx * (both * fx - twice * zx), zy * (both * fy - twice * zy)
        xy = both * (zx * fy + zy * fx) - 2.0 * twice * zx * zy
        for row in range(first, last):
            y = row + 0.5
            one = ax + (y - ay) * long + 0.5
            two = ax + (y - ay) * lower + 0.5 if row < turn else bx + (y - by) * upper + 0.5
            if mirrored:
                one, two = two, one
            begin, end = max(int(one), 0), min(int(two), wide)
            if end <= begin:
                continue
            r, t = np.uint64(row), float(row - first)
            at, along = constant + t * (ey + t * yy), ex + t * xy
            s = float(begin - left)
            free = end <= clear[r, 0] or begin >= clear[r, 1]
            if mode == GREATEST:
                z, f = z0 + zy * t, f0 + fy * t
                for column in range(begin, end):
                    q, value = np.uint64(column), f + fx * s
                    if value > image[k, r, q] and (free or z + zx * s <= depth[r, q] - m):
                        image[k, r, q] = value
                    s += 1.0
            elif free:
                for column in range(begin, end):
                    image[k, r, np.uint64(column)] += at + s * (along + s * xx)
                    s += 1.0
            else:
                z = z0 + zy * t
                for column in range(begin, end):
                    q = np.uint64(column)
                    if z + zx * s <= depth[r, q] - m:
                        image[k, r, q] += at + s * (along + s * xx)
                    s += 1.0


@making
def _whole(p: Array, own: Array, middle: float, depth: Array, image: Array) -> None:
    """Give all that a small cell holds to the four pixels next to its middle."""
    tall, wide = depth.shape
    volume = x = y = z = 0.0
    part = np.empty(6)
    for t in range(6):
        b, c = TETRAHEDRA[t, 1], TETRAHEDRA[t, 2]
        bx, by, bz = p[b, 0] - p[0, 0], p[b, 1] - p[0, 1], p[b, 2] - p[0, 2]
        cx, cy, cz = p[c, 0] - p[0, 0], p[c, 1] - p[0, 1], p[c, 2] - p[0, 2]
        dx, dy, dz = p[6, 0] - p[0, 0], p[6, 1] - p[0, 1], p[6, 2] - p[0, 2]
        part[t] = abs(bz * (cx * dy - cy * dx) + cz * (dx * by - dy * bx) + dz * (bx * cy - by * cx)) / 24.0
        volume += 4.0 * part[t]
        x += part[t] * (p[0, 0] + p[b, 0] + p[c, 0] + p[6, 0])
        y += part[t] * (p[0, 1] + p[b, 1] + p[c, 1] + p[6, 1])
        z += part[t] * (p[0, 2] + p[b, 2] + p[c, 2] + p[6, 2])
    if not volume > 0.0:
        return
    x, y, z = x / volume, y / volume, z / volume + middle
    column, row = int(np.floor(x - 0.5)), int(np.floor(y - 0.5))
    fx, fy = x - 0.5 - column, y - 0.5 - row
    for k in range(own.shape[1]):
        held = 0.0
        for t in range(6):
            held += part[t] * (own[0, k] + own[TETRAHEDRA[t, 1], k] + own[TETRAHEDRA[t, 2], k] + own[6, k])
        for down in range(2):
            for aside in range(2):
                r, c = row + down, column + aside
                if 0 <= r < tall and 0 <= c < wide and z < depth[r, c]:
                    image[k, r, c] += held * (fy if down else 1.0 - fy) * (fx if aside else 1.0 - fx)


@kernel
def nearest_walls(points: Array, faces: Array, depth: Array, first: int, last: int) -> None:
    """Lower rows first … last of depth (h, w) to that of the faces (m, 4) that are nearest at each pixel; points as of :func:`deposit`."""
    wide = depth.shape[1]
    for f in range(faces.shape[0]):
        for half in range(2):
            a, b, c = faces[f, 0], faces[f, 1 + half], faces[f, 2 + half]
            if b == c or a == c:
                continue
            ax, ay, bx, by, cx, cy = points[a, 0], points[a, 1], points[b, 0], points[b, 1], points[c, 0], points[c, 1]
            if min(ay, by, cy) > last or max(ay, by, cy) < first:
                continue
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            if area == 0.0:
                continue
            for row in range(max(int(np.floor(min(ay, by, cy))), first), min(int(np.ceil(max(ay, by, cy))), last - 1) + 1):
                y = row + 0.5
                for column in range(max(int(np.floor(min(ax, bx, cx))), 0), min(int(np.ceil(max(ax, bx, cx))), wide - 1) + 1):
                    x = column + 0.5
                    u = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) / area
                    v = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / area
                    if u < -1e-6 or v < -1e-6 or u + v > 1.000001:
                        continue
                    depth[row, column] = min(depth[row, column], (1.0 - u - v) * points[a, 2] + u * points[b, 2] + v * points[c, 2])
