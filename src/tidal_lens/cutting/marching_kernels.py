"""Compiled loops that cut cells where a node value, or a form of place, takes a level.

``form`` (10,) stands in for node values where there are none (an empty array): that of a plane or a quadric,
f(p) = a₀ x² + a₁ y² + a₂ z² + a₃ x y + a₄ x z + a₅ y z + a₆ x + a₇ y + a₈ z, and a₉ not zero where any of the first six is not.
A tree is that of :mod:`tidal_lens.sampling.mesh`: leaves of eight cells, eight to one above them.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import ask_early, folded, kernel, piece

Array = Any
U = np.uint64  # of unsigned numbers none needs to be tested for a negative sign
_EMPTY = -1


@folded
def _formed(form: Array, x: float, y: float, z: float) -> float:
    linear = float(form[6] * x + form[7] * y + form[8] * z)
    if form[9] != 0.0:
        linear += x * (form[0] * x + form[3] * y + form[4] * z) + y * (form[1] * y + form[5] * z) + form[2] * z * z
    return linear


@piece
def _may_meet(boxes: Array, row: Any, form: Array, level: float) -> bool:
    """Whether a form can take a level in a box: it differs from that at the middle by its slope there and its curvature at most."""
    cx, cy, cz = 0.5 * (boxes[row, 0] + boxes[row, 3]), 0.5 * (boxes[row, 1] + boxes[row, 4]), 0.5 * (boxes[row, 2] + boxes[row, 5])
    hx, hy, hz = 0.5 * (boxes[row, 3] - boxes[row, 0]), 0.5 * (boxes[row, 4] - boxes[row, 1]), 0.5 * (boxes[row, 5] - boxes[row, 2])
    gx, gy, gz = form[6], form[7], form[8]
    reach = 0.0
    if form[9] != 0.0:
        gx += 2.0 * form[0] * cx + form[3] * cy + form[4] * cz
        gy += 2.0 * form[1] * cy + form[3] * cx + form[5] * cz
        gz += 2.0 * form[2] * cz + form[4] * cx + form[5] * cy
        reach = (abs(form[0]) * hx * hx + abs(form[1]) * hy * hy + abs(form[2]) * hz * hz + abs(form[3]) * hx * hy
                 + abs(form[4]) * hx * hz + abs(form[5]) * hy * hz)
    reach += abs(gx) * hx + abs(gy) * hy + abs(gz) * hz
    size = abs(form[6] * cx) + abs(form[7] * cy) + abs(form[8] * cz) + abs(level)
    return bool(abs(_formed(form, cx, cy, cz) - level) <= reach + 1e-12 * (reach + size))


@kernel
def leaves_met(starts: Array, sizes: Array, top: int, boxes: Array, extremes: Array, first: int, form: Array, level: float,
               out: Array) -> int:
    """Leaves of a block's tree where the level may be taken, in order; how many.

    starts, sizes (levels,): rows of ``boxes`` of each level; extremes (rows less ``first``, 2): least and greatest node values, or empty
    where the form decides.
    """
    stack = np.empty((128, 2), np.int64)
    count = depth = 0
    by_value, planar = len(extremes) > 0, form[9] == 0.0
    a, b, c = form[6], form[7], form[8]
    sizes_of = abs(a), abs(b), abs(c)
    tier, begin, end = top + 1, 0, sizes[top]
    while True:
        for node in range(end - 1, begin - 1, -1) if tier > 1 else range(begin, end):
            row = U(starts[tier - 1] + node)
            if by_value:
                low, high = extremes[row - U(first), 0], extremes[row - U(first), 1]
                met = low <= level <= high
            elif planar:
                x, y, z = boxes[row, 0], boxes[row, 1], boxes[row, 2]
                p, q, r = boxes[row, 3], boxes[row, 4], boxes[row, 5]
                reach = sizes_of[0] * (p - x) + sizes_of[1] * (q - y) + sizes_of[2] * (r - z)
                middle = a * (x + p) + b * (y + q) + c * (z + r)
                met = abs(middle - 2.0 * level) <= reach * (1.0 + 1e-9) + 1e-12 * abs(middle)
            else:
                met = _may_meet(boxes, row, form, level)
            if met and tier == 1:
                out[count] = node
                count += 1
            elif met:
                stack[depth, 0], stack[depth, 1] = tier - 1, node
                depth += 1
        if depth == 0:
            return count
        depth -= 1
        tier, node = stack[depth, 0], stack[depth, 1]
        begin, end = node * 8, min(node * 8 + 8, sizes[tier - 1])


@folded
def structured_corners(cell: Any, first: int, ni: int, nj: int, nodes: Array, at: Any) -> None:
    """Write the nodes of a cell of a structured block."""
    ci, cj = ni - 1, nj - 1
    k = cell // (ci * cj)
    rest = cell - k * (ci * cj)
    j = rest // ci
    n = first + rest - j * ci + ni * (j + nj * k)
    nodes[at, 0], nodes[at, 1], nodes[at, 2], nodes[at, 3] = n, n + 1, n + 1 + ni, n + ni
    n += ni * nj
    nodes[at, 4], nodes[at, 5], nodes[at, 6], nodes[at, 7] = n, n + 1, n + 1 + ni, n + ni


@kernel
def leaf_extremes(g: Array, values: Array, out: Array, begin: int, end: int) -> None:
    """Least and greatest node value of the cells of leaves begin … end, shape (leaves, 2); numbers that are none do not count."""
    _points, block, rows, _types, order = g
    nodes = np.empty((1, 8), np.int32)
    structured, first, base, many = block[0] == 1, block[1], block[7], block[6]
    for leaf in range(begin, end):
        low, high = np.inf, -np.inf
        for entry in range(leaf * 8, min(leaf * 8 + 8, many)):
            if structured:
                structured_corners(np.int64(order[U(block[9] + entry)]), first, block[2], block[3], nodes, U(0))
            for c in range(8):
                node = np.int64(nodes[U(0), U(c)]) if structured else rows[U(base + entry), U(c)] + first
                v = np.float64(values[U(node)])
                low, high = v if v < low else low, v if v > high else high
        out[leaf, 0], out[leaf, 1] = low, high


@kernel
def parent_extremes(lower: Array, upper: Array) -> None:
    """The same of a level from that below, eight to one."""
    for n in range(upper.shape[0]):
        upper[n, 0], upper[n, 1] = np.inf, -np.inf
        for c in range(n * 8, min(n * 8 + 8, lower.shape[0])):
            upper[n, 0] = min(upper[n, 0], lower[c, 0])
            upper[n, 1] = max(upper[n, 1], lower[c, 1])


@folded
def _kind_of(cell_type: Any) -> Any:
    return 1 if cell_type == 12 else 2 if cell_type == 10 else cell_type - 10


@folded
def _look_at_values(source: Array, row: Any, first: int, points: Array, values: Array, step: Any, shift: Any, form: Array, level: float,
                    nodes: Array, at: Array, to: Any, corners: int) -> Any:
    """Write nodes and values of a cell; a bit for each corner not below the level, and one 8 bits on for each not above it.

    Loops of fixed length in which nothing is read that was written: so the compiler takes all corners at a time. The fourth point of a
    tetrahedron is corner 4.
    """
    found: Any = 0
    for c in range(corners):
        node = source[row, U(c if corners == 8 or c < 3 else 4)] + first
        v: Any = np.float64(values[U(node) * step + shift])
        nodes[to, U(c)], at[to, U(c)] = node, v
        found |= (v >= level) << c | (v <= level) << (c + 8)
    return found


@folded
def _look_at_plane(source: Array, row: Any, first: int, points: Array, values: Array, step: Any, shift: Any, form: Array, level: float,
                   nodes: Array, at: Array, to: Any, corners: int) -> Any:
    """The same of a form without terms of the second degree."""
    found: Any = 0
    for c in range(corners):
        node = source[row, U(c if corners == 8 or c < 3 else 4)] + first
        v: Any = form[6] * points[U(node), 0] + form[7] * points[U(node), 1] + form[8] * points[U(node), 2]
        nodes[to, U(c)], at[to, U(c)] = node, v
        found |= (v >= level) << c | (v <= level) << (c + 8)
    return found


@folded
def _look_at_quadric(source: Array, row: Any, first: int, points: Array, values: Array, step: Any, shift: Any, form: Array, level: float,
                     nodes: Array, at: Array, to: Any, corners: int) -> Any:
    """The same of any form."""
    found: Any = 0
    for c in range(corners):
        node = source[row, U(c if corners == 8 or c < 3 else 4)] + first
        v: Any = _formed(form, points[U(node), 0], points[U(node), 1], points[U(node), 2])
        nodes[to, U(c)], at[to, U(c)] = node, v
        found |= (v >= level) << c | (v <= level) << (c + 8)
    return found


@folded
def _crossed(look: Any, g: Array, leaves: Array, values: Array, stride: int, offset: int, form: Array, level: float, room: Array,
             own: Array, begin: int, end: int) -> None:
    # A function of its own for each look, not a number that says which: what is called with another number is compiled anew, all of it.
    points, block, rows, types, order = g
    nodes, at, codes, told = room
    count = 0
    step, shift = U(stride), U(offset)
    structured, first, ni, nj, many, base = block[0] == 1, block[1], block[2], block[3], block[6], block[7]
    number, enough = begin, len(codes) - 8
    ahead, by_value = len(leaves) > 0 and not structured, len(values) > 0
    while number < end and count <= enough:
        leaf = leaves[number] if len(leaves) > 0 else number
        number += 1
        if ahead:  # rows of a leaf to come, and what stands at the corners of the next, from memory meanwhile; of tetrahedra these are few
            later = U(base + leaves[min(number + 2, end - 1)] * 8)
            for n in range(8):
                ask_early(rows, later + U(n))
            after, last = leaves[min(number, end - 1)] * 8, U(base + many - 1)
            for n in range(8):
                beside = min(U(base + after + n), last)
                if rows[beside, 14] != 2:
                    for c in (0, 2, 4, 6):
                        node = U(rows[beside, U(c)] + first)
                        if by_value:
                            ask_early(values, node * step + shift)
                        else:
                            ask_early(points, node)
        for entry in range(leaf * 8, min(leaf * 8 + 8, many)):
            to, row = U(count), U(base + entry)
            kind: Any = 0
            full = 0xFF
            if structured:
                structured_corners(np.int64(order[U(block[9] + entry)]) if len(order) > 0 else entry, first, ni, nj, own, U(0))
                found = look(own, U(0), 0, points, values, step, shift, form, level, nodes, at, to, 8)
            else:
                kind = _kind_of(np.int64(types[row])) if len(types) > 0 else np.int64(rows[row, 14])
                if kind == 2:
                    full = 0xF
                    found = look(rows, row, first, points, values, step, shift, form, level, nodes, at, to, 4)
                else:
                    found = look(rows, row, first, points, values, step, shift, form, level, nodes, at, to, 8)
            above = found & 255
            codes[to] = 256 * kind + above
            count += (above | found >> 8) == full and above != full and above != 0
    told[0], told[1] = count, number


@kernel
def crossed(g: Array, leaves: Array, values: Array, stride: int, offset: int, form: Array, level: float, room: Array, begin: int,
            end: int) -> None:
    """Cells with corners on both sides of a level in leaves begin … end, or as many of them as there is room for.

    Parameters
    ----------
    g : tuple
        The block: points (n, 3); its row (10,) in the mesh's table of blocks; corners of its cells (cells, 8 or 16) int32, the kind of a
        cell in column 14 unless its type is told; types (cells,) uint8 of cells as they stand in the file (see
        :mod:`tidal_lens.flow.grid`), or empty; cells of a structured block (cells,) int32 in the order of the tree, or empty.
    leaves : (m,) int64
        Numbers of leaves, or empty for all.
    values, stride, offset : (stride n,)
        That of node i stands at stride i + offset.
    room : tuple
        Written: corners of the cells (room, 8) int32, values there (room, 8), rows of the table of cases (room,) int32; how many cells, and
        the leaf to go on from, (2,) int64. Cells with a value that is none are left out. Of a tetrahedron the four points.
    """
    _crossed(_look_at_values, g, leaves, values, stride, offset, form, level, room, np.empty((1, 8), np.int32), begin, end)


@kernel
def crossed_by_plane(g: Array, leaves: Array, values: Array, stride: int, offset: int, form: Array, level: float, room: Array, begin: int,
                     end: int) -> None:
    """The same where a form without terms of the second degree decides."""
    _crossed(_look_at_plane, g, leaves, values, stride, offset, form, level, room, np.empty((1, 8), np.int32), begin, end)


@kernel
def crossed_by_quadric(g: Array, leaves: Array, values: Array, stride: int, offset: int, form: Array, level: float, room: Array, begin: int,
                       end: int) -> None:
    """The same for any form."""
    _crossed(_look_at_quadric, g, leaves, values, stride, offset, form, level, room, np.empty((1, 8), np.int32), begin, end)


@folded
def _number_of(slots: Array, mask: int, key: Any) -> Any:
    """Place of a key in a table of 2^n slots, or the empty place where it belongs."""
    h = U(key) * U(0x9E3779B97F4A7C15)
    place = (h >> U(32)) & U(mask)
    while slots[place] != _EMPTY and slots[place] != key:
        place = (place + U(1)) & U(mask)
    return place


@folded
def _share(a: float, b: float, level: float, bend: float) -> float:
    """Where between two nodes the level is taken, from 0 to 1; the value runs as a parabola of second coefficient ``bend``."""
    linear = b - a - bend
    gap = level - a
    if bend == 0.0:
        return gap / linear
    root = np.sqrt(max(linear * linear + 4.0 * bend * gap, 0.0))
    q = 0.5 * (linear + root) if linear >= 0.0 else 0.5 * (linear - root)
    one, two = q / bend * -1.0, (gap / q if q != 0.0 else 0.0)
    t = two if abs(two - 0.5) <= abs(one - 0.5) else one
    return min(max(t, 0.0), 1.0)


@kernel
def march(points: Array, form: Array, level: float, room: Array, tables: Array, hashed: Array, out: Array) -> None:
    """Vertices and faces of crossed cells (see :func:`crossed`), each vertex once.

    Parameters
    ----------
    room : tuple
        What :func:`crossed` wrote. At last how many vertices and faces there are.
    tables : tuple
        Those of :mod:`tidal_lens.cutting.cases`.
    hashed : tuple
        Room for a table of keys, of at least twice the vertices of all cells: (2^n,) int64, (2^n,) int32.
    out : tuple
        Written: keys (room,) int64, the two nodes of a vertex in one number, the lesser first (the same twice if it is a node); shares
        (room,) of the way from the first to the second; places (room, 3); faces (room, 4) int32, a triangle repeats its last.
    """
    nodes, at, codes, told = room
    vertices, cases = tables
    slots, numbers = hashed
    keys, shares, places, faces = out
    count, uses = told[0], 0
    for cell in range(count):
        uses += vertices[codes[cell], 0]
    size = 64
    while size < 2 * uses:
        size *= 2
    mask = size - 1
    for slot in range(size):
        slots[U(slot)] = _EMPTY
    local = np.empty(12, np.int64)
    n_vertices = n_faces = 0
    bent = form[9] != 0.0
    for number in range(count):
        at_cell = U(number)
        code = U(codes[at_cell])
        for v in range(vertices[code, 0]):
            high, low = vertices[code, U(1 + 2 * v)], vertices[code, U(2 + 2 * v)]
            a, b = np.int64(nodes[at_cell, high]), np.int64(nodes[at_cell, low])
            va, vb = at[at_cell, high], at[at_cell, low]
            if va == level:
                b, vb = a, va
            elif b < a:
                a, b, va, vb = b, a, vb, va
            key = (a << 32) | b
            place = _number_of(slots, mask, key)
            if slots[place] == _EMPTY:
                slots[place] = key
                numbers[place] = n_vertices
                i, j, to = U(a), U(b), U(n_vertices)
                t = 0.0
                if a != b:
                    bend = 0.0
                    if bent:
                        dx, dy, dz = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
                        bend = (form[0] * dx * dx + form[1] * dy * dy + form[2] * dz * dz + form[3] * dx * dy + form[4] * dx * dz
                                + form[5] * dy * dz)
                    t = _share(va, vb, level, bend)
                keys[to] = key
                shares[to] = t
                places[to, 0] = points[i, 0] * (1.0 - t) + points[j, 0] * t
                places[to, 1] = points[i, 1] * (1.0 - t) + points[j, 1] * t
                places[to, 2] = points[i, 2] * (1.0 - t) + points[j, 2] * t
                n_vertices += 1
            local[v] = numbers[place]
        for f in range(cases[code, 0]):
            c0, c1 = local[cases[code, U(1 + 4 * f)]], local[cases[code, U(2 + 4 * f)]]
            c2, c3 = local[cases[code, U(3 + 4 * f)]], local[cases[code, U(4 + 4 * f)]]
            # Vertices that are nodes can coincide: what is left may be a triangle, or nothing.
            if c0 == c1:
                c1, c2 = c2, c3
            if c1 == c2:
                c2 = c3
            if c3 == c0:
                c3 = c2
            if c0 == c1 or c1 == c2 or c2 == c0:
                continue
            to = U(n_faces)
            faces[to, 0], faces[to, 1], faces[to, 2], faces[to, 3] = c0, c1, c2, c3
            n_faces += 1
    told[0], told[1] = n_vertices, n_faces


@kernel
def first_ones(keys: Array, lot: Any, lots: int, hashed: Array, first: Array) -> int:
    """Where each key of a lot (of so many, told apart by a bit of the key's number in the table) stands first.

    Parameters
    ----------
    keys : (n,) int64
        Keys of the vertices of all parts, one after another.
    hashed : tuple
        As of :func:`march`, for this lot; its slots are empty at first.
    first : (n,) int32
        Written, of keys of the lot.

    Returns
    -------
    int
        How many different ones there are, or -1 where there is no room for so many.
    """
    slots, numbers = hashed
    mask, count = len(slots) - 1, 0
    for n in range(len(keys)):
        key = keys[U(n)]
        if lots > 1 and np.int64((U(key) * U(0x9E3779B97F4A7C15)) >> U(31)) & 1 != lot:
            continue
        place = _number_of(slots, mask, key)
        if slots[place] == _EMPTY:
            if 4 * count > 3 * mask:
                return -1
            slots[place] = key
            numbers[place] = n
            count += 1
        first[U(n)] = numbers[place]
    return count


@kernel
def number_in_order(first: Array, number: Array) -> int:
    """Numbers (n,) of vertices, each once, in the order in which they come; how many. ``first`` as of :func:`first_ones`."""
    count = 0
    for n in range(len(first)):
        at = U(n)
        if first[at] == n:
            number[at] = count
            count += 1
        else:
            number[at] = number[U(first[at])]
    return count


@kernel
def join_part(part: Array, start: int, first: Array, number: Array, mirrored: Any, out: Array, faces: Array) -> None:
    """Put a part of a cut where it belongs in the whole.

    Parameters
    ----------
    part : tuple
        Its keys (n,), shares (n,), places (n, 3) and faces (m, 4), as of :func:`march`.
    start : int
        Vertices of the parts before it.
    first, number : (all,)
        As of :func:`first_ones` and :func:`number_in_order`.
    mirrored : bool
        Faces are to be seen from the other side.
    out : tuple
        Written: nodes (all, 2), weights (all, 2), places (all, 3) of the vertices that come first with this part.
    faces : (m, 4) int64
        Written: its faces by the numbers of the whole.
    """
    keys, shares, places, corners = part
    ids, weights, points = out
    for n in range(len(keys)):
        at, one = U(n), U(start + n)
        if first[one] == start + n:
            key, to = keys[at], U(number[one])
            ids[to, 0], ids[to, 1] = key >> 32, key & 0xFFFFFFFF
            weights[to, 0], weights[to, 1] = 1.0 - shares[at], shares[at]
            points[to, 0], points[to, 1], points[to, 2] = places[at, 0], places[at, 1], places[at, 2]
    for n in range(len(corners)):
        at = U(n)
        a, b = np.int64(number[U(start + corners[at, 0])]), np.int64(number[U(start + corners[at, 1])])
        c, d = np.int64(number[U(start + corners[at, 2])]), np.int64(number[U(start + corners[at, 3])])
        if mirrored:
            if c == d:
                a, c, d = c, a, a
            else:
                a, b, c, d = d, c, b, a
        faces[at, 0], faces[at, 1], faces[at, 2], faces[at, 3] = a, b, c, d
