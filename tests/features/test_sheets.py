"""Sheets of vertices: teeth at the rim go, and what is even stays."""

from __future__ import annotations

import numpy as np
import pytest

from tidal_lens.cutting.surface import Surface
from tidal_lens.features.sheets import edges_of, evened, opened, rim_of
from tidal_lens.sampling.mesh import Stencil


def sheet(high, inside):
    """Squares of width 1 whose middles are ``inside``, on a lattice of 41 x high."""
    x, y = np.meshgrid(np.arange(41.0), np.arange(float(high)))
    points = np.column_stack([x.ravel(), y.ravel(), np.zeros(x.size)])
    first = np.arange(x.size).reshape(x.shape)[:-1, :-1].ravel()
    faces = np.column_stack([first, first + 1, first + 42, first + 41])
    middles = points[faces].mean(axis=1)
    faces = faces[inside(middles[:, 0], middles[:, 1])]
    used = np.unique(faces)
    number = np.full(len(points), -1)
    number[used] = np.arange(len(used))
    own = np.arange(len(used))[:, None]
    return Surface(points[used], number[faces], Stencil(own, np.ones((len(used), 1))))


def test_teeth_narrower_than_twice_the_reach_go():
    """Teeth 2 wide stand on a plate that is 20 high, 4 apart."""
    whole = sheet(31, lambda x, y: (y < 20) | (x % 6 < 2))
    cut, rows = opened(whole, np.ones(len(whole.points)), 3.0)
    assert cut.points[:, 1].max() < 23.0, "they were 10 high"
    assert cut.area == pytest.approx(40 * 20, rel=0.05), "the plate is there"
    assert np.allclose(rows.apply(whole.points[:, 0]), cut.points[:, 0]), "and knows where it came from"


def test_what_is_narrow_altogether_stays_as_it_is():
    strip = sheet(5, lambda x, y: y > -1)
    same, rows = opened(strip, np.ones(len(strip.points)), 3.0)
    assert np.array_equal(same.faces, strip.faces)
    assert np.array_equal(rows.apply(strip.points[:, 1]), strip.points[:, 1])


def test_reach_counts_in_cells():
    whole = sheet(31, lambda x, y: (y < 20) | (x % 6 < 2))
    same, _ = opened(whole, np.full(len(whole.points), 0.1), 3.0)
    assert same.area == pytest.approx(whole.area, rel=0.05), "a tooth of 20 cells is none"


def test_a_rim_is_evened_along_itself_and_a_flat_sheet_stays_flat():
    whole = sheet(21, lambda x, y: np.hypot(x - 20, y - 10) < 9)
    even = evened(whole, 10)
    rim = np.unique(rim_of(whole.faces))
    off = [np.hypot(s.points[rim, 0] - 20, s.points[rim, 1] - 10).std() for s in (whole, even)]
    assert off[1] < 0.6 * off[0], "steps of the lattice go"
    assert not even.points[:, 2].any()
    assert even.area == pytest.approx(whole.area, rel=0.03)
    held = evened(whole, 10, np.isin(np.arange(len(whole.points)), rim))
    assert np.array_equal(held.points[rim], whole.points[rim])


def test_edges_and_rim_are_counted_once():
    whole = sheet(3, lambda x, y: x < 2)
    assert len(edges_of(whole.faces)) == 12
    assert len(rim_of(whole.faces)) == 8
