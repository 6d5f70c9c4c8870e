"""What did not change is never worked out again, what changed is never shown stale, and no wish is lost."""

import threading
from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridWriter

from driving import drag, move, settle, spin, wait
from making import cells_of, cube_points
from small_series import series
from tidal_lens.app.jobs import Slot
from tidal_lens.errors import TidalLensError
from tidal_lens.flow.grid import UnstructuredGrid
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.files import load_study, save_study
from tidal_lens.study.kinds import isosurface, streamlines
from tidal_lens.study.kinds import slice as slices
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.model import Layer, Reference
from tidal_lens.work import Token
from vtk_data import add, to_unstructured, write


def uneven_cells(tmp_path, n=9):
    """A turning flow with cell values, on cells that grow: means at nodes depend on how they are taken."""
    points = cube_points(n) ** 2
    corners, types = cells_of("hexahedra", n)
    data = to_unstructured(points, UnstructuredGrid(n**3, corners, types))
    middle = points[corners].mean(axis=1)
    velocity = np.column_stack([1 + 0 * middle[:, 0], np.sin(9 * middle[:, 0]), np.cos(7 * middle[:, 1])])
    add(data.GetCellData(), "Velocity", velocity)
    add(data.GetCellData(), "p", middle[:, 0])
    write(vtkXMLUnstructuredGridWriter(), data, tmp_path / "cells.vtu")
    return tmp_path / "cells.vtu"


def opened(window, path):
    window.document.open_path(path)
    wait(lambda: window.document.flow is not None and window.document.flow.path.name == path.name, "the case")
    settle(window)


def test_lines_follow_another_averaging_of_cell_values(empty, tmp_path):
    opened(empty, uneven_cells(tmp_path))
    document = empty.document
    empty.act("add-streamlines")
    settle(empty)
    layer = document.chosen_layer
    before = document.asking.results[layer.id].geometry
    document.edit(document.study.with_(choices=document.study.choices.with_(averaging="distance")), "Averaging")
    settle(empty)
    after = document.asking.results[layer.id].geometry
    alone = Evaluator(document.flow, document.evaluator.store.reference, document.evaluator.store.methods)
    right = alone.evaluate(layer, Token()).geometry
    assert not np.array_equal(before.points, right.points), "it makes a difference here"
    assert np.array_equal(after.points, right.points)


def test_another_reference_while_a_card_computes_loses_nothing(window, monkeypatch):
    document = window.document
    gate, begun = threading.Event(), threading.Event()
    whole = slices.plane_cut

    def slow(*args):
        begun.set()
        gate.wait(20)
        return whole(*args)

    monkeypatch.setattr(slices, "plane_cut", slow)
    window.act("add-slice-x")
    layer = document.chosen_layer
    document.edit_layer(layer.with_(look=layer.look.with_(colour_by="speed")), "Colour")
    wait(begun.is_set, "the work to begin")
    document.edit(document.study.with_(reference=Reference(pressure=9e4, density=1.1, velocity=(200.0, 0.0, 0.0))), "Reference")
    gate.set()
    settle(window)
    result = document.asking.results[layer.id]
    assert len(result.geometry.faces) > 0
    assert layer.id not in document.asking.failures
    assert result.layer.look.colour_by == "speed"


def test_recolouring_after_a_long_drag_of_another_card_works_no_shape_out_again(window, monkeypatch):
    document = window.document
    window.act("add-streamlines")
    settle(window)
    lines = document.chosen_layer
    made = []
    whole = streamlines.trace_lines
    monkeypatch.setattr(streamlines, "trace_lines", lambda *a, **k: (made.append(1), whole(*a, **k))[1])
    window.act("add-slice-x")
    settle(window)
    bead = window.view.handles.bead_at("slice")
    drag(window.view, bead, bead + QPointF(90, 20), steps=70)
    settle(window)
    document.choose(lines.id)
    before = document.asking.results[lines.id].geometry
    window.act("colour-by", "speed")
    settle(window)
    assert document.asking.results[lines.id].layer.look.colour_by == "speed"
    assert document.asking.results[lines.id].geometry is before
    assert not made


def range_of(document, name="file:Density"):
    document.asking.ask_quantity(name)
    wait(lambda: document.key(name) is not None and not document.jobs.is_busy(), "the key")
    return document.key(name)[1:]


def test_a_key_of_a_series_is_the_same_at_whatever_step_the_study_is_opened(empty, tmp_path):
    path, _ = series(tmp_path)
    opened(empty, path)
    document = empty.document
    first = range_of(document)
    document.go_to_step(2)
    settle(empty)
    assert range_of(document) == first
    alone = document.evaluator.store.distribution("file:Density").usual
    assert not np.allclose(alone, first, rtol=0.02), "by itself this step would have another"
    file = tmp_path / "a.tidal"
    save_study(document.study, file)
    assert load_study(file).step == 2
    document.open_path(file)
    wait(lambda: document.file == file, "the study")
    settle(empty)
    assert range_of(document) == first
    assert not document.is_changed, "seeing a range is no edit"


def test_a_formula_of_another_text_has_another_range(empty, tmp_path):
    from tidal_lens.study.formulas import with_formula

    path, _ = series(tmp_path)
    opened(empty, path)
    document = empty.document

    def with_text(text):
        document.edit(with_formula(document.study, "mine", text), "Formula")
        settle(empty)
        return range_of(document, "formula:mine")

    first, second = with_text("density"), with_text("1000 * density")
    assert second[1] == pytest.approx(1000 * first[1], rel=0.02)
    document.undo()
    settle(empty)
    assert range_of(document, "formula:mine") == first


def test_a_range_survives_that_something_else_is_said_for_a_while(empty, tmp_path):
    path, _ = series(tmp_path)
    opened(empty, path)
    document = empty.document
    first = range_of(document, "cp")
    document.go_to_step(2)
    settle(empty)
    document.edit(document.study.with_(reference=Reference(pressure=1.0, density=1.0, velocity=(1.0, 0.0, 0.0))), "Reference")
    settle(empty)
    assert range_of(document, "cp") != first
    document.undo()
    settle(empty)
    assert range_of(document, "cp") == first, "not that of the step at which it is seen again"


def test_a_range_is_not_taken_from_a_flow_that_is_not_yet_as_the_user_says(empty, tmp_path):
    path, _ = series(tmp_path)
    opened(empty, path)
    document = empty.document
    settle(empty)
    document.asking.ask_quantity("speed")
    wait(lambda: document.key("speed") is not None and not document.jobs.is_busy(), "the key")
    first = document.study.ranges["speed"]
    document.edit(document.study.with_(roles={"velocity": ("VelocityZ", "VelocityZ", "VelocityZ")}), "Roles")
    document.key("speed")  # as painting does, while the flow is being made anew
    assert document.study.ranges["speed"] == first
    settle(empty)
    assert range_of(document, "speed")[1] != first[0].high


def test_ids_are_never_used_again(window):
    document = window.document
    given = set()
    for _ in range(3):
        window.act("add-slice-x")
        assert document.chosen not in given
        given.add(document.chosen)
        window.act("remove")
    window.act("add-slice-x")
    undone = document.chosen
    window.act("undo")
    window.act("add-slice-y")
    assert document.chosen not in {undone, *given}, "not that of one that was undone either"


def test_a_card_may_be_called_like_a_piece_of_work(window):
    document = window.document
    shape = slices.SliceShape(axis=0, position=1.0)
    for name in ("step", "case", "export", "outline"):
        layer = Layer(id=name, name=name, shape=shape, look=SurfaceLook())
        document.edit(document.study.adding(layer), "Add")
    settle(window)
    for name in ("step", "case", "export", "outline"):
        assert len(document.asking.results[name].geometry.faces) > 0
    document.open_path(document.flow.path)
    wait(lambda: len(document.study.layers) == 2, "the case opened again")
    settle(window)


def test_isosurfaces_added_one_upon_another_are_all_there(window):
    document = window.document
    before = len(document.study.layers)
    window.act("add-isosurface", "mach")
    settle(window)
    chosen = document.chosen
    window.act("add-isosurface", "speed")
    window.act("add-isosurface", "q")
    controls = window.bench.card.controls["isosurface"]
    document.choose(chosen)
    controls._change("cp")
    wait(lambda: len(document.study.layers) == before + 3, "three surfaces")
    settle(window)
    assert {layer.shape.quantity for layer in document.study.layers[before:]} == {"cp", "speed", "q"}


def test_a_late_failure_of_an_older_wish_says_nothing(window, monkeypatch):
    document = window.document
    window.act("add-slice-x")
    settle(window)
    layer = document.chosen_layer
    whole = slices.plane_cut
    gate = threading.Event()

    def failing(flow, point, direction, token, blocks):
        if point[0] == 0.123:
            gate.wait(20)
            raise TidalLensError("Not here.", "there")
        return whole(flow, point, direction, token, blocks)

    monkeypatch.setattr(slices, "plane_cut", failing)
    document.edit_layer(layer.with_(shape=layer.shape.with_(position=0.123)), "Move")
    document.edit_layer(layer.with_(shape=layer.shape.with_(position=0.5)), "Move")
    gate.set()
    settle(window)
    assert layer.id not in document.asking.failures
    assert document.asking.results[layer.id].layer.shape.position == 0.5


def test_a_body_whose_file_changed_is_another(window, tmp_path):
    from tidal_lens.formats.bodies import write_stl
    from tidal_lens.formats.written import Geometry
    from tidal_lens.study.kinds.body import new_body

    document = window.document

    def written(size):
        points = size * np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]])
        faces = np.array([[0, 2, 1, 1], [0, 1, 3, 3], [0, 3, 2, 2], [1, 2, 3, 3]])
        write_stl(tmp_path / "a.stl", Geometry(points, faces, None, {}))

    written(1.0)
    document.add(new_body(tmp_path / "a.stl"))
    settle(window)
    first = document.asking.results[document.chosen].geometry.points.max()
    written(2.5)
    window.act("again")
    settle(window)
    assert document.asking.results[document.chosen].geometry.points.max() == pytest.approx(2.5 * first)


def test_what_was_begun_on_one_case_is_not_laid_onto_another(window):
    """First values take long; meanwhile another case is opened."""
    may_end = threading.Event()

    def slow(store, argument):
        may_end.wait(20)
        return isosurface.KIND.begin(store, argument)

    window.document.begin(replace(isosurface.KIND, begin=slow))
    wait(window.document.jobs.is_busy, "the work", 5)
    window.open_demo("kittiwake coarse.vtm")
    wait(lambda: window.document.flow.path.name == "kittiwake coarse.vtm", "the other case", 60)
    may_end.set()
    settle(window)
    assert all(layer.kind != "isosurface" for layer in window.document.study.layers)
    window.document.begin(isosurface.KIND)
    settle(window)
    assert window.document.chosen_layer.kind == "isosurface"


def test_a_drag_that_waits_for_its_next_draft_draws_no_picture_in_full_meanwhile(window):
    """It would stand in the way of the next, which then comes so late that another is drawn in full, and so on."""
    document, pictures = window.document, window.view.pictures
    asked, go = [], threading.Event()
    show = pictures.renderer.show

    def told(*what, draft=False):
        asked.append(draft)
        return show(*what, draft=draft)

    pictures.renderer.show = told
    bead = window.view.handles.bead_at("slice")
    QTest.mousePress(window.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, bead.toPoint())
    move(window.view, bead + QPointF(5, 5), button=Qt.MouseButton.LeftButton)
    assert document.dragging
    document.jobs.submit(Slot("card", "slow"), "Slow", lambda _token: go.wait(20), lambda _: None, lambda _: None)
    move(window.view, bead + QPointF(9, 9), button=Qt.MouseButton.LeftButton)
    wait(lambda: asked and pictures._shown == pictures._newest, "a draft")
    spin(0.6)
    assert asked
    assert all(asked), "drafts only, long after the last"
    go.set()
    wait(lambda: not asked[-1], "the picture in full while the bead is held still", 10)
    QTest.mouseRelease(window.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, (bead + QPointF(9, 9)).toPoint())
    settle(window)


def test_while_a_card_is_dragged_only_who_shows_cards_hears_of_it(window):
    document, view = window.document, window.view
    document.choose(document.study.layers[1].id)
    settle(window)
    heard = []
    document.study_changed.connect(lambda: heard.append("study"))
    document.settings_changed.connect(lambda: heard.append("settings"))
    begin = view.handles.bead_at("slice")
    drag(view, begin, begin + QPointF(50, 30), steps=8)
    settle(window)
    assert heard.count("study") >= 4
    assert "settings" not in heard
    heard.clear()
    document.edit(document.study.with_(reference=Reference(pressure=9e4, density=1.1, velocity=(40.0, 0.0, 0.0))), "Reference")
    assert heard == ["study", "settings"]
    assert float(window.bench.pages["case"].reference.pressure.text().replace(",", "")) == 9e4
    window.act("undo")
    assert heard == ["study", "settings"] * 2


def test_handles_follow_the_pointer_though_no_picture_comes(window, monkeypatch):
    """A card that takes long to be worked out: its bead is painted meanwhile."""
    document, view, gate = window.document, window.view, threading.Event()
    document.choose(document.study.layers[1].id)
    settle(window)
    evaluate = Evaluator.evaluate

    def slow(self, *args, **how):
        gate.wait(20)
        return evaluate(self, *args, **how)

    begin = view.handles.bead_at("slice")
    QTest.mousePress(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, begin.toPoint())
    monkeypatch.setattr(Evaluator, "evaluate", slow)
    painted = []
    paint, view._paint = view._paint, lambda p: (painted.append(view.handles.bead_at("slice")), paint(p))[1]
    usual = view.later.interval()
    try:
        view.later.setInterval(60_000)
        move(view, begin + QPointF(20, 10), button=Qt.MouseButton.LeftButton)
        spin(0.3)
        assert not painted, "with its picture, not before it as well"
        view.later.stop()
        view.later.setInterval(usual)
        move(view, begin + QPointF(40, 20), button=Qt.MouseButton.LeftButton)
        wait(lambda: painted, "the bead", 10)
        assert painted[-1] != begin
    finally:
        gate.set()
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, (begin + QPointF(40, 20)).toPoint())
        settle(window)
