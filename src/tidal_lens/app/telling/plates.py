"""Plates as rows: named, noted, put in order, changed, removed."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtGui import QFocusEvent
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QPlainTextEdit, QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import IconButton, column, label
from tidal_lens.app.stations.station import Act
from tidal_lens.study.model import Plate
from tidal_lens.study.plates import changed, moved_plate, seen_now, without_plate


class Notes(QPlainTextEdit):
    """A few lines of text, taken when the keyboard goes elsewhere."""

    def __init__(self, text: str, take: Callable[[str], object]) -> None:
        super().__init__(text)
        self._take = take

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        super().focusOutEvent(event)
        self._take(self.toPlainText()[:10_000])


class PlateRow(QWidget):
    """One plate: its name, its place in the order, what there is to say of it."""

    def __init__(self, document: Document, act: Act, plate: Plate) -> None:
        super().__init__()
        self._document, self.plate = document, plate
        self.name = QLineEdit(plate.name)
        self.name.setAccessibleName("Name of the plate")
        self.name.editingFinished.connect(self._rename)
        self.go = QPushButton("Go")
        self.go.setToolTip("Show what the plate shows")
        self.go.clicked.connect(lambda: act("plate-go", plate.id))
        head = QHBoxLayout()
        head.setSpacing(4)
        head.addWidget(self.name, 1)
        head.addWidget(self.go)
        self.again = QPushButton("As now")
        self.again.setToolTip("Let the plate show what is seen now")
        self.again.clicked.connect(lambda: self._take(seen_now(document.study, self.plate), "Change the plate"))
        self.earlier = IconButton("step-back", "Earlier", "Move the plate towards the first", partial(self._move, -1), size=15)
        self.later = IconButton("step-on", "Later", "Move the plate towards the last", partial(self._move, 1), size=15)
        self.away = IconButton("trash-2", "Remove the plate", "Remove the plate; what it shows stays",
                               lambda: document.edit(without_plate(document.study, plate.id), "Remove the plate"), size=15)
        tools = QHBoxLayout()
        tools.setSpacing(4)
        for widget in (self.again, self.earlier, self.later, self.away):
            tools.addWidget(widget)
        tools.addStretch(1)
        self.notes = Notes(plate.notes, self._note)
        self.notes.setAccessibleName("What there is to say of the plate")
        self.notes.setPlaceholderText("What there is to say of it")
        self.notes.setFixedHeight(44)
        self.notes.setTabChangesFocus(True)
        column(self, head, tools, self.notes, spacing=4)

    def _take(self, plate: Plate, what: str) -> None:
        self._document.edit(changed(self._document.study, plate), what)

    def _rename(self) -> None:
        text = self.name.text().strip()[:200]
        if text and text != self.plate.name:
            self._take(self.plate.with_(name=text), "Rename the plate")

    def _note(self, text: str) -> None:
        if text != self.plate.notes:
            self._take(self.plate.with_(notes=text), "Notes of the plate")

    def _move(self, by: int) -> None:
        self._document.edit(moved_plate(self._document.study, self.plate.id, by), "Move the plate")

    def show_plate(self, plate: Plate) -> None:
        """Show another value of it."""
        self.plate = plate
        if not (self.name.hasFocus() and self.name.isModified()):
            self.name.setText(plate.name)
        if not self.notes.hasFocus() and self.notes.toPlainText() != plate.notes:
            self.notes.setPlainText(plate.notes)


class PlatesSection(QWidget):
    """All plates, in their order."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self._document, self._act = document, act
        self.rows: list[PlateRow] = []
        self._list = QVBoxLayout()
        self._list.setSpacing(10)
        hint = label("A plate keeps what is seen now: camera, lit cards, keys, time and ground. Going to one is one step of undo.", "soft")
        column(self, hint, self._list)

    def refresh(self) -> None:
        """Show the plates that there are."""
        plates = self._document.study.plates
        if [r.plate.id for r in self.rows] != [p.id for p in plates]:
            for one in self.rows:
                self._list.removeWidget(one)
                one.hide()
                one.deleteLater()
            self.rows = [PlateRow(self._document, self._act, plate) for plate in plates]
            for one in self.rows:
                self._list.addWidget(one)
        for one, plate in zip(self.rows, plates, strict=True):
            one.show_plate(plate)
