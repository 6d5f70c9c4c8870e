"""The rose: which way the axes and the wind point; a click on a point of it looks along that axis."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter, QPen, QPixmap, QPolygonF
from PyQt6.QtWidgets import QMenu

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import near
from tidal_lens.app.parts import pop_up
from tidal_lens.app.stage import Stage

RADIUS = 38.0
_ROOM = RADIUS + 24.0  # about its middle
_GROUNDS = {"water": "Ground as the theme has it", "paper": "Paper", "white": "White", "ink": "Ink"}


class RoseOverlay:
    """A compass rose at the lower right."""

    def __init__(self, view: Stage, look_from: Callable[[int, int], object], toggle: Callable[[], object]) -> None:
        self._view, self._look_from, self._toggle = view, look_from, toggle
        self._lamp_held = False
        self._painted: tuple[Hashable, QPixmap] | None = None

    @property
    def centre(self) -> QPointF:
        """Middle of the rose."""
        return QPointF(self._view.width() - RADIUS - 28, self._view.height() - RADIUS - 28)

    def tips(self) -> list[tuple[float, QPointF, int, int]]:
        """Depth, place, axis and sign of the six points, the farthest first."""
        camera = self._view.shown_camera
        if camera is None:
            return []
        right, up, forward = camera.basis()
        out = []
        for axis in range(3):
            for sign in (1, -1):
                way = sign * np.eye(3)[axis]
                place = self.centre + QPointF(float(way @ right), -float(way @ up)) * RADIUS
                out.append((float(way @ forward), place, axis, sign))
        return sorted(out, key=lambda t: -t[0])

    def paint(self, p: QPainter) -> None:
        camera, evaluator = self._view.shown_camera, self._view.case.evaluator
        if camera is None:
            return
        ratio, corner = self._view.devicePixelRatioF(), self.centre - QPointF(_ROOM, _ROOM)
        wind = evaluator.store.reference.velocity if evaluator is not None else None
        basis = (*(v.tobytes() for v in camera.basis()), ratio, wind, self._view.document.study.lamp, theme.current().name)
        if self._painted is None or self._painted[0] != basis:
            pixmap = QPixmap(round(2 * _ROOM * ratio), round(2 * _ROOM * ratio))
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(Qt.GlobalColor.transparent)
            with QPainter(pixmap) as own:
                own.setRenderHints(p.renderHints())
                own.translate(-corner)
                self._paint(own)
            self._painted = basis, pixmap
        p.drawPixmap(corner, self._painted[1])

    def _paint(self, p: QPainter) -> None:
        centre = self.centre
        p.setPen(QPen(theme.colour("line"), 1))
        p.setBrush(theme.colour("panel", 0.80))
        p.drawEllipse(centre, RADIUS + 16, RADIUS + 16)
        for n in range(32):  # the card of a compass
            a = np.pi * n / 16
            inner = RADIUS + (10 if n % 8 == 0 else 12 if n % 4 == 0 else 14)
            p.setPen(QPen(theme.colour("soft" if n % 8 == 0 else "line"), 1))
            p.drawLine(centre + QPointF(np.cos(a), np.sin(a)) * inner, centre + QPointF(np.cos(a), np.sin(a)) * (RADIUS + 16))
        for depth, place, axis, sign in self.tips():
            faint = 0.45 if depth > 0.15 else 1.0
            if sign > 0:
                self._petal(p, centre, place, faint)
                p.setFont(theme.font(12.5, bold=True))
                p.setPen(theme.colour("ink", max(faint, 0.7)))
                way = place - centre
                out = centre + way + way / max(np.hypot(way.x(), way.y()), 14.0) * 8
                p.drawText(QPointF(out.x() - 3.5, out.y() + 4), "xyz"[axis])
            else:
                p.setPen(QPen(theme.colour("soft", faint), 1))
                p.setBrush(theme.colour("panel"))
                p.drawEllipse(place, 2.6, 2.6)
        self._wind(p)
        p.setPen(QPen(theme.colour("panel"), 1.2))
        p.setBrush(theme.colour("amber"))
        p.drawEllipse(self.lamp_at(), 4.5, 4.5)

    def lamp_at(self) -> QPointF:
        """Where the bead is that the light comes from."""
        turn = np.radians(self._view.document.study.lamp)
        return self.centre + QPointF(float(np.cos(turn)), -float(np.sin(turn))) * (RADIUS + 16)

    def _petal(self, p: QPainter, centre: QPointF, tip: QPointF, faint: float) -> None:
        way = tip - centre
        side = QPointF(-way.y(), way.x()) * (3.6 / RADIUS)
        waist = centre + way * 0.22
        p.setPen(QPen(theme.colour("ink", faint), 1))
        p.setBrush(theme.colour("ink", faint))
        p.drawPolygon(QPolygonF([centre, waist + side, tip]))
        p.setBrush(theme.colour("panel", faint))
        p.drawPolygon(QPolygonF([centre, waist - side, tip]))

    def _wind(self, p: QPainter) -> None:
        evaluator, camera = self._view.case.evaluator, self._view.shown_camera
        if evaluator is None or camera is None or evaluator.store.reference.speed == 0:
            return
        wind = np.array(evaluator.store.reference.velocity) / evaluator.store.reference.speed
        right, up, _ = camera.basis()
        way = QPointF(float(wind @ right), -float(wind @ up)) * (RADIUS * 0.78)
        length = float(np.hypot(way.x(), way.y()))
        a, b = self.centre - way, self.centre + way
        p.setPen(QPen(theme.colour("sea"), 2))
        if length < 6:
            p.setBrush(theme.colour("sea"))
            p.drawEllipse(self.centre, 4, 4)
            return
        p.drawLine(a, b)
        u = way / length
        n = QPointF(-u.y(), u.x())
        p.setBrush(theme.colour("sea"))
        p.drawPolygon(QPolygonF([b + u * 4, b - u * 6 + n * 4, b - u * 6 - n * 4]))
        for back in (0.0, 5.0):  # feathers, as on a weather chart
            p.drawLine(a + u * back, a + u * (back - 3) + n * 5)

    def _at(self, at: QPointF) -> tuple[int, int] | None:
        for _depth, place, axis, sign in reversed(self.tips()):
            if near(at, place, 9):
                return axis, sign
        return None

    def grasp(self, at: QPointF) -> bool:
        if near(at, self.lamp_at(), 8):
            self._lamp_held = self._view.document.dragging = True
            return True
        if not near(at, self.centre, RADIUS + 16):
            return False
        found = self._at(at)
        if found is not None:
            self._look_from(*found)
        return True

    def drag(self, at: QPointF, _modifiers: Qt.KeyboardModifier) -> None:
        if self._lamp_held:
            way, document = at - self.centre, self._view.document
            angle = round(float(np.degrees(np.arctan2(-way.y(), way.x()))), 1)
            document.edit(document.study.with_(lamp=angle), "Move the lamp", "lamp of the view")

    def let_go(self) -> None:
        self._lamp_held = False

    def double_click(self, at: QPointF) -> bool:
        return near(at, self.centre, RADIUS + 16)

    def menu(self, at: QPointF) -> bool:
        if not near(at, self.centre, RADIUS + 20):
            return False
        document = self._view.document
        menu = QMenu(self._view)
        rays = menu.addAction("Parallel rays")
        if rays is not None and document.camera is not None:
            rays.setCheckable(True)
            rays.setChecked(document.camera.span > 0.0)
            rays.triggered.connect(self._turn_rays)
        menu.addSeparator()
        for ground, title in _GROUNDS.items():
            action = menu.addAction(title)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(document.study.ground == ground)
                action.triggered.connect(partial(self._ground, ground))
        pop_up(menu, self._view.mapToGlobal(at.toPoint()))
        return True

    def _turn_rays(self, _on: bool) -> None:
        self._toggle()

    def _ground(self, ground: str) -> None:
        document = self._view.document
        document.edit(document.study.with_(ground=ground), "Ground of the view")

    def hint(self, at: QPointF) -> str:
        if near(at, self.lamp_at(), 8):
            return "The lamp: drag it round to let light fall from elsewhere"
        if not near(at, self.centre, RADIUS + 16):
            return ""
        found = self._at(at)
        if found is None:
            return "The blue arrow is the wind: the free stream of the reference state"
        return f"Click to look from {'+' if found[1] > 0 else '−'}{'xyz'[found[0]]}"
