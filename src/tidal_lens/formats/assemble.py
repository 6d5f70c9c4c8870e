"""From the blocks and surfaces that a reader found to a checked flow."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import DoubtfulFlowError, FileError
from tidal_lens.flow.boundaries import settle_boundaries
from tidal_lens.flow.case import Block, Boundary, Field, Flow
from tidal_lens.flow.free_stream import guessed_reference, motion_in
from tidal_lens.flow.outside import outside_of
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import Roles, listed, recognise_roles, vector_candidates
from tidal_lens.flow.seams import find_seams
from tidal_lens.formats.content import Sheet, Solid, conforming
from tidal_lens.formats.pieces import joined
from tidal_lens.formats.planar import thicken
from tidal_lens.formats.reading import trimmed


@dataclass(frozen=True)
class Part:
    """One data set of a file, its name, the name of the group in which it stood, and what it holds, None without cells.

    ``whole`` names the block that it is a piece of, if it is one.
    """

    name: str
    group: str
    content: Solid | Sheet | None
    whole: str = ""


def assemble(path: Path, parts: list[Part], anyway: bool, series: tuple[tuple[float, ...], int] = ((), 0)) -> Flow:
    """Put the parts of a result together.

    Parameters
    ----------
    path : Path
        The file, for messages.
    parts : list of Part
        Data sets as read.
    anyway : bool
        Accept a result without velocity or with values that are not finite.
    series : tuple
        Times of the file's steps, and which step this is.

    Raises
    ------
    FileError
        Sizes or indices contradict one another, or there is nothing three-dimensional.
    DoubtfulFlowError
        No velocity, or values that are not finite.
    """
    solids: list[Solid] = []
    sheets: list[tuple[str, Sheet]] = []
    notices: list[str] = []
    for part in parts:
        content = part.content
        if isinstance(content, Solid):
            solids.append(replace(content, name=part.name or part.group or f"block {len(solids) + 1}", whole=part.whole))
        elif isinstance(content, Sheet):
            sheets.append((part.name or part.group or f"surface {len(sheets) + 1}", content))
        notices.extend(content.notices if content else [f"{part.name or 'A part'} holds no cells and was left out."])
    return assemble_content(path, solids, sheets, notices, anyway, series)


def assemble_content(path: Path, solids: list[Solid], sheets: list[tuple[str, Sheet]], notices: list[str],
                     anyway: bool, series: tuple[tuple[float, ...], int] = ((), 0)) -> Flow:
    """Put blocks and named surfaces together; parameters and errors as of :func:`assemble`."""
    if not solids:
        solids, sheets = thicken(path, sheets), []
    solids = [kept for kept in (trimmed(conforming(s)) for s in joined(solids)) if kept is not None]
    if not solids:
        raise FileError("There is nothing of the flow in the chosen region.", str(path), "Choose a larger one, or read everything.")
    notices.extend(text for s in solids for text in s.notices if text not in notices)
    blocks, points = _pack(solids)
    fields = _common_fields(solids, notices)
    roles = recognise_roles({f.name: f.components for f in fields.values()})
    seams = find_seams(points, [(b.first_point, b.grid) for b in blocks])
    outside = outside_of(points, [(b.first_point, b.first_cell, b.grid) for b in blocks], seams)
    notices.extend(_doubts(path, fields, roles, anyway))
    normal, depth = solids[0].facts.get("PlanarNormal"), solids[0].facts.get("PlanarDepth", (0.0,))[0]
    boundaries = settle_boundaries(points, outside, _named(sheets, points, outside.faces), motion_in(fields, roles, normal),
                                   seams.labels(len(points)))
    reference = _reference(solids, boundaries, fields, roles)
    flow = Flow(path.stem, path, points, blocks, fields, boundaries, roles, reference,
                any(s.facts.get("Units") == "SI" for s in solids), tuple(notices), normal, depth, *series)
    flow.__dict__.update(seams=seams, outside=outside)  # already found: fills the cached properties
    return flow


def _pack(solids: list[Solid]) -> tuple[tuple[Block, ...], NDArray[np.float64]]:
    blocks: list[Block] = []
    n_points = n_cells = 0
    used: set[str] = set()
    for solid in solids:
        name = solid.name
        while name in used:
            name += "′"
        used.add(name)
        blocks.append(Block(name, solid.grid, n_points, n_cells))
        n_points += solid.grid.n_points
        n_cells += solid.grid.n_cells
    return tuple(blocks), np.concatenate([s.points for s in solids])


def _common_fields(solids: list[Solid], notices: list[str]) -> dict[str, Field]:
    fields: dict[str, Field] = {}
    for first in solids[0].fields:
        same = [f for s in solids for f in s.fields
                if f.name == first.name and f.place == first.place and f.components == first.components]
        if len(same) == len(solids):
            values = np.concatenate([f.values for f in same]) if len(same) > 1 else same[0].values
            fields.setdefault(first.name, Field(first.name, first.place, values))
    partial = sorted({f.name for s in solids for f in s.fields} - set(fields))
    if partial:
        notices.append(f"Not in every block, left out: {', '.join(partial)}.")
    return fields


def _doubts(path: Path, fields: dict[str, Field], roles: Roles, anyway: bool) -> list[str]:
    doubts: list[str] = []
    for f in fields.values():
        bad = int(f.values.size - np.count_nonzero(np.isfinite(f.values)))
        if bad:
            first = int(np.flatnonzero(~np.isfinite(f.values.ravel()))[0]) // f.components
            doubts.append(f"{f.name} has {bad:,} values that are not finite, the first at {f.place} {first:,}.")
    if doubts and not anyway:
        raise DoubtfulFlowError(" ".join(doubts), str(path), "Opened anyway, such places stay empty in every picture.")
    if not roles.has_velocity:
        components = {f.name: f.components for f in fields.values()}
        could = vector_candidates(components)
        told = ", ".join(f"{name} ({count})" for name, count in components.items()) or "none"
        doubts.append(f"No velocity was recognised among its arrays: {told}."
                      + (f" These could make it: {listed(could)}. Say so in the Case station, under Roles." if could else ""))
        if not anyway:
            raise DoubtfulFlowError(doubts[-1], str(path), "Opened anyway, it can be cut and coloured, but not traced before "
                                    "its velocity is known.")
    return doubts


def _named(sheets: list[tuple[str, Sheet]], points: NDArray[np.float64], outside: NDArray[np.int64]) -> list[Boundary]:
    """The file's own surfaces; one whose kind it states has a reason."""
    if not sheets:
        return []
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    found: list[Boundary] = []
    outer_nodes = np.unique(outside)
    tree = cKDTree(points[outer_nodes])
    near = 1e-6 * float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))
    for name in dict.fromkeys(n for n, _ in sheets):
        own = [s for n, s in sheets if n == name]
        starts = np.cumsum([0] + [len(s.points) for s in own])
        faces = np.concatenate([s.faces + start for s, start in zip(own, starts, strict=False)])
        surface = np.concatenate([s.points for s in own])
        distance, nearest = tree.query(surface)
        nodes = outer_nodes[nearest] if bool(np.all(distance <= near)) else None
        found.append(Boundary(name, own[0].kind or "open", surface, faces, nodes, "the file says so" if own[0].kind else ""))
    return found


def _reference(solids: list[Solid], boundaries: tuple[Boundary, ...], fields: dict[str, Field], roles: Roles) -> ReferenceState:
    facts = {k: v for s in reversed(solids) for k, v in s.facts.items()}
    gamma = _number(facts.get("Gamma") or facts.get("SpecificHeatRatio"), 1.4)
    velocity = facts.get("ReferenceVelocity")
    if isinstance(velocity, tuple) and len(velocity) == 3:
        return ReferenceState(_number(facts.get("ReferencePressure"), None), _number(facts.get("ReferenceDensity"), None),
                              (velocity[0], velocity[1], velocity[2]), gamma or 1.4, "stated in the file")
    return guessed_reference(boundaries, fields, roles, gamma or 1.4)


def _number(value: Any, otherwise: float | None) -> float | None:
    return float(value[0]) if isinstance(value, tuple) and value and np.isfinite(value[0]) and value[0] > 0 else otherwise
