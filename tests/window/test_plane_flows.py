"""A plane flow in the window: seen from its front, shifted instead of turned."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

from driving import drag, keys, settle, wait
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
