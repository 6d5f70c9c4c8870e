"""Numbers typed in the view, where they are shown."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QRectF
from PyQt6.QtWidgets import QLineEdit, QWidget

from tidal_lens.app.parts import parse_number
from tidal_lens.study.words import number_text


class TypingHere:
    """One small field at a time.

    Parameters
    ----------
    view : QWidget
        Where it opens.
    tell : callable
        Hears of what cannot be used.
    length : callable
        What ``L`` after a number stands for; None where it stands for nothing.
    """

    def __init__(self, view: QWidget, tell: Callable[[str], object], length: Callable[[], float | None] = lambda: None) -> None:
        self._view, self._tell, self._length = view, tell, length
        self.editor: QLineEdit | None = None

    def ask_number(self, place: QRectF, value: float, take: Callable[[float], Any]) -> None:
        """Let the user type a number in the view."""
        self._ask(place, number_text(value, 7), lambda text: take(parse_number(text)))

    def ask_point(self, place: QRectF, value: tuple[float, float, float], take: Callable[[tuple[float, float, float]], Any]) -> None:
        """Let the user type three coordinates in the view; ``L`` after one is the flow's own length."""
        length = self._length()

        def read(text: str) -> None:
            parts = [parse_number(t, length) for t in text.replace(";", ",").split(",")]
            if len(parts) != 3:
                raise ValueError(text)
            take((parts[0], parts[1], parts[2]))

        self._ask(place, ", ".join(number_text(c, 7) for c in value), read)

    def _ask(self, place: QRectF, text: str, read: Callable[[str], Any]) -> None:
        if self.editor is not None:
            self.editor.deleteLater()
        editor = QLineEdit(text, self._view)
        editor.setAccessibleName("Number")
        editor.setGeometry(place.toRect())
        editor.selectAll()
        editor.show()
        editor.setFocus()
        self.editor = editor

        def finish() -> None:
            if self.editor is not editor:
                return
            self.editor = None
            typed = editor.text()
            editor.deleteLater()
            self._view.setFocus()
            try:
                read(typed)
            except ValueError:
                self._tell(f"“{typed}” is not a number that can be used here.")

        editor.editingFinished.connect(finish)
