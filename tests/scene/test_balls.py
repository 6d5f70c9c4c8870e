"""Balls: their faces, their sizes."""

import numpy as np
import pytest

from tidal_lens.scene.balls import FINE, PLAIN, ball, balls
from tidal_lens.scene.scenery import radii_of
from tidal_lens.study.looks import BallLook


@pytest.mark.parametrize(("count", "share"), [(1, 0.86), (FINE + 1, 0.6), (PLAIN + 1, 0.31)])
def test_faces_enclose_a_ball_and_look_outward(count, share):
    corners, faces = ball(count)
    np.testing.assert_allclose(np.linalg.norm(corners, axis=1), 1.0)
    a, b, c = (corners[faces[:, k]] for k in range(3))
    volume = (np.cross(a, b) * c).sum() / 6.0
    assert volume > share * 4.0 / 3.0 * np.pi
    edges, uses = np.unique(np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1), axis=0,
                            return_counts=True)
    assert (uses == 2).all(), "closed"
    assert len(corners) - len(edges) + len(faces) == 2


def test_each_ball_stands_at_its_point_with_its_radius():
    points, radii = np.array([[0.0, 0, 0], [5.0, 1, 2]]), np.array([0.5, 2.0])
    places, normals, faces = balls(points, radii)
    each = places.reshape(2, -1, 3) - points[:, None, :]
    np.testing.assert_allclose(np.linalg.norm(each, axis=2), np.broadcast_to(radii[:, None], each.shape[:2]), rtol=1e-6)
    np.testing.assert_allclose(each / radii[:, None, None], normals.reshape(2, -1, 3), atol=1e-6)
    assert faces.max() == len(places) - 1


def test_sizes_are_even_in_proportion_or_true():
    sizes = np.array([1.0, 2.0, 4.0, np.nan])
    np.testing.assert_array_equal(radii_of(BallLook(size=0.01), sizes, 4, 10.0), np.full(4, 0.1))
    share = radii_of(BallLook(size=0.01, sized="share"), sizes, 4, 10.0)
    np.testing.assert_allclose(share[1] / share[0], 2.0)
    assert share[2] == pytest.approx(0.1, rel=0.05)
    assert 0.0 < share[3] < share[0]
    np.testing.assert_array_equal(radii_of(BallLook(sized="true"), sizes, 4, 10.0), [0.5, 1.0, 2.0, 0.0])
    np.testing.assert_array_equal(radii_of(BallLook(size=0.01, sized="share"), None, 4, 10.0), np.full(4, 0.1))
