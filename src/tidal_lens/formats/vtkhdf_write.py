"""Write all blocks of a flow as VTKHDF: a collection of data sets, each of unstructured cells."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import h5py
import numpy as np

from tidal_lens.flow.case import Block
from tidal_lens.flow.grid import HEXAHEDRON, UnstructuredGrid
from tidal_lens.formats.structured import lattice_cells
from tidal_lens.formats.vtk_xml_write import cells_of
from tidal_lens.formats.written import FlowData, atomically


def write_flow(path: Path, data: FlowData) -> None:
    """Write a flow; structured blocks become hexahedra, as the format has no curved lattices.

    Raises
    ------
    FileError
        The file cannot be written.
    """
    atomically(path, lambda scratch: _write(scratch, data))


def _write(path: Path, data: FlowData) -> None:
    with h5py.File(path, "w") as file:
        root = file.create_group("VTKHDF", track_order=True)
        root.attrs["Version"] = np.array([2, 0])
        _type(root, "PartitionedDataSetCollection")
        assembly = root.create_group("Assembly", track_order=True)
        for n, block in enumerate(data.flow.blocks):
            group = root.create_group(f"block_{n:05d}")
            group.attrs["Version"], group.attrs["Index"] = np.array([2, 0]), n
            _type(group, "UnstructuredGrid")
            _fill(group, data, block)
            label = block.name.replace("/", " ").strip(". ") or f"block {n + 1}"
            holder = assembly.create_group(label if label not in assembly else f"{label} {n + 1}")
            holder[group.name.rsplit("/", 1)[-1]] = h5py.SoftLink(group.name)


def _type(group: Any, name: str) -> None:
    group.attrs.create("Type", np.bytes_(name), dtype=h5py.string_dtype("ascii", len(name)))


def _fill(group: Any, data: FlowData, block: Block) -> None:
    grid = block.grid
    if not isinstance(grid, UnstructuredGrid):
        corners = lattice_cells(grid.dims).astype(np.int32)
        grid = UnstructuredGrid(grid.n_points, corners, np.full(len(corners), HEXAHEDRON, np.uint8))
    nodes, ends = cells_of(grid)
    for name, value in (("NumberOfPoints", grid.n_points), ("NumberOfCells", grid.n_cells), ("NumberOfConnectivityIds", len(nodes))):
        group[name] = np.array([value], np.int64)
    group["Points"] = data.flow.points[block.points]
    group["Connectivity"], group["Offsets"] = nodes, np.concatenate([[0], ends]).astype(np.int64)
    group["Types"] = grid.types
    for holder, values, part in (("PointData", data.nodes, block.points), ("CellData", data.cells, block.cells)):
        own = group.create_group(holder)
        for name, array in values.items():
            own[name.replace("/", " ")] = array[part]
