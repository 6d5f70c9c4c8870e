"""The pieces into which a solver's partition cut a block, joined to that block again."""

from __future__ import annotations

from dataclasses import replace
from itertools import groupby
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Field
from tidal_lens.flow.faces import outer_faces
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.flow.seams import any_near, point_keys
from tidal_lens.formats.content import Solid
from tidal_lens.work import run_chunks


def joined(solids: list[Solid]) -> list[Solid]:
    """Blocks, with neighbouring pieces of one whole made one block.

    The nodes in which pieces meet become one, with the mean of their values. Pieces stay apart where they do not hold the same
    quantities, where their nodes meet only nearly, or where a piece has several nodes at one place: then it is the search for
    seams that must judge.
    """
    out: list[Solid] = []
    for whole, group in groupby(solids, key=lambda s: s.whole):
        pieces = list(group)
        block = _block(whole, pieces) if whole and len(pieces) > 1 else None
        out += pieces if block is None else [block]
    return out


def _block(name: str, pieces: list[Solid]) -> Solid | None:
    grids = [p.grid for p in pieces if isinstance(p.grid, UnstructuredGrid)]
    kinds = [[(f.name, f.place, f.components, f.values.dtype) for f in p.fields] for p in pieces]
    if len(grids) < len(pieces) or any(k != kinds[0] for k in kinds) or sum(g.n_points for g in grids) > np.iinfo(np.int32).max:
        return None
    starts = np.cumsum([0] + [g.n_points for g in grids])
    points = np.concatenate([p.points for p in pieces])
    found = _meetings(points, starts)
    if found is None:
        return None
    nodes, begins = found
    leaders = np.minimum.reduceat(nodes, begins) if len(nodes) else nodes
    leader = np.repeat(leaders, np.diff(np.append(begins, len(nodes))))
    first = np.ones(len(points), dtype=bool)
    first[nodes] = False
    first[leaders] = True
    number = np.cumsum(first, dtype=np.int32) - 1
    number[nodes] = number[leader]
    corners = np.empty((sum(g.n_cells for g in grids), 8), np.int32)
    cells = np.cumsum([0] + [g.n_cells for g in grids])

    def renumber(begin: int, end: int) -> None:
        for n in range(begin, end):
            np.take(number[starts[n]:starts[n + 1]], grids[n].corners, out=corners[cells[n]:cells[n + 1]], mode="clip")

    run_chunks(renumber, len(grids), max(1, len(grids) // 16))
    origin = ", ".join(dict.fromkeys([f"joined from {len(grids)} pieces", *(g.origin for g in grids if g.origin)]))
    grid = UnstructuredGrid(int(first.sum()), corners, np.concatenate([g.types for g in grids]), origin)
    points = points[first]
    if _meets_nearly(grid, points, np.searchsorted(starts, np.flatnonzero(first), side="right")):
        return None
    fields, unlike = [], []
    for n, field in enumerate(pieces[0].fields):
        values = np.concatenate([p.fields[n].values for p in pieces])
        if field.place == "node":
            values, differ = _at_one(values, nodes, begins, leaders, first)
            unlike += [field.name] if differ else []
        fields.append(Field(field.name, field.place, values))
    told = [f"Where pieces of {name} meet, they differ in {', '.join(unlike)}: the mean is taken there."] if unlike else []
    facts: dict[str, Any] = {k: v for p in reversed(pieces) for k, v in p.facts.items()}
    return replace(pieces[0], name=name, grid=grid, points=points, fields=fields, facts=facts,
                   notices=list(dict.fromkeys([*(text for p in pieces for text in p.notices), *told])))


def _meetings(points: NDArray[np.float64], starts: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
    """Nodes that coincide to the last bit, sorted by place, and where each place begins; None where a piece has two at one."""
    keys = np.empty(len(points), np.uint64)

    def mix(begin: int, end: int) -> None:
        keys[begin:end] = point_keys(points[begin:end])

    run_chunks(mix, len(points), 16384)
    order = np.argsort(keys)
    ranked = keys[order]
    same = ranked[1:] == ranked[:-1]
    many = np.zeros(len(points), dtype=bool)
    many[1:] |= same
    many[:-1] |= same
    nodes = order[many]
    opens = np.append(True, ranked[many][1:] != ranked[many][:-1]) if len(nodes) else np.empty(0, bool)
    begins = np.flatnonzero(opens)
    group = np.cumsum(opens) - 1
    if (points[nodes] != points[nodes[begins]][group]).any():  # keys that clash
        return None
    pairs = np.sort(group * len(starts) + np.searchsorted(starts, nodes, side="right"))
    return None if (pairs[1:] == pairs[:-1]).any() else (nodes, begins)


def _meets_nearly(grid: UnstructuredGrid, points: NDArray[np.float64], piece: NDArray[np.int64]) -> bool:
    """Whether nodes of different pieces remain that lie on one another but for rounding."""
    used = np.zeros(grid.n_points, dtype=bool)
    used[outer_faces(grid)] = True
    outer = np.flatnonzero(used)
    size = float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))
    if not any_near(points[outer], 1e-5 * size):
        return False
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    pairs = outer[cKDTree(points[outer]).query_pairs(1e-6 * size, output_type="ndarray").reshape(-1, 2)]
    return bool((piece[pairs[:, 0]] != piece[pairs[:, 1]]).any())


def _at_one(values: NDArray[Any], nodes: NDArray[np.int64], begins: NDArray[np.int64], leaders: NDArray[np.int64],
            first: NDArray[np.bool_]) -> tuple[NDArray[Any], bool]:
    """Values of the joined nodes, their mean where pieces differ; and whether they do, beyond rounding."""
    differ = False
    if len(nodes):
        counts = np.diff(np.append(begins, len(nodes)))
        own = values[nodes]
        unlike = own != np.repeat(values[leaders], counts, axis=0)
        if (unlike & np.isfinite(own)).any():
            sums = np.add.reduceat(own.astype(np.float64), begins, axis=0)
            mean = sums / (counts if values.ndim == 1 else counts[:, None])
            spread = np.abs(own - np.repeat(mean, counts, axis=0)).max(initial=0.0, where=np.isfinite(own))
            differ = bool(spread > 1e-5 * np.abs(own).max(initial=0.0, where=np.isfinite(own)))
            values[leaders] = mean
    return values[first], differ
