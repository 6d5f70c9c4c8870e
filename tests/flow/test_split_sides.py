"""Cells that do not match where a four-sided face meets two triangles are counted."""

import numpy as np

from making import cells_of, cube_points, unstructured
from tidal_lens.flow.faces import split_sides
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid

N = 5


def stacked():
    """Hexahedra below, the tetrahedra of the same lattice above: their common sides do not match."""
    hexahedra, hex_types = cells_of("hexahedra", N)
    tets, tet_types = cells_of("tetrahedra", N)
    z = cube_points(N)[:, 2]
    low, high = z[hexahedra].mean(axis=1) < 0.5, z[tets].min(axis=1) > 0.49
    corners = np.concatenate([hexahedra[low], tets[high]])
    return UnstructuredGrid(N**3, np.ascontiguousarray(corners, dtype=np.int32), np.concatenate([hex_types[low], tet_types[high]]))


def test_they_are_counted():
    assert split_sides(stacked()) == (N - 1) ** 2
    for kind in ("hexahedra", "tetrahedra", "wedges"):
        assert split_sides(unstructured(kind, N)) == 0
    assert split_sides(StructuredGrid((3, 3, 3))) == 0
