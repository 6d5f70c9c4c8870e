"""Tubes, ribbons and marks: frames that do not turn about their lines, ribbons that turn as the flow does."""

import numpy as np
import pytest

from tidal_lens.tracing.solids import even_marks, frames, lengths_from_seeds, refined, ribbons, tubes, turning

CIRCLE = np.column_stack([np.cos(t := np.linspace(0, np.pi, 40)), np.sin(t), 0 * t])


def two_lines():
    """A half circle of 40 points, and a straight line of three."""
    straight = np.array([[0.0, 0, 5], [1, 0, 5], [3, 0, 5]])
    return np.concatenate([CIRCLE, straight]), np.array([0, 40, 43])


def test_frames_are_at_right_angles_and_do_not_turn():
    points, offsets = two_lines()
    t, n, b = frames(points, offsets)
    for one in (t, n, b):
        np.testing.assert_allclose(np.linalg.norm(one, axis=1), 1.0)
    for one, other in ((t, n), (t, b), (n, b)):
        np.testing.assert_allclose((one * other).sum(axis=1), 0.0, atol=1e-12)
    np.testing.assert_allclose(n[:40], np.broadcast_to([0.0, 0, 1], (40, 3)), atol=1e-12, err_msg="what stands on a plane curve stays so")
    np.testing.assert_allclose(t[40:], np.broadcast_to([1.0, 0, 0], (3, 3)))


def test_a_frame_on_a_helix_turns_against_its_normal_by_its_torsion():
    """Frenet's formulas: against the principal normal, a frame that does not turn goes back by the integral of the torsion."""
    a, c = 1.0, 0.7
    s = np.linspace(0, 4.0, 4001)
    w = 1.0 / np.sqrt(a * a + c * c)
    helix = np.column_stack([a * np.cos(w * s), a * np.sin(w * s), c * w * s])
    _t, n, b = frames(helix, np.array([0, len(s)]))
    principal = np.column_stack([-np.cos(w * s), -np.sin(w * s), 0 * s])
    angle = np.unwrap(np.arctan2((principal * b).sum(axis=1), (principal * n).sum(axis=1)))
    torsion = c / (a * a + c * c)
    np.testing.assert_allclose(angle - angle[0], torsion * s, atol=2e-3)


def test_tubes_have_their_radius_and_are_not_joined_from_line_to_line():
    points, offsets = two_lines()
    radii = np.linspace(0.01, 0.03, len(points))
    places, faces, owners = tubes(points, offsets, radii)
    np.testing.assert_allclose(np.linalg.norm(places - points[owners], axis=1), radii[owners])
    assert len(faces) == 8 * (39 + 2)
    lines = np.searchsorted(offsets, owners, side="right") - 1
    assert (np.ptp(lines[faces], axis=1) == 0).all()


def test_ribbons_turn_with_solid_rotation():
    """In solid rotation about x with a stream along x all of the fluid turns as one: so must a ribbon on the axis."""
    omega, speed = 3.0, 2.0
    x = np.linspace(-1.0, 2.0, 31)
    points = np.column_stack([x, 0 * x, 0 * x])
    offsets, time = np.array([0, 31]), x / speed
    time[10] = 0.0
    t, n, b = frames(points, offsets)
    turned = turning(t, offsets, time, np.tile([2 * omega, 0, 0], (31, 1)))
    np.testing.assert_allclose(turned, omega * time, atol=1e-12)
    places, faces, owners = ribbons(points, offsets, 0.2, turned, (n, b))
    way = (places[1::2] - places[::2]) / 0.2
    expected = np.column_stack([0 * x, -np.sin(omega * time), np.cos(omega * time)])
    np.testing.assert_allclose(way, expected, atol=1e-12, err_msg="from z towards -y, as u = (U, -W z, W y) carries it")
    assert len(faces) == 30
    assert owners.tolist() == np.repeat(np.arange(31), 2).tolist()


def test_ribbons_on_the_axis_of_a_burgers_vortex():
    """Burgers 1948, Adv. Appl. Mech. 1: on its axis the vorticity is a G / (4 pi nu) and the speed 2 a z; from memory."""
    a, nu, gamma = 0.5, 0.02, 1.0
    vorticity = a * gamma / (2 * np.pi * nu)  # with u_z = 2 a z: omega = (a G / 2 pi nu) exp(-a r^2 / 2 nu)
    z = np.geomspace(0.1, 3.0, 400)
    time = np.log(z / 0.1) / (2 * a)
    points, offsets = np.column_stack([0 * z, 0 * z, z]), np.array([0, 400])
    t, *_ = frames(points, offsets)
    turned = turning(t, offsets, time, np.tile([0, 0, vorticity], (400, 1)))
    np.testing.assert_allclose(turned, 0.5 * vorticity * time, rtol=1e-9)


def test_a_fast_turn_has_points_enough():
    points = np.array([[0.0, 0, 0], [1, 0, 0], [2, 0, 0], [0, 5, 0], [1, 5, 0]])
    offsets, turned = np.array([0, 3, 5]), np.array([0.0, 2.0, 2.1, 0.0, -1.0])
    new, starts, angles, old = refined(points, offsets, turned)
    assert np.abs(np.diff(angles[: starts[1]])).max() <= 0.25 + 1e-12
    assert starts[-1] == len(new) == 8 + 1 + 1 + 4 + 1
    np.testing.assert_allclose(new[starts[:-1]], points[offsets[:-1]])
    np.testing.assert_allclose(new[starts[1:] - 1], points[offsets[1:] - 1])
    np.testing.assert_allclose(angles[: starts[1]][:9], 2.0 * new[:9, 0])
    assert set(old) <= set(range(5))


def test_marks_are_evenly_apart():
    _points, offsets = two_lines()
    time = np.concatenate([np.linspace(-1.0, 1.0, 40), [0.0, 1.0, 3.0]])
    time[20] = 0.0
    a, b, t = even_marks(time, offsets, 0.5)
    found = time[a] + t * (time[b] - time[a])
    np.testing.assert_allclose(np.sort(found[a < 40]), [-0.5, 0.0, 0.5, 1.0], atol=1e-12)
    np.testing.assert_allclose(np.sort(found[a >= 40]), [0.0, 0.5, 1.0, 1.5, 2.0, 2.5, 3.0], atol=1e-12)
    assert (b == a + 1).all()


def test_lengths_count_from_the_seed():
    points, offsets = two_lines()
    time = np.concatenate([np.linspace(-1.0, 1.0, 40), [0.0, 1.0, 3.0]])
    time[10] = 0.0
    along = lengths_from_seeds(points, offsets, time)
    assert along[10] == along[40] == 0.0
    np.testing.assert_allclose(along[40:], [0.0, 1.0, 3.0])
    assert along[39] - along[0] == pytest.approx(np.pi, rel=1e-3)
    assert along[0] == pytest.approx(-10 / 39 * np.pi, rel=1e-3)
