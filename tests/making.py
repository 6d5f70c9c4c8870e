"""Grids and flows made for tests: uniform, warped, and cells of every kind over one cube of nodes."""

from pathlib import Path

import numpy as np

from tidal_lens.flow.case import Block, Field, Flow
from tidal_lens.flow.grid import COLLAPSE, HEXAHEDRON, PYRAMID, TETRA, WEDGE, StructuredGrid, UnstructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import recognise_roles


def cube_points(n, warp=0.0, low=0.0, high=1.0):
    """Nodes of a cube, i fastest; ``warp`` bends the inside and leaves the faces plane."""
    i = np.linspace(0, 1, n)
    z, y, x = (a.ravel() for a in np.meshgrid(i, i, i, indexing="ij"))
    bend = np.sin(np.pi * x) * np.sin(np.pi * y) * np.sin(np.pi * z)
    p = np.column_stack([x + warp * bend, y - 0.7 * warp * bend, z + 0.5 * warp * np.sin(2 * np.pi * x) * np.sin(np.pi * z)])
    return low + (high - low) * p


def hexahedra(n):
    index = np.arange(n**3, dtype=np.int32).reshape(n, n, n)
    a, b = slice(None, -1), slice(1, None)
    return np.stack([index[a, a, a], index[a, a, b], index[a, b, b], index[a, b, a],
                     index[b, a, a], index[b, a, b], index[b, b, b], index[b, b, a]], axis=-1).reshape(-1, 8)


def _collapsed(cells, kind):
    return cells[:, COLLAPSE[kind]]


def cells_of(kind, n):
    """Corners (m, 8) and types (m,) of the cube's cells cut into cells of a kind."""
    h = hexahedra(n)
    if kind == "hexahedra":
        return h, np.full(len(h), HEXAHEDRON, np.uint8)
    if kind == "tetrahedra":  # Kuhn's six round the diagonal 0-6: neighbours match
        ways = [(0, 1, 2, 6), (0, 2, 3, 6), (0, 3, 7, 6), (0, 7, 4, 6), (0, 4, 5, 6), (0, 5, 1, 6)]
        cells = np.concatenate([h[:, w] for w in ways])
        return _collapsed(cells, TETRA), np.full(len(cells), TETRA, np.uint8)
    if kind == "wedges":
        cells = np.concatenate([h[:, (0, 1, 2, 4, 5, 6)], h[:, (0, 2, 3, 4, 6, 7)]])
        return _collapsed(cells, WEDGE), np.full(len(cells), WEDGE, np.uint8)
    raise ValueError(kind)


def unstructured(kind, n):
    corners, types = cells_of(kind, n)
    return UnstructuredGrid(n**3, np.ascontiguousarray(corners, dtype=np.int32), types)


def pyramids(n, warp=0.0):
    """Six pyramids a hexahedron about its centre; returns points and grid."""
    points, h = cube_points(n, warp), hexahedra(n)
    centres = points[h].mean(axis=1)
    apex = (len(points) + np.arange(len(h)))[:, None]
    faces = [(0, 1, 2, 3), (4, 7, 6, 5), (0, 4, 5, 1), (1, 5, 6, 2), (2, 6, 7, 3), (3, 7, 4, 0)]
    cells = np.concatenate([np.hstack([h[:, f], apex]) for f in faces]).astype(np.int32)
    grid = UnstructuredGrid(len(points) + len(h), np.ascontiguousarray(_collapsed(cells, PYRAMID)), np.full(len(cells), PYRAMID, np.uint8))
    return np.concatenate([points, centres]), grid


def flow_of(blocks, fields=None, reference=None, boundaries=(), *, si_units=False):
    """A flow of (points, grid) blocks and packed fields by name; names ending in ``@cell`` stand at cells."""
    made, n_points, n_cells = [], 0, 0
    for number, (points, grid) in enumerate(blocks):
        made.append(Block(f"block {number}", grid, n_points, n_cells))
        n_points += len(points)
        n_cells += grid.n_cells
    kept = {}
    for name, values in (fields or {}).items():
        plain, _, place = name.partition("@")
        kept[plain] = Field(plain, "cell" if place == "cell" else "node", np.asarray(values))
    roles = recognise_roles({f.name: f.components for f in kept.values()})
    return Flow("made", Path("made"), np.concatenate([p for p, _ in blocks]), tuple(made), kept, boundaries, roles,
                reference or ReferenceState(), si_units)


def cube_flow(n, kind="structured", warp=0.0, velocity=None, low=0.0, high=1.0, **fields):
    """One block over a cube; ``velocity`` and other fields are functions of points."""
    if kind == "pyramids":
        points, grid = pyramids(n, warp)
        points = low + (high - low) * points
    else:
        points = cube_points(n, warp, low, high)
        grid = StructuredGrid((n, n, n)) if kind == "structured" else unstructured(kind, n)
    values = {name: f(points) for name, f in fields.items()}
    if velocity is not None:
        values["Velocity"] = velocity(points)
    return flow_of([(points, grid)], values)


KINDS = ("structured", "hexahedra", "tetrahedra", "wedges", "pyramids")


def abc(points, a=1.0, b=0.9, c=0.8):
    """Arnold–Beltrami–Childress flow: curl u = u, divergence 0."""
    x, y, z = points.T
    return np.column_stack([a * np.sin(z) + c * np.cos(y), b * np.sin(x) + a * np.cos(z), c * np.sin(y) + b * np.cos(x)])
