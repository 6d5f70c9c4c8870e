"""The surfaces that a file names, laid onto the flow's outside; and walls of no thickness among them, which the flow has on both sides."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import among
from tidal_lens.flow.boundaries import Motion, boundary_of_faces, kind_from_name, members, told_apart
from tidal_lens.flow.case import SOLID, Block, Boundary
from tidal_lens.flow.extent import extent
from tidal_lens.flow.faces import face_keys, nodes_of, outer_faces, outer_owners, outward_areas
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.flow.outside import Outside, outside_of
from tidal_lens.flow.seams import Seams, find_seams, kept_apart
from tidal_lens.flow.welding import same_places
from tidal_lens.formats.content import Sheet
from tidal_lens.work import checkpoint

_Named = list[tuple[str, Sheet]]


def bounded(points: NDArray[np.float64], blocks: Sequence[Block], sheets: _Named, motion: Motion | None) -> tuple[
        list[Boundary], Seams, Outside]:
    """The file's own boundaries, the seams and the outside of a flow.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points of all blocks.
    blocks : sequence of Block
        The blocks.
    sheets : list of (str, Sheet)
        Surfaces that the file names.
    motion : Motion or None
        The flow's motion.
    """
    grids = [(b.first_point, b.first_cell, b.grid) for b in blocks]
    seams = find_seams(points, [(first, grid) for first, _, grid in grids])
    checkpoint()
    if not sheets:
        return [], seams, outside_of(points, grids, seams)
    faces = np.concatenate([first + outer_faces(grid) for first, _, grid in grids])
    checkpoint()
    outer = nodes_of(faces, len(points))
    named = _named(sheets, points, outer)
    checkpoint()
    places = seams.labels(len(points))
    if any(isinstance(grid, UnstructuredGrid) and grid.bars is not None for _, _, grid in grids):
        places = places[same_places(points, outer.astype(np.int32))[0]]
    keys = face_keys(places[faces])
    _, group, counts = np.unique(keys, return_inverse=True, return_counts=True)
    double = counts[group] == 2
    walls, inner = _two_sided(named, faces, places, double, partial(_at_rest, points, blocks, faces, motion))
    checkpoint()
    if not (inner >= 0).any():
        return named, seams, outside_of(points, grids, seams)
    seams = kept_apart(seams, faces, inner >= 0, len(points)) if seams.n_groups else seams
    checkpoint()
    outside = outside_of(points, grids, seams, walls)
    out: list[Boundary] = []
    labels = seams.labels(len(points))
    outer_keys = face_keys(places[outside.faces])
    for n, boundary in enumerate(named):
        wanted = keys[inner == n]
        if len(wanted) == 0 or boundary.nodes is None:
            out.append(boundary)
            continue
        alone = ~among(face_keys(places[boundary.nodes[boundary.faces]]), wanted)
        if alone.any():
            out.append(replace(boundary, faces=boundary.faces[alone],
                               polygons=None if boundary.polygons is None else boundary.polygons[alone]))
        out += _sides(boundary, points, outside.of(among(outer_keys, wanted)), places, labels)
    return out, seams, outside


def _two_sided(named: list[Boundary], faces: NDArray[np.int64], places: NDArray[np.int64], double: NDArray[np.bool_],
               rest: Callable[[], NDArray[np.bool_]]) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
    """Which outer faces are walls of the file, and of those that lie on another the number of the boundary, -1 for the rest."""
    walls, inner = np.zeros(len(faces), dtype=bool), np.full(len(faces), -1)
    at_rest = rest() if double.any() else double
    for n, boundary in enumerate(named):
        if boundary.nodes is None or not double.any():
            continue
        own = members(faces, boundary, places)
        kind = boundary.kind if boundary.reason else kind_from_name(boundary.name)
        if kind in SOLID or (kind is None and bool((own & double).any()) and bool(at_rest[own & double].all())):
            walls |= own
            inner[own & double] = n
    return walls, inner


def _at_rest(points: NDArray[np.float64], blocks: Sequence[Block], faces: NDArray[np.int64],
             motion: Motion | None) -> NDArray[np.bool_]:
    if motion is None:
        return np.zeros(len(faces), dtype=bool)
    areas = np.concatenate([outward_areas(b.grid, points[b.points]) for b in blocks])
    cells = np.concatenate([b.first_cell + outer_owners(b.grid) for b in blocks])
    return motion.still(Outside(faces, areas, cells))


def _named(sheets: _Named, points: NDArray[np.float64], outer: NDArray[np.int64]) -> list[Boundary]:
    """The file's own surfaces; one whose kind it states has a reason."""
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    found: list[Boundary] = []
    tree = cKDTree(points[outer])
    near = 1e-6 * float(np.linalg.norm(np.subtract(*extent(points))))
    for name in dict.fromkeys(n for n, _ in sheets):
        own = [s for n, s in sheets if n == name]
        starts = np.cumsum([0] + [len(s.points) for s in own])
        faces = np.concatenate([s.faces + start for s, start in zip(own, starts, strict=False)])
        surface = np.concatenate([s.points for s in own])
        distance, nearest = tree.query(surface)
        nodes = outer[nearest] if bool(np.all(distance <= near)) else None
        polygons = None
        if any(s.polygons is not None for s in own):
            each = [np.arange(len(s.faces)) if s.polygons is None else s.polygons for s in own]
            tops = np.cumsum([0] + [int(e.max(initial=-1)) + 1 for e in each])
            polygons = np.concatenate([e + top for e, top in zip(each, tops, strict=False)])
        found.append(Boundary(name, told_apart(own[0].kind, name) or "open", surface, faces, nodes,
                              "the file says so" if own[0].kind else "",
                              polygons=polygons))
    return found


def _sides(boundary: Boundary, points: NDArray[np.float64], both: Outside, places: NDArray[np.int64],
           labels: NDArray[np.int64]) -> list[Boundary]:
    """A boundary for each side of a wall of no thickness."""
    from scipy.sparse import coo_array  # loaded when first needed, not before the window is up
    from scipy.sparse.csgraph import connected_components

    # Two faces are on one side where they run along their common edge in opposite ways and do not lie on one another.
    faces = both.faces
    corners = points[faces]
    turned = (np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1]) * both.areas).sum(axis=1) < 0.0
    triangle = faces[:, 2] == faces[:, 3]
    faces = np.where(turned[:, None], np.where(triangle[:, None], faces[:, [0, 2, 1, 1]], faces[:, ::-1]), faces)
    own = labels[faces]
    a, b = own, np.roll(own, -1, axis=1)
    real = a != b
    owner = np.broadcast_to(np.arange(len(faces))[:, None], a.shape)[real]
    low, high, way = np.minimum(a, b)[real], np.maximum(a, b)[real], (a < b)[real]
    key = low * np.int64(len(labels)) + high
    pairs: list[NDArray[np.int64]] = [np.empty((0, 2), np.int64)]
    forward, back = owner[way], owner[~way]
    order_f, order_b = np.argsort(key[way], kind="stable"), np.argsort(key[~way], kind="stable")
    keys_f, keys_b = key[way][order_f], key[~way][order_b]
    first, last = np.searchsorted(keys_b, keys_f), np.searchsorted(keys_b, keys_f, side="right")
    for k in range(int((last - first).max(initial=0))):
        some = np.flatnonzero(first + k < last)
        pairs.append(np.column_stack([forward[order_f[some]], back[order_b[first[some] + k]]]))
    joined = np.concatenate(pairs)
    place = face_keys(places[faces])
    joined = joined[place[joined[:, 0]] != place[joined[:, 1]]]
    graph = coo_array((np.ones(len(joined)), (joined[:, 0], joined[:, 1])), shape=(len(faces), len(faces)))
    count, part = connected_components(graph, directed=False)
    out: list[Boundary] = []
    used: dict[str, int] = {}
    for n in range(count):
        facing = -both.areas[part == n].sum(axis=0)
        axis = int(np.abs(facing).argmax())
        title = f"{boundary.name}, side facing {'−' if facing[axis] < 0.0 else '+'}{'xyz'[axis]}"
        used[title] = used.get(title, 0) + 1
        name = title if used[title] == 1 else f"{title} {used[title]}"
        side = boundary_of_faces(name, "wall", points, faces[part == n], boundary.reason or "by its name, on both sides of it")
        out.append(replace(side, inner=True))
    return out
