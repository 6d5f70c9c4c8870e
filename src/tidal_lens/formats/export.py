"""What is written: a flow with more quantities than were read, surfaces and lines with values, by the ending of a file's name.

Files are written to a temporary name and renamed when they are whole.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Flow
from tidal_lens.scratch import filling, writing

# How geometry can be written; the first is usual.
ENDINGS: dict[str, tuple[str, ...]] = {"surface": ("vtp", "ply", "stl", "csv"), "lines": ("vtp", "csv")}


@dataclass(frozen=True, eq=False)
class FlowData:
    """A flow and what is written of it.

    Attributes
    ----------
    flow : Flow
        Blocks, boundaries and the reference state.
    nodes : mapping
        Node values by name, shape (n,) or (n, 3).
    cells : mapping
        Cell values by name, shape (m,) or (m, 3).
    """

    flow: Flow
    nodes: Mapping[str, NDArray[Any]] = field(default_factory=dict)
    cells: Mapping[str, NDArray[Any]] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class Geometry:
    """A surface or lines with values.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        Points.
    faces : ndarray, shape (m, 4), or None
        Corners; a triangle repeats its last. None for lines.
    offsets : ndarray, shape (lines + 1,), or None
        First point of each line. None for surfaces.
    values : mapping
        Values at the points, shape (n,) or (n, 3).
    """

    points: NDArray[np.float64]
    faces: NDArray[np.int64] | None
    offsets: NDArray[np.int64] | None
    values: Mapping[str, NDArray[Any]] = field(default_factory=dict)


def flow_data(flow: Flow, more: Mapping[str, NDArray[Any]]) -> FlowData:
    """The flow's own arrays and more node values; one that is called like an array of the file says that it was derived."""
    nodes = {f.name: f.values for f in flow.fields.values() if f.place == "node"}
    cells = {f.name: f.values for f in flow.fields.values() if f.place == "cell"}
    taken = {*nodes, *cells}
    return FlowData(flow, {**nodes, **{f"{n} (derived)" if n in taken else n: values for n, values in more.items()}}, cells)


def atomically(path: Path, write: Callable[[Path], None]) -> None:
    """Let a file be written under another name and renamed; what was there stays if that fails.

    Raises
    ------
    FileError
        It could not be written.
    """
    with writing(path) as scratch:
        write(scratch)


def atomic_folder(folder: Path, fill: Callable[[Path], None]) -> None:
    """The same for a folder of files.

    Raises
    ------
    FileError
        It could not be written.
    """
    with filling(folder) as scratch:
        fill(scratch)


def save_flow(path: Path, data: FlowData) -> None:
    """Write a flow; the ending says how: ``.vtu``, ``.vts``, ``.vtm``, ``.vtkhdf`` or ``.cgns``.

    Raises
    ------
    FileError
        The ending is not known, the flow does not fit the format, or the file cannot be written.
    """
    from tidal_lens.formats import cgns_flow, vtk_xml_write, vtkhdf_write  # in turn they need what stands here

    writers: dict[str, Callable[[Path, FlowData], None]] = {
        ".vtm": vtk_xml_write.write_multiblock, ".vtu": vtk_xml_write.write_single, ".vts": vtk_xml_write.write_single,
        ".vtkhdf": vtkhdf_write.write_flow, ".cgns": cgns_flow.write_flow}
    _chosen(path, writers)(path, data)


def save_geometry(path: Path, geometry: Geometry) -> None:
    """Write a surface or lines; the ending says how: ``.vtp``, ``.stl``, ``.ply`` or ``.csv``.

    Raises
    ------
    FileError
        The ending is not known or does not fit, or the file cannot be written.
    """
    from tidal_lens.formats import bodies, vtk_xml_write
    from tidal_lens.formats.csv_tables import write_table

    def table(target: Path, own: Geometry) -> None:
        write_table(target, geometry_rows(own))

    writers: dict[str, Callable[[Path, Geometry], None]] = {".vtp": vtk_xml_write.write_geometry, ".csv": table}
    if geometry.faces is not None:
        writers.update({".stl": bodies.write_stl, ".ply": bodies.write_ply})
    _chosen(path, writers)(path, geometry)


def _chosen(path: Path, writers: Mapping[str, Callable[[Path, Any], None]]) -> Callable[[Path, Any], None]:
    found = writers.get(path.suffix.lower())
    if found is None:
        raise FileError(f"It cannot be written as {path.suffix or 'a file without an ending'}.", str(path), f"Use {', '.join(writers)}.")
    return found


def geometry_rows(geometry: Geometry) -> list[list[str | float]]:
    """A table of points, the number of their line if they are lines, and their values."""
    head: list[str | float] = ["x", "y", "z"]
    columns = [geometry.points[:, a] for a in range(3)]
    if geometry.offsets is not None:
        head.insert(0, "line")
        columns.insert(0, np.repeat(np.arange(1.0, len(geometry.offsets)), np.diff(geometry.offsets)))
    for name, values in geometry.values.items():
        parts = [values] if values.ndim == 1 else list(values.T)
        head += [name] if values.ndim == 1 else [f"{name} {a}" for a in "xyz"]
        columns += [np.asarray(p, float) for p in parts]
    rows: list[list[str | float]] = [[float(v) for v in row] for row in np.column_stack(columns)]
    return [head, *rows]
