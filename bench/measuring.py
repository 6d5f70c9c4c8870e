"""Integrals over a slice, all boundaries and the volume of a large result, against VTK's integrator; how long a chart takes to point."""

from __future__ import annotations

from typing import Any

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersParallel import vtkIntegrateAttributes

from grids import hexahedra, vtk_data, warped
from tidal_lens.demo.kittiwake import demo_file
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.case import Block, Field, Flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import recognise_roles
from tidal_lens.measures.sums import Facets
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.kind import Begun, Made, See
from tidal_lens.study.kinds.over import OverShape
from tidal_lens.study.kinds.slice import SliceShape
from tidal_lens.study.kinds.volume import VolumeShape
from tidal_lens.study.looks import BallLook, SurfaceLook
from tidal_lens.study.model import Layer, Study
from tidal_lens.work import Token
from timing import Row, in_turn

WANTED = {"slice": "0.3 s", "boundaries": "1 s", "volume": "1.5 s"}


def _integrator(data: Any) -> Any:
    """VTK's sums of all arrays over a mesh."""
    task = vtkIntegrateAttributes()
    task.SetInputData(data)
    return task


def _surface(points: Any, faces: Any, arrays: Any) -> Any:
    """With what our sums need as arrays: each has to be added up."""
    data, own, cells = vtkPolyData(), vtkPoints(), vtkCellArray()
    own.SetData(numpy_to_vtk(np.ascontiguousarray(points), deep=1))
    sides = np.where(faces[:, 2] == faces[:, 3], 3, 4)
    flat = faces.ravel()[np.column_stack([np.ones((len(faces), 3), bool), sides == 4]).ravel()]
    cells.SetData(numpy_to_vtk(np.concatenate([[0], np.cumsum(sides)]).astype(np.int64), deep=1),
                  numpy_to_vtk(np.ascontiguousarray(flat, np.int64), deep=1))
    data.SetPoints(own)
    data.SetPolys(cells)
    for n, values in enumerate(arrays):
        array = numpy_to_vtk(np.ascontiguousarray(values), deep=1)
        array.SetName(f"a{n}")
        data.GetPointData().AddArray(array)
    return data


def _integral(task: Any) -> float:
    task.Modified()
    task.Update()
    return float(vtk_to_numpy(task.GetOutput().GetPointData().GetArray(0))[0])


def measuring(millions: float, rounds: int) -> list[Row]:
    """Rows of the table; ours makes the whole card, with means by mass, flow rates and extremes, theirs plain sums."""
    n = round((millions * 1e6) ** (1 / 3)) + 1
    points = warped(n)
    grid = hexahedra(n)
    p = (np.cos(points @ np.array([1.0, 2.0, 0.5])) + 2.0).astype(np.float32)
    u = np.column_stack([1.0 + 0.2 * points[:, 1], 0.1 * points[:, 0], 0.0 * p]).astype(np.float32)
    fields = {name: Field(name, "node", v) for name, v in (("Velocity", u), ("Pressure", p), ("Density", p.copy()))}
    flow = Flow("large", demo_file(), points, (Block("a", grid, 0, 0),), fields,
                roles=recognise_roles({f.name: f.components for f in fields.values()}), reference=ReferenceState(2.0, 1.0, (1.0, 0.0, 0.0)))
    flow.__dict__["boundaries"] = (boundary_of_faces("all", "far field", points, flow.outside.faces),)
    evaluator, study, token = Evaluator(flow, flow.reference), Study(), Token()
    cut = study.layer_of(Begun("cut", SliceShape(direction=(0.2, 0.1, 1.0), position=0.5), SurfaceLook()))
    study = study.adding(cut)

    def layer(shape: Any) -> Layer:
        nonlocal study
        own = study.layer_of(Begun("m", shape, BallLook()))
        study = study.adding(own)
        return own

    cards = {"slice": layer(OverShape(card=cut.id, quantity="file:Pressure")),
             "boundaries": layer(OverShape(boundaries=("all",), quantity="file:Pressure")),
             "volume": layer(VolumeShape(quantity="file:Pressure"))}
    surface = evaluator.evaluate(cut, token, study).made.geometry
    outside = flow.outside.faces
    exact = float(np.real(np.exp(1.75j)) * np.prod(np.sin([0.5, 1.0, 0.25]) / [0.5, 1.0, 0.25])) + 2.0

    def card(name: str) -> Made:
        see: See = evaluator.sight(token, cards[name], study)
        return cards[name].shape.make(see)

    def volume() -> Made:
        flow.__dict__.pop("_node_volumes", None)  # with all that it rests on
        return card("volume")

    rows, millions = [], flow.n_cells / 1e6

    def row(name: str, ours: Any, theirs: Any, right: float, told: Any) -> None:
        ours()
        found = in_turn({"ours": ours, "theirs": theirs}, rounds)
        mine, other = found["ours"], found["theirs"]
        rows.append(Row(f"integrals, {name}, {millions:.1f} M cells", "warm", mine.best, other.best, mine.ratio(other),
                        abs(told(mine.answer) / right - 1), abs(float(other.answer) / right - 1), "3x"))

    for name, points_of, faces, values in (
            ("slice", surface.points, surface.faces, surface.stencil), ("boundaries", points, outside, None)):
        own, speed = (values.apply(p), values.apply_vectors(u)) if values is not None else (p.astype(np.float64), u.astype(np.float64))
        through = speed[:, 2] * own
        task = _integrator(_surface(points_of, faces, [own, own**2, through, np.abs(through), own * through, speed[:, 2]]))
        _integral(task)
        row(name, lambda points_of=points_of, faces=faces, own=own, speed=speed: Facets.of(points_of, faces).sums(own, speed, own),
            lambda task=task: _integral(task), _integral(task), lambda sums: sums.integral)
    task = _integrator(vtk_data(n, points, p, grid))
    row("volume", volume, lambda: _integral(task), exact,
        lambda made: next(float(r[1]) for t in made.tables for r in t.rows if r[0] == "integral"))
    for name, wanted in WANTED.items():
        card(name)
        print(f"Card of all integrals over the {name:10s} {in_turn({'it': lambda name=name: card(name)}, rounds)['it'].best:6.3f} s "
              f"of {millions:.1f} M cells   wanted: {wanted}")
    return rows
