import numpy as np
import pytest

from making import KINDS, cube_flow, cube_points, flow_of
from tidal_lens.demo.kittiwake import demo_file
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.formats.registry import open_flow
from tidal_lens.measures.balance import mass_balance


def uniform(points):
    return np.tile([2.0, 1.0, -0.5], (len(points), 1))


@pytest.mark.parametrize("kind", KINDS)
def test_a_uniform_stream_through_a_cube(kind):
    """In and out are exact: flux times area of three faces each."""
    flow = cube_flow(6, kind, 0.0, velocity=uniform)
    found = mass_balance(flow, np.full(flow.n_points, 1.5), flow.fields["Velocity"].values)
    assert found.gross == pytest.approx(1.5 * 3.5)
    assert found.net == pytest.approx(0.0, abs=1e-12)
    assert sum(s.area for s in found.shares) == pytest.approx(6.0)
    assert "mass is kept" in found.verdict


@pytest.mark.parametrize("kind", KINDS)
def test_the_divergence_theorem(kind):
    """A source everywhere: what goes out is the divergence times the volume (exact: the field is linear)."""
    flow = cube_flow(7, kind, 0.06, velocity=lambda p: p * [1.0, 2.0, 0.5])
    found = mass_balance(flow, np.ones(flow.n_points), flow.fields["Velocity"].values)
    assert found.net == pytest.approx(-3.5, rel=2e-3)
    assert "not kept" in found.verdict


@pytest.mark.parametrize("hand", [1.0, -1.0])
def test_named_boundaries_and_seams(hand):
    """Two blocks, one of either hand if wanted: the seam counts for nothing, and each side is told by name."""
    left, right = cube_points(5), cube_points(5) * [hand, 1, 1] + [1.0 if hand > 0 else 2.0, 0, 0]
    grid = StructuredGrid((5, 5, 5))
    points = np.concatenate([left, right])
    plain = flow_of([(left, grid), (right, grid)], {"U": uniform(points)})
    outside = plain.outside.faces
    middle = points[outside].mean(axis=1)
    ends = (middle[:, 0] < 1e-9, middle[:, 0] > 2 - 1e-9)
    boundaries = tuple(boundary_of_faces(name, "open", points, outside[own]) for name, own in zip(("in", "out"), ends, strict=True))
    flow = flow_of([(left, grid), (right, grid)], {"U": uniform(points)}, None, boundaries)
    found = {s.name: s for s in mass_balance(flow, np.ones(250), flow.fields["U"].values).shares}
    assert set(found) == {"in", "out", "elsewhere"}
    assert (found["in"].inward, found["in"].outward) == (pytest.approx(2.0), 0.0)
    assert (found["out"].inward, found["out"].outward) == (0.0, pytest.approx(2.0))
    assert found["elsewhere"].inward == pytest.approx(3.0)
    assert found["elsewhere"].net == pytest.approx(0.0, abs=1e-12)


def test_the_shipped_flow_keeps_its_mass():
    flow = open_flow(demo_file())
    found = mass_balance(flow, flow.fields["Density"].values, flow.fields["Velocity"].values)
    shares = {s.name: s for s in found.shares}
    assert set(shares) == {"Kittiwake (wall)", "far field"}
    assert shares["Kittiwake (wall)"].inward == shares["Kittiwake (wall)"].outward == 0.0
    assert abs(found.net) < 2e-3 * found.gross
    assert found.gross == pytest.approx(1.2045e-3 * 472.1 * np.pi, rel=0.25)  # a disc of radius 1 across the stream, and more: it is tilted
