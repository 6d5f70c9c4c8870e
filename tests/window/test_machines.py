"""Turning machines: walls by what they are of, means round the axis, a share of span, the loading of blades; by real events."""

import threading

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt

from driving import click, drag, keys, pick, settle, type_into, wait
from making import flow_of
from passages import LONG, of_pitch, passage, span_of
from tidal_lens.formats.export import save_flow
from tidal_lens.formats.written import FlowData
from tidal_lens.scene.scenery import OUTLINE
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.files import load_study
from tidal_lens.study.kinds.round_axis import MEAN

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(empty, tmp_path):
    flow = passage((41, 25, 17), Pressure=lambda p: (1 - of_pitch(p)) * (4 - p[:, 0]) + of_pitch(p) * (1 + p[:, 0]),
                   Density=lambda p: 1 + of_pitch(p))
    save_flow(tmp_path / "passage.cgns", FlowData(flow, {n: f.values for n, f in flow.fields.items()}, {}))
    empty.document.open_path(tmp_path / "passage.cgns")
    settle(empty)
    empty.show_station("measure")
    return empty


def added(window, kind):
    click(window.bench.pages["measure"].tiles[f"add-{kind}"])
    wait(lambda: window.document.chosen_layer is not None and window.document.chosen_layer.kind == kind, kind)
    settle(window)
    return window.document.chosen_layer


def made(window):
    return window.document.asking.results[window.document.chosen].unmasked


def test_walls_of_a_machine_are_told_by_their_names_or_said(opened):
    kinds = {b.name: b.kind for b in opened.document.flow.boundaries}
    assert kinds["hub"] == "hub"
    assert (kinds["casing"], kinds["blade"], kinds["periodic sides"]) == ("casing", "blade", "periodic")
    tile = opened.bench.pages["measure"].tiles["add-span"]
    assert tile.isEnabled()
    opened.show_station("case")
    picker = opened.bench.pages["case"].boundaries.pickers["hub"]
    pick(picker, "wall")
    settle(opened)
    opened.show_station("measure")
    assert not tile.isEnabled()
    assert "hub" in tile.toolTip()
    keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    assert tile.isEnabled()


def test_a_mean_round_the_axis_stands_in_the_view_and_in_charts(opened, tmp_path):
    """Pressure is linear over the pitch: its mean is 2.5 along all of the way; by mass it is drawn to the heavier side."""
    added(opened, "round-axis")
    own = made(opened).geometry.own[MEAN].reshape(120, 40)
    assert own[2:-2, 2:-2] == pytest.approx(2.5, abs=0.01)
    assert [c.up for c in made(opened).charts] == ["radius", "share of span", "Pressure"]
    assert opened.ledger.measure.charts[0].isVisible()
    controls = opened.bench.card.controls["round-axis"]
    click(controls.by.button("mass"))
    settle(opened)
    x = LONG * made(opened).charts[2].curves[1].at
    share, rho = np.linspace(0, 1, 2001)[:, None], 1 + np.linspace(0, 1, 2001)[:, None]
    exact = np.trapezoid(rho * ((1 - share) * (4 - x) + share * (1 + x)), axis=0) / np.trapezoid(rho, axis=0)
    assert made(opened).charts[2].curves[1].values[2:-2] == pytest.approx(exact[2:-2], abs=0.02)
    controls.stations.setFocus()
    type_into(controls.stations, "0.25; 0.75")
    settle(opened)
    assert [c.name for c in made(opened).charts[1].curves] == ["25.2 % of the way", "74.8 % of the way"]
    opened.files.save_as(str(tmp_path / "a.tidal"))
    assert load_study(tmp_path / "a.tidal").layers[-1].shape == opened.document.chosen_layer.shape
    for _ in range(2):
        keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
        settle(opened)
    assert made(opened).geometry.own[MEAN].reshape(120, 40)[2:-2, 2:-2] == pytest.approx(2.5, abs=0.01)


def test_a_span_is_moved_by_its_bead_and_coloured_as_any_surface(opened):
    layer = added(opened, "span")
    assert span_of(made(opened).geometry.points) == pytest.approx(0.5, abs=2e-3)
    half = opened.view.handles.bead_at("span")
    controls = opened.bench.card.controls["span"]
    type_into(controls.share, "0.8")
    settle(opened)
    assert span_of(made(opened).geometry.points) == pytest.approx(0.8, abs=4e-3)
    far = opened.view.handles.bead_at("span")
    keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    drag(opened.view, half, far)
    settle(opened)
    share = opened.document.chosen_layer.shape.share
    assert share == pytest.approx(0.8, abs=0.02)
    assert span_of(made(opened).geometry.points) == pytest.approx(share, abs=4e-3)
    keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    assert opened.document.chosen_layer.shape == layer.shape, "one drag is one step of undo"


def test_the_loading_of_blades_at_three_spans(opened):
    added(opened, "round-blade")
    controls = opened.bench.card.controls["round-blade"]
    controls.more.setFocus()
    type_into(controls.more, "0.1; 0.9")
    settle(opened)
    (chart,) = made(opened).charts
    assert len(chart.curves) == 6
    for curve in chart.curves:
        good = np.isfinite(curve.at)
        x = 0.6 + 0.8 * curve.at[good]
        assert curve.values[good] == pytest.approx(4 - x if "pressure side" in curve.name else 1 + x, abs=1e-4)
    click(controls.against.button("m'"))
    settle(opened)
    assert made(opened).charts[0].across == "m′"


def test_passages_are_drawn_side_by_side(opened):
    """Nine by the inlet; so many copies as are shown, of cards and of the outline, undone as one step; a mean is drawn once."""
    added(opened, "round-axis")
    opened.show_station("case")
    passages = opened.bench.pages["case"].passages
    assert passages.isVisibleTo(opened.bench.pages["case"])
    assert passages.number.placeholderText() == "9 by the inlet"

    def copies():
        scene = opened.view.pictures.scenery.scene(opened.document.asking.table(), "#FFFFFF", "#000000")
        return {item.id: len(item.copies) for item in scene.items}

    assert set(copies().values()) == {0}
    type_into(passages.shown, "9")
    settle(opened)
    walls, mean = opened.document.study.layers[0].id, opened.document.study.layers[-1].id
    assert copies()[walls] == 8
    assert copies()[OUTLINE] == 8
    assert copies()[mean] == 0
    type_into(passages.number, "4")
    settle(opened)
    assert copies()[walls] == 3, "no more than there are"
    for _ in range(2):
        keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
        settle(opened)
    assert set(copies().values()) == {0}


def test_relative_velocity_at_mid_span_unrolled(opened):
    added(opened, "span")
    controls = opened.bench.card.controls["span"]
    click(controls.unrolled, QPointF(8, 8))
    settle(opened)
    flat = made(opened).geometry
    assert np.ptp(flat.points[:, 1]) < 1e-9
    assert "m′" in made(opened).told
    keys(opened.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    assert np.ptp(made(opened).geometry.points[:, 1]) > 0.1


def test_some_blocks_turn_about_an_axis_of_their_own(empty, tmp_path):
    rotor = passage((9, 9, 9))
    u, grid = rotor.fields["Velocity"].values, rotor.blocks[0].grid
    flow = flow_of([(rotor.points, grid), (rotor.points + np.array([LONG + 0.5, 0, 0]), grid)], {"Velocity": np.concatenate([u, u])})
    save_flow(tmp_path / "two.cgns", FlowData(flow, {n: f.values for n, f in flow.fields.items()}, {}))
    empty.document.open_path(tmp_path / "two.cgns")
    settle(empty)
    empty.show_station("derive")
    choices = empty.bench.pages["derive"].choices
    choices.section.show()
    type_into(choices.spin, "5")
    click(choices.frames.more)
    settle(empty)
    (one,) = choices.frames.rows
    assert empty.document.study.choices.frames[0].rate == -5.0, "against the rest, as a second rotor does"
    one.blocks._fill()
    second = next(a for a in one.blocks.list.actions() if a.text() == empty.document.flow.blocks[1].name)
    second.trigger()
    type_into(one.rate, "-7")
    type_into(one.axis[2], "1")
    type_into(one.axis[0], "0")
    settle(empty)
    frame = empty.document.study.choices.frames[0]
    assert (frame.blocks, frame.axis, frame.rate) == ((empty.document.flow.blocks[1].name,), (0.0, 0.0, 1.0), -7.0)
    rate = empty.document.evaluator.store.values("turning-rate")
    assert rate[[0, -1]] == pytest.approx([5.0, -7.0])
    keys(empty.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    keys(empty.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(empty)
    assert empty.document.study.choices.frames[0].axis == (1.0, 0.0, 0.0)
    click(one.away)
    settle(empty)
    assert empty.document.study.choices.frames == ()
    assert empty.document.evaluator.store.values("turning-rate")[-1] == 5.0


def test_a_card_that_is_coloured_while_passages_are_said_keeps_its_key(opened, monkeypatch):
    """What it rests on does not change, but who keeps its ranges does."""
    document = opened.document
    opened.act("add-slice-x")  # chosen: the panel of the chosen card asks for its range by itself
    settle(opened)
    layer = document.study.layers[0]
    assert layer.kind == "wall"
    said, whole = threading.Event(), Evaluator.evaluate

    def waiting(self, *args, **more):
        said.wait(20)
        return whole(self, *args, **more)

    monkeypatch.setattr(Evaluator, "evaluate", waiting)
    document.edit_layer(layer.with_(look=layer.look.with_(colour_by="file:Density")), "Colour")
    document.edit(document.study.with_(passages_shown=3), "Passages")
    said.set()
    settle(opened)
    assert document.key("file:Density") is not None
    scene = opened.view.scenery.scene(document.asking.table(), "#FFFFFF", "#000000")
    assert next(i for i in scene.items if i.id == layer.id).colours is not None
