"""Two results side by side: views with one camera, differences, numbers beside numbers, meshes, the wipe; by real events."""

import threading
import time

import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QPointF, Qt

from driving import click, differing, drag, keys, pick, pixels, settle, type_into, wait
from making import cube_flow
from small_series import series
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.formats.export import save_flow
from tidal_lens.formats.written import FlowData
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui


def written(path, n, kind="structured", warp=0.0, more=0.0, **made):
    """A box of flow with a wall below: pressure x + more x²."""
    flow = cube_flow(n, kind, warp, velocity=lambda p: np.column_stack([1 + 0 * p[:, 0], 0.1 * p[:, 2], 0 * p[:, 0]]),
                     Pressure=lambda p: p[:, 0] + more * p[:, 0] ** 2, Density=lambda p: 1 + 0 * p[:, 0])
    low = flow.outside.faces[(np.abs(flow.points[flow.outside.faces][:, :, 2]) < 1e-9).all(axis=1)]
    flow = type(flow)(**{**{f: getattr(flow, f) for f in flow.__dataclass_fields__}, **made,
                         "boundaries": (boundary_of_faces("floor", "wall", flow.points, low),)})
    save_flow(path, FlowData(flow, {name: f.values for name, f in flow.fields.items()}, {}))
    return path


@pytest.fixture
def opened(empty, tmp_path):
    """The first, a coarser one beside it, and the Measure station."""
    empty.document.open_path(written(tmp_path / "fine.cgns", 13))
    settle(empty)
    empty.show_station("measure")
    return empty


def beside(window, path):
    window.act("beside", str(path))
    wait(lambda: all(c.flow is not None or c.trouble for c in window.document.beside.cases.values()), "the other case")
    settle(window)


def test_every_card_is_made_for_a_second_case_and_both_are_seen_from_one_place(opened, tmp_path):
    window, document = opened, opened.document
    window.act("add-slice-y")
    settle(window)
    window.cards.colour_by("file:Pressure")
    settle(window)
    alone = window.view.width()
    beside(window, written(tmp_path / "other.cgns", 9, "tetrahedra", more=1.0))
    assert list(window.views.others) == [1]
    other = window.views.others[1]
    assert window.view.width() < 0.55 * alone
    assert other.width() == pytest.approx(window.view.width(), abs=4)
    there = document.beside.cases[1]
    for layer in document.study.layers:
        assert there.asking.results[layer.id].layer.shape == document.asking.results[layer.id].layer.shape
    own = document.asking.results[document.chosen]
    made = there.asking.results[document.chosen]
    assert made.colours.max() == pytest.approx(2.0, abs=1e-3)
    assert own.colours.max() == pytest.approx(1.0, abs=1e-3)
    low, high = document.key("file:Pressure")[1:]
    scene = window.view.scenery.scene(document.asking.table(), "#FFFFFF", "#000000")
    second = other.scenery.scene(there.asking.table(), "#FFFFFF", "#000000")
    ranges = [next(i.colours for i in s.items if i.id == document.chosen) for s in (scene, second)]
    assert (ranges[0].low, ranges[0].high) == (ranges[1].low, ranges[1].high) == (low, high), "one key"
    before = document.camera
    drag(other, QPointF(80, 200), QPointF(160, 240))
    settle(window)
    assert document.camera is not before
    assert window.view.shown_camera is document.camera
    assert other.shown_camera is document.camera
    document.choose(document.study.layers[0].id)
    assert "fine" in str(document.study.case_titles)


def test_undo_takes_the_case_away_and_brings_it_back(opened, tmp_path):
    window, document = opened, opened.document
    camera = document.camera.distance
    beside(window, written(tmp_path / "other.cgns", 7))
    assert document.camera.distance > 1.5 * camera, "as much is seen in half of the width"
    keys(window.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(window)
    assert document.study.others == ()
    assert not window.views.others
    assert document.camera.distance == pytest.approx(camera)
    keys(window.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    wait(lambda: 1 in document.beside.cases and document.beside.cases[1].flow is not None, "it again")
    settle(window)
    assert list(window.views.others) == [1]


def test_the_difference_is_a_quantity_that_the_chosen_card_is_coloured_by(opened, tmp_path):
    window, document = opened, opened.document
    beside(window, written(tmp_path / "other.cgns", 17, "tetrahedra", more=1.0))
    window.act("add-slice-z")
    settle(window)
    window.cards.colour_by("file:Pressure")
    settle(window)
    click(window.bench.pages["measure"].tiles["difference"])
    settle(window)
    layer = document.chosen_layer
    assert layer.look.colour_by == "formula:difference_in_Pressure"
    result = document.asking.results[layer.id]
    assert result.colours == pytest.approx(result.geometry.points[:, 0] ** 2, abs=5e-3)
    assert document.evaluator.store.describe(layer.look.colour_by).title == "Δ Pressure"
    there = document.beside.cases[1].asking
    assert layer.id not in there.failures
    assert there.results[layer.id].colours is None, "a difference is drawn on the first"
    told = []
    document.noticed.connect(told.append)
    click(window.bench.pages["measure"].tiles["difference"])
    assert "difference already" in told[-1].text
    keys(window.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(window)
    assert document.study.formulas == ()
    window.act("add-volume")
    settle(window)
    window.act("difference", "file:Pressure")
    settle(window)
    shape = document.chosen_layer.shape
    document.edit_layer(document.chosen_layer.with_(shape=shape.with_(quantity="formula:difference_in_Pressure")), "Of the difference")
    settle(window)
    rows = {r[0]: r[1] for r in document.asking.results[document.chosen].unmasked.tables[1].rows}
    assert rows["greatest"] == pytest.approx(1.0, abs=1e-6)
    assert rows["greatest at x"] == pytest.approx(1.0)
    assert rows["root of the mean square by volume"] == pytest.approx(np.sqrt(1 / 5), abs=0.01)


def test_numbers_and_curves_stand_beside_one_another(opened, tmp_path):
    window, document = opened, opened.document
    beside(window, written(tmp_path / "coarse.cgns", 7, more=0.3))
    click(window.bench.pages["measure"].tiles["add-volume"])
    settle(window)
    entry = window.ledger.beside
    assert entry.isVisible()
    table = entry.tables()[0]
    assert table.heads == ("what", "fine", "coarse", "coarse less fine", "coarse [%]")
    rows = {r[0]: r[1:] for r in table.rows}
    mean = rows["mean by volume"]
    exact = document.chosen_layer.shape.quantity
    assert exact in ("file:Pressure", "speed", "pressure-coefficient", "mach"), exact
    assert mean[2] == pytest.approx(mean[1] - mean[0])
    assert "%" in entry.numbers.text()
    chart = window.ledger.measure.charts[0].chart
    assert {c.name for c in chart.curves} == {f"by {w}, {t}" for w in ("volume", "mass") for t in ("fine", "coarse")}
    window.act("save-beside", str(tmp_path / "both.csv"))
    settle(window)
    wait((tmp_path / "both.csv").exists, "the file")
    assert (tmp_path / "both.csv").read_text().splitlines()[0].startswith("what,fine,coarse")


def test_three_meshes_give_order_limit_and_index(opened, tmp_path):
    """The root of the mean square of x, whose error falls with the square of the cells as the mean of linear cells."""
    window, document = opened, opened.document
    beside(window, written(tmp_path / "middle.cgns", 7))
    beside(window, written(tmp_path / "coarse.cgns", 4))
    assert sorted(window.views.others) == [1, 2]
    document.edit(document.study.with_(formulas=({"name": "sq", "text": "x * x"},)), "Formula")
    settle(window)
    window.act("add-volume")
    settle(window)
    document.edit_layer(document.chosen_layer.with_(shape=document.chosen_layer.shape.with_(quantity="formula:sq")), "Of it")
    settle(window)
    click(window.ledger.beside.study)
    settle(window)
    rows = {r[0]: r[1:] for r in window.ledger.beside.meshes.rows}
    *values, order, limit, index, verdict = rows["mean by volume"]
    assert verdict == "converges"
    assert order == pytest.approx(2.0, abs=0.02)
    assert limit == pytest.approx(1 / 3, abs=1e-4)
    assert index == pytest.approx(125 * abs(values[0] - limit) / values[0], rel=0.02)
    assert "order" in window.ledger.beside.told.text()


def test_the_divider_of_the_wipe_is_dragged(opened, tmp_path):
    window, document = opened, opened.document
    window.act("add-slice-y")
    settle(window)
    window.cards.colour_by("file:Pressure")
    beside(window, written(tmp_path / "other.cgns", 9, more=-0.9))
    before = pixels(window.view)
    click(window.bench.pages["measure"].beside.how.button("wipe"))
    settle(window)
    assert document.study.beside == "wipe"
    assert not window.views.others
    half = pixels(window.view)
    assert half.shape != before.shape
    view = window.view
    drag(view, QPointF(0.5 * view.width(), 30), QPointF(0.9 * view.width(), 30))
    settle(window)
    assert document.study.divider == pytest.approx(0.9, abs=0.02)
    moved = pixels(window.view)
    middle = slice(int(0.55 * view.width()), int(0.85 * view.width()))
    assert differing(half[:, middle], moved[:, middle]) > 0.02, "there the first is seen now"
    left = slice(0, int(0.4 * view.width()))
    assert differing(half[:, left], moved[:, left]) < 0.01
    keys(view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(window)
    assert document.study.divider == 0.5


def test_a_picture_shows_both_cases_as_the_views_do(opened, tmp_path):
    window, document = opened, opened.document
    beside(window, written(tmp_path / "other.cgns", 7, more=5.0))
    window.act("add-slice-y")
    settle(window)
    window.cards.colour_by("file:Pressure")
    document.edit(document.study.with_(picture=document.study.picture.with_(wide=600, tall=300)), "Size")
    settle(window)
    window.act("save-picture", str(tmp_path / "both.png"))
    settle(window)
    with Image.open(tmp_path / "both.png") as image:
        both = np.asarray(image.convert("RGB")).astype(int)
    assert both.shape == (300, 600, 3)
    ground = both[-3, 3]
    drawn = [(np.abs(both[:, a:a + 290] - ground).max(axis=-1) > 12).mean() for a in (0, 305)]
    assert min(drawn) > 0.03
    assert (np.abs(both[120:, :290] - both[120:, 305:595]).max(axis=-1) > 12).mean() > 0.01, "each of its own case"


def test_cards_are_taken_apart_and_set_by_themselves(opened, tmp_path):
    window, document = opened, opened.document
    window.act("add-slice-x")
    beside(window, written(tmp_path / "other.cgns", 7))
    case = window.bench.card.case
    assert case.isVisible()
    count = len(document.study.layers)
    click(case.apart)
    settle(window)
    assert len(document.study.layers) == count + 1
    own, other = document.study.layers[-2:]
    assert (own.case, other.case) == (0, 1)
    assert other.name.endswith("other")
    assert other.id not in document.asking.results
    assert own.id not in document.beside.cases[1].asking.results
    document.choose(other.id)
    settle(window)
    assert case.of.currentText() == "other"
    pick(case.of, "all cases")
    settle(window)
    assert document.study.layer(other.id).case is None
    assert other.id in document.asking.results


def test_a_case_in_unknown_units_is_refused_unless_said_to_be_the_same(empty, tmp_path):
    first = written(tmp_path / "known.cgns", 7, si_units=True)
    second = written(tmp_path / "unknown.cgns", 7)
    empty.document.open_path(first)
    settle(empty)
    told = []
    empty.document.noticed.connect(told.append)
    beside(empty, second)
    one = empty.document.beside.cases[1]
    assert one.flow is None
    assert "units" in one.trouble
    notice = next(n for n in told if n.actions)
    assert notice.actions[0][0] == "Its units are the same"
    notice.actions[0][1]()
    wait(lambda: empty.document.beside.cases[1].flow is not None, "the case")
    settle(empty)
    assert empty.document.study.others[0].anyway


def test_what_cannot_be_opened_is_told_in_its_view_and_taken_away(opened, tmp_path):
    window, document = opened, opened.document
    (tmp_path / "broken.cgns").write_text("nothing")
    beside(window, tmp_path / "broken.cgns")
    assert document.beside.cases[1].trouble
    settle(window)
    controls = window.bench.pages["measure"].beside
    assert controls.isVisible()
    click(controls.rows[0].away)
    settle(window)
    assert document.study.others == ()
    assert not controls.isVisible()
    for n in range(3):
        beside(window, written(tmp_path / f"o{n}.cgns", 4))
    told = []
    document.noticed.connect(lambda n: told.append(n.text))
    window.act("beside", str(tmp_path / "o0.cgns"))
    assert len(document.study.others) == 3
    assert "4 cases" in told[-1]


def test_steps_of_two_series_go_together_by_time_phase_or_number(empty, tmp_path):
    a, b = tmp_path / "a", tmp_path / "b"
    for folder in (a, b):
        folder.mkdir()
    first, _ = series(a, (0.0, 0.5, 1.5, 2.5))
    second, _ = series(b, (0.0, 0.4, 0.9, 1.4, 1.9, 2.4, 2.9))
    document = empty.document
    document.open_path(first)
    settle(empty)
    empty.show_station("measure")
    beside(empty, second)
    other = document.beside.cases[1]
    times = document.flow.times, other.flow.times
    document.go_to_step(3)
    settle(empty)
    wait(lambda: other.is_right, "its step")
    assert times[1][other.flow.step] == pytest.approx(times[0][3], abs=0.51 * np.diff(times[1]).max())
    controls = empty.bench.pages["measure"].beside.rows[0]
    assert controls.steps.isVisible()
    pick(controls.by, "same number")
    settle(empty)
    assert other.flow.step == 3
    type_into(controls.shift, "2")
    settle(empty)
    assert other.flow.step == 5
    pick(controls.by, "same phase")
    type_into(controls.shift, "0")
    settle(empty)
    assert other.flow.step in (5, 6)
    assert document.flow.step == 3


def test_a_study_with_two_cases_is_saved_and_opened(opened, tmp_path):
    window, document = opened, opened.document
    beside(window, written(tmp_path / "other.cgns", 7, more=1.0))
    window.act("add-slice-y")
    settle(window)
    window.cards.colour_by("file:Pressure")
    window.act("difference")
    settle(window)
    eye = document.camera.eye
    window.act("save-as", str(tmp_path / "split.tidal"))
    document.open_path(tmp_path / "split.tidal")
    wait(lambda: 1 in document.beside.cases and document.beside.cases[1].flow is not None, "both")
    settle(window)
    assert list(window.views.others) == [1]
    assert document.camera.eye == pytest.approx(eye), "from where it was seen"
    window.act("cases-shown", "wipe")
    settle(window)
    window.act("save-as", str(tmp_path / "both.tidal"))
    study = load_study(tmp_path / "both.tidal")
    assert study.others[0].path == str((tmp_path / "other.cgns").resolve())
    assert "other.cgns" in (tmp_path / "both.tidal").read_text()
    assert str(tmp_path) not in (tmp_path / "both.tidal").read_text(), "paths are beside the study's"
    document.open_path(tmp_path / "both.tidal")
    wait(lambda: 1 in document.beside.cases and document.beside.cases[1].flow is not None, "both")
    settle(window)
    assert document.study.beside == "wipe"
    layer = document.study.layers[-1]
    result = document.asking.results[layer.id]
    assert result.colours == pytest.approx(result.geometry.points[:, 0] ** 2, abs=0.03)


def test_masks_hide_the_same_in_all_cases(opened, tmp_path):
    window, document = opened, opened.document
    window.act("add-slice-y")
    beside(window, written(tmp_path / "other.cgns", 9, "tetrahedra"))
    cut = document.chosen
    window.act("add-mask")
    settle(window)
    mask = document.chosen_layer
    document.edit_layer(mask.with_(shape=mask.shape.with_(conditions=({"quantity": "place-x", "keep": "below", "value": 0.4},))), "Mask")
    settle(window)
    for asking in (document.asking, document.beside.cases[1].asking):
        assert asking.results[cut].geometry.points[:, 0].max() == pytest.approx(0.4, abs=1e-6)
    document.edit_layer(document.chosen_layer.with_(case=1), "Of the second")
    settle(window)
    assert document.asking.results[cut].geometry.points[:, 0].max() == pytest.approx(1.0)
    assert document.beside.cases[1].asking.results[cut].geometry.points[:, 0].max() == pytest.approx(0.4, abs=1e-6)


def test_what_cannot_be_made_in_the_other_case_is_told_in_its_view(opened, tmp_path):
    window, document = opened, opened.document
    beside(window, written(tmp_path / "other.cgns", 6))
    window.act("add-slice-y")
    settle(window)
    window.cards.colour_by("file:Pressure")
    window.act("difference")
    settle(window)
    window.act("add-isosurface", "formula:difference_in_Pressure")
    settle(window)
    other = window.views.others[1]
    layer = document.chosen_layer
    assert layer.id in document.beside.cases[1].asking.failures
    assert any(layer.name in text for text in other.troubles())
    assert window.view.troubles() == []


def test_what_is_cancelled_in_the_other_case_is_computed_again(opened, tmp_path):
    window, document = opened, opened.document
    beside(window, written(tmp_path / "other.cgns", 9))
    evaluator = document.beside.cases[1].evaluator
    asking, real = document.beside.cases[1].asking, evaluator.evaluate
    started = threading.Event()

    def endless(layer, token, study, *, draft=False):
        started.set()
        while True:
            token.check()
            time.sleep(0.01)

    evaluator.evaluate = endless
    window.act("add-slice-y")
    wait(started.is_set, "the other case's work")
    wait(lambda: document.chosen in document.asking.results, "the first case's card")
    click(window.status.cancel)
    wait(lambda: not document.jobs.is_busy(), "the cancel", 5)
    evaluator.evaluate = real
    assert document.chosen not in asking.results
    keys(window, Qt.Key.Key_F5)
    settle(window)
    assert document.chosen in asking.results
