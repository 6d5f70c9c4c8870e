"""Hot loops that add up a flow along the line of sight: each cell gives its part to the pixels that it covers.

Cells are cut into tetrahedra, in which values are linear: the sum along a ray through one is then exact. A cell that is no larger than a
pixel gives all it holds to the four pixels next to its middle, so that nothing is lost between rays.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.jit import kernel, piece

Array = NDArray[Any]
SMALL = 1.5  # pixels
SUM, GREATEST = 0, 1
TETRAHEDRA = np.array([[0, 1, 2, 6], [0, 2, 3, 6], [0, 3, 7, 6], [0, 7, 4, 6], [0, 4, 5, 6], [0, 5, 1, 6]], np.int64)


@piece
def _linear(p: Array, four: Array, det: float, share: Array) -> None:
    """Write the shares of the corners of a tetrahedron as linear functions: at the origin, and by column, row and depth."""
    for k in range(4):
        # Each share is the volume of the tetrahedron with the place in the corner's stead.
        i, j, m = four[(k + 1) & 3], four[(k + 2) & 3], four[(k + 3) & 3]
        ax, ay, az = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
        bx, by, bz = p[m, 0] - p[i, 0], p[m, 1] - p[i, 1], p[m, 2] - p[i, 2]
        by_det = (1.0 if k & 1 else -1.0) / det
        nx, ny, nz = by_det * (ay * bz - az * by), by_det * (az * bx - ax * bz), by_det * (ax * by - ay * bx)
        share[k, 0] = -(nx * p[i, 0] + ny * p[i, 1] + nz * p[i, 2])
        share[k, 1], share[k, 2], share[k, 3] = nx, ny, nz


@kernel
def deposit(points: Array, values: Array, corners: Array, depth: Array, floor: Array, mode: int, image: Array, begin: int,
            end: int) -> None:
    """Add cells begin..end to a picture.

    Parameters
    ----------
    points : (n, 3)
        Nodes: two coordinates in pixels, and the depth along the line of sight.
    values : (n, k)
        What is added up.
    corners : (m, 8) int
        Corners of (collapsed) hexahedra.
    depth : (h, w)
        Of the wall that is in the way at each pixel; infinite where there is none.
    floor : (k,)
        Cells with no value as large as this are nothing.
    mode : int
        The sum, or the greatest value.
    image : (h, w, k)
        Added to, or raised.
    """
    many = values.shape[1]
    four, share, field, plane = np.empty(4, np.int64), np.empty((4, 4)), np.empty((many, 4)), np.empty((4, 3))
    tall, wide = depth.shape
    for cell in range(begin, end):
        left = low = 1e300
        right = high = -1e300
        worth = False
        for c in range(8):
            node = corners[cell, c]
            left, right = min(left, points[node, 0]), max(right, points[node, 0])
            low, high = min(low, points[node, 1]), max(high, points[node, 1])
            for k in range(many):
                worth = worth or abs(values[node, k]) > floor[k]
        if not worth or right < 0.0 or high < 0.0 or left > wide or low > tall:
            continue
        if max(right - left, high - low) < SMALL and mode == SUM:
            _whole(points, values, corners, cell, depth, image)
            continue
        for t in range(6):
            for c in range(4):
                four[c] = corners[cell, TETRAHEDRA[t, c]]
            a, b, c2, d = four[0], four[1], four[2], four[3]
            if a in (b, c2, d) or b in (c2, d) or c2 == d:  # of collapsed cells
                continue
            ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            vx, vy, vz = points[c2, 0] - points[a, 0], points[c2, 1] - points[a, 1], points[c2, 2] - points[a, 2]
            wx, wy, wz = points[d, 0] - points[a, 0], points[d, 1] - points[a, 1], points[d, 2] - points[a, 2]
            det = ux * (vy * wz - vz * wy) - uy * (vx * wz - vz * wx) + uz * (vx * wy - vy * wx)
            whole = ((abs(ux) + abs(uy) + abs(uz)) * (abs(vx) + abs(vy) + abs(vz)) * (abs(wx) + abs(wy) + abs(wz)))
            if not abs(det) > 1e-12 * whole:
                continue
            top = max(int(np.ceil(min(points[a, 1], points[b, 1], points[c2, 1], points[d, 1]) - 0.5)), 0)
            bottom = min(int(np.floor(max(points[a, 1], points[b, 1], points[c2, 1], points[d, 1]) - 0.5)), tall - 1)
            start = max(int(np.ceil(min(points[a, 0], points[b, 0], points[c2, 0], points[d, 0]) - 0.5)), 0)
            stop = min(int(np.floor(max(points[a, 0], points[b, 0], points[c2, 0], points[d, 0]) - 0.5)), wide - 1)
            if bottom < top or stop < start:
                continue
            _linear(points, four, det, share)
            for k in range(many):
                for m in range(4):
                    field[k, m] = 0.0
                    for c in range(4):
                        field[k, m] += share[c, m] * values[four[c], k]
            # Where a ray comes in is the greatest of some planes' depths, where it goes out the least of others'.
            enters = leaves = 0
            for k in range(4):
                slope = share[k, 3]
                if slope > 0.0:
                    for m in range(3):
                        plane[enters, m] = -share[k, m] / slope
                    enters += 1
                elif slope < 0.0:
                    leaves += 1
                    for m in range(3):
                        plane[4 - leaves, m] = -share[k, m] / slope
            for row in range(top, bottom + 1):
                y = row + 0.5
                first, last = float(start), float(stop)
                # The columns for which each of the ones is before each of the others.
                for i in range(enters):
                    for j in range(4 - leaves, 4):
                        rest = plane[j, 0] - plane[i, 0] + (plane[j, 2] - plane[i, 2]) * y
                        slant = plane[j, 1] - plane[i, 1]
                        if slant > 0.0:
                            first = max(first, np.ceil(-rest / slant - 0.5))
                        elif slant < 0.0:
                            last = min(last, np.floor(-rest / slant - 0.5))
                        elif rest <= 0.0:
                            last = -1.0
                for k in range(4):
                    if share[k, 3] == 0.0:
                        rest, slant = share[k, 0] + share[k, 2] * y, share[k, 1]
                        if slant > 0.0:
                            first = max(first, np.ceil(-rest / slant - 0.5))
                        elif slant < 0.0:
                            last = min(last, np.floor(-rest / slant - 0.5))
                        elif rest < 0.0:
                            last = -1.0
                if not last >= first:
                    continue
                for column in range(int(first), int(last) + 1):
                    x = column + 0.5
                    near, far = -1e300, depth[row, column]
                    for i in range(enters):
                        near = max(near, plane[i, 0] + plane[i, 1] * x + plane[i, 2] * y)
                    for j in range(4 - leaves, 4):
                        far = min(far, plane[j, 0] + plane[j, 1] * x + plane[j, 2] * y)
                    if not far > near:
                        continue
                    middle = 0.5 * (near + far)
                    for k in range(many):
                        flat = field[k, 0] + field[k, 1] * x + field[k, 2] * y
                        if mode == SUM:
                            image[row, column, k] += (far - near) * (flat + field[k, 3] * middle)
                        else:
                            image[row, column, k] = max(image[row, column, k], flat + field[k, 3] * near, flat + field[k, 3] * far)


@piece
def _whole(points: Array, values: Array, corners: Array, cell: int, depth: Array, image: Array) -> None:
    """Give all that a small cell holds to the four pixels next to its middle."""
    tall, wide = depth.shape
    many = values.shape[1]
    volume = x = y = z = 0.0
    for t in range(6):
        a, b = corners[cell, TETRAHEDRA[t, 0]], corners[cell, TETRAHEDRA[t, 1]]
        c, d = corners[cell, TETRAHEDRA[t, 2]], corners[cell, TETRAHEDRA[t, 3]]
        ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
        wx, wy, wz = points[d, 0] - points[a, 0], points[d, 1] - points[a, 1], points[d, 2] - points[a, 2]
        part = abs(ux * (vy * wz - vz * wy) - uy * (vx * wz - vz * wx) + uz * (vx * wy - vy * wx)) / 6.0
        volume += part
        x += 0.25 * part * (points[a, 0] + points[b, 0] + points[c, 0] + points[d, 0])
        y += 0.25 * part * (points[a, 1] + points[b, 1] + points[c, 1] + points[d, 1])
        z += 0.25 * part * (points[a, 2] + points[b, 2] + points[c, 2] + points[d, 2])
    if not volume > 0.0:
        return
    x, y, z = x / volume, y / volume, z / volume
    column, row = int(np.floor(x - 0.5)), int(np.floor(y - 0.5))
    fx, fy = x - 0.5 - column, y - 0.5 - row
    for k in range(many):
        held = 0.0
        for t in range(6):
            a, b = corners[cell, TETRAHEDRA[t, 0]], corners[cell, TETRAHEDRA[t, 1]]
            c, d = corners[cell, TETRAHEDRA[t, 2]], corners[cell, TETRAHEDRA[t, 3]]
            ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
            wx, wy, wz = points[d, 0] - points[a, 0], points[d, 1] - points[a, 1], points[d, 2] - points[a, 2]
            part = abs(ux * (vy * wz - vz * wy) - uy * (vx * wz - vz * wx) + uz * (vx * wy - vy * wx)) / 6.0
            held += 0.25 * part * (values[a, k] + values[b, k] + values[c, k] + values[d, k])
        for down in range(2):
            for aside in range(2):
                r, c2 = row + down, column + aside
                if 0 <= r < tall and 0 <= c2 < wide and z < depth[r, c2]:
                    image[r, c2, k] += held * (fy if down else 1.0 - fy) * (fx if aside else 1.0 - fx)


@kernel
def nearest_walls(points: Array, faces: Array, depth: Array) -> None:
    """Lower depth (h, w) to that of the faces (m, 4) that are nearest at each pixel; points as of :func:`deposit`."""
    tall, wide = depth.shape
    for f in range(faces.shape[0]):
        for half in range(2):
            a, b, c = faces[f, 0], faces[f, 1 + half], faces[f, 2 + half]
            if b == c or a == c:
                continue
            ax, ay, bx, by, cx, cy = points[a, 0], points[a, 1], points[b, 0], points[b, 1], points[c, 0], points[c, 1]
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            if area == 0.0:
                continue
            for row in range(max(int(np.floor(min(ay, by, cy))), 0), min(int(np.ceil(max(ay, by, cy))), tall - 1) + 1):
                y = row + 0.5
                for column in range(max(int(np.floor(min(ax, bx, cx))), 0), min(int(np.ceil(max(ax, bx, cx))), wide - 1) + 1):
                    x = column + 0.5
                    u = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) / area
                    v = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / area
                    if u < -1e-6 or v < -1e-6 or u + v > 1.000001:
                        continue
                    depth[row, column] = min(depth[row, column], (1.0 - u - v) * points[a, 2] + u * points[b, 2] + v * points[c, 2])
