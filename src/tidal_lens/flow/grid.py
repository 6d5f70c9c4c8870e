"""The two kinds of grid. Points are not held here: the flow keeps those of all blocks in one array."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

# Which corners of the collapsed hexahedron hold the cell's own points, by VTK cell type.
TETRA, HEXAHEDRON, WEDGE, PYRAMID = 10, 12, 13, 14
OWN_CORNERS: dict[int, tuple[int, ...]] = {
    TETRA: (0, 1, 2, 4),
    HEXAHEDRON: (0, 1, 2, 3, 4, 5, 6, 7),
    WEDGE: (0, 1, 2, 4, 5, 6),
    PYRAMID: (0, 1, 2, 3, 4),
}
# Where each corner of the collapsed hexahedron comes from among the cell's own points.
COLLAPSE: dict[int, tuple[int, ...]] = {
    TETRA: (0, 1, 2, 2, 3, 3, 3, 3),
    HEXAHEDRON: (0, 1, 2, 3, 4, 5, 6, 7),
    WEDGE: (0, 1, 2, 2, 3, 4, 5, 5),
    PYRAMID: (0, 1, 2, 3, 4, 4, 4, 4),
}
CELL_NAMES = {TETRA: "tetrahedra", HEXAHEDRON: "hexahedra", WEDGE: "wedges", PYRAMID: "pyramids"}
# Faces of a (collapsed) hexahedron in the order r=0, r=1, s=0, s=1, t=0, t=1; corner normals point outwards.
HEX_FACES = ((0, 4, 7, 3), (1, 2, 6, 5), (0, 1, 5, 4), (3, 7, 6, 2), (0, 3, 2, 1), (4, 5, 6, 7))


@dataclass(frozen=True)
class StructuredGrid:
    """A block of hexahedra addressed by three indices, the first running fastest.

    Attributes
    ----------
    dims : tuple of int
        Points along i, j, k; each at least 2.
    form : str
        How the file stated the points: ``uniform``, ``rectilinear`` or ``curvilinear``.
    """

    dims: tuple[int, int, int]
    form: Literal["uniform", "rectilinear", "curvilinear"] = "curvilinear"

    @property
    def n_points(self) -> int:
        """Number of points."""
        return self.dims[0] * self.dims[1] * self.dims[2]

    @property
    def n_cells(self) -> int:
        """Number of cells."""
        return (self.dims[0] - 1) * (self.dims[1] - 1) * (self.dims[2] - 1)

    @property
    def description(self) -> str:
        """Form and size in words."""
        return f"{self.form}, {self.dims[0]} × {self.dims[1]} × {self.dims[2]} points"


@dataclass(frozen=True, eq=False)
class UnstructuredGrid:
    """Tetrahedra, pyramids, wedges and hexahedra, each held as a (collapsed) hexahedron.

    Attributes
    ----------
    n_points : int
        Number of points of the block.
    corners : ndarray, shape (n_cells, 8), int32
        Point of each corner, counted within the block; see ``COLLAPSE``.
    types : ndarray, shape (n_cells,), uint8
        VTK cell types.
    origin : str
        What the cells were cut from, in words; empty where they are the file's own.
    bars : ndarray, shape (m, 2), int64, or None
        Cells and their sides (as in ``HEX_FACES``) that are walls of no thickness though another cell has all their nodes.
    """

    n_points: int
    corners: NDArray[np.int32]
    types: NDArray[np.uint8]
    origin: str = ""
    bars: NDArray[np.int64] | None = None

    @property
    def n_cells(self) -> int:
        """Number of cells."""
        return int(self.corners.shape[0])

    @property
    def description(self) -> str:
        """Cell kinds and their numbers in words."""
        kinds, counts = np.unique(self.types, return_counts=True)
        listed = ", ".join(f"{n:,} {CELL_NAMES[int(k)]}" for k, n in zip(kinds, counts, strict=True))
        return f"{listed}, {self.origin}" if self.origin else listed


Grid = StructuredGrid | UnstructuredGrid
