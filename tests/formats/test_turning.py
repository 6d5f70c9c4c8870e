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


def test_damaged_rates_and_blocks_that_turn_otherwise_are_told(tmp_path):
    path = saved(replace(both(), turning=Turning((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), 9.0)), tmp_path / "a.cgns")
    with h5py.File(path, "r+") as file:
        names = []
        file.visit(lambda n: names.append(n) if n.endswith("RotationRateVector") else None)
        file[names[1]][" data"][:] = [0.0, -4.0, 0.0]
    flow = open_flow(path)
    assert flow.turning.blocks == ("rotor",)
    assert any("turn otherwise" in notice for notice in flow.notices)
    with h5py.File(path, "r+") as file:
        for name in names:
            file[name][" data"][:] = [np.nan, 1.0, 2.0]
    assert open_flow(path).turning is None
    assert stated_turning([("a", (0.0, 0.0)), ("b", ())]) == (None, "")
