"""Bounds of points, many and few, against NumPy along the rows."""

import numpy as np
import pytest

from tidal_lens.flow.extent import extent


@pytest.mark.parametrize("count", [1, 511, 512, 513, 5000])
@pytest.mark.parametrize("dtype", [np.float32, np.float64])
def test_bounds_are_those_of_all_points(count, dtype):
    points = np.random.default_rng(count).normal(size=(count, 3)).astype(dtype)
    for place in (0, count // 2, count - 1):
        points[place] = [9.0, -9.0, 0.0]
        low, high = extent(points)
        assert np.array_equal(low, points.min(axis=0))
        assert np.array_equal(high, points.max(axis=0))


def test_what_is_no_number_is_told_and_no_points_are_refused():
    points = np.zeros((600, 3))
    points[3, 1] = np.nan
    low, high = extent(points)
    assert np.isnan([low[1], high[1]]).all()
    with pytest.raises(ValueError, match="zero-size"):
        extent(np.empty((0, 3)))
