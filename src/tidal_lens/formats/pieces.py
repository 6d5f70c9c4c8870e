"""Blocks whose nodes are joined: those of the pieces into which a solver's partition cut one, and those of cells that share none."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from itertools import groupby
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.boundaries import kind_from_name
from tidal_lens.flow.case import SOLID, Field
from tidal_lens.flow.free_stream import velocity_in
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.flow.roles import recognise_roles
from tidal_lens.flow.welding import Welded, nodes_at, weld
from tidal_lens.formats.content import Sheet, Solid
from tidal_lens.work import checkpoint, run_chunks

_Sheets = Sequence[tuple[str, Sheet]]


def joined(solids: list[Solid], sheets: _Sheets = ()) -> list[Solid]:
    """Blocks, with neighbouring pieces of one whole made one block, and nodes of one block that lie on one another made one.

    Values that differ there by more than rounding are told; their mean is taken. Pieces that do not hold the same quantities stay blocks of
    their own. Walls of no thickness among the surfaces keep the nodes of their two sides apart.
    """
    out: list[Solid] = []
    for whole, group in groupby(solids, key=lambda s: s.whole):
        pieces = list(group)
        block = _concatenated(whole, pieces) if whole and len(pieces) > 1 else None
        out += [_welded(p, sheets, "cells") for p in pieces] if block is None else [_welded(block, sheets, "pieces")]
    return out


def _concatenated(name: str, pieces: list[Solid]) -> Solid | None:
    """One block of all pieces, each with nodes of its own; None where they are not alike."""
    grids = [p.grid for p in pieces if isinstance(p.grid, UnstructuredGrid)]
    kinds = [[(f.name, f.place, f.components, f.values.dtype) for f in p.fields] for p in pieces]
    if len(grids) < len(pieces) or any(k != kinds[0] for k in kinds) or sum(g.n_points for g in grids) > np.iinfo(np.int32).max:
        return None
    starts = np.cumsum([0] + [g.n_points for g in grids], dtype=np.int32)
    cells = np.cumsum([0] + [g.n_cells for g in grids])
    corners = np.empty((int(cells[-1]), 8), np.int32)

    def renumber(begin: int, end: int) -> None:
        for n in range(begin, end):
            np.add(grids[n].corners, starts[n], out=corners[cells[n]:cells[n + 1]])

    run_chunks(renumber, len(grids), max(1, len(grids) // 16))
    origin = ", ".join(dict.fromkeys([f"joined from {len(grids)} pieces", *(g.origin for g in grids if g.origin)]))
    grid = UnstructuredGrid(int(starts[-1]), corners, np.concatenate([g.types for g in grids]), origin)
    fields = [Field(f.name, f.place, np.concatenate([p.fields[n].values for p in pieces])) for n, f in enumerate(pieces[0].fields)]
    facts: dict[str, Any] = {k: v for p in reversed(pieces) for k, v in p.facts.items()}
    return replace(pieces[0], name=name, grid=grid, points=np.concatenate([p.points for p in pieces]), fields=fields, facts=facts,
                   notices=list(dict.fromkeys(text for p in pieces for text in p.notices)))


def _welded(solid: Solid, sheets: _Sheets, of: str) -> Solid:
    grid = solid.grid
    if not isinstance(grid, UnstructuredGrid):
        return solid
    checkpoint()
    rest = partial(_at_rest, solid)
    walls = [(s.points, s.faces, s.polygons) for name, s in sheets if _is_wall(name, s, solid, rest)]
    found = weld(solid.points, grid, walls, rest, everywhere=of == "pieces")
    if found is None:
        return solid
    checkpoint()
    fields, told = [], []
    for f in solid.fields:
        if f.place != "node":
            fields.append(f)
            continue
        values, jumps, most = found.values(f.values)
        fields.append(Field(f.name, "node", values))
        if jumps:
            told.append(f"{f.name} (at {jumps:,} of {found.grid.n_points:,} nodes, by up to {most:.3g})")
    return replace(solid, grid=_with_origin(found, grid, of), points=found.points, fields=fields,
                   notices=[*solid.notices, *([f"Where {of} of {solid.name or 'the flow'} meet, values jump: {', '.join(told)}. "
                                               "The mean is shown."] if told else [])])


def _with_origin(found: Welded, grid: UnstructuredGrid, of: str) -> UnstructuredGrid:
    told = f"joined from {grid.n_points:,} nodes" if of == "cells" and found.grid.n_points < grid.n_points else ""
    if not told:
        return found.grid
    new = replace(found.grid, origin=f"{grid.origin}, {told}" if grid.origin else told)
    new.__dict__.update({n: found.grid.__dict__[n] for n in ("_neighbours",) if n in found.grid.__dict__})
    return new


def _is_wall(name: str, sheet: Sheet, solid: Solid, rest: Callable[[], NDArray[np.bool_] | None]) -> bool:
    """Whether a surface of the file is a wall: it says so, its name does, or the flow rests on all of it."""
    kind = sheet.kind or kind_from_name(name)
    if kind is not None or len(sheet.points) == 0:
        return kind in SOLID
    still = rest()
    if still is None:
        return False
    nodes = nodes_at(solid.points, sheet.points, np.flatnonzero(still))
    return bool((nodes >= 0).all())


def _at_rest(solid: Solid) -> NDArray[np.bool_] | None:
    """Nodes at which the velocity vanishes; None where that is not known."""
    fields = {f.name: f for f in solid.fields}
    found = velocity_in(fields, recognise_roles({f.name: f.components for f in solid.fields}))
    if found is None or found[1] != "node":
        return None
    size = np.abs(found[0]).max(axis=1)
    return np.asarray(size <= 1e-6 * float(np.nanmax(size, initial=0.0)))
