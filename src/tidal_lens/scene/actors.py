"""VTK actors for items."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
from vtkmodules.vtkCommonCore import vtkLookupTable, vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkCommonMath import vtkMatrix4x4
from vtkmodules.vtkFiltersCore import vtkPolyDataNormals
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

from tidal_lens.scene.balls import MOST, ball, balls
from tidal_lens.scene.palettes import parse
from tidal_lens.scene.scene import BallsItem, ColourMap, Item, LinesItem, SurfaceItem

_DOT = 3.0  # pixels of a ball where there are very many
_NO_VALUE = (0.62, 0.62, 0.62, 1.0)


_LIFT = (-2.0, -600.0)  # steps of depth by which lines that lie on a surface are drawn before it


class Drawn:
    """An item with its actors, the first and its copies; keeps the arrays alive that VTK shares."""

    def __init__(self, item: Item) -> None:
        self.item = item
        self.table = vtkLookupTable()
        self.mapper = vtkPolyDataMapper()
        self.mapper.InterpolateScalarsBeforeMappingOn()
        self.actors = [vtkActor() for _ in range(1 + len(item.copies))]
        for actor, move in zip(self.actors, (None, *item.copies), strict=True):
            actor.SetMapper(self.mapper)
            actor.SetProperty(self.actors[0].GetProperty())
            if move is not None:
                place = vtkMatrix4x4()
                place.DeepCopy(move.ravel().tolist())
                actor.SetUserMatrix(place)
        self._data = _poly_data(item)
        self.mapper.SetInputData(self._data)
        self._set_values(item)
        self._set_look(item)

    def update(self, item: Item) -> bool:
        """Take over what changed; False where the geometry is another and a new one must be made."""
        old = self.item
        if item is old:
            return True
        if type(item) is not type(old) or item.points is not old.points or item.copies is not old.copies:
            return False
        if isinstance(item, BallsItem) and isinstance(old, BallsItem) and item.radii is not old.radii:
            return False
        if isinstance(item, SurfaceItem) and isinstance(old, SurfaceItem) and (
                item.faces is not old.faces or item.shaded != old.shaded):
            return False
        if item.values is not old.values or item.colours is not old.colours:
            self._set_values(item)
        self._set_look(item)
        self.item = item
        return True

    def _set_values(self, item: Item) -> None:
        if item.values is None or item.colours is None:
            self.mapper.ScalarVisibilityOff()
            return
        values = np.ascontiguousarray(item.values, dtype=np.float32)
        if isinstance(item, BallsItem) and len(values) <= MOST:
            values = np.repeat(values, len(ball(len(values))[0]))
        array = numpy_to_vtk(values, deep=1)
        array.SetName("value")
        self._data.GetPointData().SetScalars(array)
        _fill(self.table, item.colours)
        self.mapper.SetLookupTable(self.table)
        self.mapper.SetUseLookupTableScalarRange(True)
        self.mapper.ScalarVisibilityOn()

    def _set_look(self, item: Item) -> None:
        look = self.actors[0].GetProperty()
        look.SetColor(*parse(item.colour))
        if isinstance(item, LinesItem):
            look.SetLineWidth(item.width)
            look.SetLighting(False)
            if item.lying:
                self.mapper.SetRelativeCoincidentTopologyLineOffsetParameters(*_LIFT)
            for actor in self.actors:
                actor.SetPickable(item.pickable)
            return
        look.SetOpacity(item.opacity)
        if isinstance(item, BallsItem):
            look.SetInterpolationToPhong()
            look.SetLighting(len(item.points) <= MOST)
            look.SetPointSize(_DOT)
            look.SetAmbient(0.42)
            look.SetDiffuse(0.70)
            look.SetSpecular(0.0)
            return
        look.SetEdgeVisibility(item.mesh_lines)
        look.SetEdgeColor(0.16, 0.22, 0.26)
        look.SetLineWidth(0.7)
        look.SetInterpolationToPhong()
        look.SetAmbient(0.42 if item.shaded else 1.0)
        look.SetDiffuse(0.70 if item.shaded else 0.0)
        look.SetSpecular(0.0)


def _fill(table: Any, colours: ColourMap) -> None:
    table.SetNumberOfTableValues(len(colours.table))
    array = numpy_to_vtk(np.ascontiguousarray(colours.table), deep=1)
    table.SetTable(array)
    table.SetRange(colours.low, colours.high)
    table.SetScaleToLog10() if colours.log else table.SetScaleToLinear()
    table.SetNanColor(*_NO_VALUE)
    beyond = _NO_VALUE if colours.beyond == "grey" else (*_NO_VALUE[:3], 0.0)
    for use, colour in ((table.SetUseBelowRangeColor, table.SetBelowRangeColor), (table.SetUseAboveRangeColor, table.SetAboveRangeColor)):
        use(colours.beyond != "colour")
        colour(*beyond)
    table.Modified()


def _poly_data(item: Item) -> Any:
    if isinstance(item, BallsItem):
        return _ball_data(item)
    data = vtkPolyData()
    points = vtkPoints()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(item.points), deep=1))
    data.SetPoints(points)
    if isinstance(item, LinesItem):
        data.SetLines(_cells(*_runs(item)))
        return data
    faces = item.faces
    triangle = faces[:, 2] == faces[:, 3]
    keep = np.ones(faces.shape, dtype=bool)
    keep[triangle, 3] = False
    data.SetPolys(_cells(np.concatenate([[0], np.cumsum(np.where(triangle, 3, 4))]), faces[keep]))
    return _with_normals(data) if item.shaded else data


def _runs(item: LinesItem) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Where each piece of the lines begins, and its points one after another."""
    rows = np.arange(int(item.offsets[-1]), dtype=np.int64)
    if item.gaps is None:
        return item.offsets, rows
    drawn = ~item.gaps  # the way from a point to the next
    drawn[item.offsets[1:] - 1] = False
    edges = np.flatnonzero(np.diff(np.concatenate([[False], drawn, [False]]).astype(np.int8)))
    begins, sizes = edges[::2], edges[1::2] - edges[::2] + 1
    offsets = np.concatenate([[0], np.cumsum(sizes)])
    return offsets, np.repeat(begins - offsets[:-1], sizes) + np.arange(offsets[-1])


def _ball_data(item: BallsItem) -> Any:
    """Balls as triangles; dots where there are very many."""
    data, points, count = vtkPolyData(), vtkPoints(), len(item.points)
    if count > MOST:
        points.SetData(numpy_to_vtk(item.points.astype(np.float32), deep=1))
        data.SetPoints(points)
        data.SetVerts(_cells(np.arange(count + 1), np.arange(count)))
        return data
    places, normals, faces = balls(item.points, item.radii)
    points.SetData(numpy_to_vtk(places, deep=1))
    data.SetPoints(points)
    data.SetPolys(_cells(np.arange(0, faces.size + 1, 3), faces.ravel()))
    data.GetPointData().SetNormals(numpy_to_vtk(normals, deep=1))
    return data


def _cells(offsets: NDArray[np.int64], connectivity: NDArray[np.int64]) -> Any:
    cells = vtkCellArray()
    cells.SetData(numpy_to_vtkIdTypeArray(np.ascontiguousarray(offsets, dtype=np.int64), deep=1),
                  numpy_to_vtkIdTypeArray(np.ascontiguousarray(connectivity, dtype=np.int64), deep=1))
    return cells


def _with_normals(data: Any) -> Any:
    normals = vtkPolyDataNormals()
    normals.SetInputData(data)
    normals.SplittingOff()
    normals.ConsistencyOff()
    normals.Update()
    return normals.GetOutput()
