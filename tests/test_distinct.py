"""Whole numbers that differ: as NumPy has them."""

import numpy as np
import pytest

from tidal_lens.distinct import among, distinct


@pytest.mark.parametrize("values", [[], [3], [3, 3, 3], [5, 1, 4, 1, 5, -9], np.random.default_rng(1).integers(0, 500, (200, 4)),
                                    np.random.default_rng(2).integers(0, 2**63, 400, np.uint64), np.array([2, 0, 2], np.int8)])
def test_they_are_those_that_numpy_finds(values):
    found = distinct(values)
    assert (found == np.unique(values)).all()
    assert found.dtype == np.asarray(values).dtype
    assert len(found) == len(np.unique(values))


@pytest.mark.parametrize("top", [20, 10**4, 2**62])
def test_which_are_among_others(top):
    rng = np.random.default_rng(top)
    values, known = rng.integers(0, top, (300, 4)), rng.integers(0, top, 150)
    known = np.concatenate([known, values[::7, 1]])
    assert (among(values, known) == np.isin(values, known)).all()
    assert among(values, known).any()
    assert not among(values, known[:0]).any()
    assert among(values[:0], known).shape == (0, 4)
