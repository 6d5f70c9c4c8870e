"""Time series in the window: buttons, keys, slider, playing, undo, a step that is missing."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QStyle, QStyleOptionSlider

from driving import click, drag, keys, pixels, settle, type_into, wait
from making import cube_points
from small_series import series
from tidal_lens.app.jobs import Slot
from tidal_lens.formats.vtk_write import StructuredPiece, write_structured
from tidal_lens.quantities.store import FILE

DENSITY = f"{FILE}Density"


@pytest.fixture
def run(empty, tmp_path):
    """A window with a small time series."""
    path, _ = series(tmp_path, times=(0.0, 0.5, 1.5, 2.0, 4.0))
    empty.document.open_path(path)
    settle(empty)
    return empty


def at(window, step):
    wait(lambda: window.document.flow.step == step and window.document.study.step == step, f"step {step + 1}", 20)
    settle(window)


def shown_density(window):
    layer = next(x for x in window.document.study.layers if x.kind == "slice")
    result = window.document.asking.results[layer.id]
    assert result.layer.look.colour_by == DENSITY
    return float(result.colours.mean())


def colour_by_density(window):
    layer = next(x for x in window.document.study.layers if x.kind == "slice")
    window.document.choose(layer.id)
    window.act("colour-by", DENSITY)
    settle(window)


def test_steady_flow_has_no_transport(window):
    assert not window.top.transport.isVisible()
    window.act("step-on")
    assert window.document.study.step == 0


def test_buttons_and_keys_go_through_the_steps(run):
    transport = run.top.transport
    assert transport.isVisible()
    assert transport.time.text().startswith("1 of 5")
    colour_by_density(run)
    begin = shown_density(run)
    click(transport.on)
    at(run, 1)
    assert shown_density(run) == pytest.approx(begin + 0.5, abs=1e-6)
    assert "0.5 s" in transport.time.text()
    click(transport.back)
    at(run, 0)
    assert shown_density(run) == pytest.approx(begin, abs=1e-9)
    keys(run.view, Qt.Key.Key_Slash)
    at(run, 1)
    keys(run.view, Qt.Key.Key_Comma, Qt.Key.Key_Comma)
    at(run, 4)  # before the first comes the last
    assert shown_density(run) == pytest.approx(begin + 4.0, abs=1e-6)


def test_the_slider_is_one_step_of_undo(run):
    transport = run.top.transport
    slider = transport.slider
    option = QStyleOptionSlider()
    slider.initStyleOption(option)
    handle = slider.style().subControlRect(QStyle.ComplexControl.CC_Slider, option, QStyle.SubControl.SC_SliderHandle, slider)
    begin = QPointF(handle.center())
    drag(slider, begin, begin + QPointF(slider.width() * 0.8, 0.0), steps=8)
    wait(lambda: run.document.study.step >= 3, "the slider", 10)
    there = run.document.study.step
    at(run, there)
    run.act("undo")
    at(run, 0)
    assert transport.slider.value() == 0
    run.act("redo")
    at(run, there)


def test_the_key_keeps_its_range_over_time(run):
    colour_by_density(run)
    _, low, high = run.document.key(DENSITY)
    before = pixels(run.view)
    click(run.top.transport.on)
    at(run, 1)
    assert run.document.key(DENSITY)[1:] == (low, high)
    assert np.abs(pixels(run.view) - before).max() > 20  # another time looks different


def test_playing_shows_every_step_and_stops(run):
    seen = []
    run.document.step_changed.connect(lambda: seen.append(run.document.flow.step))
    click(run.top.transport.play)
    assert run.top.transport.is_playing
    wait(lambda: len(seen) >= 7, "playing", 40)
    QTest.mouseClick(run.top.transport.play, Qt.MouseButton.LeftButton)
    assert not run.top.transport.is_playing
    assert seen[:7] == [1, 2, 3, 4, 0, 1, 2]
    settle(run)
    run.act("undo")
    at(run, 0)  # all of it was one step of undo
    assert not run.document.undo_what


def test_a_missing_step_is_told_and_passed_over(run):
    (run.document.flow.path.parent / "run 03.cgns").unlink()
    run.document.jobs.cancel(Slot("ahead"))
    click(run.top.transport.on)
    at(run, 1)
    click(run.top.transport.on)
    wait(run.strips.live, "a notice", 20)
    assert "Step 3 is passed over" in run.strips.live()[0].notice.text
    assert run.document.clock.broken_steps == {2}
    slider = run.top.transport.slider
    marked = pixels(slider)[2:7, 6 + (slider.width() - 12) * 2 // 4 - 2: 6 + (slider.width() - 12) * 2 // 4 + 3]
    assert (marked[..., 0] - marked[..., 1]).max() > 60, "the step is marked in red"
    assert run.document.study.step == run.document.flow.step == 1
    click(run.top.transport.on)
    at(run, 3)
    click(run.top.transport.back)
    at(run, 1)


def test_a_study_holds_its_time(run, tmp_path):
    run.document.go_to_step(3)
    at(run, 3)
    study = tmp_path / "late.tidal"
    assert run.document.save(study)
    assert '"step": 3' in study.read_text()
    run.document.go_to_step(0)
    at(run, 0)
    run.document.open_path(study)
    wait(lambda: run.document.file == study, "the study", 20)
    at(run, 3)
    assert run.top.transport.time.text().startswith("4 of 5")


def test_a_study_of_a_longer_series_opens_at_its_last_step(run, tmp_path):
    study = tmp_path / "late.tidal"
    assert run.document.save(study)
    study.write_text(study.read_text().replace('"step": 0', '"step": 900'))
    run.document.open_path(study)
    wait(lambda: run.document.file == study, "the study", 20)
    at(run, 4)


def test_lines_and_surfaces_follow_the_time(run):
    run.act("add-streamlines")
    settle(run)
    lines = run.document.asking.results[run.document.chosen]
    click(run.top.transport.on)
    at(run, 1)
    again = run.document.asking.results[run.document.chosen]
    assert again is not lines
    assert again.geometry.n_lines == lines.geometry.n_lines  # the velocity is the same at all times
    assert np.allclose(again.geometry.lengths, lines.geometry.lengths)


def test_numbered_files_are_offered_as_a_series(empty, tmp_path):
    points = cube_points(5)
    for n in (1, 2, 3):
        fields = {"Velocity": np.tile([1.0, 0, 0], (125, 1)), "Density": np.full(125, float(n))}
        write_structured(tmp_path / f"flow_{n:03d}.vts", StructuredPiece("b", (5, 5, 5), points, fields), {})
    empty.document.open_path(tmp_path / "flow_002.vts")
    wait(empty.strips.live, "the offer", 20)
    settle(empty)
    assert not empty.top.transport.isVisible()
    strip = empty.strips.live()[0]
    assert "3 files" in strip.notice.text
    click(strip.buttons[0])
    wait(lambda: len(empty.document.clock.times) == 3, "the series", 20)
    at(empty, 1)
    assert empty.document.flow.fields["Density"].values.max() == 2.0
    click(empty.top.transport.on)
    at(empty, 2)
    assert empty.document.flow.fields["Density"].values.max() == 3.0
    study = tmp_path / "views.tidal"
    assert empty.document.save(study)
    empty.document.open_path(study)
    wait(lambda: empty.document.file == study, "the study", 20)
    at(empty, 2)
    assert empty.document.clock.times == (1.0, 2.0, 3.0)


@pytest.mark.gui
def test_a_step_is_jumped_to_by_its_number_or_its_time(run):
    transport = run.top.transport
    type_into(transport.time, "4")
    wait(lambda: run.document.flow.step == 3, "the fourth step")
    assert transport.time.text().startswith("4 of 5")
    times = run.document.clock.times
    type_into(transport.time, f"t = {times[1] + 0.1 * (times[2] - times[1])}")
    wait(lambda: run.document.flow.step == 1, "the nearest step")
    type_into(transport.time, "nowhere")
    assert transport.time.text().startswith("2 of 5")
    assert run.document.study.step == 1
    run.document.undo()
    wait(lambda: run.document.flow.step == 3, "undo")


def test_steps_are_left_out_and_taken_in_again(run):
    """Of five steps every second from the second on: what is shown stays or the one before it is shown, the transport knows two."""
    document, reading = run.document, run.bench.pages["case"].reading
    click(run.rail.buttons["case"])
    settle(run)
    click(reading.section.head)
    settle(run)
    assert reading.steps.isVisible()
    assert reading.last.text() == "5"
    document.go_to_step(4)
    at(run, 4)
    colour_by_density(run)
    type_into(reading.first, "2")
    type_into(reading.each, "2")
    click(reading.again)
    wait(lambda: document.clock.times == (0.5, 2.0), "two steps")
    at(run, 1)
    assert document.flow.fields["Density"].values[0] == pytest.approx(1.0 + 2.0)
    assert reading.section.title == "What is read: a part"
    document.undo()
    wait(lambda: document.clock.times == (0.0, 0.5, 1.5, 2.0, 4.0), "undo")
    at(run, 4)
    assert document.flow.fields["Density"].values[0] == pytest.approx(1.0 + 4.0)


@pytest.mark.gui
def test_a_card_is_shown_at_several_steps(run):
    strip, document = run.over_time, run.document
    colour_by_density(run)
    run.view.setFocus()
    keys(run.view, Qt.Key.Key_T)
    assert strip.isVisible()
    assert [m.step for m in strip.moments] == [0, 1, 2, 3, 4]
    wait(lambda: all(m.image is not None for m in strip.moments), "the pictures")
    shown = [m.image.copy() for m in strip.moments]
    assert shown[0] != shown[2], "the density grows, and one key serves all"
    assert shown[2] != shown[4]
    click(strip.moments[2])
    at(run, 2)
    assert document.undo_what == "Time"
    keys(strip.moments[4], Qt.Key.Key_Return)
    at(run, 4)

    # Another card, another colour: drawn anew; the steps stay the same.
    run.act("colour-by", "speed")
    settle(run)
    wait(lambda: all(m.image is not None and m.image != old for m, old in zip(strip.moments, shown, strict=True)), "the new pictures")
    document.choose(None)
    wait(lambda: not strip.moments, "no card, no strip")
    run.act("over-time")
    assert not strip.isVisible()


@pytest.mark.gui
def test_a_moment_that_is_not_there_is_told(empty, tmp_path):
    for n in range(3):
        points = cube_points(4)
        fields = {"U": np.tile([1.0, 0, 0], (64, 1)), "p": points[:, 0] + n}
        write_structured(tmp_path / f"a_{n}.vts", StructuredPiece("a", (4, 4, 4), points, fields), {})
    empty.document.open_path(tmp_path / "a_0.vts", numbered=True)
    settle(empty)
    (tmp_path / "a_1.vts").write_text("nothing")
    colour_of = next(x for x in empty.document.study.layers if x.kind == "slice")
    empty.document.choose(colour_of.id)
    empty.act("over-time")
    strip = empty.over_time
    wait(lambda: strip.moments and strip.moments[1].trouble and strip.moments[2].image is not None, "the trouble")
    assert "a_1.vts" in strip.moments[1].toolTip()
