"""Compile every kernel once, on a flow of a few cells."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting import painting_kernels, texture_kernels
from tidal_lens.cutting.arrows import even_places
from tidal_lens.cutting.contour import axis_slice, isosurface, plane_cut, quadric_cut
from tidal_lens.cutting.regions import Limit, region_content
from tidal_lens.features import bubble_kernels
from tidal_lens.features.separation import find_separation
from tidal_lens.features.shocks import find_shocks
from tidal_lens.features.vortex_list import find_vortices
from tidal_lens.flow.case import Block, Boundary, Field, Flow
from tidal_lens.flow.grid import HEXAHEDRON, StructuredGrid, UnstructuredGrid
from tidal_lens.flow.roles import Roles
from tidal_lens.flow.volumes import turn_cells
from tidal_lens.flow.welding import Joint, same_places
from tidal_lens.formats.unpacking_kernels import READY, unpack_zlib
from tidal_lens.optics.projection import Aim, along_sight, walls_before
from tidal_lens.optics.quick import Held, quick_sum
from tidal_lens.quantities.criteria import discriminant, lambda2, swirl_axis, swirling_strength
from tidal_lens.quantities.gradients import block_gradient, flow_gradient, flow_vortices, vorticity_and_q
from tidal_lens.quantities.nodes import node_values
from tidal_lens.quantities.smoothing import node_volumes, smoothed
from tidal_lens.quantities.walls import distances
from tidal_lens.sampling.across import across
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.kernels import places_of
from tidal_lens.tracing.particles import Heat, Particle, fly
from tidal_lens.tracing.seeds import seeds_on_line
from tidal_lens.tracing.solids import frames
from tidal_lens.tracing.streamlines import TraceSettings, trace_lines
from tidal_lens.tracing.surface_lines import lines_on
from tidal_lens.tracing.unsteady import Moment, Steps, pathlines
from tidal_lens.work import Token, read_only

_PRECISIONS = (np.float32, np.float64)


def tiny_flow() -> Flow:
    """Two blocks of 27 nodes side by side, one structured, one of hexahedra; the velocity is (1, 0, 0)."""
    n = np.arange(3.0)
    z, y, x = (a.ravel() for a in np.meshgrid(n, n, n, indexing="ij"))
    points = np.column_stack([x, y, z])
    index = np.arange(27, dtype=np.int32).reshape(3, 3, 3)
    sides = [index[k:k + 2, j:j + 2, i:i + 2].ravel()[[0, 1, 3, 2, 4, 5, 7, 6]] for k in (0, 1) for j in (0, 1) for i in (0, 1)]
    cells = UnstructuredGrid(27, np.array(sides, np.int32), np.full(8, HEXAHEDRON, np.uint8))
    blocks = (Block("a", StructuredGrid((3, 3, 3)), 0, 0), Block("b", cells, 27, 8))
    both = np.concatenate([points, points + np.array([2.0, 0.0, 0.0])])
    velocity = np.tile([1.0, 0.0, 0.0], (54, 1))
    fields = {"U": Field("U", "node", velocity), "c": Field("c", "cell", np.ones(16))}
    return Flow("tiny", Path("tiny"), both, blocks, fields, roles=Roles(velocity=("U",)))


def _welding() -> None:
    flow = tiny_flow()
    grid = flow.blocks[1].grid
    assert isinstance(grid, UnstructuredGrid)
    for thin in (1, 200_000):
        joint = Joint.of(same_places(np.tile(flow.points[:1], (thin, 1)), np.arange(thin, dtype=np.int32))[0])
        for dtype in _PRECISIONS:
            joint.values(np.ones((thin, 3), dtype))
    turn_cells(flow.points[flow.blocks[1].points] * np.array([1.0, 1.0, -1.0]), grid.corners.copy(), grid.types)


def _reading() -> None:
    packed = np.frombuffer(zlib.compress(bytes(8)), np.uint8)
    if READY:
        unpack_zlib(read_only(packed), np.array([0, len(packed)]), 8, np.empty(8, np.uint8), 0, 1)


def _lines() -> None:
    flow = tiny_flow()
    mesh = mesh_of(flow)
    places_of(mesh.arrays, read_only(flow.points[:1]), np.empty((1, 2), np.int64), np.empty((1, 3)), 0, 1)
    lines = trace_lines(flow, mesh, flow.fields["U"].values, seeds_on_line((0.5, 0.5, 0.5), (0.5, 1.5, 1.5), 3), TraceSettings("both"))
    lines.stencil.apply(flow.points[:, 0])
    frames(lines.points, lines.offsets)
    fly(flow, mesh, (flow.fields["U"].values, *np.ones((4, 54))), flow.points[:1], Particle(max_time=0.1, heat=Heat()))
    pathlines(Steps(flow, (0.0, 1.0), 0, lambda step: Moment.of(float(step), mesh, flow.fields["U"].values)), flow.points[:1])
    lines_on(axis_slice(flow, 0, 0.5), np.ones((9, 3)), flow.points[:1])


def _walls() -> None:
    flow = tiny_flow()
    distances(replace(flow, boundaries=(Boundary("wall", "wall", flow.points, flow.outside.faces, np.arange(flow.n_points)),)))


def _at_nodes(dtype: type) -> None:
    flow = tiny_flow()
    node_values(flow, Field("c", "cell", flow.fields["c"].values.astype(dtype)))
    node_values(flow, flow.fields["c"], "distance")
    smoothed(flow, flow.fields["U"].values[:, 0].astype(dtype), 1)
    node_volumes(flow)


def _stencils(dtype: type) -> None:
    flow = tiny_flow()
    stencil, _ = mesh_of(flow).locate(flow.points[:2])
    stencil.apply(np.ascontiguousarray(flow.fields["U"].values[:, 0], dtype=dtype))
    way = across(flow, replace(flow, points=flow.points + 0.25))
    way.bring(flow.fields["U"].values.astype(dtype))


def _isosurfaces(dtype: type) -> None:
    flow = tiny_flow()
    mesh_of(flow)
    isosurface(flow, flow.points[:, 0].astype(dtype), 3.1)


def _planes() -> None:
    flow = tiny_flow()
    even_places(axis_slice(flow, 0, 0.5), 0.3)
    plane_cut(flow, (1.0, 1.0, 1.0), (1.0, 1.0, 1.0))


def _regions() -> None:
    flow = tiny_flow()
    region_content(flow, [Limit(flow.points[:, 0].copy(), 1.1, True)], None)


def _texture() -> None:
    places, seen, ways = np.array([[0.0, 0.0], [2.0, 0.0], [0.0, 2.0]]), np.ones((4, 4), np.float32), np.zeros((4, 4, 2), np.float32)
    texture_kernels.rasterise(places, np.ones(3), np.ones((3, 2)), np.array([[0, 1, 2, 2]]), seen, 0.1, ways)
    texture_kernels.streaks(ways, seen, np.ones(5, np.float32), np.empty((4, 4), np.float32), 0, 4)
    one, along, reach = np.zeros(1, np.int64), np.empty((1, 5), np.uint8), np.empty((1, 2), np.uint8)
    texture_kernels.trails(ways, np.zeros((4, 4), np.uint8), 2, one, one, along, reach, 0, 1)
    texture_kernels.along_trails(along, reach, np.ones(5, np.float32), np.arange(6, dtype=np.float32), np.empty(1, np.float32), 0, 1)


def _painting() -> None:
    points, faces = read_only(np.eye(3)), read_only(np.array([[0, 1, 2, 2]]))
    seen, how, normals = np.empty((3, 6)), np.ones(painting_kernels.SIZE), np.zeros((3, 3), np.float32)
    values, table, ways = read_only(np.zeros(3, np.float32)), read_only(np.zeros((2, 4), np.uint8)), read_only(np.array([[0, 1]]))
    pixels, near = np.zeros((4, 4, 4), np.uint8), np.zeros((4, 4), np.float32)
    head, pool = np.zeros((4, 4), np.int32), np.zeros((1, 4))
    bytes_of_four = pixels.view(np.uint32)[:, :, 0]
    painting_kernels.begin_rows(0, bytes_of_four, near, 0, 4)
    painting_kernels.begin_over(bytes_of_four, near, False, bytes_of_four, near, 0, 4)
    painting_kernels.place(points, np.eye(4, 3), how, seen, 0, 3)
    painting_kernels.normals_of(points, faces, normals)
    painting_kernels.paint_faces(seen, faces, values, read_only(normals), np.ones(3), np.ones((2, 3)), how, table, pixels, near,
                                 head, pool, 0, 4)
    painting_kernels.lay_over(head, pool, pixels, 0, 4)
    painting_kernels.paint_lines(seen, ways, values, how, table, pixels, near, 0, 4)
    painting_kernels.end_rows(near, near.copy(), False, 0, 4)
    painting_kernels.double_rows(pixels.reshape(4, 16), np.empty((8, 32), np.uint8), 0, 8)
    painting_kernels.halve_rows(pixels, np.empty((2, 2, 4), np.uint8), 0, 2)


def _rounds() -> None:
    flow = tiny_flow()
    quadric_cut(flow, (1.0, 1.0, 1.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0), 1.5)


def _gradients(dtype: type) -> None:
    flow = tiny_flow()
    velocity: NDArray[Any] = flow.fields["U"].values.astype(dtype)
    flow_gradient(flow, velocity)
    collapsed = flow.blocks[0]  # all nodes at one place: what is done where edges have no length
    block_gradient(collapsed.grid, 0.0 * flow.points[collapsed.points], velocity[collapsed.points])


def _vortices(dtype: type) -> None:
    flow = tiny_flow()
    flow_vortices(flow, flow.fields["U"].values.astype(dtype))


def _criteria(dtype: type) -> None:
    grad = flow_gradient(tiny_flow(), tiny_flow().fields["U"].values.astype(dtype))
    vorticity_and_q(grad)
    for criterion in (lambda2, discriminant, swirling_strength, swirl_axis):
        criterion(grad)


def _vortex_cores() -> None:
    flow = tiny_flow()
    z, y = flow.points[:, 2], flow.points[:, 1]
    depth = (y - 1.0) ** 2 + (z - 1.0) ** 2 - 3.0
    named = {"velocity": flow.fields["U"].values, "lambda2": depth, "vorticity": flow.fields["U"].values}
    find_vortices(flow, named.__getitem__, 1.0)
    faces, u, seeds = np.array([[0, 1, 2, 2]]), np.array([-1.0, 0.5, 1.0]), np.array([True, False, False])
    bubble_kernels.passing(np.eye(3), faces, u, u, seeds, 0.0, 1e-12, np.empty(3, np.int64), np.empty(3, bool))


def _shock_surfaces() -> None:
    flow = tiny_flow()
    behind = flow.points[:, 0] > 1.9
    named = {"pressure": np.where(behind, 4.5, 1.0), "density": np.where(behind, 2.67, 1.0),
             "velocity": np.where(behind[:, None], 0.89, 2.37) * flow.fields["U"].values}
    find_shocks(flow, named.__getitem__, 1.4)


def _separations() -> None:
    flow = tiny_flow()
    wall = replace(flow, boundaries=(Boundary("wall", "wall", flow.points, flow.outside.faces, np.arange(flow.n_points)),))
    find_separation(wall, flow.points - 1.5)


def _sights() -> None:
    flow = tiny_flow()
    aim = Aim.of(flow, np.array([1.0, 0.2, 0.1]), 20)
    wall = replace(flow, boundaries=(Boundary("wall", "wall", flow.points, flow.outside.faces, np.arange(flow.n_points)),))
    walls, ones = walls_before(wall, aim), np.ones((54, 1))
    along_sight(flow, ones, aim, walls)
    quick_sum(flow, Held.of(flow, ones), np.eye(1), aim, walls)


def _of_both(name: str, part: Callable[[type], None]) -> list[tuple[str, Callable[[], None]]]:
    return [(f"{name}, {np.dtype(dtype).name}", partial(part, dtype)) for dtype in _PRECISIONS]


# Two lists, for two processes: parts of one list share much. What users want first comes first.
LISTS: tuple[tuple[tuple[str, Callable[[], None]], ...], ...] = (
    (("planes", _planes), *_of_both("stencils", _stencils), ("lines", _lines), ("walls", _walls), ("welding", _welding),
     ("round cuts", _rounds), ("regions", _regions), ("textures", _texture), ("painting", _painting),
     ("cores and bubbles", _vortex_cores), ("optics", _sights)),
    (("reading", _reading), *_of_both("isosurfaces", _isosurfaces), *_of_both("node values", _at_nodes), *_of_both("vortices", _vortices),
     *_of_both("gradients", _gradients), *_of_both("criteria", _criteria),
     ("shocks", _shock_surfaces), ("separation", _separations)),
)
PARTS = tuple(part for one in LISTS for part in one)


def load_kernels(token: Token | None = None) -> None:
    """Run all kernels once: those in the cache are loaded, others are compiled."""
    for _name, part in PARTS:
        if token is not None:
            token.check()
        part()
