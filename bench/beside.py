"""Two results on different meshes: the values of one at the nodes of the other, against VTK's probe at a part of them."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkPolyData, vtkStructuredGrid
from vtkmodules.vtkFiltersCore import vtkProbeFilter

from grids import warped
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.sampling.across import across
from tidal_lens.sampling.mesh import mesh_of
from timing import Row, in_turn

WANTED = "5 s"
_PART = 200_000


def _flow(n: int, warp: float) -> Flow:
    even = np.linspace(0.0, 1.0, n)
    z, y, x = (a.ravel() for a in np.meshgrid(even, even, even, indexing="ij"))
    plain = np.column_stack([x, y, z])
    return Flow("cube", Path("cube"), plain + warp * (warped(n) - plain), (Block("a", StructuredGrid((n, n, n)), 0, 0),), {})


def beside(millions: float, rounds: int) -> list[Row]:
    """The row of values brought to a part of the nodes; how long all of them take is printed."""
    n = round((millions * 1e6) ** (1 / 3)) + 1
    here, there = _flow(n, 1.0), _flow(round(0.95 * n), 0.6)
    values = np.cos(3.0 * there.points[:, 0]) + there.points[:, 1]
    began = time.perf_counter()
    mesh_of(there)
    built, began = time.perf_counter() - began, time.perf_counter()
    way = across(there, here)
    found = time.perf_counter() - began
    took = []
    for _ in range(rounds):
        began = time.perf_counter()
        own = way.bring(values)
        took.append(time.perf_counter() - began)
    print(f"   the second of two cases, {here.n_cells / 1e6:.1f} and {there.n_cells / 1e6:.1f} M cells: searches {built:.2f} s, "
          f"the way from node to node {found:.2f} s, once; a quantity then {min(took):.2f} s (wanted {WANTED}), "
          f"{(way.where.nbytes + way.places.nbytes) / here.n_points:.0f} bytes a node are kept")
    some = np.ascontiguousarray(here.points[:: max(1, here.n_points // _PART)])
    part = Flow("part", Path("part"), some, (), {})
    grid, points = vtkStructuredGrid(), vtkPoints()
    points.SetData(numpy_to_vtk(there.points, deep=1))
    m = round(there.n_points ** (1 / 3))
    grid.SetDimensions(m, m, m)
    grid.SetPoints(points)
    grid.GetPointData().SetScalars(numpy_to_vtk(values, deep=1))
    places, at = vtkPolyData(), vtkPoints()
    at.SetData(numpy_to_vtk(some, deep=1))
    places.SetPoints(at)
    probe = vtkProbeFilter()
    probe.SetInputData(places)
    probe.SetSourceData(grid)

    def theirs() -> None:
        probe.Modified()
        probe.Update()

    theirs()
    exact = np.cos(3.0 * some[:, 0]) + some[:, 1]
    off = [float(np.nanmax(np.abs(v - exact))) for v in (own[:: max(1, here.n_points // _PART)],
                                                        vtk_to_numpy(probe.GetOutput().GetPointData().GetScalars()))]
    found_both = in_turn({"ours": lambda: across(there, part).bring(values), "theirs": theirs}, rounds)
    a, b = found_both["ours"], found_both["theirs"]
    return [Row(f"{len(some):,} places of another mesh", "warm", a.best, b.best, a.ratio(b), off[0], off[1], "5 s")]
