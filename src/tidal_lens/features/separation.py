"""Separation and attachment lines on walls: ridges of how much wall lines draw together, joined along wall lines.

A separation line is where the lines of the wall shear have drawn together most on their way; an attachment line where they draw apart most.
This is a definition by what can be seen in an oil film; a line of zero shear across a wall is another, and lies elsewhere in swept flow.

References
----------
.. [1] Kenwright 1998, Automatic detection of open and closed separation and attachment lines, IEEE Visualization.
.. [2] Surana, Grunberg & Haller 2006, Exact theory of three-dimensional flow separation, J. Fluid Mech. 564.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features.finding import Finding, Number, Reason, Sort, between, over
from tidal_lens.features.ridges import LOW, ridge_lines
from tidal_lens.features.wall_points import WallPoint, apart, wall_points
from tidal_lens.features.wall_sheet import WallSheet
from tidal_lens.flow.case import Flow
from tidal_lens.tracing.surface_lines import lines_on
from tidal_lens.work import Token, stage

Vec = NDArray[np.float64]
REACH = 0.08  # of the walls' diagonal: along which lines are watched
LEAST_CELLS = 10.0  # the same in widths of triangles
CLEAR = 0.8  # ln: greatest drawing together along a line
LONG = 0.08  # of the walls' diagonal
WALK, NEAR = 10.0, 1.5  # widths: how far the next piece of a line is looked for, and how near it must be
SETTLE = 1.5  # widths: a wall line that is no further from a ridge belongs to it
DROP = 0.35  # of the ln: where a line that is gone on with ends
AWAY = 3.0  # widths between critical points that are two
DEFINITION = "where lines of the wall shear draw together most (not where the shear is zero)"
Kind = Literal["separation", "attachment"]


@dataclass(frozen=True, eq=False)
class Walls:
    """What was found on walls."""

    findings: list[Finding]
    index_sum: int
    euler: int | None  # of a closed wall


def find_separation(flow: Flow, shear: NDArray[Any], token: Token | None = None) -> Walls:
    """Separation and attachment lines and critical points.

    Parameters
    ----------
    flow : Flow
        The flow.
    shear : ndarray, shape (nodes, 3)
        Wall shear stress, or another vector that lies in the walls.
    token : Token, optional
        Progress and cancel.
    """
    sheet = WallSheet.of(flow, shear)
    if sheet is None or not np.abs(sheet.shear).max(initial=0.0) > 0.0:
        return Walls([], 0, None)
    if flow.normal is not None:
        return Walls(_in_plane(flow, sheet), 0, None)
    points = wall_points(sheet)
    found = []
    kinds: tuple[Kind, Kind] = ("separation", "attachment")
    for n, kind in enumerate(kinds):
        found += _lines(flow, sheet, points, kind, stage(token, 0.5 * n, 0.5 + 0.5 * n))
    total = sum(p.index for p in points)
    euler = sheet.euler if sheet.is_closed else None
    far = apart(points)
    return Walls([*found, *(_point(p, float(d), total, euler) for p, d in zip(points, far, strict=True))], total, euler)


def _lines(flow: Flow, sheet: WallSheet, points: list[WallPoint], kind: Kind, token: Token | None) -> list[Finding]:
    from scipy.spatial import cKDTree

    width = float(np.median(sheet.width))
    sign = -1.0 if kind == "separation" else 1.0
    reach = max(REACH * sheet.diagonal, LEAST_CELLS * width)
    height = _drawn(sheet, sign, reach, token)
    chains = [c for c in ridge_lines(sheet, height) if len(c) > 2]
    at = np.zeros(flow.n_points)
    at[sheet.nodes] = height
    rest = np.array([p.place for p in points]).reshape(-1, 3)
    if not chains:
        return []
    down = kind == "separation"
    lines = _joined(_Ways.of(sheet, chains, at, token, down=down), width, rest)
    tree = cKDTree(sheet.points)
    out = []
    for line in (lines if down else [line[::-1] for line in lines]):
        near = tree.query(line)[1]
        out.append(_finding(sheet, line, height[near], sheet.width[near], kind, rest))
    return _without_doubles(out, sheet.diagonal)


def _drawn(sheet: WallSheet, sign: float, reach: float, token: Token | None) -> Vec:
    """Ln of how much lines draw together (separation) or apart (attachment), at the vertices."""
    once = sheet.at_vertices(sheet.gathered(sign, reach, token))
    return sheet.at_vertices(once[sheet.triangles].mean(axis=1))


def _length(line: Vec) -> float:
    return float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())


def _walked(sheet: WallSheet, seeds: Vec, height: Vec, token: Token | None, *, down: bool) -> dict[int, tuple[Vec, Vec]]:
    """The wall line from each seed, downstream or upstream, and the height of the ridge on it."""
    lines = lines_on(sheet, sheet.shear, seeds, direction="forward" if down else "backward", max_length=1.5 * sheet.diagonal,
                     max_points=2000, token=token)
    heights = lines.stencil.apply(height)
    out: dict[int, tuple[Vec, Vec]] = {}
    for n, seed in enumerate(lines.seeds.tolist()):
        rows = slice(int(lines.offsets[n]), int(lines.offsets[n + 1]))
        path, level = lines.points[rows], heights[rows]
        out[seed] = (path, level) if down else (path[::-1], level[::-1])
    return out


def _settled(ridge: Vec, path: Vec, width: float) -> Vec:
    """The wall line from the beginning of a ridge in its place, as far as it goes along it: wall lines draw towards the line that is meant.

    A ridge lies where lines have drawn together most on their way, a little behind on curves.
    """
    from scipy.spatial import cKDTree

    off, beside = (np.asarray(a) for a in cKDTree(ridge).query(path))
    stay = np.asarray(off < SETTLE * width)
    stop = int(np.argmin(stay)) if not stay.all() else len(path)
    ends = np.flatnonzero(beside[:stop] >= len(ridge) - 2)
    stop = int(ends[0]) + 1 if len(ends) else stop
    return path[:stop] if stop > 2 and beside[stop - 1] > 0.8 * len(ridge) else ridge


@dataclass(frozen=True, eq=False)
class _Ways:
    """Chains in the sense in which they are gone on with, and the wall line from the end of each, with the height of the ridge on it."""

    chains: list[Vec]
    paths: dict[int, tuple[Vec, Vec]]

    @staticmethod
    def of(sheet: WallSheet, chains: list[Vec], height: Vec, token: Token | None, *, down: bool) -> _Ways:
        chains = chains if down else [c[::-1] for c in chains]
        heads = _walked(sheet, np.array([c[0] for c in chains]), height, token, down=down)
        chains = [_settled(c, heads[n][0], float(np.median(sheet.width))) if n in heads else c for n, c in enumerate(chains)]
        return _Ways(chains, _walked(sheet, np.array([c[-1] for c in chains]), height, token, down=down))

    def wishes(self, width: float) -> list[tuple[float, int, int, int]]:
        """How far along which wall line which chain's beginning is, and at which of its points; the nearest first."""
        from scipy.spatial import cKDTree

        tree = cKDTree(np.array([c[0] for c in self.chains]))
        out = []
        for n, (path, _) in self.paths.items():
            gone = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(path, axis=0), axis=1))])[:len(path)]
            beside: Iterable[list[int]] = tree.query_ball_point(path[gone <= WALK * width], NEAR * width)  # type: ignore[assignment]
            for k, others in enumerate(beside):
                out += [(float(gone[k]), n, int(other), k) for other in others if other != n]
        return sorted(out)


def _joined(ways: _Ways, width: float, rest: Vec) -> list[Vec]:
    """Chains joined along wall lines, and gone on with along them, the longest first."""
    after: dict[int, tuple[int, Vec]] = {}
    taken: set[int] = set()
    for _, n, other, k in ways.wishes(width):
        if n not in after and other not in taken and not _leads(after, other, n):
            after[n] = other, ways.paths[n][0][:k + 1]
            taken.add(other)
    out = []
    for n in set(range(len(ways.chains))) - taken:
        parts, at = [ways.chains[n]], n
        while at in after:
            at, bridge = after[at]
            parts += [bridge, ways.chains[at]]
        if at in ways.paths:
            parts.append(_gone_on(*ways.paths[at], rest, width))
        out.append(_tidy(np.concatenate(parts), width))
    return sorted(out, key=_length, reverse=True)


def _leads(after: dict[int, tuple[int, Vec]], start: int, goal: int) -> bool:
    at = start
    while at in after:
        at = after[at][0]
        if at == goal:
            return True
    return False


def _gone_on(path: Vec, level: Vec, rest: Vec, width: float) -> Vec:
    """As much of a wall line as belongs to the line that it goes on with: until it draws together less, or comes to a critical point."""
    from scipy.spatial import cKDTree

    if not len(path):
        return path
    good = level > max(float(level[0]) - DROP, 0.0)
    if len(rest):
        good &= cKDTree(rest).query(path)[0] > width
    stop = int(np.argmin(good)) if not good.all() else len(path)
    # A line that winds round a focus, or comes back to itself, ends.
    for k in range(8, stop, 4):
        if np.linalg.norm(path[:k - 6] - path[k], axis=1).min() < 0.7 * width:
            return path[:k]
    return path[:stop]


def _tidy(line: Vec, width: float) -> Vec:
    """Without points closer than a tenth of a width."""
    keep = [0]
    for n in range(1, len(line)):
        if np.linalg.norm(line[n] - line[keep[-1]]) > 0.1 * width:
            keep.append(n)
    return np.ascontiguousarray(line[keep])


def _finding(sheet: WallSheet, line: Vec, height: Vec, widths: Vec, kind: Kind, rest: Vec) -> Finding:
    length, top = _length(line), float(np.max(height))
    width = float(np.median(widths))
    score = min(over(top, CLEAR), over(length, LONG * sheet.diagonal))
    sort: Sort = "separation line" if kind == "separation" else "attachment line"
    word = "together" if kind == "separation" else "apart"
    from_saddle = bool(len(rest)) and float(np.linalg.norm(rest - line[0], axis=1).min()) < 3.0 * width
    numbers = (Number("length", length, "m"), Number(f"draws lines {word}", float(np.exp(top)), "times"),
               Number("starts at x", float(line[0, 0]), "m"), Number("starts at y", float(line[0, 1]), "m"),
               Number("starts at z", float(line[0, 2]), "m"), Number("ends at x", float(line[-1, 0]), "m"),
               Number("ends at y", float(line[-1, 1]), "m"), Number("ends at z", float(line[-1, 2]), "m"))
    cells, ridge = length / max(width, 1e-300), float(np.mean(height > LOW))
    reasons = (Reason(between(top, 0.4, 1.6), f"lines draw {word} {np.exp(top):.1f} times (good: 5)"),
               Reason(between(cells, 5.0, 40.0), f"{cells:.0f} triangles long"),
               Reason(between(ridge, 0.5, 1.0), f"{ridge:.0%} of it is a clear ridge"))
    opened = "It begins at a critical point: closed separation." if from_saddle else "It begins at no critical point: open separation."
    told = (f"From {_text(line[0])} to {_text(line[-1])}.", *((opened,) if kind == "separation" else ()),
            f"By definition {DEFINITION if kind == 'separation' else DEFINITION.replace('together', 'apart')}.")
    return Finding(sort, line[0].copy(), max(0.15 * length, 3.0 * width), score, length, length * top / sheet.diagonal, numbers,
                   {"drawing of lines": np.exp(height)}, line, reasons, told)


def _text(place: Vec) -> str:
    return ", ".join(f"{c:.4g}" for c in place)


def _without_doubles(findings: list[Finding], diagonal: float) -> list[Finding]:
    """Without lines that lie beside a longer one."""
    from scipy.spatial import cKDTree

    kept: list[Finding] = []
    for own in sorted(findings, key=lambda f: -f.size):
        if kept:
            near, _ = cKDTree(np.concatenate([k.line for k in kept])).query(own.line)
            if float(np.mean(near < 0.006 * diagonal)) > 0.5:
                continue
        kept.append(own)
    return kept


def _point(point: WallPoint, away: float, total: int, euler: int | None) -> Finding:
    whole = "the wall is open" if euler is None else f"all indices add up to {total}, Euler's number of the wall is {euler}"
    words = {"saddle": "Two lines come into it and two go out.", "node": "Lines end in it." if point.leaving else "Lines begin in it.",
             "focus": "Lines wind into it." if point.leaving else "Lines wind out of it."}[point.kind]
    reasons = (Reason(between(away, 1.0, 6.0), f"{min(away, 999.0):.1f} triangles from the nearest of the other sort (good: 6)"),
               Reason(1.0 if euler is None or euler == total else 0.3, whole))
    numbers = (Number("index", point.index), *(Number(axis, float(c), "m") for axis, c in zip("xyz", point.place, strict=True)))
    return Finding(point.kind, point.place, 3.0 * point.width, over(away, AWAY), 0.0, 1e-6, numbers, reasons=reasons,
                   told=(words, f"On the wall; {whole}."))


def _in_plane(flow: Flow, sheet: WallSheet) -> list[Finding]:
    """Where the shear along the walls of a plane flow changes its sign."""
    normal = np.asarray(flow.normal, np.float64)
    height = sheet.points @ normal
    low = height < 0.5 * (height.min() + height.max())
    pairs = sheet.edges[low[sheet.edges].all(axis=1)]
    way = sheet.points[pairs[:, 1]] - sheet.points[pairs[:, 0]]
    a, b = (sheet.shear[pairs[:, 0]] * way).sum(axis=1), (sheet.shear[pairs[:, 1]] * way).sum(axis=1)
    stream = np.nan_to_num(sheet.points.mean(axis=0))
    size = np.abs(sheet.shear).max() * np.linalg.norm(way, axis=1)
    out = []
    for n in np.flatnonzero((a > 0.0) != (b > 0.0)):
        share = a[n] / (a[n] - b[n])
        place = sheet.points[pairs[n, 0]] + share * way[n] + 0.5 * flow.depth * normal
        place[np.abs(place) < 1e-9 * flow.size] = 0.0
        leaving = bool(a[n] > 0.0)
        steep = abs(a[n] - b[n]) / max(size[n], 1e-300)
        off = place - stream
        angle = float(np.degrees(np.arctan2(*(off @ _axes(normal))[::-1])))
        numbers = (*(Number(axis, float(c), "m") for axis, c in zip("xyz", place, strict=True)),
                   Number("angle about the walls' middle", angle, "°"))
        sort: Sort = "separation line" if leaving else "attachment line"
        out.append(Finding(sort, place, 3.0 * float(np.linalg.norm(way[n])), over(steep, 1e-4), 0.0, float(steep), numbers,
                           line=np.array([place - 0.5 * flow.depth * normal, place + 0.5 * flow.depth * normal]),
                           reasons=(Reason(between(steep, 1e-5, 1e-2), "how steeply the shear goes through zero"),),
                           told=(f"At {_text(place)} the wall shear changes its sign.",)))
    places = [f.place for f in out]
    # At a seam both blocks have it.
    return [f for n, f in enumerate(out) if not any(np.linalg.norm(f.place - p) < 0.1 * f.reach for p in places[:n])]


def _axes(normal: Vec) -> Vec:
    """Two axes of a plane as columns: x and y where it is across z."""
    axes = [a for a in np.eye(3) if abs(float(a @ normal)) < 0.9][:2]
    return np.stack(axes, axis=1)
