"""How a study is run over cases and steps: which, and what is made."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QLineEdit, QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, IconButton, NumberField, column, label, row
from tidal_lens.app.stations.station import Act
from tidal_lens.errors import StudyError
from tidal_lens.tell.steps import chosen_steps
from tidal_lens.work import WORKERS

_KINDS = (("pictures", "Pictures", "A picture of each plate; where there is none, of what the study shows"),
          ("tables", "Tables", "Tables of all measures and findings, and a summary of their numbers"),
          ("report", "Reports", "A report of each case and step"))


class RunSection(QWidget):
    """Cases, steps, what is made, and by how many processes."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self._document = document
        self.more = QPushButton("More cases…")
        self.more.setToolTip("Run the study over other results too")
        self.more.clicked.connect(lambda: act("run-case"))
        self.cases: list[QWidget] = []
        self._list = QVBoxLayout()
        self._list.setSpacing(0)
        self._shown: tuple[str, ...] | None = None
        self.steps = QLineEdit()
        self.steps.setAccessibleName("Steps")
        self.steps.setToolTip("Of series: all, last, or numbers and ranges such as 0-10:2, 15; nothing for the step that is shown")
        self.steps.editingFinished.connect(self._say_steps)
        self.kinds = {name: Check(title, tip, partial(self._choose, name)) for name, title, tip in _KINDS}
        self.workers = NumberField("Processes", "How many processes work at a time, one thread each", 1.0, 1.0, 64.0)
        self.workers.whole = True
        self.workers.edited.connect(lambda v: self._take(workers=int(v)))
        column(self, label("Cases: this one first", "soft"), self._list, row("", self.more, stretch=1), row("Steps", self.steps, stretch=1),
               row("Make", *self.kinds.values()), row("Processes", self.workers),
               label("Writes a folder for each case and a summary as CSV. Broken off, it goes on where it was; 'tidal-lens run' does the "
                     "same without a window, also on a cluster.", "soft"))

    def _take(self, **changes: object) -> None:
        study = self._document.study
        self._document.edit(study.with_(run=study.run.with_(**changes)), "Run")

    def _choose(self, name: str, there: bool) -> None:
        self._take(**{name: there})

    def _say_steps(self) -> None:
        text = self.steps.text().strip()
        if text == self._document.study.run.steps:
            return
        try:
            if text:
                chosen_steps(text, 10_000_000)
        except StudyError as error:
            self._document.tell(error)
            self.steps.setText(self._document.study.run.steps)
            return
        self._take(steps=text[:200])

    def _leave(self, path: str) -> None:
        self._take(cases=tuple(p for p in self._document.study.run.cases if p != path))

    def refresh(self) -> None:
        """Show what the study says."""
        said = self._document.study.run
        if not (self.steps.hasFocus() and self.steps.isModified()):
            self.steps.setText(said.steps)
        for name, kind in self.kinds.items():
            kind.setChecked(bool(getattr(said, name)))
        self.workers.show_value(said.workers or WORKERS)
        if said.cases == self._shown:
            return
        self._shown = said.cases
        for old in self.cases:
            self._list.removeWidget(old)
            old.hide()
            old.deleteLater()
        self.cases = [self._row(path) for path in said.cases]
        for one in self.cases:
            self._list.addWidget(one)

    def _row(self, path: str) -> QWidget:
        out = QWidget()
        name = label(Path(path).name)
        name.setToolTip(path)
        away = IconButton("trash-2", f"Leave out {Path(path).name}", "Run without this case", lambda: self._leave(path), size=15)
        column(out, row(name, away, stretch=0))
        return out
