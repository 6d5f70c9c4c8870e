"""Tasks on a turning machine, from an opened passage, by real events; an action is a click, a drag, or a number typed."""

import numpy as np
import pytest

from driving import settle
from hands import Hands
from passages import of_pitch, passage, span_of
from tidal_lens.demo.shipped import demo_path
from tidal_lens.formats.export import save_flow
from tidal_lens.formats.written import FlowData
from tidal_lens.study.kinds.round_axis import MEAN

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(empty, tmp_path):
    flow = passage((41, 25, 17), Pressure=lambda p: (1 - of_pitch(p)) * (4 - p[:, 0]) + of_pitch(p) * (1 + p[:, 0]),
                   Density=lambda p: 1 + 0 * p[:, 0])
    save_flow(tmp_path / "passage.cgns", FlowData(flow, {n: f.values for n, f in flow.fields.items()}, {}))
    empty.document.open_path(tmp_path / "passage.cgns")
    settle(empty)
    empty.document.edit(empty.document.study.with_(choices=empty.document.study.choices.with_(spin=2.0)), "It turns")
    settle(empty)
    return empty


def to_measure(window, hands):
    hands.click(window.rail.buttons["measure"])
    return window.bench.pages["measure"].tiles


def made(window):
    return window.document.asking.results[window.document.chosen].unmasked


def test_mean_pressure_on_the_meridional_plane_with_lines_takes_three_actions(opened):
    hands = Hands()
    hands.click(to_measure(opened, hands)["add-round-axis"])
    settle(opened)
    hands.tick(opened.bench.card.controls["round-axis"].contours.on)
    settle(opened)
    result = opened.document.asking.results[opened.document.chosen]
    assert result.unmasked.geometry.own[MEAN].reshape(120, 40)[2:-2, 2:-2] == pytest.approx(2.5, abs=0.01)
    lines = next(d for d in result.dressed if d.offsets is not None and len(d.offsets) > 1)
    flat = {round(float(np.hypot(*p[1:])), 3) for p in lines.points}
    assert len(flat) > 1, "lines of the mean, on the plane"
    assert hands.actions <= 3


def test_relative_velocity_at_mid_span_unrolled_over_two_passages_takes_four_actions(opened):
    hands = Hands()
    hands.click(to_measure(opened, hands)["add-span-unrolled"])
    settle(opened)
    hands.type(opened.bench.card.controls["span"].shown, "2")
    settle(opened)
    layer = opened.document.chosen_layer
    assert layer.shape.unrolled
    assert layer.look.arrows.of == "relative-velocity"
    scene = opened.view.scenery.scene(opened.document.asking.table(), "#FFFFFF", "#000000")
    own = [item for item in scene.items if item.id == layer.id or item.id.endswith(layer.id)]
    assert len(own) == 2, "the surface and its arrows"
    assert [len(item.copies) for item in own] == [1, 1]
    shift = own[0].copies[0][:3, 3]
    front = made(opened).geometry.points[made(opened).geometry.points[:, 0] < 1e-9]
    assert np.abs(shift) == pytest.approx([0, 0, np.ptp(front[:, 2])], abs=1e-3), "by the pitch"
    assert hands.actions <= 4


def test_the_loading_at_three_spans_takes_four_actions(opened):
    hands = Hands()
    hands.click(to_measure(opened, hands)["add-round-blade"])
    settle(opened)
    hands.type(opened.bench.card.controls["round-blade"].more, "0.1; 0.9")
    settle(opened)
    (chart,) = made(opened).charts
    assert len(chart.curves) == 6
    spans = span_of(made(opened).geometry.points)
    assert [np.abs(spans - s).min() < 1e-3 for s in (0.1, 0.5, 0.9)] == [True] * 3
    assert hands.actions <= 4


@pytest.fixture
def rotor(empty):
    """The rotor that comes along: it says itself what turns, and how fast."""
    empty.document.open_path(demo_path("dipper coarse.cgns"))
    settle(empty)
    return empty


def test_the_same_on_the_rotor_that_comes_along(rotor):
    """Mean pressure with lines: 3; relative velocity at mid span over two passages: 4; the loading at three spans: 4 actions."""
    hands = Hands()
    tiles = to_measure(rotor, hands)
    hands.click(tiles["add-round-axis"])
    settle(rotor)
    hands.tick(rotor.bench.card.controls["round-axis"].contours.on)
    settle(rotor)
    assert hands.actions <= 3
    sheet = made(rotor).charts[0].sheet
    assert len(sheet.lines)
    assert len(sheet.arrows)
    behind, ahead = (np.nanmean(sheet.values[row]) for row in (-10, 10))
    assert behind > ahead + 3000.0, "pressure rises through the blades [Pa]"
    hands = Hands()
    hands.click(tiles["add-span-unrolled"])
    settle(rotor)
    hands.type(rotor.bench.card.controls["span"].shown, "2")
    settle(rotor)
    assert hands.actions + 1 <= 4
    layer = rotor.document.chosen_layer
    assert layer.look.arrows.of == "relative-velocity"
    assert rotor.document.study.passages_shown == 2
    hands = Hands()
    hands.click(tiles["add-round-blade"])
    settle(rotor)
    hands.type(rotor.bench.card.controls["round-blade"].more, "0.1; 0.9")
    settle(rotor)
    assert hands.actions + 1 <= 4
    assert len(made(rotor).charts[0].curves) == 6
    gaps = [row[1:] for row in next(t for t in made(rotor).tables if t.heads[0] == "what").rows if "mean difference" in row[0]]
    assert np.size(gaps) == 3
    assert np.min(gaps) > 3000.0, "pressure less suction side [Pa]"
