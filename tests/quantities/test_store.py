import os
import subprocess
import sys
import threading

import numpy as np
import pytest

from making import abc, cube_flow, cube_points, flow_of
from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities.gradients import block_gradient, flow_vortices
from tidal_lens.quantities.nodes import node_values
from tidal_lens.quantities.store import QuantityStore


def test_velocity_from_components_and_from_momentum():
    p = cube_points(4)
    u = abc(p)
    rho = 1 + p[:, 0]
    grid = [(p, StructuredGrid((4, 4, 4)))]
    parts = flow_of(grid, {"VelocityX": u[:, 0], "VelocityY": u[:, 1], "VelocityZ": u[:, 2]})
    momentum = flow_of(grid, {"Momentum": u * rho[:, None], "Density": rho})
    for flow in (parts, momentum):
        assert np.allclose(QuantityStore(flow, flow.reference).values("velocity"), u)


def test_what_is_missing_is_said():
    flow = cube_flow(4, velocity=abc)
    store = QuantityStore(flow, flow.reference)
    assert store.describe("mach").missing == "pressure, density"
    assert store.describe("cp").missing == "pressure, free stream"
    assert store.describe("q").missing == ""
    with pytest.raises(MissingQuantityError, match="needs pressure, density"):
        store.values("mach")
    with pytest.raises(MissingQuantityError, match="Did you mean 'vorticity-x'"):
        store.describe("vorticity_x")
    with pytest.raises(MissingQuantityError, match="no array"):
        store.values("file:nothing")
    assert np.array_equal(store.values("file:Velocity.y"), flow.fields["Velocity"].values[:, 1])


def test_values_are_computed_once_however_many_ask():
    flow = cube_flow(20, velocity=abc)
    store = QuantityStore(flow, flow.reference)
    found = []
    names = ("q", "vorticity", "q", "vorticity-x") * 3
    threads = [threading.Thread(target=lambda n=name: found.append((n, store.values(n)))) for name in names]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert len({id(v) for n, v in found if n == "q"}) == 1
    assert not found[0][1].flags.writeable


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra", "wedges", "pyramids"])
def test_cell_values_come_to_nodes(kind):
    flow = cube_flow(5, kind)
    points = np.arange(flow.n_cells, dtype=float)
    cells = flow_of([(flow.points, flow.blocks[0].grid)], {"one@cell": np.full(flow.n_cells, 3.0), "n@cell": points})
    assert np.allclose(node_values(cells, cells.fields["one"]), 3.0)
    means = node_values(cells, cells.fields["n"])
    assert points.min() <= means.min() < means.max() <= points.max()


def test_cell_values_agree_across_a_seam():
    p = cube_points(4)
    grid = StructuredGrid((4, 4, 4))
    flow = flow_of([(p, grid), (p + np.array([1.0, 0, 0]), grid)], {"c@cell": np.repeat([1.0, 2.0], 27)})
    on_seam = np.isclose(flow.points[:, 0], 1)
    assert np.allclose(node_values(flow, flow.fields["c"])[on_seam], 1.5)


def test_a_collapsed_edge_gives_finite_gradients():
    """A cylindrical block whose axis is one line: the metric is singular there."""
    r, a, z = np.linspace(0, 1, 9), np.linspace(0, np.pi, 13), np.linspace(0, 1, 5)
    zz, aa, rr = (q.ravel() for q in np.meshgrid(z, a, r, indexing="ij"))
    points = np.column_stack([rr * np.cos(aa), rr * np.sin(aa), zz])
    found = block_gradient(StructuredGrid((9, 13, 5)), points, points @ np.array([2.0, 3.0, -1.0]))
    assert np.isfinite(found).all()
    off_axis = rr > 0.2
    assert np.abs(found[off_axis, 0] - [2, 3, -1]).max() < 0.05
    assert np.abs(found[~off_axis, 0] - [2, 3, -1]).max() < 0.3
    turning = flow_of([(points, StructuredGrid((9, 13, 5)))], {"Velocity": np.cross([0.0, 0.0, 3.0], points)})
    assert flow_vortices(turning, turning.fields["Velocity"].values) is None  # the gradient has to be mended first
    store = QuantityStore(turning, turning.reference)
    assert np.abs(store.values("q")[off_axis] - 9.0).max() < 0.9
    assert np.isfinite(store.values("vorticity")).all()


def test_far_from_the_origin_gradients_hold():
    p = cube_points(9, 0.05)
    for shift in (0.0, 1e4):
        found = block_gradient(StructuredGrid((9, 9, 9)), p + shift, p @ np.array([2.0, 3.0, -1.0]))
        assert np.abs(found[:, 0] - [2, 3, -1]).max() < 1e-7


def test_shapes_are_checked_before_any_kernel_runs():
    p = cube_points(4)
    with pytest.raises(ValueError, match="do not fit"):
        block_gradient(StructuredGrid((4, 4, 5)), p, p[:, 0])
    with pytest.raises(ValueError, match="do not fit"):
        block_gradient(StructuredGrid((4, 4, 4)), p, p[:50])


def test_the_core_works_without_qt():
    code = """
import sys
class Block:
    def find_spec(self, name, path=None, target=None):
        if name.startswith("PyQt6"):
            raise ImportError("Qt is blocked")
sys.meta_path.insert(0, Block())
import importlib, pkgutil, tidal_lens
for m in pkgutil.walk_packages(tidal_lens.__path__, "tidal_lens."):
    if not m.name.startswith(("tidal_lens.app", "tidal_lens.__main__")):
        importlib.import_module(m.name)
"""
    subprocess.run([sys.executable, "-c", code], check=True, env={"PYTHONPATH": ":".join(sys.path), "PATH": "/usr/bin"}, timeout=120)


def test_all_kernels_are_compiled_beforehand():
    """No quantity of a real case makes its first user wait for the compiler."""
    code = """
import contextlib, itertools, sys
import numpy as np
from making import cube_flow, flow_of
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.formats.registry import open_flow
from tidal_lens.quantities.catalogue import CATALOGUE
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.warm import load_kernels

def compiled():
    places = [vars(m) for name, m in sys.modules.items() if name.startswith("tidal_lens")]
    return {(k.py_func.__name__, str(s)) for p in places for k in p.values() if hasattr(k, "py_func") for s in k.signatures}

load_kernels()
flow = open_flow(ASSETS / "kittiwake coarse.vtm")
angle, x, radius = np.meshgrid(np.linspace(0, 3, 7), np.linspace(0, 2, 5), np.linspace(0, 1, 6), indexing="ij")
places = np.stack([x, radius * np.cos(angle), radius * np.sin(angle)], axis=-1).reshape(-1, 3)  # an edge collapsed to an axis
arrays = {"U": places[:, [2, 0, 1]], "Density": 1 + places[:, 0], "Pressure": 2 + places[:, 1]}
round_axis = flow_of([(places, StructuredGrid((6, 5, 7)))], {n: a.astype(np.float32) for n, a in arrays.items()})
cases = [flow, round_axis]
for kind, dtype, place in itertools.product(("structured", "hexahedra", "tetrahedra"), (np.float32, np.float64), ("", "@cell")):
    base = cube_flow(4, kind, 0.05)
    at = np.random.default_rng(1).random((base.n_cells, 3)) if place else base.points
    arrays = {"U": at[:, [1, 2, 0]] ** 2, "Density": 1 + at[:, 0], "Pressure": 2 + at[:, 1], "extra": at[:, 2]}
    cases.append(flow_of([(base.points, base.blocks[0].grid)], {n + place: a.astype(dtype) for n, a in arrays.items()}))
before, had = compiled(), 0
for case in cases:
    for choices in (Methods(), Methods(fourth_order=True)):
        for definition in CATALOGUE:
            with contextlib.suppress(MissingQuantityError):
                QuantityStore(case, flow.reference, choices).values(definition.name)
                had += 1
        store = QuantityStore(case, flow.reference, choices)
        for text in ("smooth(pressure, 2)", "over_cells(pressure)", "mean(pressure)", "laplacian(pressure)"):
            store.evaluate(store.check(text))
assert had > 500, had
assert compiled() == before, compiled() - before
"""
    subprocess.run([sys.executable, "-c", code], check=True, timeout=300, env={**os.environ, "PYTHONPATH": ":".join(sys.path)})


def test_kernels_do_the_same_uncompiled():
    """The compiler may not change what a kernel means: tracing and gradients once more in plain Python."""
    code = """
import numpy as np
from tidal_lens.warm import tiny_flow, load_kernels
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.streamlines import TraceSettings, trace_lines
load_kernels()
flow = tiny_flow()
lines = trace_lines(flow, mesh_of(flow), flow.fields["U"].values, np.array([[0.5, 0.5, 0.5]]), TraceSettings("both"))
assert abs(lines.points[0, 0]) < 1e-2 and abs(lines.points[-1, 0] - 4.0) < 1e-2, lines.points[[0, -1]]
assert np.abs(lines.points[:, 1:] - 0.5).max() < 1e-12
"""
    subprocess.run([sys.executable, "-c", code], check=True, timeout=120,
                   env={"PYTHONPATH": ":".join(sys.path), "NUMBA_DISABLE_JIT": "1", "PATH": "/usr/bin"})
