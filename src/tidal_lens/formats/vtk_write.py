"""Write a multi-block result of structured blocks as VTK XML."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints, vtkStringArray
from vtkmodules.vtkCommonDataModel import vtkMultiBlockDataSet, vtkStructuredGrid

from tidal_lens.errors import FileError


@dataclass(frozen=True, eq=False)
class StructuredPiece:
    """What is written of one block or boundary patch.

    Attributes
    ----------
    name : str
        Block or boundary name; boundary patches of one name belong together.
    dims : tuple of int
        Points along i, j, k; a patch has one of them 1.
    points : ndarray, shape (n, 3)
        Points, i fastest.
    fields : mapping
        Node values, shape (n,) or (n, 3).
    """

    name: str
    dims: tuple[int, int, int]
    points: NDArray[Any]
    fields: Mapping[str, NDArray[Any]] = field(default_factory=dict)


def to_structured_grid(piece: StructuredPiece, facts: Mapping[str, str | tuple[float, ...]]) -> Any:
    """Make a VTK structured grid of a piece, with facts about the case as field data."""
    grid = vtkStructuredGrid()
    grid.SetDimensions(*piece.dims)
    points = vtkPoints()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(piece.points), deep=1))
    grid.SetPoints(points)
    for name, values in piece.fields.items():
        array = numpy_to_vtk(np.ascontiguousarray(values), deep=1)
        array.SetName(name)
        grid.GetPointData().AddArray(array)
    for name, value in facts.items():
        if isinstance(value, str):
            text = vtkStringArray()
            text.SetName(name)
            text.InsertNextValue(value)
            grid.GetFieldData().AddArray(text)
        else:
            array = numpy_to_vtk(np.asarray(value, dtype=np.float64), deep=1)
            array.SetName(name)
            grid.GetFieldData().AddArray(array)
    return grid


def write_structured(path: Path, piece: StructuredPiece, facts: Mapping[str, str | tuple[float, ...]]) -> None:
    """Write one block as a ``.vts`` file."""
    from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

    writer = vtkXMLStructuredGridWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(to_structured_grid(piece, facts))
    if writer.Write() != 1:
        raise FileError("The file could not be written.", str(path), "Is there room on the disk?")


def write_multiblock(path: Path, blocks: list[StructuredPiece], boundaries: list[StructuredPiece],
                     facts: Mapping[str, str | tuple[float, ...]]) -> None:
    """Write blocks and boundary patches as a ``.vtm`` file and its folder.

    Raises
    ------
    FileError
        When the file could not be written.
    """
    from vtkmodules.vtkIOXML import vtkXMLMultiBlockDataWriter

    root = vtkMultiBlockDataSet()
    for number, piece in enumerate([*blocks, *boundaries]):
        root.SetBlock(number, to_structured_grid(piece, facts))
        root.GetMetaData(number).Set(vtkMultiBlockDataSet.NAME(), piece.name)
    writer = vtkXMLMultiBlockDataWriter()
    writer.SetFileName(str(path))
    writer.SetCompressionLevel(9)
    writer.SetEncodeAppendedData(False)  # a quarter smaller
    writer.SetInputData(root)
    if writer.Write() != 1:
        raise FileError("The file could not be written.", str(path), "Is there room on the disk?")
