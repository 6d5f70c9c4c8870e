"""Projection, a rectangle magnified, the lamp, grounds, and edges that are smooth at rest."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QContextMenuEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMenu
from PyQt6.sip import isdeleted

from driving import choose, differing, drag, keys, pixels, settle, spin
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui


def seen_at(window, points):
    return window.document.camera.project(np.atleast_2d(points), window.view.width(), window.view.height())[0]


def test_parallel_rays_keep_lengths_and_come_back(window, tmp_path):
    document, view = window.document, window.view
    before = document.camera
    keys(view, "p")
    settle(window)
    camera = document.camera
    assert camera.span > 0
    right, up, forward = camera.basis()
    near, far = camera.focus - 0.5 * forward, camera.focus + 0.5 * forward
    lengths = [np.linalg.norm(np.diff(seen_at(window, [c, c + 0.3 * right]), axis=0)) for c in (near, far)]
    assert lengths[0] == pytest.approx(lengths[1])
    assert seen_at(window, camera.focus)[0] == pytest.approx([view.width() / 2, view.height() / 2])
    hit = next(p for x in range(20, 60) if (p := view.point_at(QPointF(view.width() * x / 80, view.height() * 0.6))) is not None)
    again = seen_at(window, hit)[0]
    assert view.point_at(QPointF(*again)) == pytest.approx(hit, abs=0.02 * document.flow.size), "what is seen is where it is"
    QTest.keyClick(view, Qt.Key.Key_Plus)
    settle(window)
    assert document.camera.span < camera.span
    assert np.linalg.norm(document.camera.eye - document.camera.focus) == pytest.approx(camera.distance)
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").camera.span == document.camera.span
    window.act("frame")
    keys(view, "p")
    settle(window)
    assert document.camera.span == 0
    assert document.camera.angle == before.angle
    assert up is not None


def test_a_rectangle_is_magnified_while_m_is_held(window):
    view = window.view
    a, b = QPointF(view.width() * 0.4, view.height() * 0.4), QPointF(view.width() * 0.6, view.height() * 0.6)
    middle = window.view.point_at(0.5 * (a + b))
    corners = [window.document.camera.at_depth(p.x(), p.y(), window.document.camera.distance, view.width(), view.height()) for p in (a, b)]
    before = np.linalg.norm(np.diff(seen_at(window, corners), axis=0))
    QTest.keyPress(view, Qt.Key.Key_M)
    drag(view, a, b)
    QTest.keyRelease(view, Qt.Key.Key_M)
    settle(window)
    if middle is not None:
        assert seen_at(window, middle)[0] == pytest.approx([view.width() / 2, view.height() / 2], abs=3)
    after = np.linalg.norm(np.diff(seen_at(window, corners), axis=0))
    assert after > 2.5 * before
    assert not view.hand.framing
    camera = window.document.camera
    drag(view, a, b)
    assert window.document.camera is not camera, "without it a drag turns the view"


def test_the_lamp_is_dragged_round_the_rose(window):
    document, view = window.document, window.view
    window.act("add-isosurface")
    settle(window)
    before = pixels(window.view)
    bead = view.rose.lamp_at()
    drag(view, bead, view.rose.centre + QPointF(54, 0))
    settle(window)
    assert document.study.lamp == pytest.approx(0.0, abs=2.0)
    assert differing(before, pixels(window.view)) > 0.005
    assert document.undo_what == "Move the lamp"
    window.act("undo")
    settle(window)
    assert document.study.lamp == 124.0
    assert differing(before, pixels(window.view)) < 1e-3


def test_the_ground_is_chosen_from_the_roses_menu(window):
    view = window.view
    at = view.rose.centre.toPoint()
    QApplication.sendEvent(view, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, view.mapToGlobal(at)))
    spin(0.05)
    menu = next(m for m in view.findChildren(QMenu) if m.isVisible())
    choose(menu, "White")
    spin()
    assert isdeleted(menu), "it goes when it is closed"
    settle(window)
    assert window.document.study.ground == "white"
    assert (pixels(window.view)[-8, 8, :3] == 255).all()
    window.act("undo")
    settle(window)
    assert not (pixels(window.view)[-8, 8, :3] == 255).all()


def test_edges_are_smooth_at_rest(window):
    """Along the rim of a slice against the ground there are more than two shades."""
    window.act("add-slice-z")
    window.act("outline")
    settle(window)
    layer = window.document.chosen_layer
    window.document.edit(window.document.study.with_(alone=layer.id).replacing(
        layer.with_(look=layer.look.with_(colour_by=None))), "alone")
    settle(window)
    picture = pixels(window.view)[:, :, :3].astype(int)
    shades = {tuple(p) for p in picture[200:400, 300:700].reshape(-1, 3)}
    assert len(shades) > 3
