"""How reports are made: their title, what is said first, and which parts stand in which order."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, IconButton, column, label, row
from tidal_lens.app.telling.plates import Notes
from tidal_lens.study.telling import PART_TITLES, PARTS, Part


class _PartRow(QWidget):
    """One part: whether it is in, and its place."""

    def __init__(self, section: ReportSection, part: Part) -> None:
        super().__init__()
        self.part = part
        title = PART_TITLES[part]
        self.there = Check(title, f"{title}: in the report", partial(section.put, part))
        self.earlier = IconButton("step-back", "Earlier", f"Move {title.lower()} towards the beginning", partial(section.shift, part, -1),
                                  size=15)
        self.later = IconButton("step-on", "Later", f"Move {title.lower()} towards the end", partial(section.shift, part, 1), size=15)
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(2)
        line.addWidget(self.there)
        line.addStretch(1)
        line.addWidget(self.earlier)
        line.addWidget(self.later)


class ReportSection(QWidget):
    """Title, words, parts."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self.title = QLineEdit()
        self.title.setAccessibleName("Title of the report")
        self.title.setToolTip("Title of the report; that of the case where nothing is said")
        self.title.editingFinished.connect(self._name)
        self.words = Notes("", self._say)
        self.words.setAccessibleName("What the report says first")
        self.words.setPlaceholderText("What is said first")
        self.words.setFixedHeight(66)
        self.words.setTabChangesFocus(True)
        self.parts: dict[Part, _PartRow] = {part: _PartRow(self, part) for part in PARTS}
        self._order: tuple[Part, ...] = ()
        self._list = QVBoxLayout()
        self._list.setSpacing(0)
        for one in self.parts.values():
            self._list.addWidget(one)
        column(self, row("Title", self.title, stretch=1), self.words, self._list,
               label("One HTML file with a model that turns, for any browser and without a network, or a DOCX document with the same "
                     "content.", "soft"))

    def put(self, part: Part, there: bool) -> None:
        """Take a part in, or leave it out."""
        parts = self._document.study.report.parts
        self._take(parts=(*parts, part) if there else tuple(p for p in parts if p != part))

    def shift(self, part: Part, by: int) -> None:
        """Move a part towards the beginning or the end."""
        parts = list(self._document.study.report.parts)
        if part in parts:
            at = parts.index(part)
            parts.insert(max(0, min(at + by, len(parts) - 1)), parts.pop(at))
            self._take(parts=tuple(parts))

    def _name(self) -> None:
        if self.title.text().strip() != self._document.study.report.title:
            self._take(title=self.title.text().strip()[:200])

    def _say(self, text: str) -> None:
        if text != self._document.study.report.words:
            self._take(words=text)

    def _take(self, **changes: object) -> None:
        study = self._document.study
        self._document.edit(study.with_(report=study.report.with_(**changes)), "Report")

    def refresh(self) -> None:
        """Show what the study says."""
        said = self._document.study.report
        flow = self._document.flow
        if not (self.title.hasFocus() and self.title.isModified()):
            self.title.setText(said.title)
        self.title.setPlaceholderText(flow.title if flow is not None else "")
        if not self.words.hasFocus() and self.words.toPlainText() != said.words:
            self.words.setPlainText(said.words)
        order = (*said.parts, *(p for p in PARTS if p not in said.parts))
        if order != self._order:
            self._order = order
            for one in self.parts.values():
                self._list.removeWidget(one)
            for part in order:
                self._list.addWidget(self.parts[part])
        for part, one in self.parts.items():
            one.there.setChecked(part in said.parts)
            one.earlier.setEnabled(part in said.parts and part != said.parts[0])
            one.later.setEnabled(part in said.parts and part != said.parts[-1])
