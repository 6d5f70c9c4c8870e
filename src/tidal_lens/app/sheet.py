"""Small windows before the window: the help, the settings."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QWidget

from tidal_lens.app.parts import keep_escape


class Sheet(QWidget):
    """A small window that Escape closes, whatever the window does with that key."""

    def __init__(self, window: QWidget, title: str) -> None:
        super().__init__(window, Qt.WindowType.Tool)
        self.setObjectName("help")
        self.setWindowTitle(title)

    def event(self, event: QEvent | None) -> bool:
        keep_escape(event)
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.close()
            return
        super().keyPressEvent(event)
