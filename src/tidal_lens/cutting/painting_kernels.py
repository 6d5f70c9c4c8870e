"""Surfaces and lines painted into a picture, rows by rows.

Every kernel writes into ``pixels`` (h, w, 4) uint8 and ``near`` (h, w) float32, which is larger where what is seen is nearer: one over
the depth in perspective, minus the depth for parallel rays. Both are linear on the screen. Points come as ``seen`` (n, 6): column and row
on the screen, how near, and right, up and forward of the eye; how near is NaN before the least depth.

What is seen through is put down pixel by pixel: ``head`` (h, w) int32 has the row in ``pool`` (n, 4) of what was put down there last, or 0;
of each row of the pool there is the one before at that pixel, how near it is, its colour, its opacity. Row 0 counts them, also those that
found no room. Where the pool is empty they are painted at once.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import kernel, piece

Array = Any

# What ``how`` (17,) holds.
LOW, HIGH, LOG, BEYOND, RED, GREEN, BLUE, OPACITY, AMBIENT, DIFFUSE, SCALE, PARALLEL, LEAST, LIFT, WIDTH, ACROSS, DOWN = range(17)
SIZE = 17
CLAMPED, GREY, HIDDEN = 0.0, 1.0, 2.0  # of BEYOND
_GREY = 158.0


@kernel
def begin_rows(ground: int, pixels: Array, near: Array, begin: int, end: int) -> None:
    """Nothing but ground in rows begin … end; pixels as (h, w) of four bytes each."""
    for row in range(begin, end):
        for column in range(near.shape[1]):
            pixels[row, column] = ground
            near[row, column] = -np.inf


@kernel
def begin_over(under: Array, depth: Array, parallel: bool, pixels: Array, near: Array, begin: int, end: int) -> None:
    """A picture with its depths in rows begin … end, to be painted over; pixels as (h, w) of four bytes each."""
    for row in range(begin, end):
        for column in range(near.shape[1]):
            pixels[row, column] = under[row, column]
            one = depth[row, column]
            if one == np.float32(np.inf):
                near[row, column] = -np.inf
            else:
                near[row, column] = -one if parallel else np.float32(1.0) / one


@kernel
def end_rows(near: Array, depth: Array, parallel: bool, begin: int, end: int) -> None:
    """Depths in rows begin … end: infinite where there is nothing."""
    for row in range(begin, end):
        for column in range(near.shape[1]):
            one = near[row, column]
            if parallel:
                depth[row, column] = -one
            else:
                depth[row, column] = np.float32(1.0) / one if one > np.float32(0.0) else np.float32(np.inf)


@kernel
def halve_rows(large: Array, out: Array, begin: int, end: int) -> None:
    """Rows begin … end of a picture (h, w, 4) half as large as another: each pixel the mean of four."""
    for row in range(begin, end):
        for column in range(out.shape[1]):
            for c in range(4):
                above = np.int32(large[2 * row, 2 * column, c]) + np.int32(large[2 * row, 2 * column + 1, c])
                below = np.int32(large[2 * row + 1, 2 * column, c]) + np.int32(large[2 * row + 1, 2 * column + 1, c])
                out[row, column, c] = (above + below + 2) >> 2


@kernel
def double_rows(small: Array, out: Array, begin: int, end: int) -> None:
    """Rows begin … end of a picture (h, 4 w) twice as large as another, straight between its pixels."""
    height, wide = small.shape
    mixed = np.empty(wide, np.int16)  # by a pass for each direction: the compiler takes several numbers at a time
    for row in range(begin, end):
        i = min(row // 2, height - 1)
        j = min(max(i + (1 if row & 1 else -1), 0), height - 1)
        for k in range(wide):
            mixed[k] = 3 * np.int16(small[i, k]) + np.int16(small[j, k])
        for c in range(4):
            out[row, c] = (4 * mixed[c] + 8) >> 4
        for k in range(1, wide // 4):
            for c in range(4):
                before, after = mixed[4 * k - 4 + c], mixed[4 * k + c]
                out[row, 8 * k - 4 + c] = (3 * before + after + 8) >> 4
                out[row, 8 * k + c] = (before + 3 * after + 8) >> 4
        for k in range(2 * wide - 4, out.shape[1]):
            out[row, k] = (4 * mixed[wide - 4 + (k & 3)] + 8) >> 4


@kernel
def place(points: Array, basis: Array, how: Array, seen: Array, begin: int, end: int) -> None:
    """Points (n, 3) begin … end as the eye sees them; basis (4, 3): the eye, and unit vectors to the right, up and forward."""
    for i in range(begin, end):
        x, y, z = points[i, 0] - basis[0, 0], points[i, 1] - basis[0, 1], points[i, 2] - basis[0, 2]
        right = x * basis[1, 0] + y * basis[1, 1] + z * basis[1, 2]
        up = x * basis[2, 0] + y * basis[2, 1] + z * basis[2, 2]
        depth = x * basis[3, 0] + y * basis[3, 1] + z * basis[3, 2]
        seen[i, 3], seen[i, 4], seen[i, 5] = right, up, depth
        if how[PARALLEL] > 0.0:
            seen[i, 0], seen[i, 1], seen[i, 2] = how[ACROSS] + how[SCALE] * right, how[DOWN] - how[SCALE] * up, -depth
        elif depth >= how[LEAST]:
            nearness = 1.0 / depth
            seen[i, 0] = how[ACROSS] + how[SCALE] * right * nearness
            seen[i, 1] = how[DOWN] - how[SCALE] * up * nearness
            seen[i, 2] = nearness
        else:
            seen[i, 0] = seen[i, 1] = seen[i, 2] = np.nan


@kernel
def normals_of(points: Array, faces: Array, out: Array) -> None:
    """Normals at points, added up over the faces (m, 4) there, each of unit length, onto out (n, 3) float32."""
    for f in range(faces.shape[0]):
        a, b, c, d = faces[f, 0], faces[f, 1], faces[f, 2], faces[f, 3]
        ux, uy, uz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
        if c == d:  # across from a the edge itself
            vx, vy, vz = points[c, 0] - points[b, 0], points[c, 1] - points[b, 1], points[c, 2] - points[b, 2]
        else:
            vx, vy, vz = points[d, 0] - points[b, 0], points[d, 1] - points[b, 1], points[d, 2] - points[b, 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if not size > 0.0:
            continue
        nx, ny, nz = nx / size, ny / size, nz / size
        for k in range(3 if c == d else 4):
            corner = faces[f, k]
            out[corner, 0] += nx
            out[corner, 1] += ny
            out[corner, 2] += nz


@piece
def _put(pixels: Array, near: Array, head: Array, pool: Array, row: int, column: int, nearness: float, value: float, light: float,
         how: Array, table: Array) -> None:
    """One pixel: in the colour of its value, lit, over what is there; or put down."""
    red, green, blue = how[RED], how[GREEN], how[BLUE]
    if table.shape[0] > 0:
        share = (np.log10(value) if how[LOG] > 0.0 else value) - how[LOW]
        span = how[HIGH] - how[LOW]
        beyond = how[BEYOND] != CLAMPED and (share < 0.0 or share > span)
        if beyond and how[BEYOND] == HIDDEN:
            return
        if beyond or np.isnan(share):
            red = green = blue = _GREY
        else:
            n = table.shape[0]
            place = share * n / span if span > 0.0 else 0.0
            k = 0 if place < 0.0 else n - 1 if place >= n else int(place)
            red, green, blue = float(table[k, 0]), float(table[k, 1]), float(table[k, 2])
    opacity = how[OPACITY]
    red, green, blue = min(red * light, 255.0), min(green * light, 255.0), min(blue * light, 255.0)
    if opacity < 1.0 and pool.shape[0] > 0:
        count = int(pool[0, 0]) + 1
        pool[0, 0] = count
        if count < pool.shape[0]:
            pool[count, 0], pool[count, 1], pool[count, 3] = head[row, column], nearness, opacity
            pool[count, 2] = int(red + 0.5) + 256 * int(green + 0.5) + 65536 * int(blue + 0.5)
            head[row, column] = count
        return
    if opacity < 1.0:
        rest = 1.0 - opacity
        red = opacity * red + rest * pixels[row, column, 0]
        green = opacity * green + rest * pixels[row, column, 1]
        blue = opacity * blue + rest * pixels[row, column, 2]
    else:
        near[row, column] = nearness
    pixels[row, column, 0], pixels[row, column, 1], pixels[row, column, 2] = int(red + 0.5), int(green + 0.5), int(blue + 0.5)


@piece
def _lit(nx: float, ny: float, nz: float, forward: Array, lights: Array, how: Array) -> float:
    """What share of its colour is seen of a face with a normal: lights (k, 3) are unit vectors times strengths."""
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    if not size > 0.0:
        return float(how[AMBIENT])
    side = -1.0 if nx * forward[0] + ny * forward[1] + nz * forward[2] > 0.0 else 1.0  # always that towards the eye
    total = 0.0
    for k in range(lights.shape[0]):
        total += max(side * (nx * lights[k, 0] + ny * lights[k, 1] + nz * lights[k, 2]) / size, 0.0)
    return float(how[AMBIENT] + how[DIFFUSE] * total)


@piece
def _fill(corner: Array, kind: int, forward: Array, lights: Array, how: Array, table: Array, pixels: Array, near: Array, head: Array,
          pool: Array, begin: int, end: int) -> None:
    """A triangle; corner (3, 7) holds column, row, how near, value and normal of each. Kind: 1 with values, 2 with normals, 3 both."""
    ax, ay, bx, by, cx, cy = corner[0, 0], corner[0, 1], corner[1, 0], corner[1, 1], corner[2, 0], corner[2, 1]
    low_x, high_x, low_y, high_y = min(ax, bx, cx), max(ax, bx, cx), min(ay, by, cy), max(ay, by, cy)
    width = near.shape[1]
    if not (low_y < end and high_y >= begin and low_x < width and high_x >= 0.0):
        return
    first, last = max(int(np.ceil(low_x - 0.5)), 0), min(int(np.floor(high_x - 0.5)), width - 1)
    top, bottom = max(int(np.ceil(low_y - 0.5)), begin), min(int(np.floor(high_y - 0.5)), end - 1)
    if first > last or top > bottom:
        return
    area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    if area == 0.0 or not np.isfinite(area):
        return
    over = 1.0 / area
    # Shares of the second and the third corner, linear on the screen.
    ux, uy, vx, vy = (cy - ay) * over, -(cx - ax) * over, -(by - ay) * over, (bx - ax) * over
    q0, q1, q2 = corner[0, 2], corner[1, 2] - corner[0, 2], corner[2, 2] - corner[0, 2]
    m0, m1, m2 = (1.0, 0.0, 0.0) if how[PARALLEL] > 0.0 else (q0, q1, q2)
    f0, f1, f2 = m0, m0 + m1, m0 + m2
    light = how[AMBIENT] + how[DIFFUSE] if kind < 2 else 1.0
    clear = how[OPACITY] < 1.0
    for row in range(top, bottom + 1):
        y = row + 0.5 - ay
        entered = False
        for column in range(first, last + 1):
            x = column + 0.5 - ax
            u, v = x * ux + y * uy, x * vx + y * vy
            w = 1.0 - u - v
            if u < 0.0 or v < 0.0 or w < 0.0:
                if entered:
                    break
                continue
            entered = True
            if clear and (u == 0.0 or v == 0.0):
                continue
            nearness = q0 + u * q1 + v * q2
            if not np.float32(nearness) > near[row, column]:
                continue
            mass = 1.0 / (m0 + u * m1 + v * m2)
            a, b, c = w * f0 * mass, u * f1 * mass, v * f2 * mass
            value = a * corner[0, 3] + b * corner[1, 3] + c * corner[2, 3]
            if kind >= 2:
                light = _lit(a * corner[0, 4] + b * corner[1, 4] + c * corner[2, 4], a * corner[0, 5] + b * corner[1, 5] + c * corner[2, 5],
                             a * corner[0, 6] + b * corner[1, 6] + c * corner[2, 6], forward, lights, how)
            _put(pixels, near, head, pool, row, column, nearness, value, light, how, table)


@piece
def _set_corner(corner: Array, k: int, seen: Array, point: int, values: Array, normals: Array, kind: int) -> None:
    corner[k, 0], corner[k, 1], corner[k, 2] = seen[point, 0], seen[point, 1], seen[point, 2]
    if kind & 1:
        corner[k, 3] = values[point]
    if kind & 2:
        corner[k, 4], corner[k, 5], corner[k, 6] = normals[point, 0], normals[point, 1], normals[point, 2]


@piece
def _between(corner: Array, k: int, seen: Array, a: int, b: int, values: Array, normals: Array, kind: int,
             how: Array) -> None:
    """The corner where the way from a point to another passes the least depth."""
    share = (how[LEAST] - seen[a, 5]) / (seen[b, 5] - seen[a, 5])
    right, up = seen[a, 3] + share * (seen[b, 3] - seen[a, 3]), seen[a, 4] + share * (seen[b, 4] - seen[a, 4])
    nearness = 1.0 / how[LEAST]
    corner[k, 0] = how[ACROSS] + how[SCALE] * right * nearness
    corner[k, 1] = how[DOWN] - how[SCALE] * up * nearness
    corner[k, 2] = nearness
    if kind & 1:
        corner[k, 3] = values[a] + share * (values[b] - values[a])
    if kind & 2:
        for n in range(3):
            corner[k, 4 + n] = normals[a, n] + share * (normals[b, n] - normals[a, n])


@kernel
def paint_faces(seen: Array, faces: Array, values: Array, normals: Array, forward: Array, lights: Array, how: Array, table: Array,
                pixels: Array, near: Array, head: Array, pool: Array, begin: int, end: int) -> None:
    """Faces (m, 4), a triangle repeats its last corner, in rows begin … end.

    values (n,) float32 and table (k, 4) uint8 colour them, or they are empty; normals (n, 3) light them, or are empty; forward (3,) of the
    eye; lights (k, 3) are unit vectors to lamps times their strengths.
    """
    kind = (1 if len(values) else 0) + (2 if len(normals) else 0)
    corner, clipped = np.zeros((3, 7)), np.zeros((4, 7))
    for f in range(faces.shape[0]):
        for half in range(2):
            a, b, c = faces[f, 0], faces[f, 1 + half], faces[f, 2 + half]
            if b == c:
                continue
            ax, ay, bx, by, cx, cy = seen[a, 0], seen[a, 1], seen[b, 0], seen[b, 1], seen[c, 0], seen[c, 1]
            total = ay + by + cy
            if total == total:
                low, high = min(ay, by, cy), max(ay, by, cy)
                if high < begin + 0.5 or low > end - 0.5 or np.ceil(low - 0.5) > high - 0.5:
                    continue
                low, high = min(ax, bx, cx), max(ax, bx, cx)
                if np.ceil(low - 0.5) > high - 0.5:
                    continue  # between pixels, as most are in thin layers
                _set_corner(corner, 0, seen, a, values, normals, kind)
                _set_corner(corner, 1, seen, b, values, normals, kind)
                _set_corner(corner, 2, seen, c, values, normals, kind)
                _fill(corner, kind, forward, lights, how, table, pixels, near, head, pool, begin, end)
                continue
            count = 0
            for k in range(3):
                p = a if k == 0 else b if k == 1 else c
                q = b if k == 0 else c if k == 1 else a
                here, there = seen[p, 5] >= how[LEAST], seen[q, 5] >= how[LEAST]
                if here:
                    _set_corner(clipped, count, seen, p, values, normals, kind)
                    count += 1
                if here != there:
                    _between(clipped, count, seen, p, q, values, normals, kind, how)
                    count += 1
            for k in range(1, count - 1):
                corner[0] = clipped[0]
                corner[1] = clipped[k]
                corner[2] = clipped[k + 1]
                _fill(corner, kind, forward, lights, how, table, pixels, near, head, pool, begin, end)


@kernel
def lay_over(head: Array, pool: Array, pixels: Array, begin: int, end: int) -> None:
    """What was put down in rows begin … end is painted, at each pixel from the farthest on."""
    for row in range(begin, end):
        for column in range(head.shape[1]):
            n, first = head[row, column], 0
            while n > 0:  # the last put down comes first: of two as near it is the nearer
                following, nearness = int(pool[n, 0]), pool[n, 1]
                if first == 0 or pool[first, 1] >= nearness:
                    pool[n, 0] = first
                    first = n
                else:
                    before, after = first, int(pool[first, 0])
                    while after > 0 and pool[after, 1] < nearness:
                        before, after = after, int(pool[after, 0])
                    pool[n, 0] = after
                    pool[before, 0] = n
                n = following
            if first == 0:
                continue
            red, green, blue = float(pixels[row, column, 0]), float(pixels[row, column, 1]), float(pixels[row, column, 2])
            while first > 0:
                colour, opacity = int(pool[first, 2]), pool[first, 3]
                red += opacity * ((colour & 255) - red)
                green += opacity * (((colour >> 8) & 255) - green)
                blue += opacity * ((colour >> 16) - blue)
                first = int(pool[first, 0])
            pixels[row, column, 0], pixels[row, column, 1], pixels[row, column, 2] = int(red + 0.5), int(green + 0.5), int(blue + 0.5)


@kernel
def paint_lines(seen: Array, ways: Array, values: Array, how: Array, table: Array, pixels: Array, near: Array, begin: int,
                end: int) -> None:
    """Straight ways from point to point (m, 2), so many pixels wide, in rows begin … end; values and table as for faces."""
    width = near.shape[1]
    kind = 1 if len(values) else 0
    ends, normals, head, pool = np.zeros((2, 7)), np.zeros((0, 3), np.float32), np.zeros((0, 0), np.int32), np.zeros((0, 4))
    wide = max(int(how[WIDTH] + 0.5), 1)
    for s in range(ways.shape[0]):
        a, b = ways[s, 0], ways[s, 1]
        here, there = not np.isnan(seen[a, 2]), not np.isnan(seen[b, 2])
        if here and there:
            low, high = min(seen[a, 1], seen[b, 1]), max(seen[a, 1], seen[b, 1])
            if low >= end + wide or high < begin - wide:
                continue
        if not (here or there) or not (seen[a, 5] - seen[a, 5] == 0.0 and seen[b, 5] - seen[b, 5] == 0.0):
            continue
        if here:
            _set_corner(ends, 0, seen, a, values, normals, kind)
        else:
            _between(ends, 0, seen, a, b, values, normals, kind, how)
        if there:
            _set_corner(ends, 1, seen, b, values, normals, kind)
        else:
            _between(ends, 1, seen, b, a, values, normals, kind, how)
        dx, dy = ends[1, 0] - ends[0, 0], ends[1, 1] - ends[0, 1]
        flat = abs(dx) >= abs(dy)
        k, o = (0, 1) if flat else (1, 0)  # along which the way is gone pixel by pixel, and the other
        size = dx if flat else dy
        if size == 0.0:
            continue
        low, high = min(ends[0, k], ends[1, k]), max(ends[0, k], ends[1, k])
        least, most = (0, width - 1) if flat else (begin, end - 1)
        for n in range(max(int(np.ceil(min(low, 1e9) - 0.5)), least), min(int(np.floor(max(high, -1e9) - 0.5)), most) + 1):
            t = (n + 0.5 - ends[0, k]) / size
            middle = ends[0, o] + t * (ends[1, o] - ends[0, o])
            nearness = ends[0, 2] + t * (ends[1, 2] - ends[0, 2])
            part = t if how[PARALLEL] > 0.0 else t * ends[1, 2] / nearness
            value = ends[0, 3] + part * (ends[1, 3] - ends[0, 3])
            if not abs(middle) < 1e9:
                continue
            side = int(np.floor(middle - 0.5 * (wide - 1)))
            for m in range(side, side + wide):
                row, column = (m, n) if flat else (n, m)
                if row < begin or row >= end or column < 0 or column >= width:
                    continue
                if nearness + how[LIFT] > near[row, column]:
                    _put(pixels, near, head, pool, row, column, nearness + how[LIFT], value, 1.0, how, table)
