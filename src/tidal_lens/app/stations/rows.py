"""A heading with rows of facts below it; a row that is chosen opens to tell more."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QToolButton, QVBoxLayout, QWidget

from tidal_lens.app.parts import column, label

_MOST = 60


class Row(QWidget):
    """Name, kind and count; a click, Return or Space asks for more of it."""

    chosen = pyqtSignal(str)

    def __init__(self, name: str, kind: str, count: str, key: str, *, open_: bool) -> None:
        super().__init__()
        self.key = key
        self._able = open_
        self.setAccessibleName(name)
        if open_:
            self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            self.setCursor(Qt.CursorShape.PointingHandCursor)
            self.setToolTip(f"Look into {name}")
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(0)
        self._grid.setColumnStretch(0, 1)
        title = label(name)
        title.setWordWrap(True)
        self._grid.addWidget(title, 0, 0)
        self.kind = label(kind, "soft")
        self._grid.addWidget(self.kind, 1, 0)
        right = label(count, "soft")
        right.setWordWrap(False)
        right.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._grid.addWidget(right, 0, 1, 2, 1)
        self.more: QWidget | None = None

    def show_more(self, widget: QWidget | None) -> None:
        """Show something below the row, or nothing any more."""
        if self.more is not None:
            self._grid.removeWidget(self.more)
            self.more.deleteLater()
        self.more = widget
        if widget is not None:
            self._grid.addWidget(widget, 2, 0, 1, 2)

    def mouseReleaseEvent(self, event: Any) -> None:
        if self._able and event.button() == Qt.MouseButton.LeftButton and self.rect().contains(event.position().toPoint()):
            self.chosen.emit(self.key)

    def keyPressEvent(self, event: Any) -> None:
        if self._able and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.chosen.emit(self.key)
        else:
            super().keyPressEvent(event)


class Section(QWidget):
    """A heading that folds, and rows of name, kind and count."""

    asked = pyqtSignal(str)

    def __init__(self, title: str, *, opens: bool = False, folded: bool = False) -> None:
        super().__init__()
        self._facts: list[tuple[str, str, str]] = []
        self._opens = opens
        self.title = title
        self.rows: dict[str, Row] = {}
        self.head = QToolButton()
        self.head.setProperty("role", "fold")
        self.head.setCheckable(True)
        self.head.setChecked(not folded)
        self.head.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextOnly)
        self.head.clicked.connect(self._fold)
        self._holder = QWidget()
        self._box = QVBoxLayout(self._holder)
        self._box.setContentsMargins(0, 0, 0, 8)
        self._box.setSpacing(4)
        column(self, self.head, self._holder, spacing=2)
        self._fold(not folded)

    def _fold(self, shown: bool) -> None:
        self._holder.setVisible(shown)
        self._name()

    def _name(self) -> None:
        mark = "▾" if self.head.isChecked() else "▸"
        count = f" ({len(self._facts)})" if self._facts else ""
        self.head.setText(f"{mark} {self.title}{count}")
        self.head.setAccessibleName(self.title)
        self.head.setToolTip("Fold this list" if self.head.isChecked() else "Unfold this list")

    def rename(self) -> None:
        """The title was changed."""
        self._name()

    def show_rows(self, rows: list[tuple[str, str, str]]) -> None:
        """Show other rows; those that stay keep what is open below them."""
        if rows == self._facts:
            return
        self._facts = rows
        self.clear()
        for name, kind, count in rows[:_MOST]:
            one = Row(name, kind, count, name, open_=self._opens)
            one.chosen.connect(self.asked)
            self.rows[name] = one
            self._box.addWidget(one)
        if len(rows) > _MOST:
            self._box.addWidget(label(f"and {len(rows) - _MOST} more", "soft"))
        self._name()

    def clear(self) -> None:
        """Take all rows out."""
        self.rows = {}
        while self._box.count():
            item = self._box.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()

    def add(self, widget: QWidget) -> None:
        """Put a widget of another sort below the rows."""
        self._box.addWidget(widget)

    def open_row(self, key: str, make: Callable[[], QWidget] | None) -> None:
        """Show more below one row and close the others; without ``make`` close them all."""
        for name, one in self.rows.items():
            one.show_more(make() if make is not None and name == key else None)


class Facts(QWidget):
    """Lines of a fact and its value, and places that can be gone to."""

    def __init__(self, lines: list[tuple[str, str]], places: Sequence[tuple[str, Callable[[], object]]]) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(10, 2, 0, 6)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(1, 1)
        for at, (name, value) in enumerate(lines):
            left = label(name, "soft")
            left.setWordWrap(False)
            right = label(value)
            right.setWordWrap(True)
            right.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            right.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(left, at, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(right, at, 1)
        for at, (name, go) in enumerate(places, start=len(lines)):
            button = QToolButton()
            button.setText(name)
            button.setToolTip("Bring this place to the middle of the picture")
            button.setProperty("role", "pick")
            button.clicked.connect(lambda _checked=False, g=go: g())
            grid.addWidget(button, at, 0, 1, 2)
