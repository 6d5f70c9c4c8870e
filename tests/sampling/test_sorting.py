"""The order in which cells stand along the curve."""

import numpy as np
import pytest

from threads import threads
from tidal_lens.sampling.mesh import _SHARE, places_in_order


@pytest.mark.parametrize("kind", ["any", "few different", "all equal", "falling", "greatest there are"])
@pytest.mark.parametrize("count", [0, 1, 2, 1000, 5 * _SHARE + 3])
def test_places_of_keys_come_in_order_and_equal_ones_as_they_stand(kind, count):
    keys = {"any": lambda: np.random.default_rng(5).integers(0, np.iinfo(np.int64).max, count),
            "few different": lambda: np.random.default_rng(6).integers(0, 9, count),
            "all equal": lambda: np.full(count, 7),
            "falling": lambda: np.arange(count, 0, -1),
            "greatest there are": lambda: np.iinfo(np.int64).max - np.arange(count) % 3}[kind]().astype(np.int64)
    for many in (1, 2, 5):
        order = np.full(count, -1, np.int32)
        with threads(many):
            places_in_order(keys, order)
        assert (order == np.argsort(keys, kind="stable")).all()
