"""Lines bound to a surface: they stay on it, cross its seams, close, and end in the nodes of its field."""

import numpy as np
import pytest

from tidal_lens.cutting.surface import Surface, join
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.tracing.streamlines import End
from tidal_lens.tracing.surface_lines import lines_on


def sheet(n=41, x=(-1.0, 1.0), y=(-1.0, 1.0), turned=False):
    gx, gy = np.meshgrid(np.linspace(*x, n), np.linspace(*y, n))
    points = np.column_stack([gx.ravel(), gy.ravel(), 0 * gx.ravel()])
    i = np.arange(n * n).reshape(n, n)
    faces = np.column_stack([i[:-1, :-1].ravel(), i[:-1, 1:].ravel(), i[1:, 1:].ravel(), i[1:, :-1].ravel()])
    return Surface(points, faces[:, ::-1] if turned else faces, Stencil(np.arange(n * n)[:, None], np.ones((n * n, 1))))


def sphere(n):
    """A ball of radius one from the sides of a cube, cut at their edges: each side has its own vertices there."""
    parts = []
    for axis in range(3):
        for side in (-1.0, 1.0):
            flat = sheet(n)
            cube = np.roll(np.column_stack([flat.points[:, 0], flat.points[:, 1], np.full(n * n, side)]), axis, axis=1)
            parts.append(Surface(cube / np.linalg.norm(cube, axis=1)[:, None], flat.faces, flat.stencil))
    return join(parts)


def turning(p):
    return np.column_stack([-p[:, 1], p[:, 0], 0 * p[:, 0]])


def test_a_turning_field_goes_round():
    surface = sheet()
    lines = lines_on(surface, turning(surface.points), np.array([[0.5, 0, 0], [0.2, 0.1, 0]]), direction="forward", max_length=3.0)
    for n, radius in enumerate((0.5, np.hypot(0.2, 0.1))):
        own = lines.points[lines.offsets[n]:lines.offsets[n + 1]]
        np.testing.assert_allclose(np.hypot(own[:, 0], own[:, 1]), radius, rtol=1e-6)
    np.testing.assert_allclose(lines.time[lines.offsets[1:] - 1], 3.0)
    assert (lines.ends[:, 1] == End.LENGTH).all()


def test_lines_end_in_a_node_and_come_from_its_source():
    surface, node = sheet(30), np.array([0.103, 0.207, 0.0])
    field = node - surface.points
    seeds = np.array([[0.5, 0, 0], [-0.7, 0.9, 0], [0.9, 0.9, 0]])
    ahead = lines_on(surface, field, seeds, direction="forward")
    np.testing.assert_allclose(ahead.points[ahead.offsets[1:] - 1], np.tile(node, (3, 1)), atol=1e-3)
    assert (ahead.ends[:, 1] == End.STILL).all()
    back = lines_on(surface, field, seeds, direction="backward")
    assert (back.ends[:, 0] == End.LEFT).all()
    assert (np.abs(back.points[back.offsets[:-1]]).max(axis=1) > 1.0 - 1e-9).all(), "against the field to the border"
    both = lines_on(surface, field, seeds)
    assert (both.time[both.offsets[:-1]] < 0).all()
    for n in range(3):
        own = slice(both.offsets[n], both.offsets[n + 1])
        assert (np.diff(both.time[own]) > 0).all()
        assert (np.linalg.norm(np.diff(both.points[own], axis=0), axis=1) <= np.diff(both.time[own]) + 1e-9).all()


def test_lines_that_meet_on_an_edge_slide_along_it():
    """The field leads to y = 0 from both sides, along the edges of faces there."""
    surface = sheet(41)
    field = np.column_stack([np.ones(41 * 41), -40.0 * np.sign(surface.points[:, 1]), np.zeros(41 * 41)])
    field[np.abs(surface.points[:, 1]) < 1e-9, 1] = 0.0
    lines = lines_on(surface, field, np.array([[-0.53, 0.31, 0], [-0.53, -0.31, 0]]), direction="forward", max_length=9.0)
    np.testing.assert_allclose(lines.points[lines.offsets[1:] - 1], [[1, 0, 0], [1, 0, 0]], atol=2e-2)


def test_seams_are_crossed_whichever_way_faces_look():
    halves = [sheet(13, x=(-1.0, 0.0)), sheet(13, x=(0.0, 1.0), turned=True)]
    surface = join(halves)
    along = np.tile([1.0, 0.3, 0.0], (len(surface.points), 1))
    lines = lines_on(surface, along, np.array([[-0.9, -0.4, 0.0]]), direction="forward")
    np.testing.assert_allclose(lines.points[-1], [1.0, -0.4 + 0.3 * 1.9, 0.0], atol=1e-9)
    assert lines.ends[0, 1] == End.LEFT


@pytest.mark.parametrize("n", [9, 17])
def test_lines_stay_on_a_ball_and_near_its_circles(n):
    ball = sphere(n)
    seed = np.array([[0.8, 0.0, 0.6]])
    lines = lines_on(ball, turning(ball.points), seed, direction="forward", max_length=0.8 * 2 * np.pi)
    flat = (2.0 / (n - 1)) ** 2  # faces lie below the ball by so much
    r = np.linalg.norm(lines.points, axis=1)
    assert r.max() <= 1.0 + 1e-12
    assert r.min() > 1.0 - flat
    np.testing.assert_allclose(lines.points[:, 2], lines.points[0, 2], atol=0.25 * flat, err_msg="second order in the size of faces")


def test_values_on_lines_are_those_of_the_surface():
    surface = sheet(21)
    lines = lines_on(surface, turning(surface.points), np.array([[0.4, 0.3, 0.0]]))
    np.testing.assert_allclose(lines.stencil.apply(surface.points[:, 0]), lines.points[:, 0], atol=1e-12)


def test_a_seed_beside_the_surface_begins_at_its_nearest_place():
    surface = sheet(21)
    seeds = np.array([[0.33, 0.12, 0.2], [1.7, 0.05, -0.1]])
    lines = lines_on(surface, turning(surface.points), seeds, direction="forward", max_length=0.1)
    np.testing.assert_allclose(lines.points[lines.offsets[:-1]], [[0.33, 0.12, 0.0], [1.0, 0.05, 0.0]], atol=1e-12)


def test_nothing_comes_of_nothing():
    surface = sheet(5)
    assert lines_on(surface, turning(surface.points), np.empty((0, 3))).n_lines == 0
    still = lines_on(surface, 0 * surface.points, np.array([[0.3, 0.1, 0.0]]))
    assert (still.ends == End.STILL).all()
    none = Surface(np.empty((0, 3)), np.empty((0, 4), np.int64), Stencil(np.empty((0, 1), np.int64), np.empty((0, 1))))
    assert lines_on(none, np.empty((0, 3)), np.array([[0.0, 0, 0]])).n_seeds == 1
