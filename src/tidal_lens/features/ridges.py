"""Ridges of a value over a wall that run along the wall shear: where lines draw together most."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features.wall_sheet import WallSheet

Vec = NDArray[np.float64]
LOW = 0.4  # ln: least on a ridge
ALONG = 0.866  # cosine of 30°: of the angle between a ridge and the shear
SIDES = ((0, 1), (1, 2), (2, 0))


def ridge_lines(sheet: WallSheet, height: Vec) -> list[Vec]:
    """Ridges of vertex values (n,), each a line (k, 3) in the sense of the shear."""
    ways = sheet.shear / np.maximum(np.linalg.norm(sheet.shear, axis=1), 1e-300)[:, None]
    across = np.cross(sheet.normals, ways)
    slope = sheet.slopes(height)
    at = np.column_stack([sheet.at_vertices(slope[:, d]) for d in range(3)])
    side = (across * at).sum(axis=1)
    tri = sheet.triangles
    # Of each edge where the slope across the shear changes sign, the place.
    bend = (sheet.slopes(side) * across[tri].mean(axis=1)).sum(axis=1)
    keys, places, has = [], [], []
    count = len(sheet.points)
    for a, b in SIDES:
        one, two = tri[:, a], tri[:, b]
        change = (side[one] > 0.0) != (side[two] > 0.0)
        change &= (ways[one] * ways[two]).sum(axis=1) > 0.0
        low, high = np.minimum(one, two), np.maximum(one, two)
        gap = side[low] - side[high]
        share = np.where(change, side[low] / np.where(gap != 0.0, gap, 1.0), 0.0)
        keys.append(low * count + high)
        places.append(sheet.points[low] + share[:, None] * (sheet.points[high] - sheet.points[low]))
        has.append(change)
    on = np.column_stack(has)
    good = (on.sum(axis=1) == 2) & (bend < 0.0) & (height[tri].mean(axis=1) > LOW)
    rows = np.flatnonzero(good)
    if not len(rows):
        return []
    first = np.argmax(on[rows], axis=1)
    last = 2 - np.argmax(on[rows][:, ::-1], axis=1)
    key, place = np.stack(keys, axis=1), np.stack(places, axis=1)
    a, b = place[rows, first], place[rows, last]
    way = b - a
    mean = ways[tri[rows]].mean(axis=1)
    size = np.linalg.norm(way, axis=1) * np.linalg.norm(mean, axis=1)
    cosine = (way * mean).sum(axis=1) / np.maximum(size, 1e-300)
    along = np.abs(cosine) > ALONG
    rows, cosine = rows[along], cosine[along]
    start = np.where(cosine > 0.0, key[rows, first[along]], key[rows, last[along]])
    end = np.where(cosine > 0.0, key[rows, last[along]], key[rows, first[along]])
    where = dict(zip(key[rows, first[along]].tolist(), a[along], strict=True))
    where |= dict(zip(key[rows, last[along]].tolist(), b[along], strict=True))
    return _chained(start.tolist(), end.tolist(), where)


def _chained(starts: list[int], ends: list[int], where: dict[int, Vec]) -> list[Vec]:
    """Segments end to end."""
    after = dict(zip(starts, ends, strict=True))
    reached = set(after.values())
    out, seen = [], set()
    for head in [*sorted(set(after) - reached), *sorted(after)]:  # open lines first, rings after them
        if head in seen or head not in after:
            continue
        line, at = [head], head
        seen.add(head)
        while at in after:
            at = after[at]
            line.append(at)
            if at in seen:
                break
            seen.add(at)
        out.append(np.array([where[k] for k in line]))
    return out
