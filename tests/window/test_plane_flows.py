"""A plane flow in the window: seen from its front, shifted instead of turned."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

from driving import drag, keys, settle, type_into, wait
from vtk_data import add, structured, write


@pytest.mark.gui
def test_the_view_of_a_plane_flow_does_not_turn(empty, tmp_path):
    window = empty
    y, x = np.meshgrid(np.linspace(0, 1, 11), np.linspace(0, 3, 21), indexing="ij")
    data = structured(np.column_stack([x.ravel(), y.ravel(), 0 * x.ravel()]), (21, 11, 1))
    add(data.GetPointData(), "Velocity", np.column_stack([(4 * y * (1 - y)).ravel(), 0 * x.ravel(), 0 * x.ravel()]))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "plane.vts")
    window.document.open_path(tmp_path / "plane.vts")
    wait(lambda: window.document.flow is not None, "the plane")
    settle(window)
    assert any(layer.kind == "slice" and layer.shape.axis == 2 for layer in window.document.study.layers)
    assert "a plane flow" in window.bench.pages["case"].facts.text()

    def way():
        camera = window.document.camera
        return (camera.focus - camera.eye) / np.linalg.norm(camera.focus - camera.eye)

    np.testing.assert_allclose(way(), [0, 0, -1], atol=1e-9)
    before = window.document.camera.focus.copy()
    drag(window.view, QPointF(700, 150), QPointF(600, 120))
    settle(window)
    np.testing.assert_allclose(way(), [0, 0, -1], atol=1e-9)
    assert window.document.camera.focus[0] > before[0], "it is shifted"
    keys(window.view, Qt.Key.Key_Left)
    window.view.eye.look_from(0, 1)
    np.testing.assert_allclose(way(), [0, 0, -1], atol=1e-9)
    window.view.eye.look_from(2, -1)
    np.testing.assert_allclose(way(), [0, 0, 1], atol=1e-9)
    settle(window)


@pytest.mark.gui
def test_a_plane_flow_is_said_to_be_axisymmetric(empty, tmp_path):
    window = empty
    y, x = np.meshgrid(np.linspace(0, 1, 21), np.linspace(0, 3, 21), indexing="ij")
    data = structured(np.column_stack([x.ravel(), y.ravel(), 0 * x.ravel()]), (21, 21, 1))
    add(data.GetPointData(), "Velocity", np.column_stack([(1 - y**2).ravel(), 0 * x.ravel(), 0 * x.ravel()]))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "pipe.vts")
    window.document.open_path(tmp_path / "pipe.vts")
    settle(window)
    window.act("add-volume")
    settle(window)

    def volume():
        made = window.document.asking.results[window.document.chosen].unmasked
        return next(row[1] for t in made.tables for row in t.rows if row[0] == "volume")

    assert volume() == pytest.approx(3.0), "by unit depth"
    case = window.bench.pages["case"]
    window.show_station("case")
    type_into(case.reference.span, "2")
    settle(window)
    assert volume() == pytest.approx(6.0), "over the depth that was typed"
    window.act("undo")
    settle(window)
    case.turned.activated.emit(2)
    settle(window)
    assert volume() == pytest.approx(3 * np.pi, rel=1e-6), "once round"
    assert "turned about x" in case.facts.text()
    window.act("undo")
    settle(window)
    assert volume() == pytest.approx(3.0)
    assert window.document.flow.turned is None
