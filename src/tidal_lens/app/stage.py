"""What is seen now: the picture, the camera and the depths that it was drawn with. Overlays and the eye know no more of the view."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QTimer, pyqtSignal
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QWidget

from tidal_lens.app.asking import CaseHere
from tidal_lens.app.document import Document
from tidal_lens.app.pixels import image_over
from tidal_lens.app.typing_here import TypingHere
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.scene import Frame

_LATER = 60  # milliseconds that overlays wait at most for the picture that they are painted with


class Stage(QWidget):
    """A widget that shows a picture of a document's flow. On the window's thread.

    Signals
    -------
    pointed(str)
        Position and value under the pointer, in words.
    seen(object)
        The place (3,) that is seen there, or None.

    Attributes
    ----------
    image : QImage or None
        The picture.
    shown_camera : Camera or None
        What it was seen by: overlays are laid over it, not over what is still on its way.
    depths : ndarray or None
        How far away what is seen is, of any resolution; not finite where nothing is.
    typing : TypingHere
        Opens a small field in the view.
    """

    pointed = pyqtSignal(str)
    seen = pyqtSignal(object)

    def __init__(self, document: Document, case: CaseHere) -> None:
        super().__init__()
        self.document, self.case = document, case
        self.image: QImage | None = None
        self._pixels: NDArray[np.uint8] | None = None  # that it is over
        self.shown_camera: Camera | None = None
        self.typing = TypingHere(self, self.pointed.emit, lambda: document.flow.length if document.flow is not None else None)
        self.depths: NDArray[np.floating] | None = None
        self.later = QTimer(self)
        self.later.setSingleShot(True)
        self.later.setInterval(_LATER)
        self.later.timeout.connect(self.update)

    def light(self, name: str, value: float) -> None:
        """Show where a quantity takes a value on what is drawn."""
        raise NotImplementedError

    @property
    def box(self) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
        """The corners of what is drawn; those of the flow where nothing is yet."""
        return self.case.flow.bounds if self.case.flow is not None else None

    def pin_at(self, place: tuple[float, float, float]) -> None:
        """Mark a place; the view stays as it is."""
        raise NotImplementedError

    def redraw(self, *, draft: bool = False) -> None:
        """Ask for a picture."""
        raise NotImplementedError

    def show_frame(self, frame: Frame, camera: Camera | None) -> None:
        """Another picture is there."""
        before, self._pixels = self._pixels, np.ascontiguousarray(frame.pixels)
        self.image = image_over(self._pixels)
        del before  # not sooner: the image before was over them
        self.depths = frame.depth
        self.shown_camera = camera or self.shown_camera
        self.later.stop()
        self.update()

    def update_with_picture(self) -> None:
        """Paint anew with the next picture, or soon where it takes long: two paintings for each move are one too many."""
        if not self.later.isActive():
            self.later.start()

    def point_at(self, at: QPointF) -> NDArray[np.float64] | None:
        """The point in space that is seen at a place, or None."""
        depths, camera = self.depths, self.shown_camera
        if depths is None or camera is None or not self.rect().contains(at.toPoint()):
            return None
        height, width = depths.shape
        row = min(int(at.y() / self.height() * height), height - 1)
        column = min(int(at.x() / self.width() * width), width - 1)
        depth = float(depths[row, column])
        return camera.at_depth(at.x(), at.y(), depth, self.width(), self.height()) if np.isfinite(depth) else None
