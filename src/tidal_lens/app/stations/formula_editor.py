"""Where formulas are typed: completion, the error marked at its place, range and distribution of what is typed."""

from __future__ import annotations

import re

from PyQt6.QtCore import QEvent, QStringListModel, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QFocusEvent, QKeyEvent, QTextCharFormat, QTextCursor
from PyQt6.QtWidgets import QCompleter, QPlainTextEdit, QTextEdit

from tidal_lens.app import theme
from tidal_lens.app.parts import keep_escape

_WORD = re.compile(r"[^\W\d]\w*$")


class FormulaEdit(QPlainTextEdit):
    """One line of text, wrapped, with completion of names; what is wrong is underlined."""

    typed = pyqtSignal()
    entered = pyqtSignal()
    taken = pyqtSignal()
    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Formula")
        self.setToolTip("An expression of quantities, such as 0.5 * density * length(velocity)**2. "
                        "Return takes it, Escape gives it up, Ctrl+Space lists names")
        self.setTabChangesFocus(True)
        self.setFixedHeight(74)
        self.setObjectName("formula")
        self.setPlaceholderText("0.5 * density * length(velocity)**2")
        self._model = QStringListModel(self)
        self.completer = QCompleter(self._model, self)
        self.completer.setWidget(self)
        self.completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.completer.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        self.completer.setMaxVisibleItems(8)
        self.completer.activated[str].connect(self._complete)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(120)
        self._timer.timeout.connect(self.typed)
        self.textChanged.connect(self._timer.start)
        self._told: dict[str, str] = {}

    def offer_names(self, names: list[tuple[str, str]]) -> None:
        """Names that may be completed, with what they are."""
        self._told = {(name if _WORD.fullmatch(name) else f"`{name}`"): about for name, about in names}

    def show_text(self, text: str) -> None:
        """Show another formula."""
        if text != self.toPlainText():
            self.setPlainText(text)
        self._timer.stop()

    def mark(self, begin: int, end: int) -> None:
        """Underline what is wrong; nothing where both are equal."""
        marks: list[QTextEdit.ExtraSelection] = []
        if end > begin:
            one = QTextEdit.ExtraSelection()
            shape = QTextCharFormat()
            shape.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            shape.setUnderlineColor(theme.colour("red"))
            tint = QColor(theme.colour("red"))
            tint.setAlphaF(0.14)
            shape.setBackground(tint)
            cursor = self.textCursor()
            length = len(self.toPlainText())
            cursor.setPosition(min(begin, max(length - 1, 0)))
            cursor.setPosition(min(end, length), QTextCursor.MoveMode.KeepAnchor)
            one.cursor, one.format = cursor, shape
            marks = [one]
        self.setExtraSelections(marks)

    def put_in(self, begin: int, end: int, words: str) -> None:
        """Write something in the place of a part of the text, as if it had been typed: it can be undone."""
        cursor = self.textCursor()
        cursor.setPosition(begin)
        cursor.setPosition(end, QTextCursor.MoveMode.KeepAnchor)
        cursor.insertText(words)
        self.setTextCursor(cursor)
        self.setFocus()

    def _prefix(self) -> str:
        before = self.toPlainText()[: self.textCursor().position()]
        found = _WORD.search(before)
        if found is None or (found.start() > 0 and before[found.start() - 1] == "."):
            return ""
        return found.group(0)

    def _complete(self, shown: str) -> None:
        name = shown.split("  ·  ")[0]
        cursor = self.textCursor()
        for _ in self._prefix():
            cursor.deletePreviousChar()
        about = self._told.get(name, "")
        cursor.insertText(f"{name}(" if about.startswith("function") else name)
        self.setTextCursor(cursor)

    def _suggest(self, *, asked: bool) -> None:
        prefix = self._prefix()
        popup = self.completer.popup()
        if popup is None:
            return
        if not asked and len(prefix) < 2:
            popup.hide()
            return
        near = prefix.lower()
        # Names that begin so come before those that hold it somewhere.
        found = sorted((not name.lower().lstrip("`").startswith(near), n, name)
                       for n, name in enumerate(self._told) if near in name.lower())
        if not found or (not asked and prefix in self._told):
            popup.hide()
            return
        self._model.setStringList([f"{name}  ·  {self._told[name]}" for _, _, name in found])
        first = self.completer.completionModel()
        if first is not None:
            popup.setCurrentIndex(first.index(0, 0))
        place = self.cursorRect()
        place.setWidth(max(self.width(), 270))
        self.completer.complete(place)

    def event(self, event: QEvent | None) -> bool:
        keep_escape(event)
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        popup = self.completer.popup()
        choosing = popup is not None and popup.isVisible()
        key = event.key()
        if choosing and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab, Qt.Key.Key_Escape):
            event.ignore()  # they are the list's
            return
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._timer.stop()
            self.typed.emit()
            self.entered.emit()
            return
        if key == Qt.Key.Key_Escape:
            self.left.emit()
            return
        if key == Qt.Key.Key_Space and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._suggest(asked=True)
            return
        super().keyPressEvent(event)
        if event.text():
            self._suggest(asked=False)

    def insertFromMimeData(self, source: object) -> None:
        """Pasted text becomes one line."""
        text = getattr(source, "text", lambda: "")()
        self.insertPlainText(" ".join(str(text).split()))

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """A finished change is taken when the field is left."""
        super().focusOutEvent(event)
        popup = self.completer.popup()
        if popup is None or not popup.isVisible():
            self.taken.emit()
