"""Flow texture: streaks follow the direction of the flow, only where a surface is seen, and the same each time."""

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from making import cube_flow
from tidal_lens.cutting import texture_kernels
from tidal_lens.cutting.contour import axis_slice
from tidal_lens.cutting.surface import point_normals
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.texture import Streaks, _noise, directions, laid_over, smeared, weights_of


def along_the_streaks(picture):
    """Direction in which a picture changes least, by the mean products of its slopes [degrees, 0 to 180]."""
    dy, dx = np.gradient(gaussian_filter(np.nan_to_num(picture, nan=0.5), 1.5))
    angle = 0.5 * np.arctan2(2 * (dx * dy).mean(), (dx * dx - dy * dy).mean()) + np.pi / 2  # across the steepest
    return np.degrees(angle) % 180


@pytest.mark.parametrize("angle", [0.0, 30.0, 75.0, 120.0])
def test_streaks_follow_a_constant_direction(angle):
    way = np.radians(angle)
    ways = np.zeros((160, 200, 2), np.float32)
    ways[..., 0], ways[..., 1] = np.cos(way), np.sin(way)
    picture = smeared(ways, Streaks(np.zeros((1, 3)), length=20))
    off = (along_the_streaks(picture[30:-30, 30:-30]) - angle + 90) % 180 - 90
    assert abs(off) < 3.0


def test_streaks_go_round_a_vortex():
    y, x = np.mgrid[-80:80, -80:80] + 0.5
    ways = (np.stack([-y, x], axis=-1) / np.hypot(x, y)[..., None]).astype(np.float32)
    picture = smeared(ways, Streaks(np.zeros((1, 3)), length=15))
    for row, column in ((80, 130), (130, 80), (45, 45)):
        piece = picture[row - 8:row + 8, column - 8:column + 8]
        true = np.degrees(np.arctan2(x[row, column], -y[row, column])) % 180
        off = (along_the_streaks(piece) - true + 90) % 180 - 90
        assert abs(off) < 12.0


def test_directions_are_those_of_the_screen_and_only_where_it_is_seen():
    flow = cube_flow(9)
    cut = axis_slice(flow, 1, 0.5)
    camera = Camera(np.array([0.5, -2.0, 0.5]), np.array([0.5, 0.5, 0.5]), np.array([0.0, 0.0, 1.0]))
    vectors = np.tile([1.0, 0.0, 1.0], (len(cut.points), 1))
    seen = np.full((120, 160), 2.5, np.float32)
    seen[:, :80] = 1.0  # something else is before its left half
    ways = directions(camera, cut.points, cut.faces, vectors, seen)
    there = ways.any(axis=-1)
    assert not there[:, :80].any()
    assert there[60, 81:100].all()
    u, v = ways[60, 90]
    assert np.hypot(u, v) == pytest.approx(1.0)
    assert v == pytest.approx(-u, rel=0.02), "up on the screen is up in space"
    assert u > 0


def test_a_picture_is_changed_only_where_there_are_streaks():
    ways = np.zeros((40, 60, 2), np.float32)
    ways[10:30, 10:50, 0] = 1.0
    streaks = smeared(ways, Streaks(np.zeros((1, 3))))
    assert np.isnan(streaks[0, 0])
    pixels = np.full((40, 60, 4), 120, np.uint8)
    laid_over(pixels, streaks, 0.8)
    assert (pixels[:10] == 120).all()
    inside = pixels[10:30, 10:50, 0].astype(float)
    assert inside.std() > 5
    assert inside.mean() == pytest.approx(120, abs=4)
    again = np.full((40, 60, 4), 120, np.uint8)
    laid_over(again, smeared(ways, Streaks(np.zeros((1, 3)))), 0.8)
    assert (again == pixels).all()


def test_running_weights_come_round():
    assert weights_of(10, 0.0) == pytest.approx(weights_of(10, 1.0))
    assert not np.allclose(weights_of(10, 0.0), weights_of(10, 0.5))
    assert (weights_of(10, 0.3) > 0).all()
    assert weights_of(10, None) == pytest.approx(np.ones(21))


def test_normals_at_points():
    cut = axis_slice(cube_flow(6), 2, 0.4)
    normals = point_normals(cut)
    assert np.abs(normals[:, 2]) == pytest.approx(1.0)


@pytest.mark.parametrize("phase", [0.0, 0.3, 0.8])
def test_running_streaks_are_the_weighted_means_along_the_same_paths(phase):
    y, x = np.mgrid[-60:60, -90:90] + 0.5
    ways = (np.stack([-y, x], axis=-1) / np.hypot(x, y)[..., None]).astype(np.float32)
    ways[np.hypot(x, y) > 75] = 0.0  # streaks end where there is no surface, and at the border of the picture
    how = Streaks(np.zeros((1, 3)), length=12, phase=phase)
    running = smeared(ways, how)
    direct = np.empty_like(running)
    texture_kernels.streaks(ways, _noise(120, 180, 1.0), weights_of(12, phase).astype(np.float32), direct, 0, 120)
    assert (np.isnan(running) == np.isnan(direct)).all()
    assert np.nanmax(np.abs(running - direct)) < 0.005, "one of 256 shades of grey"
    assert (smeared(ways, how) == running)[np.isfinite(running)].all()
    assert np.nanmean(np.abs(smeared(ways, Streaks(np.zeros((1, 3)), length=12, phase=phase + 0.2)) - running)) > 0.02
    ways[...] = ways[:, ::-1]  # another picture in the same memory is not taken for that
    other = ways.copy()
    assert np.nanmean(np.abs(smeared(other, how)[:, ::-1] - running)) > 0.02
