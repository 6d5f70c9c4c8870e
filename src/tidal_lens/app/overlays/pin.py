"""A pin at the place that was gone to."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter, QPen

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import Quiet, halo_text, near
from tidal_lens.app.stage import Stage
from tidal_lens.study.words import number_text


class PinOverlay(Quiet):
    """A cross-hair with the place beside it; a click on it takes it away."""

    def __init__(self, view: Stage) -> None:
        self._view = view
        self.place: tuple[float, float, float] | None = None

    def _spot(self) -> QPointF | None:
        camera = self._view.shown_camera
        if self.place is None or camera is None:
            return None
        where, depth = camera.project(np.array([self.place]), self._view.width(), self._view.height())
        return QPointF(float(where[0, 0]), float(where[0, 1])) if depth[0] > 0.0 else None

    def paint(self, p: QPainter) -> None:
        at = self._spot()
        if at is None or self.place is None:
            return
        p.setPen(QPen(theme.colour("magenta"), 1.5))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(at, 7, 7)
        for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            p.drawLine(at + QPointF(12 * dx, 12 * dy), at + QPointF(4 * dx, 4 * dy))
        halo_text(p, at + QPointF(16, -16), ", ".join(number_text(c) for c in self.place), "magenta")

    def grasp(self, at: QPointF) -> bool:
        spot = self._spot()
        if spot is None or not near(spot, at, 9.0):
            return False
        self.place = None
        self._view.update()
        return True

    def hint(self, at: QPointF) -> str:
        spot = self._spot()
        return "Click: take the pin away" if spot is not None and near(spot, at, 9.0) else ""
