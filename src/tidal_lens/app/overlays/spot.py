"""The place of a value that is pointed at in a chart."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter, QPen

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import Quiet
from tidal_lens.app.stage import Stage


class SpotOverlay(Quiet):
    """A ring about it."""

    def __init__(self, view: Stage) -> None:
        self._view = view
        self.place: NDArray[np.float64] | None = None

    def show(self, place: NDArray[np.float64] | None) -> None:
        """Ring a place (3,), or none."""
        if place is not None or self.place is not None:
            self.place = place
            self._view.update()

    def paint(self, p: QPainter) -> None:
        camera = self._view.shown_camera
        if self.place is None or camera is None or not np.isfinite(self.place).all():
            return
        where, depth = camera.project(np.asarray(self.place)[None], self._view.width(), self._view.height())
        if depth[0] > 0.0:
            at = QPointF(float(where[0, 0]), float(where[0, 1]))
            p.setBrush(Qt.BrushStyle.NoBrush)
            for role, width in (("panel", 4.0), ("magenta", 2.0)):
                p.setPen(QPen(theme.colour(role), width))
                p.drawEllipse(at, 7, 7)
