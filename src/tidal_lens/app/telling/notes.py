"""Notes as rows: what they say, how large, framed or not, and what they point to."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, IconButton, NumberField, Picker, column, label, row, rule
from tidal_lens.app.stations.station import Act
from tidal_lens.app.telling.plates import Notes
from tidal_lens.study.noted import offered, with_note, without_note
from tidal_lens.study.notes import FACTS, Note

_ADDS = (("note-add", "Text", "Write something over the view"), ("note-title", "Title", "Write the case and its facts at the top"),
         ("note-bar", "Bar", "Lay a bar with its length over the view"), ("note-picture", "Picture…", "Lay a picture over the view"))


class _NoteRow(QWidget):
    """One note."""

    def __init__(self, section: NotesSection, document: Document, note: Note) -> None:
        super().__init__()
        self._document, self._section, self.note = document, section, note
        self.text = Notes(note.text, self._say)
        self.text.setAccessibleName("Text of the note")
        self.text.setPlaceholderText("Beside its length" if note.sort == "bar" else "What it says")
        self.text.setFixedHeight(30 if note.sort == "bar" else 52)
        self.text.setTabChangesFocus(True)
        self.insert = Picker("Put in", "Put in a fact or a number that stays true when it changes")
        self.insert.activated.connect(self._insert)
        self.letters = NumberField("Size", "Size of its letters in points", 1.0, 5.0, 96.0)
        self.letters.edited.connect(lambda v: self.take("Size of the note", size=v))
        self.wide = NumberField("Length", "Length of the bar; 0: a round one that fits", 0.1, 0.0, 1e9)
        self.wide.edited.connect(lambda v: self.take("Length of the bar", wide=v))
        self.frame = Check("Frame", "Stand it on a plate with a frame", lambda on: self.take("Frame of the note", frame=on))
        self.bold = Check("Bold", "Bold letters", lambda on: self.take("Letters of the note", bold=on))
        self.arrow = Check("Arrow", "Let an arrow go to a place of the flow", self._point)
        self.hangs = Check("Hangs", "Let it move with that place of the flow, rather than stay where it is in the view",
                           lambda on: self.take("Where the note hangs", hangs=on))
        self.away = IconButton("trash-2", "Remove the note", "Remove the note", self._remove, size=15)
        self.lamp = Check("Shown", "Show the note", lambda on: self.take("Show the note" if on else "Hide the note", shown=on))
        ticks, more = QHBoxLayout(), QHBoxLayout()
        for line, ones in ((ticks, (self.lamp, self.frame, self.bold)), (more, (self.arrow, self.hangs))):
            line.setSpacing(8)
            for one in ones:
                line.addWidget(one)
            line.addStretch(1)
        more.addWidget(self.away)
        lines = [row("Put in", self.insert, stretch=1)] if note.sort == "text" else []
        sizes = row("Size, pt", self.letters) if note.sort == "text" else row("Size, pt", self.letters, "wide", self.wide)
        column(self, self.text, *lines, sizes, ticks, more, rule(), spacing=4)
        self._offers: list[str] = []

    def take(self, what: str, **changes: object) -> None:
        """Change the note."""
        document = self._document
        document.edit(with_note(document.study, self.note.with_(**changes)), what)

    def _say(self, text: str) -> None:
        if text != self.note.text:
            self.take("Text of the note", text=text[:4000])

    def _insert(self, at: int) -> None:
        if 0 < at < len(self._offers):
            gap = " " if self.note.text and not self.note.text[-1].isspace() else ""
            self.take("Text of the note", text=f"{self.note.text}{gap}{{{self._offers[at]}}}"[:4000])

    def _point(self, there: bool) -> None:
        camera = self._document.camera
        if there and camera is not None:
            x, y, z = (float(f"{c:.6g}") for c in camera.focus)
            self.take("Arrow of the note", at=(x, y, z))
        else:
            self.take("Arrow of the note", at=None, hangs=False)

    def _remove(self) -> None:
        document = self._document
        document.edit(without_note(document.study, self.note.id), "Remove the note")

    def show_note(self, note: Note) -> None:
        """Show another value of it."""
        self.note = note
        if not self.text.hasFocus() and self.text.toPlainText() != note.text:
            self.text.setPlainText(note.text)
        self.letters.show_value(note.size)
        self.wide.show_value(note.wide)
        for box, on in ((self.frame, note.frame), (self.bold, note.bold), (self.arrow, note.at is not None), (self.hangs, note.hangs),
                        (self.lamp, note.shown)):
            box.setChecked(on)
        self.hangs.setEnabled(note.at is not None)
        document = self._document
        self._offers = ["", *FACTS, *offered(document.study, document.asking.results)]
        self.insert.offer(["a fact or a number", *self._offers[1:]], 0)


class NotesSection(QWidget):
    """All notes."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self._document = document
        self.rows: list[_NoteRow] = []
        adds = QHBoxLayout()
        adds.setSpacing(4)
        self.adds: dict[str, QToolButton] = {}
        for command, name, tip in _ADDS:
            button = self.adds[command] = QToolButton()
            button.setText(name)
            button.setAccessibleName(f"{name}: add a note")
            button.setProperty("role", "pick")
            button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            button.setToolTip(tip)
            button.clicked.connect(lambda _on=False, c=command: act(c))
            adds.addWidget(button)
        self._list = QVBoxLayout()
        self._list.setSpacing(8)
        column(self, adds, self._list,
               label("Drag a note to move it; the bead at the end of its arrow to another place. What stands in braces, such as {mach} or "
                     "{Forces: CL}, is put in as it is now. Plates remember which notes are shown.", "soft"))
        document.result_changed.connect(self._known)
        document.noted_changed.connect(self._go)

    def _known(self, _layer: str) -> None:
        if self.isVisible():
            self.refresh()

    def _go(self, typing: bool) -> None:
        """A note was chosen in the view."""
        chosen = next((r for r in self.rows if r.note.id == self._document.noted), None)
        if chosen is not None and typing:
            chosen.text.setFocus()
            chosen.text.selectAll()

    def refresh(self) -> None:
        """Show the notes that there are."""
        notes = self._document.study.notes
        if [r.note.id for r in self.rows] != [n.id for n in notes]:
            for one in self.rows:
                self._list.removeWidget(one)
                one.hide()
                one.deleteLater()
            self.rows = [_NoteRow(self, self._document, note) for note in notes]
            for one in self.rows:
                self._list.addWidget(one)
        for one, note in zip(self.rows, notes, strict=True):
            one.show_note(note)
