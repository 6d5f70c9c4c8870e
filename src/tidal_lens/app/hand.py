"""Turning and shifting the view: by a drag that holds nothing else, and by keys."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt

from tidal_lens.app.document import Document
from tidal_lens.app.eye import Eye
from tidal_lens.app.stage import Stage

_STILL = 3.0  # pixels within which a press is a click
_TURNS = {Qt.Key.Key_Left: (-12, 0), Qt.Key.Key_Right: (12, 0), Qt.Key.Key_Up: (0, -12), Qt.Key.Key_Down: (0, 12)}
_ZOOMS = {Qt.Key.Key_Plus: 0.85, Qt.Key.Key_Equal: 0.85, Qt.Key.Key_Minus: 1 / 0.85}


class Hand:
    """What the mouse does to the camera.

    Attributes
    ----------
    mode : str
        ``orbit``, ``pan``, ``frame`` or nothing.
    """

    def __init__(self, view: Stage, eye: Eye) -> None:
        self._view, self._eye = view, eye
        self._document: Document = view.document
        self._from = QPointF()
        self._moved = False
        self.mode = ""
        self.framing = False  # a drag frames a rectangle
        self.frame: tuple[QPointF, QPointF] | None = None

    def press(self, at: QPointF, *, pan: bool) -> None:
        """A button went down where nothing else takes it."""
        self._from, self._moved, self.mode = at, False, "frame" if self.framing else "pan" if pan else "orbit"

    def move(self, at: QPointF) -> None:
        """The mouse moved with the button down."""
        d = at - self._from
        camera = self._document.camera
        if camera is None or (not self._moved and d.manhattanLength() < _STILL):
            return
        self._moved = True
        if self.mode == "frame":
            self.frame = self._from, at
            self._view.update()
            return
        self._from = at
        if self.mode == "orbit":
            self._eye.orbit(d.x(), d.y())
        else:
            self._eye.move(camera.panned(d.x(), d.y(), self._view.height()))

    def release(self) -> bool:
        """The button went up; whether it was a click that turned nothing."""
        mode, self.mode = self.mode, ""
        frame, self.frame = self.frame, None
        if mode == "frame" and frame is not None:
            self._eye.magnify(*frame)
            return False
        if mode and self._moved:
            self._view.redraw(draft=False)
        return mode == "orbit" and not self._moved

    def key(self, key: Qt.Key) -> bool:
        """Do what a key says; whether it says anything."""
        if key in _TURNS:
            self._eye.orbit(*_TURNS[key])
        elif key in _ZOOMS:
            self._eye.zoom(_ZOOMS[key])
        return key in _TURNS or key in _ZOOMS
