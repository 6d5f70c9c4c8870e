"""Hexahedra beside smaller ones: their faces and edges take up the nodes that hang on them.

A large cell next to refined ones becomes a polyhedron whose faces are those of its small neighbours. The mesh then has no gaps, and
nothing after the reader needs to know of refinement levels.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.flow.faces import outer_faces
from tidal_lens.flow.grid import HEX_FACES, HEXAHEDRON, UnstructuredGrid
from tidal_lens.formats.polyhedra import Faces

_NEAR = 1e-4  # of the edge's length


@dataclass(frozen=True, eq=False)
class Hanging:
    """Hexahedra with nodes hanging on them, shape (m,), and all their faces, which count them by their place among those."""

    cells: NDArray[np.int64]
    faces: Faces


def find_hanging(grid: UnstructuredGrid, points: NDArray[np.float64]) -> Hanging | None:
    """Hexahedra on whose faces or edges other cells' nodes lie in the middle.

    Parameters
    ----------
    grid : UnstructuredGrid
        The cells.
    points : ndarray, shape (n, 3)
        Their points.

    Returns
    -------
    Hanging or None
        None where there are none, or the mesh is of other cells only.
    """
    whole = np.flatnonzero(grid.types == HEXAHEDRON)
    if len(whole) == 0:
        return None
    outer = outer_faces(grid)
    quads = outer[outer[:, 2] != outer[:, 3]]
    if len(quads) < 5:
        return None
    used = np.zeros(grid.n_points, dtype=bool)
    used[outer] = True
    nodes = np.flatnonzero(used)
    if not _any_in_the_middle(points, nodes, quads):
        return None
    from scipy.spatial import cKDTree  # loaded when first needed, not before the window is up

    tree = cKDTree(points[nodes])
    ends = np.stack([quads, np.roll(quads, -1, axis=1)], axis=-1).reshape(-1, 2)
    keys = distinct(ends.min(axis=1) * np.int64(grid.n_points) + ends.max(axis=1))
    edges = np.column_stack([keys // grid.n_points, keys % grid.n_points])
    mids = _node_at(tree, nodes, points[edges].mean(axis=1), np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1), edges)
    edges, mids = edges[mids >= 0], mids[mids >= 0]
    if len(edges) == 0:
        return None
    centres = _node_at(tree, nodes, points[quads].mean(axis=1), np.linalg.norm(points[quads[:, 0]] - points[quads[:, 1]], axis=1), quads)
    split = np.sort(quads[centres >= 0], axis=1)
    return _rebuilt(grid, whole, (edges, mids), (split, centres[centres >= 0]))


def _any_in_the_middle(points: NDArray[np.float64], nodes: NDArray[np.int64], quads: NDArray[np.int64]) -> bool:
    """A quick look whether nodes stand in the middle of any edge: most meshes have none, and need no search."""
    own = points[nodes]
    low = own.min(axis=0)
    # Places that agree to rounding fall into one cell of a fine lattice all but always; where there are many, some do.
    quantum = max(1e-6 * float(np.linalg.norm(own.max(axis=0) - low)), 1e-300)
    factors = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9], np.uint64)

    def keys(places: NDArray[np.float64]) -> NDArray[np.uint64]:
        lattice = ((places - low) / quantum + 0.3183).astype(np.int64).astype(np.uint64)
        return np.asarray((lattice * factors).sum(axis=1, dtype=np.uint64))

    there = np.sort(keys(own))
    for c in (0, 1):  # a face that is cut has nodes on two opposite sides at least
        wanted = keys(0.5 * (points[quads[:, c]] + points[quads[:, c + 1]]))
        at = np.minimum(np.searchsorted(there, wanted), len(there) - 1)
        if bool((there[at] == wanted).any()):
            return True
    return False


def _node_at(tree: object, nodes: NDArray[np.int64], places: NDArray[np.float64], scale: NDArray[np.float64],
             own: NDArray[np.int64]) -> NDArray[np.int64]:
    """The node at each place, -1 where there is none or it is one of the thing's own."""
    distance, at = tree.query(places, workers=2)  # type: ignore[attr-defined]
    found = nodes[np.minimum(at, len(nodes) - 1)]
    good = (distance <= _NEAR * scale) & (found[:, None] != own).all(axis=1)
    return np.where(good, found, -1)


def _rebuilt(grid: UnstructuredGrid, whole: NDArray[np.int64], hanging: tuple[NDArray[np.int64], NDArray[np.int64]],
             split: tuple[NDArray[np.int64], NDArray[np.int64]]) -> Hanging | None:
    n = np.int64(grid.n_points)
    edges, mids = hanging
    keys = edges[:, 0] * n + edges[:, 1]
    order = np.argsort(keys)
    keys, mids = keys[order], mids[order]
    touched = np.zeros(grid.n_points, dtype=bool)
    touched[edges.ravel()] = True
    some = whole[touched[grid.corners[whole]].sum(axis=1) >= 2]
    corners = grid.corners[some].astype(np.int64)
    faces = corners[:, np.array(HEX_FACES)]  # (m, 6, 4)
    ends = np.sort(np.stack([faces, np.roll(faces, -1, axis=2)], axis=-1), axis=-1)
    wanted = ends[..., 0] * n + ends[..., 1]
    at = np.minimum(np.searchsorted(keys, wanted), len(keys) - 1)
    middle = np.where(keys[at] == wanted, mids[at], -1)  # (m, 6, 4), the node on the edge from corner c to c + 1
    is_split = (middle >= 0).any(axis=(1, 2))
    some, faces, middle = some[is_split], faces[is_split], middle[is_split]
    if len(some) == 0:
        return None
    return Hanging(some, _polygons(faces, middle, _centre_nodes(faces, split)))


def _centre_nodes(faces: NDArray[np.int64], split: tuple[NDArray[np.int64], NDArray[np.int64]]) -> NDArray[np.int64]:
    """The node in the middle of each face, -1 where there is none, shape (m, 6)."""
    quads, nodes = split
    out = np.full(faces.shape[:2], -1, np.int64)
    if len(quads) == 0:
        return out
    own = np.sort(faces.reshape(-1, 4), axis=1)
    _, group = np.unique(np.concatenate([quads, own]), axis=0, return_inverse=True)
    known = np.full(int(group.max()) + 1, -1, np.int64)
    known[group[: len(quads)]] = nodes
    return known[group[len(quads):]].reshape(out.shape)


def _polygons(faces: NDArray[np.int64], middle: NDArray[np.int64], centre: NDArray[np.int64]) -> Faces:
    """Faces with what hangs on them: in four where a node is in the middle, in two where only opposite edges are halved."""
    flat, mids, inner = faces.reshape(-1, 4), middle.reshape(-1, 4), centre.ravel()
    cell = np.repeat(np.arange(len(faces)), 6)
    pattern = (mids >= 0) @ np.array([1, 2, 4, 8])
    parts: list[tuple[NDArray[np.int64], NDArray[np.int64]]] = []
    four = (pattern == 15) & (inner >= 0)
    parts.extend((cell[four], np.column_stack([flat[four, c], mids[four, c], inner[four], mids[four, c - 1]])) for c in range(4))
    for bits in range(16):
        some = (pattern == bits) & ~four
        if not some.any():
            continue
        own, on = flat[some], mids[some]
        if bits in (5, 10):
            a = 0 if bits == 5 else 1
            b, c, d = (a + 1) % 4, (a + 2) % 4, (a + 3) % 4
            parts.append((cell[some], np.column_stack([own[:, a], on[:, a], on[:, c], own[:, d]])))
            parts.append((cell[some], np.column_stack([on[:, a], own[:, b], own[:, c], on[:, c]])))
            continue
        columns = [own[:, 0]]
        for c in range(4):
            columns += ([on[:, c]] if bits >> c & 1 else []) + ([own[:, c + 1]] if c < 3 else [])
        parts.append((cell[some], np.column_stack(columns)))
    cells = np.concatenate([c for c, _ in parts])
    sizes = np.concatenate([np.full(len(p), p.shape[1]) for _, p in parts])
    return Faces(cells, np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64), np.concatenate([p.ravel() for _, p in parts]))
