"""Planar two-dimensional results: a layer of cells one thin step deep, so that all that works in space works for them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import BoundaryKind, Field
from tidal_lens.flow.extent import extent
from tidal_lens.flow.grid import COLLAPSE, HEXAHEDRON, WEDGE, StructuredGrid, UnstructuredGrid
from tidal_lens.flow.roles import missing_component
from tidal_lens.formats.content import Sheet, Solid

_FLAT = 1e-6  # of the plane's size
_DEPTH = 0.02


def thicken(path: Path, sheets: list[tuple[str, Sheet]]) -> tuple[list[Solid], list[tuple[str, Sheet]]]:
    """Blocks of planar sheets that lie in one plane, and the surfaces that their curves become.

    Parameters
    ----------
    path : Path
        The file, for messages.
    sheets : list of (str, Sheet)
        Surfaces with their own values.

    Returns
    -------
    list of Solid, list of (str, Sheet)
        The facts of the blocks hold ``PlanarNormal`` and ``PlanarDepth``; the surfaces bound them.

    Raises
    ------
    FileError
        There are none, or they do not lie in one plane.
    """
    flat = [(name, s) for name, s in sheets if s.fields]
    plane = _plane_of(np.concatenate([s.points for _, s in flat])) if flat else None
    if plane is None:
        raise FileError("There are no three-dimensional cells in it.", str(path),
                        "Tidal Lens needs the volume of the flow or a plane flow, not only curved surfaces.")
    normal, depth = plane
    walls = [(name, _upright(s.points[edges], kind, normal, depth)) for _, s in flat for name, kind, edges in s.curves if len(edges)]
    return [_layer(name, s, normal, depth) for name, s in flat], walls


def _upright(ends: NDArray[np.float64], kind: BoundaryKind | None, normal: NDArray[np.float64], depth: float) -> Sheet:
    """The surface over the edges (k, 2, 3) of a curve."""
    below = ends - 0.5 * depth * normal
    points = np.concatenate([below[:, 0], below[:, 1], (below + depth * normal)[:, 1], (below + depth * normal)[:, 0]])
    return Sheet(points, np.arange(len(points), dtype=np.int64).reshape(4, -1).T.copy(), kind=kind)


def _plane_of(points: NDArray[np.float64]) -> tuple[NDArray[np.float64], float] | None:
    """Normal of the plane in which points lie, and the depth that their layer gets."""
    low, high = extent(points)
    size = float(np.linalg.norm(high - low))
    thin = np.flatnonzero(high - low <= _FLAT * size)
    if size <= 0.0 or len(thin) > 1:
        return None
    depth = float(f"{_DEPTH * size:.0e}")
    if len(thin) == 1:
        return np.eye(3)[thin[0]], depth
    middle = points - points.mean(axis=0)
    normal = np.linalg.eigh(middle.T @ middle)[1][:, 0]
    return (normal, depth) if float(np.abs(middle @ normal).max()) <= _FLAT * size else None


def _layer(name: str, sheet: Sheet, normal: NDArray[np.float64], depth: float) -> Solid:
    points, n = sheet.points, len(sheet.points)
    corners = points[sheet.faces]
    upward = float((np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1]) @ normal).sum()) >= 0.0
    below = points - 0.5 * depth * normal
    both = np.concatenate([below, below + depth * normal])
    facts = {**sheet.facts, "PlanarNormal": tuple(float(c) for c in normal), "PlanarDepth": (depth,)}
    own = _with_third(sheet.fields)
    nodes = [Field(f.name, "node", np.concatenate([f.values, f.values])) for f in own if f.place == "node"]
    if sheet.dims is not None:
        if not upward:
            both = np.concatenate([both[n:], both[:n]])
        grid = StructuredGrid((*sheet.dims, 2))
        return Solid(name, grid, both, [*nodes, *(f for f in own if f.place == "cell")], facts, sheet.notices)
    return _prisms(name, sheet, both, [*nodes, *(f for f in own if f.place == "cell")], facts, normal)


def _prisms(name: str, sheet: Sheet, both: NDArray[np.float64], fields: list[Field], facts: dict[str, Any],
            normal: NDArray[np.float64]) -> Solid:
    """Unstructured: wedges over triangles, hexahedra over quadrilaterals, each turned the right way up."""
    n = len(sheet.points)
    faces = sheet.faces
    p = sheet.points[faces]
    # Of a triangle, whose last corners are one, this is its normal too.
    down = np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1]) @ normal < 0.0
    triangle = faces[:, 2] == faces[:, 3]
    turned = np.where((down & triangle)[:, None], faces[:, [0, 2, 1, 1]], np.where(down[:, None], faces[:, ::-1], faces))
    table = np.empty((len(faces), 8), np.int32)
    table[~triangle] = np.hstack([turned[~triangle], turned[~triangle] + n])
    flat = turned[triangle][:, :3]
    table[triangle] = np.hstack([flat, flat + n])[:, COLLAPSE[WEDGE]]
    types = np.where(triangle, WEDGE, HEXAHEDRON).astype(np.uint8)
    return Solid(name, UnstructuredGrid(2 * n, table, types), both, fields, facts, sheet.notices)


def _with_third(fields: list[Field]) -> list[Field]:
    """Fields with a third component of zeros where a vector comes as two scalars."""
    out = list(fields)
    for pair in missing_component({f.name: f.components for f in fields}):
        like = next(f for f in fields if f.name == pair[0])
        out.append(Field(pair[1], like.place, np.zeros_like(like.values)))
    return out
