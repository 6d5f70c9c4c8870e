"""What is to be clicked, and what was."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter, QPen

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import Quiet, halo_text
from tidal_lens.app.stage import Stage

_APART = 18.0  # pixels from one place of a stroke to the next


class ClicksOverlay(Quiet):
    """Takes clicks while places are wanted; a press beside everything turns the view as ever."""

    def __init__(self, view: Stage) -> None:
        self._view = view
        self._clicks = view.document.clicks
        self._stroke: list[NDArray[np.float64]] = []
        self._last = QPointF()

    def changed(self) -> None:
        """Places are wanted, or no longer, or one was given."""
        if self._clicks.wish is not None and not self._clicks.places:
            self._view.setFocus()
        self._view.update()

    def paint(self, p: QPainter) -> None:
        wish, camera = self._clicks.wish, self._view.shown_camera
        if wish is None or camera is None:
            return
        p.setPen(QPen(theme.colour("panel"), 1.5))
        p.setBrush(theme.colour("magenta"))
        laid = [*self._clicks.places, *self._stroke]
        if laid:
            pixels, depth = camera.project(np.array(laid), self._view.width(), self._view.height())
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
        if place is not None and self._clicks.wish.stroke:
            self._stroke, self._last = [np.asarray(place)], at
        elif place is not None:
            self._clicks.give(np.asarray(place))
        return place is not None

    def drag(self, at: QPointF, _modifiers: Qt.KeyboardModifier) -> None:
        """Go on with a stroke: places stand evenly along it, however quickly it is drawn."""
        if not self._stroke:
            return
        way = at - self._last
        steps = int(np.hypot(way.x(), way.y()) / _APART)
        for _ in range(steps):
            self._last += way * (_APART / max(float(np.hypot(way.x(), way.y())), 1e-9))
            place = self._view.point_at(self._last)
            if place is not None:
                self._stroke.append(np.asarray(place))
        if steps:
            self._view.update()

    def let_go(self) -> None:
        stroke, self._stroke = self._stroke, []
        if stroke:
            self._clicks.lay(stroke)

    def hint(self, at: QPointF) -> str:
        return "Click here" if self._clicks.wish is not None and self._view.point_at(at) is not None else ""
