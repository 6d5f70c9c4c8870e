"""From the blocks and surfaces that a reader found to a checked flow."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import DoubtfulFlowError, FileError
from tidal_lens.flow.boundaries import settle_boundaries
from tidal_lens.flow.case import Block, Boundary, Field, Flow
from tidal_lens.flow.extent import extent
from tidal_lens.flow.free_stream import guessed_reference, motion_in
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.flow.outside import Outside
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import Roles, listed, recognise_roles, vector_candidates
from tidal_lens.flow.turned import found_axis, stated_axis
from tidal_lens.flow.turning import stated_turning
from tidal_lens.formats.content import LEFT_OUT, PLACES, Sheet, Solid, at_nodes, conforming
from tidal_lens.formats.layers import as_plane, was_found
from tidal_lens.formats.named import bounded
from tidal_lens.formats.pieces import joined
from tidal_lens.formats.planar import thicken
from tidal_lens.formats.reading import trimmed
from tidal_lens.work import checkpoint


@dataclass(frozen=True)
class Part:
    """One data set of a file, its name, the name of the group in which it stood, and what it holds, None without cells.

    ``whole`` names the block that it is a piece of, if it is one; ``lost`` tells why there is nothing.
    """

    name: str
    group: str
    content: Solid | Sheet | None
    whole: str = ""
    lost: str = ""


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
        notices.extend(content.notices if content else [part.lost or f"{part.name or 'A part'} holds no cells and was left out."])
    return assemble_content(path, solids, sheets, notices, anyway, series)


def assemble_content(path: Path, solids: list[Solid], sheets: list[tuple[str, Sheet]], notices: list[str],
                     anyway: bool, series: tuple[tuple[float, ...], int] = ((), 0)) -> Flow:
    """Put blocks and named surfaces together; parameters and errors as of :func:`assemble`."""
    if not solids:
        solids, sheets = thicken(path, sheets)
    solids = [kept for kept in (trimmed(conforming(s)) for s in joined(solids, sheets)) if kept is not None]
    if not solids:
        raise FileError("There is nothing of the flow in the chosen region.", str(path), "Choose a larger one, or read everything.")
    notices[:] = _told(notices, solids)
    checkpoint()
    solids = as_plane(solids)
    blocks, points = _pack(solids)
    checkpoint()
    fields = _common_fields(solids, notices)
    roles = recognise_roles({f.name: f.components for f in fields.values()})
    checkpoint()
    notices.extend(_doubts(path, fields, roles, anyway))
    checkpoint()
    normal, depth = solids[0].facts.get("PlanarNormal"), solids[0].facts.get("PlanarDepth", (0.0,))[0]
    motion = motion_in(fields, roles, normal)
    checkpoint()
    named, seams, outside = bounded(points, blocks, sheets, motion)
    checkpoint()
    boundaries = settle_boundaries(points, outside, named, motion, seams.labels(len(points)))
    checkpoint()
    reference = _reference(solids, boundaries, fields, roles, outside, seams.labels(len(points)))
    if roles.pressure is None and roles.has_pressure:
        notices.append(f"The pressure is worked out from {roles.energy}, as that of a perfect gas with γ = {reference.gamma:g}: say "
                       "otherwise in the Case station, under Reference state.")
    stated = stated_axis(normal, next((s.facts["Axisymmetry"] for s in solids if "Axisymmetry" in s.facts), ()))
    turned = stated or found_axis(normal, [(b.name, b.points) for b in boundaries], *extent(points))
    if turned is not None and stated is None:
        notices.append(f"It is taken to be axisymmetric, turned about {turned.letter}, as one of its boundaries is called an axis: say "
                       "otherwise in the Case station.")
    turning = stated_turning([(b.name, s.facts.get("Rotation", ())) for b, s in zip(blocks, solids, strict=True)])
    flow = Flow(path.stem, path, points, blocks, fields, boundaries, roles, reference,
                any(s.facts.get("Units") == "SI" for s in solids), tuple(notices), normal, depth, *series,
                layer_found=was_found(solids), turned=turned, turning=turning)
    flow.__dict__.update(seams=seams, outside=outside)  # already found: fills the cached properties
    return flow


def _told(notices: list[str], solids: list[Solid]) -> list[str]:
    """What is to be told of the blocks, with what was cut and left out of all of them added up."""
    own = list(dict.fromkeys([*notices, *(text for s in solids for text in s.notices)]))
    left = _sums([text.removeprefix(LEFT_OUT) for s in solids for text in s.notices if text.startswith(LEFT_OUT)])
    cut = _sums([s.grid.origin for s in solids if isinstance(s.grid, UnstructuredGrid) and "cut from" in s.grid.origin])
    return [*(text for text in own if not text.startswith(LEFT_OUT)), *([f"Cut to linear cells: {cut}."] if cut else []),
            *([f"{LEFT_OUT}{left}."] if left else [])]


def _sums(texts: list[str]) -> str:
    """Counts of things in words, added up: "3 lines, 2 points" and "4 lines" are "7 lines, 2 points"."""
    counts: dict[str, int] = {}
    for text in texts:
        for number, words in re.findall(r"(\d[\d,]*) ((?!pieces|nodes)[a-z][a-z ]*)", text):
            counts[words] = counts.get(words, 0) + int(number.replace(",", ""))
    return ", ".join(f"{n:,} {words}" for words, n in counts.items())


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
    return tuple(blocks), solids[0].points if len(solids) == 1 else np.concatenate([s.points for s in solids])


def _common_fields(solids: list[Solid], notices: list[str]) -> dict[str, Field]:
    """Fields that all blocks have; of a name that stands at nodes and at cells both are kept, or, where blocks differ, brought to nodes."""
    fields: dict[str, Field] = {}
    brought: dict[str, None] = {}
    partial: dict[str, None] = {}
    for name in dict.fromkeys(f.name for s in solids for f in s.fields):
        at = {place: [next((f for f in s.fields if f.name == name and f.place == place), None) for s in solids] for place in PLACES}
        whole = {place: _whole(found) for place, found in at.items()}
        node, cell = whole["node"], whole["cell"]
        if node is None and cell is None:
            node = _whole([n or (None if c is None else at_nodes(solid, c))
                           for n, c, solid in zip(at["node"], at["cell"], solids, strict=True)])
            (brought if node is not None else partial)[name] = None
        if node is not None:
            fields[name] = node
        if cell is not None:
            label = name if node is None else f"{name} (cells)"
            fields[label] = replace(cell, name=label)
    if brought:
        notices.append(f"At nodes in some blocks and at cells in others, brought to nodes: {', '.join(brought)}.")
    if partial:
        notices.append(f"Not in every block, left out: {', '.join(sorted(partial))}.")
    return fields


def _whole(parts: list[Field | None]) -> Field | None:
    """One field of those of all blocks; None where one lacks it, or is of another kind."""
    same = [f for f in parts if f is not None]
    if len(same) < len(parts) or len({f.components for f in same}) > 1:
        return None
    return replace(same[0], values=np.concatenate([f.values for f in same])) if len(same) > 1 else same[0]


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


def _reference(solids: list[Solid], boundaries: tuple[Boundary, ...], fields: dict[str, Field], roles: Roles, outside: Outside,
               labels: NDArray[np.int64]) -> ReferenceState:
    facts = {k: v for s in reversed(solids) for k, v in s.facts.items()}
    gamma = _number(facts.get("Gamma") or facts.get("SpecificHeatRatio"), 1.4)
    velocity = facts.get("ReferenceVelocity")
    about = facts.get("MomentPoint")
    point = (float(about[0]), float(about[1]), float(about[2])) if (
        isinstance(about, tuple) and len(about) == 3 and np.isfinite(about).all()) else (0.0, 0.0, 0.0)
    if isinstance(velocity, tuple) and len(velocity) == 3:
        stated = facts.get("ReferencePressure")
        # Zero and less are pressures too.
        pressure = float(stated[0]) if isinstance(stated, tuple) and stated and np.isfinite(stated[0]) else None
        state = ReferenceState(pressure, _number(facts.get("ReferenceDensity"), None),
                               (velocity[0], velocity[1], velocity[2]), gamma or 1.4, "stated in the file")
    else:
        state = guessed_reference(boundaries, fields, roles, gamma or 1.4, outside, labels)
    return replace(state, area=_number(facts.get("ReferenceArea"), None), length=_number(facts.get("ReferenceLength"), None), about=point)


def _number(value: Any, otherwise: float | None) -> float | None:
    return float(value[0]) if isinstance(value, tuple) and value and np.isfinite(value[0]) and value[0] > 0 else otherwise
