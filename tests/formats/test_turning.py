"""Rotating coordinates of a CGNS file: which blocks turn, about what and how fast; and how a study begins with them."""

from dataclasses import replace

import h5py
import numpy as np
import pytest

from making import flow_of
from passages import LONG, passage
from tidal_lens.flow.turning import Turning, stated_turning
from tidal_lens.formats.export import save_flow
from tidal_lens.formats.registry import open_flow
from tidal_lens.formats.written import FlowData
from tidal_lens.quantities.methods import Frame, Methods
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.session import open_session
from tidal_lens.work import Token


def both():
    rotor = passage((9, 9, 9))
    u = rotor.fields["Velocity"].values
    grid = rotor.blocks[0].grid
    flow = flow_of([(rotor.points, grid), (rotor.points + np.array([LONG + 0.5, 0, 0]), grid)], {"Velocity": np.concatenate([u, u])})
    return replace(flow, blocks=tuple(replace(b, name=n) for b, n in zip(flow.blocks, ("rotor", "stator"), strict=True)))


def saved(flow, path):
    save_flow(path, FlowData(flow, {n: f.values for n, f in flow.fields.items()}, {}))
    return path


@pytest.mark.parametrize("blocks", [("rotor",), ()])
def test_what_turns_is_written_read_and_begun_with(tmp_path, blocks):
    turning = Turning((0.0, 0.1, 0.0), (0.0, 0.6, -0.8), 250.0, blocks)
    path = saved(replace(both(), turning=turning), tmp_path / "a.cgns")
    found = open_flow(path).turning
    assert found.point == pytest.approx(turning.point)
    assert found.axis == pytest.approx(turning.axis)
    assert found.rate == pytest.approx(250.0)
    assert found.blocks == blocks
    session = open_session(path)
    assert session.study.choices.spin == pytest.approx(250.0)
    assert session.study.choices.turning == blocks
    rate = session.evaluator.store.values("turning-rate", Token())
    assert rate[:729] == pytest.approx(250.0)
    assert rate[729:] == pytest.approx(0.0 if blocks else 250.0)
    typed = session.study.with_(choices=session.study.choices.with_(spin=3.0))
    assert open_session(path, typed).evaluator.store.values("turning-rate", Token())[0] == 3.0, "what a study says counts"


def test_without_rotation_nothing_turns(tmp_path):
    path = saved(both(), tmp_path / "a.cgns")
    assert open_flow(path).turning is None
    assert open_session(path).study.choices.spin == 0.0


def test_each_block_has_an_axis_and_a_rate_of_its_own_and_damaged_rates_count_for_nothing(tmp_path):
    path = saved(replace(both(), turning=Turning((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), 9.0)), tmp_path / "a.cgns")
    with h5py.File(path, "r+") as file:
        names = []
        file.visit(lambda n: names.append(n) if n.endswith("RotationRateVector") else None)
        file[names[1]][" data"][:] = [0.0, -4.0, 0.0]
    flow = open_flow(path)
    assert flow.turning.blocks == ("rotor",)
    (other,) = flow.turning.more
    assert (other.blocks, other.rate) == (("stator",), 4.0)
    assert other.axis == pytest.approx((0.0, -1.0, 0.0))
    session = open_session(path)
    assert session.study.choices.frames[0].blocks == ("stator",)
    store = session.evaluator.store
    assert store.values("turning-rate", Token())[[0, -1]] == pytest.approx([9.0, 4.0])
    p = flow.points
    exact = np.concatenate([np.cross([9.0, 0, 0], p[:729]), np.cross([0, -4.0, 0], p[729:])])
    assert store.values("frame-velocity", Token()) == pytest.approx(exact)
    assert store.values("relative-velocity", Token()) == pytest.approx(store.values("velocity", Token()) - exact)
    again = saved(flow, tmp_path / "b.cgns")
    assert open_flow(again).turning.more[0].axis == pytest.approx((0.0, -1.0, 0.0))
    with h5py.File(path, "r+") as file:
        for name in names:
            file[name][" data"][:] = [np.nan, 1.0, 2.0]
    assert open_flow(path).turning is None
    assert stated_turning([("a", (0.0, 0.0)), ("b", ())]) is None
    shifted = stated_turning([("a", (0.0, 1, 0, 5.0, 0, 0)), ("b", (7.0, 1, 0, 5.0, 0, 0)), ("c", (0.0, 2, 0, 5.0, 0, 0))])
    assert (shifted.blocks, shifted.more[0].blocks) == (("a", "b"), ("c",)), "points of one axis are alike"


def test_rigid_rotation_of_each_block_is_at_rest_in_its_own_frame():
    """Two blocks that turn about axes of their own: the relative velocity is nothing everywhere (exact)."""
    flow = both()
    p = flow.points
    u = np.concatenate([np.cross([0, 0, 3.0], p[:729] - [0.2, 0, 0]), np.cross([-5.0, 0, 0], p[729:])])
    flow = replace(flow, fields={"Velocity": replace(flow.fields["Velocity"], values=u)})
    methods = Methods(axis=(-2.0, 0.0, 0.0), spin=5.0, frames=(Frame(("rotor",), (0.2, 0.0, 0.0), (0.0, 0.0, 1.0), 3.0),))
    store = QuantityStore(flow, flow.reference, methods)
    assert np.abs(store.values("relative-velocity")).max() < 1e-12
    assert store.values("turning-rate")[[0, -1]] == pytest.approx([3.0, 5.0])
