"""Ratios against VTK's own filters, both on two threads, in one run: ``python bench/run.py [--points 128]``.

Warm: adjacency and locators are built already on both sides. Cold: both build them. Both are timed in turn, several times;
the times shown are the best, the ratio is the median over the turns, so that a machine that is slow for a while does not
count for one side only. Warm*: ours writes into arrays that are there already
(the reference always allocates new ones). Error is the greatest (gradients) or the largest distance from the exact curve (lines).
"""

from __future__ import annotations

import argparse
import os
import time
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
from scipy.integrate import solve_ivp
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints, vtkSMPTools
from vtkmodules.vtkCommonDataModel import vtkPolyData
from vtkmodules.vtkFiltersFlowPaths import vtkStreamTracer
from vtkmodules.vtkFiltersGeneral import vtkGradientFilter

from beside import beside
from cuts import cutting
from finding import finding, finding_large
from grids import hexahedra, jittered, mixed, tetrahedra, vtk_data, warped
from machines import machines
from measuring import measuring
from telling import telling
from tidal_lens.cutting.contour import isosurface
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.demo.kittiwake import demo_file
from tidal_lens.flow.case import Block, Field, Flow
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import Roles
from tidal_lens.quantities.criteria import lambda2
from tidal_lens.quantities.gradients import block_gradient, block_vortices, vorticity_and_q
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Mesh, build_mesh, mesh_of
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.texture import Streaks, directions, smeared
from tidal_lens.study.dressings import Ribbons
from tidal_lens.study.kinds.seeds import BoundarySeeds
from tidal_lens.study.kinds.streamlines import StreamShape
from tidal_lens.study.looks import LineLook
from tidal_lens.study.model import Layer
from tidal_lens.study.session import open_session
from tidal_lens.tracing.seeds import seeds_on_faces
from tidal_lens.tracing.streamlines import Lines, TraceSettings, trace_lines
from tidal_lens.tracing.surface_lines import lines_on
from tidal_lens.warm import load_kernels
from tidal_lens.work import Token, run_chunks
from timing import Row, Timed, in_turn

THREADS = 2
TOLERANCE = 1e-5
LENGTH = 4.0


def exact(p: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    x, y, z = 2 * np.pi * p.T
    return np.column_stack([np.sin(z) + 0.8 * np.cos(y), 0.9 * np.sin(x) + np.cos(z), 0.8 * np.sin(y) + 0.9 * np.cos(x)])


def exact_gradient(p: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    x, y, z = 2 * np.pi * p.T
    g = np.zeros((len(p), 3, 3))
    g[:, 0, 1], g[:, 0, 2] = -0.8 * np.sin(y), np.cos(z)
    g[:, 1, 0], g[:, 1, 2] = 0.9 * np.cos(x), -np.sin(z)
    g[:, 2, 0], g[:, 2, 1] = -0.9 * np.sin(x), 0.8 * np.cos(y)
    return 2 * np.pi * g


def vtk_gradient(data: Any, *, gradient: bool = True, vortices: bool = False) -> Any:
    task = vtkGradientFilter()
    task.SetInputData(data)
    task.SetInputArrayToProcess(0, 0, 0, 0, "u")
    task.SetResultArrayName("g")
    task.SetComputeGradient(gradient)
    task.SetComputeVorticity(vortices)
    task.SetComputeQCriterion(vortices)
    task.Update()
    return task.GetOutput()


def triad(rounds: int) -> float:
    """What memory gives: bytes a second of a = b + 3 c on two threads, fresh arrays of 64 MB."""
    b, c = np.ones(8_000_000), np.ones(8_000_000)
    out = np.empty_like(b)

    def part(begin: int, end: int) -> None:
        np.multiply(c[begin:end], 3.0, out=out[begin:end])
        np.add(out[begin:end], b[begin:end], out=out[begin:end])

    # The product stays in the cache: b, c are read and out is written (and read for that) once.
    times = []
    for _ in range(rounds):
        began = time.perf_counter()
        run_chunks(part, len(b), 16384)
        times.append(time.perf_counter() - began)
    return 4 * out.nbytes / min(times)


def gradients(n: int, rounds: int) -> list[Row]:
    rows = []
    m = n * 80 // 128 + 1 - (n * 80 // 128) % 3  # some 1.5 million tetrahedra for 128
    cases = (("curvilinear", StructuredGrid((n, n, n)), warped(n), "4x"), ("hexahedra", hexahedra(n), warped(n), "50x"),
             ("hexahedra, jittered", hexahedra(m), jittered(m), "error"), ("tetrahedra", tetrahedra(m), warped(m), "40x"),
             ("tetrahedra, jittered", tetrahedra(m), jittered(m), "error"), ("mixed cells", *mixed(warped(m))[::-1], "40x"),
             ("mixed cells, jittered", *mixed(jittered(m))[::-1], "error"))
    cold_wanted = {"hexahedra": "20x", "tetrahedra": "15x", "mixed cells": "15x"}
    for name, grid, points, wanted in cases:
        u = exact(points).astype(np.float32)  # what files hold; both sides answer in the same precision
        truth = exact_gradient(points)
        size = round(len(points) ** (1 / 3))
        ours_cold, theirs_cold = [], []
        if isinstance(grid, UnstructuredGrid):
            for _ in range(3):
                fresh = UnstructuredGrid(grid.n_points, grid.corners, grid.types)
                data = vtk_data(size, points, u, fresh)
                began = time.perf_counter()
                block_gradient(fresh, points, u)
                ours_cold.append(time.perf_counter() - began)
                began = time.perf_counter()
                vtk_gradient(data)
                theirs_cold.append(time.perf_counter() - began)
        data = vtk_data(size, points, u, grid)

        def ours(grid: Any = grid, points: Any = points, u: Any = u) -> Any:
            return block_gradient(grid, points, u)

        kept = block_gradient(grid, points, u)

        def again(grid: Any = grid, points: Any = points, u: Any = u, kept: Any = kept) -> Any:
            return block_gradient(grid, points, u, None, kept)

        vtk_gradient(data)  # the reference builds its links here
        found = in_turn({"ours": ours, "again": again, "theirs": lambda data=data: vtk_gradient(data)}, rounds)
        theirs = vtk_to_numpy(found["theirs"].answer.GetPointData().GetArray("g")).reshape(-1, 3, 3)
        wrong = np.abs(found["ours"].answer - truth).max(), np.abs(theirs - truth).max()
        mine, reused, other = found["ours"], found["again"], found["theirs"]
        what = f"gradient: {name}"
        rows.append(Row(what, "warm", mine.best, other.best, mine.ratio(other), *wrong, wanted))
        rows.append(Row(what, "warm*", reused.best, other.best, reused.ratio(other), *wrong, "—"))
        if name in ("curvilinear", "hexahedra"):
            rows += with_vortices(name, grid, points, u, data, rounds)
        if ours_cold:
            rows.append(Row(what, "cold", min(ours_cold), min(theirs_cold), Timed(ours_cold, None).ratio(Timed(theirs_cold, None)), *wrong,
                            cold_wanted.get(name, "—")))
        if name == "curvilinear":
            # Points and velocity read once, the gradient written (and its lines read for that).
            moved = points.nbytes + u.nbytes + 2 * kept.nbytes
            speed = triad(rounds)
            print(f"   curvilinear: {moved / reused.best / 1e9:.1f} GB/s of {speed / 1e9:.1f} GB/s of a triad, "
                  f"{100 * moved / reused.best / speed:.0f} % (wanted 70 %)")
    return rows


def with_vortices(name: str, grid: Any, points: Any, u: Any, data: Any, rounds: int) -> list[Row]:
    """Vorticity and Q without the gradient, as they are worked out when they are asked for; and all three."""
    def three() -> Any:
        grad = block_gradient(grid, points, u)
        return grad, vorticity_and_q(grad)

    found = in_turn({"two": lambda: block_vortices(grid, points, u),
                     "their two": lambda: vtk_gradient(data, gradient=False, vortices=True), "three": three,
                     "their three": lambda: vtk_gradient(data, vortices=True)}, rounds)
    exact_q = vorticity_and_q(exact_gradient(points))[1]
    wrong = [float(np.abs(q - exact_q).max()) for q in
             (found["two"].answer[1], vtk_to_numpy(found["their two"].answer.GetPointData().GetArray("Q-criterion")))]
    rows = []
    for what, mine, other in (("vorticity, Q", "two", "their two"), ("gradient, vorticity, Q", "three", "their three")):
        a, b = found[mine], found[other]
        rows.append(Row(f"{what}: {name}", "warm", a.best, b.best, a.ratio(b), *wrong, "4x" if name == "curvilinear" else "50x"))
    return rows


def large(millions: float) -> None:
    """Vorticity and Q, and what the Derive station shows first, on one structured block."""
    n = round((millions * 1e6) ** (1 / 3))
    points = warped(n)
    u = exact(points).astype(np.float32)
    flow = Flow("large", Path("large"), points, (Block("b", StructuredGrid((n, n, n)), 0, 0),), {"U": Field("U", "node", u)},
                roles=Roles(velocity=("U",)))
    size, before = flow.nbytes, resident()
    store = QuantityStore(flow, ReferenceState())
    began = time.perf_counter()
    store.preview("q")
    first = time.perf_counter() - began
    store.values("q")
    took = time.perf_counter() - began - first
    print(f"   vorticity and Q of {len(points) / 1e6:.1f} M points: {took:.2f} s (wanted 3 s), a first look after {first:.3f} s, memory "
          f"{(resident() - before) / size:.2f} x that of the block with its velocity (its own size and the result: "
          f"{1 + 16 * len(points) / size:.2f})")


def resident() -> int:
    """Memory that the process has now [bytes]."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def criteria(n: int, rounds: int) -> list[Row]:
    """λ2 in closed form against numpy's eigenvalues of the same symmetric matrices."""
    grad = exact_gradient(np.random.default_rng(2).random((n**3 // 2, 3)))
    grad += np.random.default_rng(3).normal(size=grad.shape)
    s, w = 0.5 * (grad + grad.swapaxes(1, 2)), 0.5 * (grad - grad.swapaxes(1, 2))
    tensors = s @ s + w @ w
    found = in_turn({"ours": lambda: lambda2(grad), "theirs": lambda: np.linalg.eigvalsh(tensors)[:, 1]}, rounds)
    mine, other = found["ours"], found["theirs"]
    wrong = float(np.abs(mine.answer - other.answer).max())
    return [Row("λ2 against eigvalsh", "warm", mine.best, other.best, mine.ratio(other), wrong, 0.0, "30x")]


def seeds_for(count: int) -> np.ndarray[Any, Any]:
    return 0.15 + 0.7 * np.random.default_rng(3).random((count, 3))


def confined(p: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    """A flow without divergence that no line leaves: tangential to the faces of the unit cube."""
    total = np.zeros_like(p)
    for wave, a, b, d in ((1, 1.0, 0.7, 0.45), (2, 0.3, -0.5, 0.8)):  # one wave alone has closed orbits only
        s, c = np.sin(wave * np.pi * p).T, np.cos(wave * np.pi * p).T
        total += np.column_stack([s[0] * (a * c[1] - b * c[2]), s[1] * (d * c[2] - a * c[0]), s[2] * (b * c[0] - d * c[1])])
    return total


def reference_curves(flow: Callable[..., Any], seeds: np.ndarray[Any, Any]) -> list[np.ndarray[Any, Any]]:
    """Exact curves from some seeds, finely sampled by arc length."""
    curves = []
    for seed in seeds:
        answer = solve_ivp(lambda _s, x: (lambda v: v / np.linalg.norm(v))(flow(x[None])[0]), (0, 1.02 * LENGTH), seed, rtol=1e-10,
                           atol=1e-10, max_step=0.01)
        curves.append(answer.y.T)
    return curves


def off_curve(line: np.ndarray[Any, Any], curve: np.ndarray[Any, Any]) -> float:
    """Largest distance of a line's points from a curve of short straight pieces."""
    a, b = curve[:-1], curve[1:]
    d = b - a
    t = np.clip(((line[:, None] - a) * d).sum(-1) / (d * d).sum(-1), 0, 1)
    return float(np.linalg.norm(line[:, None] - (a + t[..., None] * d), axis=-1).min(axis=1).max())


def vtk_lines(data: Any, seeds: np.ndarray[Any, Any]) -> Any:
    start = vtkPolyData()
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(np.ascontiguousarray(seeds)))
    start.SetPoints(holder)
    task = vtkStreamTracer()
    task.SetInputData(data)
    task.SetSourceData(start)
    task.SetIntegratorTypeToRungeKutta45()
    task.SetIntegrationDirectionToForward()
    task.SetMaximumPropagation(LENGTH)
    task.SetMaximumError(TOLERANCE)
    task.SetIntegrationStepUnit(2)
    task.SetInitialIntegrationStep(0.5)
    task.SetMinimumIntegrationStep(0.01)
    task.SetMaximumIntegrationStep(2.0)
    task.SetMaximumNumberOfSteps(20000)
    task.SetComputeVorticity(False)
    task.SetInputArrayToProcess(0, 0, 0, 0, "u")
    task.Update()
    return task.GetOutput()


def tracing(n: int, rounds: int, through: Callable[..., Any], kind: str, count: int = 1000) -> list[Row]:
    rows = []
    seeds = seeds_for(count)
    curves = reference_curves(through, seeds[:40])
    settings = TraceSettings("forward", LENGTH, tolerance=TOLERANCE)
    half = n // 2  # six tetrahedra a cube: as many cells as there are hexahedra
    for what, m, grid, wanted, at_first in (("curvilinear", n, StructuredGrid((n, n, n)), "10x", "5x"),
                                            ("hexahedra", n, hexahedra(n), "9x", "4x"),
                                            ("tetrahedra", half, tetrahedra(half), "15x", "6x")):
        name, points = f"{count} {kind} lines: {what}", warped(m)
        u = through(points)
        flow = Flow("bench", Path("bench"), points, (Block("b", grid, 0, 0),), {})
        data = vtk_data(m, points, u, grid)

        def cold(flow: Flow = flow, u: Any = u, grid: Any = grid) -> Lines:
            grid.__dict__.pop("_neighbours", None)
            return trace_lines(flow, build_mesh(flow), u, seeds, settings)

        unseen = [vtk_data(m, points, u, grid) for _ in range(3)]  # they keep what they have worked out
        first = in_turn({"ours": cold, "theirs": lambda unseen=unseen: vtk_lines(unseen.pop(), seeds)}, len(unseen))
        mesh: Mesh = build_mesh(flow)
        found = in_turn({"ours": lambda flow=flow, mesh=mesh, u=u: trace_lines(flow, mesh, u, seeds, settings),
                      "theirs": lambda data=data: vtk_lines(data, seeds)}, rounds)
        lines: Lines = found["ours"].answer
        ours = max(off_curve(lines.points[lines.offsets[k]:lines.offsets[k + 1]], curves[k]) for k in range(len(curves)))
        their = found["theirs"].answer
        their_points = vtk_to_numpy(their.GetPoints().GetData()).astype(float)
        ids = vtk_to_numpy(their.GetLines().GetConnectivityArray())
        starts = vtk_to_numpy(their.GetLines().GetOffsetsArray())
        seed_of = vtk_to_numpy(their.GetCellData().GetArray("SeedIds"))
        known = [k for k in range(len(seed_of)) if seed_of[k] < len(curves)]
        theirs = max(off_curve(their_points[ids[starts[k]:starts[k + 1]]], curves[seed_of[k]]) for k in known)
        total = float(lines.lengths.sum()), float(sum(np.linalg.norm(np.diff(their_points[ids[a:b]], axis=0), axis=1).sum()
                                                        for a, b in pairwise(starts)))
        print(f"   {name}: total length {total[0]:.0f} and {total[1]:.0f}, points {len(lines.points):,} and {len(their_points):,}")
        mine, other = found["ours"], found["theirs"]
        short = kind == "short"
        rows.append(Row(name, "warm", mine.best, other.best, mine.ratio(other), ours, theirs, "5x" if short else wanted))
        mine, other = first["ours"], first["theirs"]
        rows.append(Row(name, "cold", mine.best, other.best, mine.ratio(other), ours, theirs, "1x" if short else at_first))
    return rows


def texture(rounds: int) -> None:
    """Streaks over a ball that fills a picture of 1000 by 700 pixels, and over one of half the size."""
    n = 65
    points = warped(n)
    flow = Flow("bench", Path("bench"), points, (Block("b", StructuredGrid((n, n, n)), 0, 0),), {})
    ball = isosurface(flow, np.linalg.norm(points - 0.5, axis=1), 0.4)
    vectors = np.cross(ball.points - 0.5, [0.3, 0.2, 1.0])
    camera = Camera(np.array([0.5, -1.0, 0.5]), np.full(3, 0.5), np.array([0.0, 0.0, 1.0]))
    how = Streaks(vectors)
    for what, width, height, wanted in (("a draft", 500, 350, "0.06 s"), ("at rest", 1000, 700, "0.6 s")):
        y, x = np.mgrid[0:height, 0:width] + 0.5
        away = 0.5 * height / np.tan(np.radians(camera.angle / 2))
        rays = np.stack([(x - width / 2) / away, np.ones_like(x), (height / 2 - y) / away], axis=-1)  # of depth one; it looks along y
        a, b, c = (rays**2).sum(axis=-1), -2.0 * 1.5 * rays[..., 1], 1.5**2 - 0.4**2
        inside = b * b - 4 * a * c
        depth = np.where(inside > 0, (-b - np.sqrt(np.maximum(inside, 0.0))) / (2 * a), np.inf).astype(np.float32)
        times: list[tuple[float, float]] = []
        for _ in range(rounds):
            began = time.perf_counter()
            ways = directions(camera, ball.points, ball.faces, vectors, depth)
            between = time.perf_counter()
            smeared(ways, how)
            first = time.perf_counter() - between
            smeared(ways, replace(how, phase=0.1))
            between_two = time.perf_counter()
            smeared(ways, replace(how, phase=0.2))
            times.append((between - began + first, time.perf_counter() - between_two))
        covered = float(ways.any(axis=-1).mean())
        still, running = (float(np.median([t[k] for t in times])) for k in (0, 1))
        print(f"   flow texture, {what} of {width} x {height}, {100 * covered:.0f} % covered: {still:.3f} s "
              f"(wanted {wanted}), running on {running:.3f} s a picture (wanted 0.067 s)")


def on_the_wall(rounds: int) -> None:
    """Lines of the wall shear over the demo's wall, and ribbons from its rear."""
    session = open_session(demo_file(), None, Token())
    flow, store = session.flow, session.evaluator.store
    mesh_of(flow)
    wall = boundary_surface(flow, tuple(b.name for b in flow.boundaries if b.kind == "wall"))
    shear = store.values("wall-shear")
    for name in ("velocity", "vorticity"):
        store.values(name)
    seeds = seeds_on_faces(wall.points, wall.faces, 2000)
    rear = BoundarySeeds(boundaries=tuple(b.name for b in flow.boundaries if b.kind == "wall"), rear=0.2, off=0.002 * flow.size, count=500)
    shape = StreamShape(seeds=(rear,), max_length=2.0 * flow.size)
    layer = Layer(id="streamlines-1", name="Ribbons", shape=shape, look=LineLook(ribbons=Ribbons()))

    def wall_lines() -> None:
        lines_on(wall, wall.stencil.apply_vectors(shear), seeds, max_length=0.05 * flow.size, max_points=1000)

    def ribbons() -> None:
        session.evaluator.answers.shapes.forget(lambda _basis: True)
        session.evaluator.answers.dressings.forget(lambda _basis: True)
        session.evaluator.evaluate(layer, Token())

    for what, task, wanted in (("2,000 lines of the wall shear", wall_lines, "0.3 s"),
                               ("500 ribbons from the rear of the wall", ribbons, "0.5 s")):
        task()
        times = []
        for _ in range(rounds):
            began = time.perf_counter()
            task()
            times.append(time.perf_counter() - began)
        print(f"   {what} on the demo: {float(np.median(times)):.3f} s (wanted {wanted})", flush=True)


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--points", type=int, default=128, help="points along each edge of the grid")
    options.add_argument("--rounds", type=int, default=7)
    options.add_argument("--only", choices=("gradients", "lines", "cuts", "finding", "measuring", "machines", "beside", "telling"),
                         help="a part of the table")
    chosen = options.parse_args()
    os.environ.setdefault("VTK_SMP_MAX_THREADS", str(THREADS))
    vtkSMPTools.SetBackend("STDThread")
    vtkSMPTools.Initialize(THREADS)
    print(f"VTK backend {vtkSMPTools.GetBackend()}, {vtkSMPTools.GetEstimatedNumberOfThreads()} threads; {chosen.points}³ points; "
          f"tolerance {TOLERANCE:g} a step, lines of length {LENGTH:g}; kernels compiled before the clock starts")
    load_kernels()
    rows: list[Row] = []
    if chosen.only in (None, "gradients"):
        large(10.0 if chosen.points >= 128 else 1.0)
        rows += criteria(chosen.points, chosen.rounds) + gradients(chosen.points, chosen.rounds)
    if chosen.only in (None, "cuts"):
        rows += cutting(chosen.points, chosen.rounds)
        texture(chosen.rounds)
    if chosen.only in (None, "lines"):
        on_the_wall(chosen.rounds)
        rows += tracing(chosen.points, chosen.rounds, confined, "long")
        rows += tracing(chosen.points, chosen.rounds, exact, "short")
    if chosen.only in (None, "finding"):
        finding(chosen.rounds)
        finding_large(5.0 if chosen.points >= 128 else 0.5)
    if chosen.only in (None, "measuring"):
        rows += measuring(10.0 if chosen.points >= 128 else 1.0, max(3, chosen.rounds // 2))
    if chosen.only in (None, "beside"):
        rows += beside(10.0 if chosen.points >= 128 else 0.5, max(3, chosen.rounds // 2))
    if chosen.only in (None, "telling"):
        telling()
    if chosen.only in (None, "machines"):
        rows += machines(5.0 if chosen.points >= 128 else 0.5, max(3, chosen.rounds // 2))
    print(f"\n{'what':<38}{'state':<7}{'ours':>9}{'VTK':>10}{'ratio':>8}{'wanted':>8}{'error':>11}{'VTK error':>11}")
    for r in rows:
        print(f"{r.what:<38}{r.state:<7}{r.ours:>8.4f}s{r.theirs:>9.4f}s{r.ratio:>7.1f}x{r.wanted:>8}"
              f"{r.our_error:>11.2e}{r.their_error:>11.2e}",
              flush=True)


if __name__ == "__main__":
    main()
