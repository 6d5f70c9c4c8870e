"""A passage of a turning machine: means round the axis and a moved span, against VTK's probe at the same places."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkPolyData, vtkStructuredGrid
from vtkmodules.vtkFiltersCore import vtkProbeFilter

from tidal_lens.cutting.contour import isosurface
from tidal_lens.flow.annulus import Annulus
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.measures.round_axis import Lattice, round_axis
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.kinds.span import unrolled
from timing import Row, in_turn

PITCH, LEAN = np.radians(40.0), 0.9
WANTED = "3 s"


def passage(millions: float) -> Flow:
    """Between a cone and a cylinder, sheared round x."""
    n = round((millions * 1e6) ** (1 / 3)) + 1
    share = np.linspace(0.0, 1.0, n)
    tt, rr, xx = (a.ravel() for a in np.meshgrid(share, share, 2.0 * share, indexing="ij"))
    angle, radius = LEAN * xx + PITCH * tt, 0.5 + 0.1 * xx + rr * (0.5 - 0.1 * xx)
    points = np.column_stack([xx, -radius * np.sin(angle), radius * np.cos(angle)])
    index = np.arange(n**3).reshape(n, n, n)
    bounds = []
    for name, sheet in (("hub", index[:, 0]), ("casing", index[:, -1])):
        faces = np.stack([sheet[:-1, :-1], sheet[1:, :-1], sheet[1:, 1:], sheet[:-1, 1:]], axis=-1).reshape(-1, 4)
        bounds.append(boundary_of_faces(name, "hub" if name == "hub" else "casing", points, faces))
    return Flow("passage", Path("passage"), points, (Block("a", StructuredGrid((n, n, n)), 0, 0),), {}, tuple(bounds))


def machines(millions: float, rounds: int) -> list[Row]:
    """The row of means; how long a span takes is printed."""
    flow = passage(millions)
    annulus, rough = Annulus.of(flow.boundaries, (0, 0, 0), (1, 0, 0)), Lattice(30, 40, 180)
    values = np.cos(3.0 * flow.points[:, 0]) + flow.points[:, 1]
    mesh_of(flow)
    whole: list[float] = []
    for _ in range(rounds):
        began = time.perf_counter()
        round_axis(flow, annulus, values)
        whole.append(time.perf_counter() - began)
    print(f"   round the axis, {flow.n_cells / 1e6:.1f} M cells, 120 x 40 places and 180 rays: {min(whole):.2f} s (wanted {WANTED})")
    began = time.perf_counter()
    spans = np.ascontiguousarray(annulus.shares(flow.points)[:, 1])
    print(f"   shares of span of all nodes, once: {time.perf_counter() - began:.2f} s")
    isosurface(flow, spans, 0.4)
    moved = []
    for share in np.linspace(0.45, 0.55, rounds + 2):
        began = time.perf_counter()
        unrolled(isosurface(flow, spans, share), annulus, share)
        moved.append(time.perf_counter() - began)
    print(f"   a span moved and unrolled: {1e3 * float(np.median(moved)):.0f} ms")
    grid, own = vtkStructuredGrid(), vtkPoints()
    own.SetData(numpy_to_vtk(flow.points, deep=1))
    n = round(flow.n_points ** (1 / 3))
    grid.SetDimensions(n, n, n)
    grid.SetPoints(own)
    grid.GetPointData().SetScalars(numpy_to_vtk(values, deep=1))
    shares = (np.linspace(low, 1.0 - low, many) for low, many in ((0.01, 30), (0.01, 40), (0.0, 180)))
    s, eta, theta = (a.ravel() for a in np.meshgrid(*shares, indexing="ij"))
    flat = annulus.places(s, eta)
    places, at = vtkPolyData(), vtkPoints()
    at.SetData(numpy_to_vtk(annulus.in_space(flat, LEAN * flat[:, 0] + PITCH * theta), deep=1))
    places.SetPoints(at)
    probe = vtkProbeFilter()
    probe.SetInputData(places)
    probe.SetSourceData(grid)

    def theirs() -> None:
        probe.Modified()
        probe.Update()

    theirs()
    found = in_turn({"ours": lambda: round_axis(flow, annulus, values, rough), "theirs": theirs}, rounds)
    a, b = found["ours"], found["theirs"]
    return [Row("216,000 places round the axis", "warm", a.best, b.best, a.ratio(b), 0.0, 0.0, "3 s whole")]
