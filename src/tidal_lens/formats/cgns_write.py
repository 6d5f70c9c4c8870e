"""Write a multi-block result of structured blocks, in steady flow or as a time series, as CGNS (HDF5).

CGNS, the standard interface data structures, and its mapping to HDF5: cgns.org. Each moment of a series may stand in a file of its
own, linked from the first: such files stay small, and a solver can add to a series.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import h5py
import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError

_TYPES = {"float32": "R4", "float64": "R8", "int32": "I4", "int64": "I8", "int8": "C1"}


@dataclass(frozen=True, eq=False)
class Patch:
    """A range of a zone's nodes on one of its sides: family, kind as CGNS names it, first and last node along i, j, k from 1."""

    family: str
    kind: str
    first: tuple[int, int, int]
    last: tuple[int, int, int]


@dataclass(frozen=True, eq=False)
class Zone:
    """A structured block: name, points along i, j, k, points (n, 3) with i fastest, and patches."""

    name: str
    dims: tuple[int, int, int]
    points: NDArray[Any]
    patches: Sequence[Patch] = field(default_factory=tuple)


def write_series(path: Path, zones: Sequence[Zone], times: Sequence[float], moments: Sequence[Sequence[Mapping[str, NDArray[Any]]]],
                 reference: Mapping[str, float]) -> None:
    """Write a time series.

    Parameters
    ----------
    path : Path
        The file; moments go beside it, with their number before the suffix.
    zones : sequence of Zone
        Blocks.
    times : sequence of float
        Times of the moments.
    moments : sequence (moments) of sequences (zones) of mappings
        Node values by their CGNS names.
    reference : mapping
        The reference state by CGNS names.

    Raises
    ------
    FileError
        When a file could not be written.
    """
    try:
        for number, moment in enumerate(moments):
            with h5py.File(_moment_file(path, number), "w") as file:
                base = root_of(file)
                for zone, values in zip(zones, moment, strict=True):
                    _solution(_zone(base, zone), "FlowSolution", zone, values)
        with h5py.File(path, "w") as file:
            base = _base(file, reference)
            steps = add_node(base, "BaseIterativeData", "BaseIterativeData_t", np.array([len(times)], np.int32))
            add_node(steps, "TimeValues", "DataArray_t", np.asarray(times, np.float64))
            for zone in zones:
                group = _with_points(base, zone)
                names = [f"FlowSolution{n + 1:03d}" for n in range(len(times))]
                for number, name in enumerate(names):
                    _link(group, name, _moment_file(path, number).name, f"/Base/{zone.name}/FlowSolution")
                pointers = add_node(group, "ZoneIterativeData", "ZoneIterativeData_t")
                add_node(pointers, "FlowSolutionPointers", "DataArray_t", np.array([list(n.ljust(32).encode()) for n in names], np.int8))
                _patches(group, zone)
    except OSError as exc:
        raise FileError(f"The file could not be written: {exc}.", str(path), "Is there room on the disk?") from exc


def write_steady(path: Path, zones: Sequence[Zone], values: Sequence[Mapping[str, NDArray[Any]]], reference: Mapping[str, float],
                 rate: tuple[float, float, float] | None = None) -> None:
    """Write one moment into one file.

    Parameters
    ----------
    path : Path
        The file.
    zones : sequence of Zone
        Blocks.
    values : sequence (zones) of mappings
        Node values by their CGNS names.
    reference : mapping
        The reference state by CGNS names.
    rate : tuple, optional
        Vector of the rate [rad/s] at which the zones turn about the origin.

    Raises
    ------
    FileError
        When the file could not be written.
    """
    try:
        with h5py.File(path, "w") as file:
            base = _base(file, reference)
            for zone, own in zip(zones, values, strict=True):
                group = _with_points(base, zone)
                if rate is not None:
                    add_turning(group, (0.0, 0.0, 0.0), rate)
                _solution(group, "FlowSolution", zone, own)
                _patches(group, zone)
    except OSError as exc:
        raise FileError(f"The file could not be written: {exc}.", str(path), "Is there room on the disk?") from exc


def add_turning(parent: Any, centre: Sequence[float], rate: Sequence[float]) -> None:
    """Rotating coordinates of a zone: their centre and the vector of their rate [rad/s]."""
    node = add_node(parent, "RotatingCoordinates", "RotatingCoordinates_t")
    add_node(node, "RotationCenter", "DataArray_t", np.array(centre, np.float64))
    add_node(node, "RotationRateVector", "DataArray_t", np.array(rate, np.float64))


def _base(file: Any, reference: Mapping[str, float]) -> Any:
    base = root_of(file)
    add_node(base, "DataClass", "DataClass_t", "Dimensional")
    state = add_node(base, "ReferenceState", "ReferenceState_t")
    for name, value in reference.items():
        add_node(state, name, "DataArray_t", np.array([value]))
    return base


def _with_points(base: Any, zone: Zone) -> Any:
    group = _zone(base, zone)
    grid = add_node(group, "GridCoordinates", "GridCoordinates_t")
    for axis, name in enumerate("XYZ"):
        add_node(grid, f"Coordinate{name}", "DataArray_t", _shaped(zone, np.asarray(zone.points)[:, axis]))
    return group


def _moment_file(path: Path, number: int) -> Path:
    return path.with_name(f"{path.stem} {number + 1:02d}{path.suffix}")


def _shaped(zone: Zone, values: NDArray[Any]) -> NDArray[Any]:
    return values.reshape(zone.dims[::-1])


def root_of(file: Any) -> Any:
    """Make the root and one base of three dimensions; the base."""
    _attributes(file, "HDF5 MotherNode", "Root Node of HDF5 File", "MT")
    file.create_dataset(" format", data=np.frombuffer(b"IEEE_LITTLE_32\0", np.int8))
    file.create_dataset(" hdf5version", data=np.frombuffer(b"HDF5 Version 1.14.0".ljust(33, b"\0"), np.int8))
    add_node(file, "CGNSLibraryVersion", "CGNSLibraryVersion_t", np.array([4.2], np.float32))
    return add_node(file, "Base", "CGNSBase_t", np.array([3, 3], np.int32))


def _attributes(group: Any, name: str, kind: str, data: str) -> None:
    group.attrs.create("name", np.bytes_(name.ljust(33, "\0")), dtype="S33")
    group.attrs.create("label", np.bytes_(kind.ljust(33, "\0")), dtype="S33")
    group.attrs.create("type", np.bytes_(data.ljust(3, "\0")), dtype="S3")


def add_node(parent: Any, name: str, kind: str, data: NDArray[Any] | str | None = None) -> Any:
    """Add a node of a name and a label, with data or without; the node."""
    group = parent.create_group(name, track_order=True)  # zones keep their order
    values = np.frombuffer(data.encode("ascii"), np.int8) if isinstance(data, str) else data
    _attributes(group, name, kind, "MT" if values is None else _TYPES[values.dtype.name])
    if values is not None:
        packing = {"compression": "gzip", "compression_opts": 9, "shuffle": True} if values.size > 4096 else {}
        group.create_dataset(" data", data=values, **packing)
    return group


def _link(parent: Any, name: str, file: str, path: str) -> None:
    group = parent.create_group(name)
    _attributes(group, name, "", "LK")
    for what, text in ((" file", file), (" path", path)):
        group.create_dataset(what, data=np.frombuffer(text.encode() + b"\0", np.int8))
    group[" link"] = h5py.ExternalLink(file, path)


def _zone(base: Any, zone: Zone) -> Any:
    size = np.array([zone.dims, [d - 1 for d in zone.dims], [0, 0, 0]], np.int32)
    group = add_node(base, zone.name, "Zone_t", size)
    add_node(group, "ZoneType", "ZoneType_t", "Structured")
    return group


def _solution(group: Any, name: str, zone: Zone, values: Mapping[str, NDArray[Any]]) -> None:
    solution = add_node(group, name, "FlowSolution_t")
    add_node(solution, "GridLocation", "GridLocation_t", "Vertex")
    for quantity, array in values.items():
        add_node(solution, quantity, "DataArray_t", _shaped(zone, np.ascontiguousarray(array)))


def _patches(group: Any, zone: Zone) -> None:
    conditions = add_node(group, "ZoneBC", "ZoneBC_t")
    for number, patch in enumerate(zone.patches):
        condition = add_node(conditions, f"{patch.kind} {number + 1}", "BC_t", patch.kind)
        add_node(condition, "PointRange", "IndexRange_t", np.array([patch.first, patch.last], np.int32))
        add_node(condition, "FamilyName", "FamilyName_t", patch.family)
