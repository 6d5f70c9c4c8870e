"""What follows from a gradient taken part by part is what follows from the whole of it."""

from __future__ import annotations

import numpy as np
import pytest

from making import KINDS, abc, cube_flow
from tidal_lens.demo.kittiwake import demo_file
from tidal_lens.quantities import gradient_parts
from tidal_lens.quantities.criteria import lambda2
from tidal_lens.quantities.gradient_parts import from_gradient
from tidal_lens.quantities.gradients import flow_gradient
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.session import open_session


def nine(gradient):
    return gradient.reshape(len(gradient), -1)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("fourth_order", [False, True])
def test_parts_are_the_whole_on_one_block(kind, fourth_order, monkeypatch):
    monkeypatch.setattr(gradient_parts, "PART", 700)
    flow = cube_flow(12, kind, 0.2, velocity=abc)
    velocity = flow.fields["Velocity"].values
    whole = flow_gradient(flow, velocity, fourth_order=fourth_order)
    parts = from_gradient(flow, velocity, nine, fourth_order=fourth_order)
    assert np.array_equal(parts, nine(whole))


def test_parts_are_the_whole_over_seams(monkeypatch):
    monkeypatch.setattr(gradient_parts, "PART", 60_000)
    flow = open_session(demo_file()).flow
    assert flow.seams.n_groups
    velocity = QuantityStore(flow, flow.reference).values("velocity")
    parts, whole = from_gradient(flow, velocity, nine), nine(flow_gradient(flow, velocity))
    size = np.abs(whole).max()
    assert np.nanmax(np.abs(parts - whole)) < 1e-6 * size


def test_a_criterion_keeps_no_gradient():
    flow = cube_flow(12, "structured", 0.2, velocity=abc)
    store = QuantityStore(flow, flow.reference)
    without = store.values("lambda2")
    assert store.kept("velocity-gradient") is None
    other = QuantityStore(flow, flow.reference)
    gradient = other.values("velocity-gradient")
    assert np.array_equal(other.values("lambda2"), without)
    assert np.array_equal(lambda2(gradient), without)
