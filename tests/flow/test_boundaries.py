"""Boundaries found from outer faces: split at sharp edges, their kinds guessed from the flow."""

import numpy as np
import pytest

from making import cube_points, flow_of, hexahedra
from tidal_lens.cutting.outlines import outline
from tidal_lens.flow.boundaries import find_boundaries, settle_boundaries
from tidal_lens.flow.case import Boundary
from tidal_lens.flow.free_stream import guessed_reference, motion_in
from tidal_lens.flow.grid import HEXAHEDRON, StructuredGrid, UnstructuredGrid
from tidal_lens.measures.balance import mass_balance
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.beginnings import first_study
from tidal_lens.tracing.streamlines import TraceSettings, trace_lines


def found_in(flow):
    return find_boundaries(flow.points, flow.outside, motion_in(flow.fields, flow.roles, flow.normal), flow.seams.labels(flow.n_points))


def kinds(flow):
    return sorted(b.kind for b in found_in(flow))


def box(n=7, kind="structured"):
    grid = StructuredGrid((n, n, n)) if kind == "structured" else UnstructuredGrid(
        n**3, hexahedra(n).astype(np.int32), np.full((n - 1) ** 3, HEXAHEDRON, np.uint8))
    return cube_points(n), grid


def with_velocity(velocity, kind="structured", place=""):
    points, grid = box(kind=kind)
    at = points if not place else points[hexahedra(7)].mean(axis=1)
    return flow_of([(points, grid)], {f"Velocity{place}": velocity(*at.T)})


@pytest.mark.parametrize("kind", ["structured", "hexahedra"])
def test_a_channel(kind):
    """Floor and lid at rest, side walls with slip or planes of symmetry, in at one end and out at the other."""
    flow = with_velocity(lambda x, y, z: np.column_stack([4 * z * (1 - z), 0 * x, 0 * x]), kind)
    assert kinds(flow) == ["inlet", "outlet", "symmetry", "symmetry", "wall", "wall"]
    for b in found_in(flow):
        assert len(b.faces) == 36
        assert np.ptp(b.points, axis=0).min() == 0.0, "each is one side of the box"
        assert b.found
        assert b.reason


def test_a_channel_with_values_at_cells():
    """Cells at the wall move a little; the flow through the side is what tells."""
    flow = with_velocity(lambda x, y, z: np.column_stack([4 * z * (1 - z), 0 * x, 0 * x]), place="@cell")
    assert kinds(flow) == ["inlet", "outlet", "symmetry", "symmetry", "wall", "wall"]
    lid = [b for b in found_in(flow) if b.kind == "wall"]
    assert {float(b.points[0, 2]) for b in lid} == {0.0, 1.0}


def test_the_undisturbed_stream_is_far_field():
    flow = with_velocity(lambda x, y, z: np.column_stack([1 + 0 * x, 0 * x, 0 * x]))
    assert kinds(flow) == ["far field", "far field", "far field", "far field", "inlet", "outlet"]


def test_without_velocity_sharp_edges_still_tell_sides():
    points, grid = box()
    flow = flow_of([(points, grid)], {"p": points[:, 0]})
    assert kinds(flow) == ["open"] * 6
    assert sorted(b.name for b in found_in(flow)) == [f"outside {n} (found)" for n in range(1, 7)]


def test_a_bent_side_is_one_boundary():
    """A block round a quarter of a cylinder: its inner and outer sides turn by 90 degrees without an edge."""
    n = 19
    r, a, z = (x.ravel() for x in np.meshgrid(np.linspace(1, 2, n), np.linspace(0, np.pi / 2, n), np.linspace(0, 1, n), indexing="ij"))
    points = np.column_stack([r * np.cos(a), r * np.sin(a), z])
    order = np.lexsort((r, a, z))
    speed = (r - 1.0)[:, None] * np.column_stack([-np.sin(a), np.cos(a), 0 * a])
    flow = flow_of([(points[order], StructuredGrid((n, n, n)))], {"Velocity": speed[order]})
    found = found_in(flow)
    wall = next(b for b in found if b.kind == "wall" and b.reason == "the velocity vanishes on it")
    np.testing.assert_allclose(np.hypot(*wall.points[:, :2].T), 1.0)
    assert len(found) == 6
    slip = next(b for b in found if "slip" in b.reason)
    np.testing.assert_allclose(np.hypot(*slip.points[:, :2].T), 2.0)


def test_blocks_of_unlike_fineness_side_by_side_have_no_outside_between_them():
    coarse, fine = cube_points(5), cube_points(9, low=1.0, high=2.0) - np.array([0.0, 1.0, 1.0])
    flow = flow_of([(coarse, StructuredGrid((5, 5, 5))), (fine, StructuredGrid((9, 9, 9)))],
                   {"Velocity": np.tile([1.0, 0.0, 0.0], (125 + 729, 1))})
    assert len(flow.outside.faces) == 5 * 16 + 5 * 64
    assert np.linalg.norm(flow.outside.areas, axis=1).sum() == pytest.approx(10.0)
    np.testing.assert_allclose(flow.outside.areas.sum(axis=0), 0.0, atol=1e-12)


def test_a_block_that_is_there_twice_has_no_outside():
    """Exports that went wrong hold a block twice: nothing of it bounds the flow, and all the rest still works."""
    points, grid = box()
    flow = flow_of([(points, grid), (points, grid)], {"Velocity": np.ones((2 * len(points), 3))})
    assert len(flow.outside.faces) == 0
    assert found_in(flow) == ()
    assert outline(flow).shape == (0, 2, 3)
    assert mass_balance(flow, np.ones(flow.n_points), flow.fields["Velocity"].values).gross == 0.0
    assert first_study(flow, QuantityStore(flow, flow.reference)).layers


def test_a_ring_shaped_block_has_no_boundary_where_it_meets_itself():
    n = 25
    z, a, r = (x.ravel() for x in np.meshgrid(np.linspace(0, 1, 5), np.linspace(0, 2 * np.pi, n), np.linspace(1, 2, 7), indexing="ij"))
    points = np.column_stack([r * np.cos(a), r * np.sin(a), z])
    flow = flow_of([(points, StructuredGrid((7, n, 5)))], {"Velocity": np.column_stack([0 * r, 0 * r, (r - 1) * (2 - r)])})
    assert sorted((b.kind, len(b.faces)) for b in found_in(flow)) == [("inlet", 6 * 24), ("outlet", 6 * 24), ("wall", 96), ("wall", 96)]
    lines = trace_lines(flow, mesh_of(flow), np.tile([0.0, 1.0, 0.0], (len(points), 1)), np.array([[1.5, -0.4, 0.5]]),
                        TraceSettings("forward", 9.0, 1e-6))
    assert lines.points[-1, 1] == pytest.approx(np.sqrt(4 - 1.5**2), abs=0.03), "the line crosses the cut"


def test_areas_point_outward_and_owners_touch():
    for kind in ("structured", "hexahedra"):
        flow = flow_of([box(kind=kind)])
        outside = flow.outside
        middle = flow.points[outside.faces].mean(axis=1)
        assert ((middle - 0.5) * outside.areas).sum(axis=1).min() > 0.0
        behind = flow.points[hexahedra(7)].mean(axis=1)[outside.cells]
        np.testing.assert_allclose(np.linalg.norm(middle - behind, axis=1), 1 / 12)


def test_what_the_file_says_stays_and_names_come_before_guesses():
    flow = with_velocity(lambda x, y, z: np.column_stack([4 * z * (1 - z), 0 * x, 0 * x]))
    lattice = np.arange(343).reshape(7, 7, 7)

    def side(name, nodes, kind="open", reason=""):
        sheet = nodes.reshape(7, 7)
        quads = np.stack([sheet[:-1, :-1], sheet[:-1, 1:], sheet[1:, 1:], sheet[1:, :-1]], axis=-1).reshape(-1, 4)
        own, compact = np.unique(quads, return_inverse=True)
        return Boundary(name, kind, flow.points[own], compact.reshape(-1, 4), own, reason)

    named = [side("floor", lattice[0], "outlet", "the file says so"), side("Inlet-2", lattice[:, :, 6]), side("zone 7", lattice[:, :, 0])]
    settled = settle_boundaries(flow.points, flow.outside, named, motion_in(flow.fields, flow.roles, None), np.arange(343))
    assert [(b.name, b.kind) for b in settled[:3]] == [("floor", "outlet"), ("Inlet-2", "inlet"), ("zone 7", "inlet")]
    assert [b.reason for b in settled[:3]] == ["the file says so", "by its name", "the flow comes in through it"]
    assert sum(len(b.faces) for b in settled) == 6 * 36


def test_the_free_stream_is_taken_from_the_inlet():
    flow = with_velocity(lambda x, y, z: np.column_stack([4 * z * (1 - z), 0 * x, 0 * x]))
    state = guessed_reference(found_in(flow), flow.fields, flow.roles, 1.4, flow.outside, np.arange(flow.n_points))
    assert "inlet" in state.origin
    assert 0.7 < state.speed < 1.0
