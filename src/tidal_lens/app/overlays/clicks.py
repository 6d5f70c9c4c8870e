"""What is to be clicked, and what was."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter, QPen

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import Quiet, halo_text
from tidal_lens.app.stage import Stage


class ClicksOverlay(Quiet):
    """Takes clicks while places are wanted; a press beside everything turns the view as ever."""

    def __init__(self, view: Stage) -> None:
        self._view = view
        self._clicks = view.document.clicks
        self._clicks.changed.connect(self._changed)

    def _changed(self) -> None:
        if self._clicks.wish is not None and not self._clicks.places:
            self._view.setFocus()
        self._view.update()

    def paint(self, p: QPainter) -> None:
        wish, camera = self._clicks.wish, self._view.shown_camera
        if wish is None or camera is None:
            return
        p.setPen(QPen(theme.colour("panel"), 1.5))
        p.setBrush(theme.colour("magenta"))
        if self._clicks.places:
            pixels, depth = camera.project(np.array(self._clicks.places), self._view.width(), self._view.height())
            for (x, y), d in zip(pixels, depth, strict=True):
                if d > 0:
                    p.drawEllipse(QPointF(float(x), float(y)), 5, 5)
        left = wish.count - len(self._clicks.places)
        more = f" {left} to go." if wish.count > 1 else ""
        halo_text(p, QPointF(self._view.width() / 2, 26), f"{wish.hint}{more} Esc gives up.", "magenta", bold=True,
                  align=Qt.AlignmentFlag.AlignHCenter)

    def grasp(self, at: QPointF) -> bool:
        if self._clicks.wish is None:
            return False
        place = self._view.point_at(at)
        if place is not None:
            self._clicks.give(np.asarray(place))
        return place is not None

    def hint(self, at: QPointF) -> str:
        return "Click here" if self._clicks.wish is not None and self._view.point_at(at) is not None else ""
