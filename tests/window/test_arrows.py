"""Arrows as a dressing: ticked, changed, undone, saved, and kept while nothing that they rest on changes."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

from driving import click, pick, settle, wait
from making import cube_points
from tidal_lens.study.files import load_study
from tidal_lens.study.looks import SurfaceLook
from vtk_data import add, structured, write

pytestmark = pytest.mark.gui


def chosen_controls(window, kind):
    document = window.document
    layer = next(x for x in document.study.layers if x.kind == kind)
    document.choose(layer.id)
    settle(window)
    return layer.id, window.bench.card.controls[kind].arrows


def shown(window, layer_id):
    return window.document.asking.results[layer_id].dressed


def test_arrows_are_ticked_changed_undone_and_saved(window, tmp_path):
    document = window.document
    layer_id, arrows = chosen_controls(window, "slice")
    assert not arrows.more.isVisible()
    click(arrows.on, QPoint(8, 8))
    settle(window)
    assert arrows.more.isVisible()
    first = shown(window, layer_id)[0]
    assert 50 < len(first.points) // 5 < 5000
    names = [item.id for item in window.view.scenery.scene(document.asking.table(), "#ffffff", "#000000").items]
    assert f"·0 {layer_id}" in names
    arrows.spacing.setFocus()
    for _ in range(3):
        QTest.keyClick(arrows.spacing, Qt.Key.Key_PageUp)
    settle(window)
    wider = shown(window, layer_id)[0]
    assert len(wider.points) < len(first.points)
    click(arrows.even, QPoint(8, 8))
    window.bench.scroller.ensureWidgetVisible(arrows.part)
    click(arrows.part.button("along"))
    settle(window)
    even = shown(window, layer_id)[0]
    length = np.linalg.norm(even.points[1::5] - even.points[0::5], axis=1)
    assert length == pytest.approx(length[0])
    look = document.chosen_layer.look
    assert (look.arrows.even, look.arrows.part) == (True, "along")
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer_id).look == look
    for _ in range(4):
        window.act("undo")
    settle(window)
    assert document.study.layer(layer_id).look.arrows is None
    assert shown(window, layer_id) == ()
    for _ in range(2):
        window.act("redo")
    settle(window)
    assert shown(window, layer_id)[0] is wider, "what was worked out before is not worked out again"


def test_colour_and_paint_leave_the_arrows_be(window):
    layer_id, arrows = chosen_controls(window, "slice")
    click(arrows.on, QPoint(8, 8))
    settle(window)
    before = shown(window, layer_id)[0]
    window.act("colour-by", "cp")
    look = window.document.chosen_layer.look
    window.document.edit_layer(window.document.chosen_layer.with_(look=look.with_(arrows=look.arrows.with_(colour="#FF0000"))), "Colour")
    settle(window)
    assert shown(window, layer_id)[0] is before
    items = window.view.scenery.scene(window.document.asking.table(), "#ffffff", "#000000").items
    assert next(i for i in items if i.id == f"·0 {layer_id}").colour == "#FF0000"


def test_arrows_of_another_vector(window):
    layer_id, arrows = chosen_controls(window, "slice")
    click(arrows.on, QPoint(8, 8))
    settle(window)
    before = shown(window, layer_id)[0]
    assert arrows.of.currentText() == "Velocity"
    pick(arrows.of, "Vorticity")
    settle(window)
    assert window.document.chosen_layer.look.arrows.of == "vorticity"
    assert not np.array_equal(shown(window, layer_id)[0].points, before.points)


def test_a_result_without_a_vector_says_so(empty, tmp_path):
    points = cube_points(5)
    data = structured(points, (5, 5, 5))
    add(data.GetPointData(), "heat", points[:, 0])
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "heat.vts")
    empty.document.open_path(tmp_path / "heat.vts", anyway=True)
    wait(lambda: empty.document.flow is not None, "the case")
    settle(empty)
    layer_id, arrows = chosen_controls(empty, "slice")
    click(arrows.on, QPoint(8, 8))
    assert any("no vector" in strip.notice.text for strip in empty.strips.live())
    assert not arrows.on.isChecked()
    assert empty.document.study.layer(layer_id).look.arrows is None


def test_arrows_that_cannot_be_had_leave_their_surface_be(window):
    layer_id, arrows = chosen_controls(window, "slice")
    click(arrows.on, QPoint(8, 8))
    settle(window)
    document = window.document
    look = document.chosen_layer.look
    document.edit_layer(document.chosen_layer.with_(look=look.with_(arrows=look.arrows.with_(of="formula:gone"))), "Another vector")
    settle(window)
    result = document.asking.results[layer_id]
    assert len(result.geometry.faces) > 0
    assert len(result.dressed[0].points) == 0
    assert "gone" in document.asking.failures[layer_id]
    window.act("undo")
    settle(window)
    assert layer_id not in document.asking.failures
    assert len(shown(window, layer_id)[0].points) > 0


def test_looks_of_earlier_studies_have_none():
    assert SurfaceLook().dressings() == ()


def test_arrows_are_coloured_bent_and_limited(window):
    document = window.document
    layer_id, arrows = chosen_controls(window, "slice")
    click(arrows.on, QPoint(8, 8))
    settle(window)
    many = len(shown(window, layer_id)[0].points) // 5
    pick(arrows.by, "Pressure coefficient")
    settle(window)
    dressed = shown(window, layer_id)[0]
    assert len(dressed.values) == len(dressed.points)
    keys = window.view.keys.keys()
    assert "cp" in [face.quantity.name for face in keys], "what colours them has a key"
    items = window.view.scenery.scene(document.asking.table(), "#ffffff", "#000000").items
    assert next(i for i in items if i.id == f"·0 {layer_id}").colours is not None
    window.bench.scroller.ensureWidgetVisible(arrows.bent)
    click(arrows.bent, QPoint(8, 8))
    pick(arrows.only, "Mach number")
    settle(window)
    bent = shown(window, layer_id)[0]
    assert np.diff(bent.offsets).max() == 9, "a shaft of eight pieces"
    assert 0 < len(bent.points) // 12 < many
    for _ in range(4):
        window.act("undo")
    settle(window)
    assert document.study.layer(layer_id).look.arrows is None
