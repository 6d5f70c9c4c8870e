"""Two results in one view: one on each side of a divider that is dragged across."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter, QPen

from tidal_lens.app import theme
from tidal_lens.app.asking import CaseHere
from tidal_lens.app.companions import Companions
from tidal_lens.app.overlays.base import Quiet
from tidal_lens.app.pictures import Pictures
from tidal_lens.app.pixels import image_of
from tidal_lens.app.stage import Stage
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.scene import Frame

_NEAR = 6.0  # pixels within which the divider is caught
_GRIP = 13.0


class Wipe(Quiet):
    """An overlay: pictures of another case at the size of the view, painted right of the divider.

    Parameters
    ----------
    view : Stage
        The view of the first.
    others : Companions
        Of which the first is shown so.
    """

    def __init__(self, view: Stage, others: Companions) -> None:
        self._view, self._others = view, others
        self._pictures: Pictures | None = None
        self._of: CaseHere | None = None
        self._image: QImage | None = None
        self._camera: Camera | None = None
        self._held = False

    @property
    def is_on(self) -> bool:
        """Whether a second case is shown so."""
        return self._view.document.study.beside == "wipe" and 1 in self._others.cases

    @property
    def is_complete(self) -> bool:
        """Whether its picture is everything that was asked for."""
        return not self.is_on or self._pictures is None or self._pictures.are_complete()

    def refresh(self, *, draft: bool = False) -> None:
        """Something changed: ask for a picture, where one is shown."""
        if not self.is_on:
            self.close()
            return
        one = self._others.cases[1]
        if self._pictures is None or self._of is not one:
            self.close()
            self._of = one
            view = self._view
            self._pictures = Pictures(view.document, one, view, lambda: view.document.dragging, tuple, view)
            self._pictures.shown.connect(self._take)
        self._pictures.redraw(draft=draft)

    def close(self) -> None:
        """Draw no more."""
        if self._pictures is not None:
            self._pictures.close()
            self._pictures.deleteLater()
        self._pictures = self._of = self._image = None

    def _take(self, frame: Frame, camera: Camera | None) -> None:
        self._image = image_of(frame.pixels)
        self._camera = camera
        self._view.update()

    @property
    def _at(self) -> float:
        return self._view.document.study.divider * self._view.width()

    def titles(self) -> list[tuple[str, float, float]]:
        """Names of the two, and where they stand."""
        names, share = self._view.document.study.case_titles, self._view.document.study.divider
        return [(names[0], 0.0, share), (names[1], share, 1.0)] if self.is_on else []

    def paint(self, p: QPainter) -> None:
        if not self.is_on:
            return
        at, size = self._at, self._view.size()
        if self._image is not None:
            p.save()
            p.setClipRect(QRectF(at, 0, size.width() - at, size.height()))
            p.drawImage(QRectF(self._view.rect()), self._image)
            p.restore()
        p.setPen(QPen(theme.colour("magenta"), 1.6))
        p.drawLine(QPointF(at, 0), QPointF(at, size.height()))
        p.setBrush(theme.colour("panel"))
        middle = QPointF(at, 0.5 * size.height())
        p.drawEllipse(middle, _GRIP, _GRIP)
        for side in (-1.0, 1.0):
            tip = middle + QPointF(side * 8.0, 0)
            p.drawLine(tip, tip - QPointF(side * 4.0, 4.0))
            p.drawLine(tip, tip - QPointF(side * 4.0, -4.0))

    def _catches(self, at: QPointF) -> bool:
        middle = QPointF(self._at, 0.5 * self._view.height()) - at
        return self.is_on and (abs(at.x() - self._at) <= _NEAR or QPointF.dotProduct(middle, middle) <= _GRIP * _GRIP)

    def covers(self, at: QPointF) -> bool:
        """Whether the other case is seen at a place."""
        return self.is_on and at.x() > self._at

    def grasp(self, at: QPointF) -> bool:
        self._held = self._catches(at)
        if self._held:
            self._view.document.dragging = True
        return self._held

    def drag(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        document = self._view.document
        share = min(max(at.x() / max(self._view.width(), 1), 0.0), 1.0)
        document.edit(document.study.with_(divider=share), "Divider", "divider")

    def let_go(self) -> None:
        self._held = False

    def hint(self, at: QPointF) -> str:
        return "Drag: the divider between the two cases" if self._catches(at) else ""
