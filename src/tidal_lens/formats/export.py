"""Flows, surfaces and lines are written by the ending of a file's name."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from tidal_lens.errors import FileError
from tidal_lens.formats import bodies, cgns_flow, vtk_xml_write, vtkhdf_write
from tidal_lens.formats.csv_tables import write_table
from tidal_lens.formats.written import FlowData, Geometry


def save_flow(path: Path, data: FlowData) -> None:
    """Write a flow; the ending says how: ``.vtu``, ``.vts``, ``.vtm``, ``.vtkhdf`` or ``.cgns``.

    Raises
    ------
    FileError
        The ending is not known, the flow does not fit the format, or the file cannot be written.
    """
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
