"""The command field: finds every action, every quantity, and files by their path."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QEvent, QPoint, Qt, QTimer
from PyQt6.QtGui import QFocusEvent, QKeyEvent
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QWidget

from tidal_lens.app.commands import COMMANDS
from tidal_lens.app.desk import Desk
from tidal_lens.app.parts import keep_escape

_MOST = 14


@dataclass(frozen=True)
class _Entry:
    text: str
    note: str
    run: Callable[[], object]


def rank(wanted: str, text: str) -> float | None:
    """How well a text fits what was typed: smaller is better, None is not at all."""
    words, low = wanted.lower().split(), text.lower()
    if not all(w in low for w in words):
        return None
    first = low.find(words[0]) if words else 0
    starts = any(part.startswith(words[0]) for part in low.split()) if words else True
    return (0 if low.startswith(wanted.lower()) else 10 if starts else 30) + first * 0.1 + len(low) * 0.01


class CommandField(QLineEdit):
    """A line to type in, with what fits below it."""

    def __init__(self, desk: Desk, window: QWidget) -> None:
        super().__init__()
        self._desk, self._over = desk, window
        self._entries: list[_Entry] = []
        self.setPlaceholderText("What to do or find…   Ctrl+K")
        self.setAccessibleName("Command field")
        self.setToolTip("Type a command, a quantity or the path of a file (Ctrl+K)")
        self.setFixedHeight(28)
        self.setMinimumWidth(260)
        self.setMaximumWidth(460)
        self.popup = QListWidget(window)
        self.popup.setObjectName("commands")
        self.popup.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.popup.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.popup.hide()
        self.popup.itemClicked.connect(lambda item: self._run(self.popup.row(item)))
        self._leaving = QTimer(self)
        self._leaving.setSingleShot(True)
        self._leaving.setInterval(150)
        self._leaving.timeout.connect(lambda: None if self.hasFocus() else self.popup.hide())
        self.textEdited.connect(lambda _t: self.offer())

    def begin(self) -> None:
        """Take the keyboard and show what can be done."""
        self.setFocus()
        self.selectAll()
        self.offer()

    def offer(self) -> None:
        """List what fits the text."""
        wanted = self.text().strip()
        self._entries = self._matching(wanted)
        self.popup.clear()
        for entry in self._entries:
            item = QListWidgetItem(f"{entry.text}    {entry.note}" if entry.note else entry.text)
            self.popup.addItem(item)
        if not self._entries:
            nothing = QListWidgetItem("Nothing fits. Try a shorter word.")
            nothing.setFlags(Qt.ItemFlag.NoItemFlags)
            self.popup.addItem(nothing)
        self.popup.setCurrentRow(0)
        corner = self.mapTo(self._over, QPoint(0, self.height() + 2))
        rows = max(1, self.popup.count())
        self.popup.setGeometry(corner.x(), corner.y(), self.width(), min(rows, _MOST) * 25 + 4)
        self.popup.raise_()
        self.popup.show()

    def _matching(self, wanted: str) -> list[_Entry]:
        desk = self._desk
        path = Path(wanted).expanduser()
        if wanted[:1] in "/~." and wanted and path.is_file():
            return [_Entry(f"Open {path.name}", str(path.parent), lambda: desk.document.open_path(path))]
        ranked: list[tuple[float, _Entry]] = []
        for command in COMMANDS:
            fit = rank(wanted, command.title)
            if fit is not None and command.listed and command.enabled(desk):
                ranked.append((fit, _Entry(command.title, command.keys, partial(desk.act, command.id))))
        evaluator = desk.document.evaluator
        for q in evaluator.store.quantities() if evaluator is not None else ():
            fit = rank(wanted, f"{q.title} {q.symbol}")
            if fit is None or q.missing or q.components != 1:
                continue
            layer = desk.document.chosen_layer
            if layer is not None and layer.look.on != "none":
                ranked.append((fit + 1, _Entry(q.title, f"colour {layer.name}", partial(desk.cards.colour_by, q.name))))
            ranked.append((fit + 2, _Entry(q.title, "show in Derive", partial(desk.show_quantity, q.name))))
        return [entry for _fit, entry in sorted(ranked, key=lambda r: r[0])][:60]

    def _run(self, at: int) -> None:
        if not 0 <= at < len(self._entries):
            return
        entry = self._entries[at]
        self.put_away()
        entry.run()

    def put_away(self) -> None:
        """Put the list away."""
        self.popup.hide()
        self.clear()
        self._desk.view.setFocus()

    def event(self, event: QEvent | None) -> bool:
        keep_escape(event)
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 8, Qt.Key.Key_PageUp: -8}.get(Qt.Key(event.key()), 0)
        if step:
            if not self.popup.isVisible():
                self.offer()
            else:
                self.popup.setCurrentRow(max(0, min(self.popup.currentRow() + step, self.popup.count() - 1)))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._run(self.popup.currentRow())
        elif event.key() == Qt.Key.Key_Escape:
            self.put_away()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        # A click on the list takes the keyboard away for a moment: wait for it.
        self._leaving.start()
        super().focusOutEvent(event)
