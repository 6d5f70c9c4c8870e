"""Compile every kernel once, on a flow of a few cells."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from tidal_lens.cutting.contour import isosurface
from tidal_lens.flow.case import Block, Boundary, Field, Flow
from tidal_lens.flow.grid import HEXAHEDRON, StructuredGrid, UnstructuredGrid
from tidal_lens.flow.roles import Roles
from tidal_lens.flow.volumes import turn_cells
from tidal_lens.flow.welding import Joint, same_places
from tidal_lens.quantities.criteria import discriminant, lambda2, swirl_axis, swirling_strength
from tidal_lens.quantities.gradients import block_gradient, flow_gradient, flow_vortices, vorticity_and_q
from tidal_lens.quantities.nodes import node_values
from tidal_lens.quantities.smoothing import node_volumes, smoothed
from tidal_lens.quantities.walls import distances
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.kernels import places_of
from tidal_lens.tracing.streamlines import TraceSettings, seeds_on_line, trace_lines
from tidal_lens.work import Token, read_only


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


def warm_kernels(token: Token | None = None) -> None:
    """Run all kernels for both precisions."""
    flow = tiny_flow()
    wanted = token or Token()
    mesh = mesh_of(flow)
    velocity = flow.fields["U"].values
    grid = flow.blocks[1].grid
    if isinstance(grid, UnstructuredGrid):
        for thin in (1, 200_000):
            joint = Joint.of(same_places(np.tile(flow.points[:1], (thin, 1)), np.arange(thin, dtype=np.int32))[0])
            for dtype in (np.float32, np.float64):
                joint.values(np.ones((thin, 3), dtype))
        turn_cells(flow.points[flow.blocks[1].points] * np.array([1.0, 1.0, -1.0]), grid.corners.copy(), grid.types)
    for dtype in (np.float32, np.float64):
        wanted.check()
        grad = flow_gradient(flow, velocity.astype(dtype))
        vorticity_and_q(grad)
        node_values(flow, Field("c", "cell", flow.fields["c"].values.astype(dtype)))
        collapsed = flow.blocks[0]  # all nodes at one place: what is done where edges have no length
        block_gradient(collapsed.grid, 0.0 * flow.points[collapsed.points], velocity[collapsed.points].astype(dtype))
        for criterion in (lambda2, discriminant, swirling_strength, swirl_axis):
            criterion(grad)
        smoothed(flow, velocity[:, 0].astype(dtype), 1)
        flow_vortices(flow, velocity.astype(dtype))
        stencil, _ = mesh.locate(flow.points[:2])
        stencil.apply(np.ascontiguousarray(velocity[:, 0], dtype=dtype))
        isosurface(flow, flow.points[:, 0].astype(dtype), 3.1)
    wanted.check()
    node_values(flow, flow.fields["c"], "distance")
    node_volumes(flow)
    distances(replace(flow, boundaries=(Boundary("wall", "wall", flow.points, flow.outside.faces, np.arange(flow.n_points)),)))
    places_of(mesh.arrays, read_only(flow.points[:1]), np.empty((1, 2), np.int64), np.empty((1, 3)), 0, 1)
    trace_lines(flow, mesh, velocity, seeds_on_line((0.5, 0.5, 0.5), (0.5, 1.5, 1.5), 3), TraceSettings("both"))
