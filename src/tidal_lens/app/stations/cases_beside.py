"""Cases beside the first: how they are shown, which of their steps goes with the first's, and taking them away."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, IconButton, NumberField, Picker, column, label, row
from tidal_lens.study.model import OtherCase, Study

_WAYS = ("time", "phase", "number")
_SAID = ["nearest in time", "same phase", "same number"]


class _OneCase(QWidget):
    """One of them: its name, its steps, and a button that takes it away."""

    def __init__(self, document: Document, number: int) -> None:
        super().__init__()
        self._document, self._number = document, number
        self.name = label("")
        self.away = IconButton("trash-2", "Take away", "Show this case no longer; cards of it alone go with it",
                               lambda: document.edit(document.study.without_case(number), "Take a case away"))
        self.by = Picker("Step", "Which of its steps goes with the one that is shown of the first")
        self.by.activated.connect(lambda at: self._set("Step of the other case", by=_WAYS[at]))
        self.shift = NumberField("Later by", "Added to the first's time, phase (1 is once round) or number before", 0.1)
        self.shift.edited.connect(lambda value: self._set("Step of the other case", shift=value))
        self.steps = QWidget()
        column(self.steps, row("Step", self.by, stretch=1), row("Later by", self.shift, stretch=1), spacing=4)
        column(self, row(self.name, self.away, stretch=0), self.steps, spacing=4)

    def _set(self, what: str, **changes: object) -> None:
        study = self._document.study
        others = tuple(o.with_(**changes) if n == self._number else o for n, o in enumerate(study.others, 1))
        self._document.edit(study.with_(others=others), what)

    def refresh(self, study: Study, other: OtherCase, *, in_time: bool) -> None:
        """Show what is said of it."""
        self.name.setText(study.case_titles[self._number])
        self.name.setToolTip(other.path)
        self.steps.setVisible(in_time)
        self.by.offer(_SAID, _WAYS.index(other.by))
        self.shift.show_value(other.shift)


class CasesBeside(QWidget):
    """All of them; hidden while there are none."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self.how = Choice([("split", "Side by side", "Views of their own, with one camera, one time and one set of keys"),
                           ("wipe", "Wipe", "Both in one view, with a divider to be dragged across"),
                           ("first", "First alone", "The first alone is drawn; numbers are those of all")])
        self.how.picked.connect(lambda value: document.edit(document.study.with_(beside=value), "How cases are shown"))
        self.rows: list[_OneCase] = []
        self._list = QVBoxLayout()
        self._list.setSpacing(6)
        column(self, label("Cases beside the first", "soft"), self.how, self._list, spacing=6)
        document.study_changed.connect(self.refresh)
        document.beside.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show what there is."""
        study, cases = self._document.study, self._document.beside.cases
        self.setVisible(bool(study.others))
        while len(self.rows) < len(study.others):
            self.rows.append(_OneCase(self._document, len(self.rows) + 1))
            self._list.addWidget(self.rows[-1])
        for number, one in enumerate(self.rows, 1):
            one.setVisible(number <= len(study.others))
            if number <= len(study.others):
                there = cases.get(number)
                one.refresh(study, study.others[number - 1], in_time=there is not None and there.series is not None)
        self.how.show_value(study.beside)
