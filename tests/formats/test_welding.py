"""Cells that share no nodes are joined where that is sure; walls of no thickness that the file names keep their two sides apart."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from making import cells_of, cube_points
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.flow.case import Field
from tidal_lens.flow.faces import outer_faces
from tidal_lens.flow.grid import HEXAHEDRON, TETRA, StructuredGrid, UnstructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.formats.assemble import assemble_content
from tidal_lens.formats.content import Sheet, Solid
from tidal_lens.formats.pieces import joined
from tidal_lens.quantities.nodes import node_values
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.forces import ForcesShape
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.probe import ProbeShape
from tidal_lens.study.looks import BallLook, LineLook
from tidal_lens.study.model import Study
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines
from tidal_lens.work import Token

N = 7
HERE = Path("made.vtu")


def solid(points, corners, types, fields, name="made", **more):
    return Solid(name, UnstructuredGrid(len(points), np.ascontiguousarray(corners, np.int32), types), points, fields, {}, **more)


def shear(points):
    return np.column_stack([4 * points[:, 2] * (1 - points[:, 2]), 0 * points[:, 0], 0 * points[:, 0]])


def own_nodes(kind="hexahedra", n=N, noise=0.0, jump=0.0):
    """A cube in which each cell has nodes of its own."""
    base = cube_points(n, 0.04)
    corners, types = cells_of(kind, n)
    points, new, cell, count = [], np.empty_like(corners), [], 0
    for number, row in enumerate(corners):
        nodes, at = np.unique(row, return_inverse=True)
        new[number] = at + count
        points.append(base[nodes])
        count += len(nodes)
        cell += [number] * len(nodes)
    p = np.concatenate(points)
    p = p + noise * np.random.default_rng(1).uniform(-1, 1, p.shape)
    values = p @ [1.0, 2.0, 3.0] + jump * np.array(cell)
    return solid(p, new, types, [Field("Velocity", "node", shear(p)), Field("Pressure", "node", values)])


@pytest.mark.parametrize("kind", ["hexahedra", "tetrahedra", "wedges"])
def test_cells_with_nodes_of_their_own_are_one_mesh(kind):
    flow = assemble_content(HERE, [own_nodes(kind)], [], [], False)
    assert flow.n_points == N**3
    assert flow.notices == ()
    assert sorted(b.kind for b in flow.boundaries) == ["inlet", "outlet", "symmetry", "symmetry", "wall", "wall"]
    np.testing.assert_allclose(flow.fields["Pressure"].values, flow.points @ [1.0, 2.0, 3.0])
    assert "joined from" in flow.blocks[0].grid.description
    line = trace_lines(flow, mesh_of(flow), flow.fields["Velocity"].values, np.array([[0.05, 0.52, 0.47]]), TraceSettings("forward"))
    assert line.points[-1, 0] == pytest.approx(1.0, abs=0.01), "it crosses all cells"


def test_nodes_that_meet_but_for_rounding_are_one_too():
    (block,) = joined([own_nodes(noise=1e-9)])
    assert block.grid.n_points == N**3
    assert len(outer_faces(block.grid)) == 6 * (N - 1) ** 2


def test_thin_cells_are_not_taken_for_rounding():
    """Layers of 1e-8 of the flow's size: their nodes are nearer to one another than what counts as rounding elsewhere."""
    points = cube_points(4)
    points[:, 2] = np.array([0.0, 1e-8, 2e-8, 1.0])[np.round(points[:, 2] * 3).astype(int)]
    corners, types = cells_of("hexahedra", 4)
    assert joined([solid(points, corners, types, [])])[0].grid.n_points == 64


def test_jumps_are_told_and_the_mean_is_shown():
    (block,) = joined([own_nodes(jump=0.5)])
    (told,) = block.notices
    assert "values jump: Pressure (at " in told
    assert "Velocity" not in told
    assert "mean" in told
    source = own_nodes(jump=0.5)
    for node in (0, 100, 200):
        there = (source.points == block.points[node]).all(axis=1)
        assert block.fields[1].values[node] == pytest.approx(source.fields[1].values[there].mean())


def test_many_loose_cells_are_no_boundaries_each_in_linear_time():
    """Cells that truly lie apart: thousands of parts, each a boundary patch; the work must not grow with their square."""
    n = 14
    base, h = cube_points(2), np.stack(np.meshgrid(*[np.arange(n)] * 3, indexing="ij"), -1).reshape(-1, 3)
    points = ((h[:, None] + 0.8 * base[None]) / n).reshape(-1, 3)
    corners = np.arange(len(points)).reshape(-1, 8)[:, [0, 1, 3, 2, 4, 5, 7, 6]]
    made = solid(points, corners, np.full(len(corners), HEXAHEDRON, np.uint8), [Field("Velocity", "node", shear(points))])
    flow = assemble_content(HERE, [made], [], [], False)
    assert sum(len(b.faces) for b in flow.boundaries) == 6 * n**3
    assert len(flow.boundaries) < 60


# -- walls inside the flow -----------------------------------------------------------------------------------------------


def quads(nodes):
    return np.stack([nodes[:-1, :-1], nodes[:-1, 1:], nodes[1:, 1:], nodes[1:, :-1]], axis=-1).reshape(-1, 4)


def plate(low=2, high=5, kind="wall", at=3, cut=False):
    """Part of the middle plane x = 0.5 of the cube, with points of its own; in quadrilaterals, or cut as the tetrahedra are."""
    points = cube_points(N)
    lattice = np.arange(N**3).reshape(N, N, N)[low:high, low:high, at]
    faces = quads(np.arange(lattice.size).reshape(lattice.shape))
    if cut:
        faces = np.concatenate([faces[:, [0, 1, 2, 2]], faces[:, [0, 2, 3, 3]]])
    return Sheet(points[lattice.ravel()], faces, kind=kind)


def across(points):
    """Through the plate, as if it were not there, so that a line that is not stopped is seen to go on."""
    return np.column_stack([1 + 0 * points[:, 0], 0 * points[:, 0], 0 * points[:, 0]])


def meshes():
    points = cube_points(N)
    for kind in ("hexahedra", "tetrahedra"):
        corners, types = cells_of(kind, N)
        yield f"shared {kind}", solid(points, corners, types, [Field("Velocity", "node", across(points))])
    corners, types = cells_of("hexahedra", N)
    loose = points[corners].reshape(-1, 3)
    yield "own nodes", solid(loose, np.arange(len(loose)).reshape(-1, 8), types, [Field("Velocity", "node", across(loose))])


@pytest.mark.parametrize("made", [m for _, m in meshes()], ids=[n for n, _ in meshes()])
@pytest.mark.parametrize("size", [(2, 5), (3, 4), (0, 7)])
def test_a_wall_inside_the_flow_has_two_sides(made, size):
    """A plate, one of a single cell, and one that parts the flow in two."""
    low, high = size[0], size[1] + (size == (3, 4))
    cells = (high - low - 1) ** 2
    flow = assemble_content(HERE, [made], [("plate", plate(low, high, cut=made.grid.types[0] == TETRA))], [], False)
    sides = [b for b in flow.boundaries if b.inner]
    assert sorted(b.name for b in sides) == ["plate, side facing +x", "plate, side facing −x"]
    for b in sides:
        assert b.kind == "wall"
        assert boundary_surface(flow, (b.name,)).area == pytest.approx(cells / (N - 1) ** 2)
    free = N**3 if size == (0, 7) else (high - low - 2) ** 2
    assert flow.n_points == N**3 + (N**2 if size == (0, 7) else free), "all but the rim is there twice"
    # Neither side knows of the other: cell values of one do not come to the nodes of the other.
    middle = flow.points[flow.blocks[0].grid.corners].mean(axis=1)
    left = node_values(flow, Field("left", "cell", (middle[:, 0] < 0.5).astype(float)))
    facing = {b.name[-2:]: b for b in sides}
    rim = np.isin(facing["+x"].nodes, facing["−x"].nodes)
    assert (left[facing["−x"].nodes[~np.isin(facing["−x"].nodes, facing["+x"].nodes)]] == 1.0).all()
    assert (left[facing["+x"].nodes[~rim]] == 0.0).all()


def test_measures_keep_the_sides_of_a_plate_apart():
    """A pressure of 5 before it and of 2 behind it: a probe on it tells both, and the force is 3 times its area."""
    flow = assemble_content(HERE, [dict(meshes())["shared hexahedra"]], [("plate", plate())], [], False)
    sides = {b.name[-2:]: b for b in flow.boundaries if b.inner}
    pressure = np.where(flow.points[:, 0] < 0.5, 5.0, 2.0)
    pressure[sides["−x"].nodes], pressure[sides["+x"].nodes] = 5.0, 2.0
    flow = replace(flow, fields={**flow.fields, "Pressure": Field("Pressure", "node", pressure)},
                   roles=replace(flow.roles, pressure="Pressure"))
    evaluator = Evaluator(flow, ReferenceState(0.0, 1.0, (1.0, 0, 0)))

    def told(shape, look):
        made = evaluator.evaluate(Study().layer_of(Begun("m", shape, look)), Token()).made
        return made.tables[0]

    table = told(ProbeShape(places=((0.5, 0.5, 0.5),), snap="wall"), BallLook())
    assert table.heads == ("what", "1", "1, other side")
    assert sorted(next(row for row in table.rows if row[0] == "Pressure")[1:]) == [2.0, 5.0]
    rows = {row[0]: row for row in told(ForcesShape(boundaries=tuple(b.name for b in sides.values())), LineLook()).rows}
    inner = boundary_surface(flow, (sides["−x"].name,)).area
    rim = 8.0 / (N - 1) ** 2  # faces with a corner on the rim, where both sides are one
    assert 3.0 * (inner - rim) < rows["force x"][3] <= 3.0 * inner


@pytest.mark.parametrize("made", [m for _, m in meshes()], ids=[n for n, _ in meshes()])
def test_lines_stop_at_a_wall_inside_the_flow(made):
    flow = assemble_content(HERE, [made], [("plate", plate(cut=made.grid.types[0] == TETRA))], [], False)
    seeds = np.array([[0.1, 0.47, 0.52], [0.1, 0.1, 0.1]])
    lines = trace_lines(flow, mesh_of(flow), flow.fields["Velocity"].values, seeds, TraceSettings("both"))
    assert lines.points[lines.offsets[1] - 1, 0] == pytest.approx(0.5, abs=1e-3)
    assert lines.points[lines.offsets[1] - 1, 0] <= 0.5
    assert lines.ends[0, 1] == End.WALL
    assert lines.points[-1, 0] == pytest.approx(1.0, abs=0.01), "beside it the line goes on"
    behind = trace_lines(flow, mesh_of(flow), flow.fields["Velocity"].values, np.array([[0.9, 0.47, 0.52]]), TraceSettings("both"))
    assert behind.points[0, 0] == pytest.approx(0.5, abs=1e-3)
    assert behind.ends[0, 0] == End.WALL
    assert np.allclose(behind.stencil.apply(flow.points[:, 0]), behind.points[:, 0], atol=1e-6)


def test_a_plate_between_structured_blocks_and_one_that_a_block_folds_round():
    left = cube_points(N, high=1.0)
    points = np.concatenate([left * [0.5, 1, 1], left * [0.5, 1, 1] + [0.5, 0, 0]])
    blocks = [Solid(name, StructuredGrid((N, N, N)), p, [Field("Velocity", "node", across(p))], {}) for name, p in (
        ("a", points[: N**3]), ("b", points[N**3:]))]
    flow = assemble_content(HERE, blocks, [("plate", plate())], [], False)
    sides = [b for b in flow.boundaries if b.inner]
    assert [len(b.faces) for b in sides] == [4, 4]
    assert flow.seams.n_groups == N * N - 1, "only the plate's own node is no longer one"
    assert len(flow.outside.faces) == 10 * (N - 1) ** 2 + 8
    lines = trace_lines(flow, mesh_of(flow), flow.fields["Velocity"].values, np.array([[0.1, 0.47, 0.52]]), TraceSettings("forward"))
    assert lines.points[-1, 0] == pytest.approx(0.5, abs=1e-3)
    # A C-shaped block: i runs from the outlet under the plate, round its nose, and back above it.
    ni, nj, nk = 13, 5, 3
    angle = np.linspace(-np.pi, np.pi, ni)
    k, j, i = (x.ravel() for x in np.meshgrid(np.arange(nk), np.arange(nj), np.arange(ni), indexing="ij"))
    along = np.abs(i - 6) / 6 * 2.0
    r = j / (nj - 1)
    bend = np.column_stack([along * (1 - 0 * r) - r * np.cos(angle[i] / 2), k / (nk - 1.0), np.sign(i - 6) * r * (0.3 + 0.7 * along / 2)])
    c = Solid("c", StructuredGrid((ni, nj, nk)), bend, [Field("Velocity", "node", across(bend))], {})
    inner = np.arange(ni * nj * nk).reshape(nk, nj, ni)[:, 0, 3:10]
    sheet = Sheet(bend[inner.ravel()], quads(np.arange(inner.size).reshape(inner.shape)), kind="wall")
    flow = assemble_content(HERE, [c], [("plate", sheet)], [], False)
    assert [len(b.faces) for b in flow.boundaries if b.inner] == [6, 6]
    wake = np.isclose(flow.points[flow.seams.nodes][:, 2], 0.0).sum()
    assert wake > 0, "behind the plate the block still meets itself"


def test_surfaces_inside_the_flow_that_are_no_walls_stay_open():
    made = dict(meshes())["shared hexahedra"]
    flow = assemble_content(HERE, [made], [("station 3", plate(kind=None))], [], False)
    assert not any(b.inner for b in flow.boundaries)
    assert flow.n_points == N**3
    lines = trace_lines(flow, mesh_of(flow), flow.fields["Velocity"].values, np.array([[0.1, 0.47, 0.52]]), TraceSettings("forward"))
    assert lines.points[-1, 0] == pytest.approx(1.0, abs=0.01)


def test_an_unnamed_slit_whose_nodes_rest_stays_a_wall():
    """The file has two nodes at each place of a plate and one everywhere else, and the flow rests on it."""
    named = assemble_content(HERE, [dict(meshes())["shared hexahedra"]], [("plate", plate())], [], False)
    grid = named.blocks[0].grid
    on = np.zeros(named.n_points, dtype=bool)
    for b in named.boundaries:
        if b.inner:
            on[b.nodes] = True
    velocity = across(named.points) * ~on[:, None]
    flow = assemble_content(HERE, [solid(named.points, grid.corners, grid.types, [Field("Velocity", "node", velocity)])], [], [], False)
    assert flow.n_points == named.n_points
    assert sum(len(b.faces) for b in flow.boundaries if b.kind == "wall" and "vanishes" in b.reason) == 8
