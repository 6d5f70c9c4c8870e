"""What a case with a body in it begins with."""

import numpy as np
import pytest

from making import flow_of
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.beginnings import first_study
from tidal_lens.study.kinds.isosurface import new_isosurface
from tidal_lens.study.kinds.streamlines import new_streamlines


def shell(half=False, turn=1.0, swirl=0.0):
    """A spherical body of radius 0.1 about (0.3, 0, 0) in a sphere of radius 1; half of it with y >= 0."""
    polar, azimuth = np.linspace(0.0, np.pi, 13), np.linspace(0.0, np.pi if half else 2 * np.pi, 25)
    r = np.linspace(0.0, 1.0, 9)
    r, a, p = (v.ravel() for v in np.meshgrid(r, azimuth, polar, indexing="ij"))
    way = np.column_stack([np.cos(p), np.sin(p) * np.sin(a), np.sin(p) * np.cos(a)])
    points = way * (0.1 + 0.9 * r)[:, None] + np.outer(1.0 - r, [0.3, 0.0, 0.0])
    velocity = r[:, None] * np.column_stack([0 * r + 30.0 * turn, -swirl * points[:, 2], swirl * points[:, 1]])
    flow = flow_of([(points, StructuredGrid((13, 25, 9)))], {"Velocity": velocity, "p": 1.0 + 0 * r, "rho": 1.4 + 0 * r},
                   ReferenceState(1.0, 1.4, (30.0 * turn, 0.0, 0.0)))
    faces = flow.outside.faces
    wall = np.all(r[faces] < 1e-9, axis=1)
    boundaries = (boundary_of_faces("body", "wall", points, faces[wall]), boundary_of_faces("far", "far field", points, faces[~wall]))
    return flow_of([(points, StructuredGrid((13, 25, 9)))], {n: f.values for n, f in flow.fields.items()}, flow.reference, boundaries)


def test_the_body_is_what_is_framed_first():
    flow = shell()
    low, high = flow.body
    assert low == pytest.approx([0.2, -0.1, -0.1], abs=0.01)
    assert high == pytest.approx([0.4, 0.1, 0.1], abs=0.01)
    near, far = flow.stage
    assert np.all(near < low)
    assert np.all(far > high)
    assert np.all(near >= flow.bounds[0])
    assert np.all(far - near < 0.5 * (flow.bounds[1] - flow.bounds[0]))


@pytest.mark.parametrize("turn", [1.0, -1.0])
def test_seeds_start_before_the_body_across_the_wind(turn):
    flow = shell(turn=turn)
    layer = new_streamlines(QuantityStore(flow, flow.reference))
    start, end = np.array(layer.shape.seeds[0].start), np.array(layer.shape.seeds[0].end)
    assert start[0] == end[0]
    assert (start[0] < 0.2) if turn > 0 else (start[0] > 0.4)
    assert abs(start[0] - 0.3) == pytest.approx(0.3, abs=0.02), "a body's length before it"
    assert np.linalg.norm(end - start) == pytest.approx(0.24, abs=0.02)


def test_seeds_of_a_half_model_stay_in_it():
    flow = shell(half=True)
    layer = new_streamlines(QuantityStore(flow, flow.reference))
    assert min(layer.shape.seeds[0].start[1], layer.shape.seeds[0].end[1]) >= -1e-9


def test_an_isosurface_of_q_starts_at_vortices_not_at_the_wall():
    flow = shell(swirl=1000.0)  # Q about a million
    store = QuantityStore(flow, flow.reference)
    expected = 20.0 * (30.0 / 0.2) ** 2
    assert store.distribution("q").low < expected < store.distribution("q").high
    assert new_isosurface(store, "q").shape.value == pytest.approx(expected, rel=0.1)


def test_walls_and_a_plane_are_shown_first():
    flow = shell()
    study = first_study(flow, QuantityStore(flow, flow.reference))
    assert [layer.kind for layer in study.layers] == ["wall", "slice"]
    assert study.layers[0].shape.boundaries == ("body",)
