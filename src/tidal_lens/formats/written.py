"""What is written: a flow with more quantities than were read, surfaces and lines with values.

Files are written to a temporary name and renamed when they are whole.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.scratch import filling, writing

# How geometry can be written; the first is usual.
ENDINGS: dict[str, tuple[str, ...]] = {"surface": ("vtp", "ply", "stl", "csv"), "lines": ("vtp", "csv"), "points": ("vtp", "csv")}


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
    """A surface, lines or points with values.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        Points.
    faces : ndarray, shape (m, 4), or None
        Corners; a triangle repeats its last. None for all else.
    offsets : ndarray, shape (lines + 1,), or None
        First point of each line. None for all else.
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
