"""The same cube in cells of every kind, and as VTK's data."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkStructuredGrid

from tidal_lens.flow.grid import COLLAPSE, HEX_FACES, HEXAHEDRON, PYRAMID, TETRA, WEDGE, StructuredGrid, UnstructuredGrid

sys.path.append(str(Path(__file__).parents[1] / "tests"))
from vtk_data import to_unstructured

WAYS = ((0, 1, 2, 6), (0, 2, 3, 6), (0, 3, 7, 6), (0, 7, 4, 6), (0, 4, 5, 6), (0, 5, 1, 6))  # Kuhn's six round the diagonal 0-6


def warped(n: int) -> np.ndarray[Any, Any]:
    i = np.linspace(0, 1, n)
    z, y, x = (a.ravel() for a in np.meshgrid(i, i, i, indexing="ij"))
    return np.column_stack([x + 0.04 * np.sin(2 * np.pi * y) * np.sin(np.pi * x), y + 0.04 * np.sin(2 * np.pi * z) * np.sin(np.pi * y),
                            z + 0.04 * np.sin(2 * np.pi * x) * np.sin(np.pi * z)])


def hexahedra(n: int) -> UnstructuredGrid:
    index = np.arange(n**3, dtype=np.int32).reshape(n, n, n)
    a, b = slice(None, -1), slice(1, None)
    corners = np.stack([index[a, a, a], index[a, a, b], index[a, b, b], index[a, b, a], index[b, a, a], index[b, a, b], index[b, b, b],
                        index[b, b, a]], axis=-1).reshape(-1, 8)
    return UnstructuredGrid(n**3, np.ascontiguousarray(corners), np.full(len(corners), HEXAHEDRON, np.uint8))


def vtk_data(n: int, points: np.ndarray[Any, Any], u: np.ndarray[Any, Any], grid: StructuredGrid | UnstructuredGrid) -> Any:
    if isinstance(grid, StructuredGrid):
        data = vtkStructuredGrid()
        data.SetDimensions(n, n, n)
        holder = vtkPoints()
        holder.SetData(numpy_to_vtk(points))
        data.SetPoints(holder)
    else:
        data = to_unstructured(points, grid)
    array = numpy_to_vtk(u)
    array.SetName("u")
    data.GetPointData().AddArray(array)
    data.GetPointData().SetActiveVectors("u")
    return data


def jittered(n: int) -> np.ndarray[Any, Any]:
    """An even grid whose inner nodes are moved by up to 15 % of their spacing."""
    i = np.linspace(0, 1, n)
    z, y, x = (a.ravel() for a in np.meshgrid(i, i, i, indexing="ij"))
    points = np.column_stack([x, y, z])
    inner = ((points > 1e-9) & (points < 1 - 1e-9)).all(axis=1)
    return points + inner[:, None] * np.random.default_rng(5).uniform(-0.15, 0.15, points.shape) / (n - 1)


def _collapsed(cells: np.ndarray[Any, Any], kind: int) -> np.ndarray[Any, Any]:
    return np.ascontiguousarray(cells[:, COLLAPSE[kind]], dtype=np.int32)


def tetrahedra(n: int) -> UnstructuredGrid:
    h = hexahedra(n).corners
    cells = np.stack([h[:, w] for w in WAYS], axis=1).reshape(-1, 4)
    return UnstructuredGrid(n**3, _collapsed(cells, TETRA), np.full(len(cells), TETRA, np.uint8))


def mixed(points: np.ndarray[Any, Any]) -> tuple[np.ndarray[Any, Any], UnstructuredGrid]:
    """Tetrahedra below, above them wedges on one side and hexahedra on the other, joined by pyramids and tetrahedra: all sides match.

    Returns
    -------
    ndarray, UnstructuredGrid
        The nodes of the cube and the centres of joining cells after them, and the cells.
    """
    n = round(len(points) ** (1 / 3))
    h = hexahedra(n).corners
    k, j, i = (a.ravel() for a in np.indices((n - 1,) * 3))
    low, right = k < n // 3, i >= n // 2
    join = right & (k == n // 3)
    kind = np.where(low, 0, np.where(join, 3, np.where(right, 2, 1)))  # tetrahedra, wedges, hexahedra, joining cells
    tets = [np.stack([h[low][:, w] for w in WAYS], axis=1).reshape(-1, 4)]
    wedges = np.stack([h[kind == 1][:, w] for w in ((0, 1, 2, 4, 5, 6), (0, 2, 3, 4, 6, 7))], axis=1).reshape(-1, 6)
    centre = n**3 + np.arange(int(join.sum()))
    pyramids = []
    padded = np.full((n + 1,) * 3, 2)  # beyond the border as beside a hexahedron
    padded[1:-1, 1:-1, 1:-1] = kind.reshape(n - 1, n - 1, n - 1)
    for side, (di, dj, dk) in zip(HEX_FACES, ((-1, 0, 0), (1, 0, 0), (0, -1, 0), (0, 1, 0), (0, 0, -1), (0, 0, 1)), strict=True):
        beyond = padded[k[join] + 1 + dk, j[join] + 1 + dj, i[join] + 1 + di]
        whole = (beyond == 2) | (beyond == 3) | ((beyond == 1) & (dk == 0))
        f = h[join][:, side]
        pyramids.append(np.column_stack([f[whole][:, [0, 3, 2, 1]], centre[whole]]))
        tets += [np.column_stack([f[~whole][:, t], centre[~whole]]) for t in ([0, 2, 1], [0, 3, 2])]
    parts = ((HEXAHEDRON, h[kind == 2]), (WEDGE, wedges), (PYRAMID, np.concatenate(pyramids)), (TETRA, np.concatenate(tets)))
    corners = np.ascontiguousarray(np.concatenate([cells[:, COLLAPSE[t]] for t, cells in parts]), dtype=np.int32)
    types = np.concatenate([np.full(len(cells), t, np.uint8) for t, cells in parts])
    whole_points = np.concatenate([points, points[h[join]].mean(axis=1)])
    return whole_points, UnstructuredGrid(len(whole_points), corners, types)
