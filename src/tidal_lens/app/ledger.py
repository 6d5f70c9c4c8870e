"""The ledger: what has been found and measured, and charts. It folds away while it is empty."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.beside_entry import BesideEntry
from tidal_lens.app.charts import CurvesPanel
from tidal_lens.app.course_entry import CourseEntry
from tidal_lens.app.document import Document
from tidal_lens.app.finding_entry import Act, FindingEntry
from tidal_lens.app.findings import Findings
from tidal_lens.app.histories import Histories
from tidal_lens.app.measure_entry import MeasureEntry
from tidal_lens.app.parts import IconButton, NumberField, Picker, column, label, row
from tidal_lens.app.table_entry import TableEntry
from tidal_lens.measures.history import STEADY, verdict


class HistoryEntry(QWidget):
    """Verdict and curves of the run's history."""

    def __init__(self, document: Document, histories: Histories) -> None:
        super().__init__()
        self.document, self.histories = document, histories
        self.name = label("", "head")
        self.state = label("", "head")
        self.verdict = label("")
        self.verdict.setWordWrap(True)
        self.verdict.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.criterion = NumberField("Convergence criterion", "Part of its early greatest value that a residual must fall to", 1e-3,
                                     1e-12, 0.999)
        self.criterion.edited.connect(lambda v: document.edit(document.study.with_(criterion=v), "Convergence criterion"))
        self.of_curve = Picker("Curve", "Which curve has a criterion of its own")
        self.own = NumberField("Its own criterion", "Part of its early greatest value that a residual must fall to; of others, the share "
                               "of its size that a value may still move by", 1e-3, 1e-12, 0.999)
        self.of_curve.activated.connect(lambda _at: self.refresh())
        self.own.edited.connect(self._say_own)
        self.following = label("", "soft")
        self.stop = QPushButton("Stop following")
        self.stop.setToolTip("Look into the folder no longer; what is open stays")
        self.stop.clicked.connect(histories.stop)
        self.panels: dict[str, CurvesPanel] = {}
        self._curves = QVBoxLayout()
        self._curves.setSpacing(8)
        head = QHBoxLayout()
        head.addWidget(self.name, 1)
        head.addWidget(IconButton("x", "Close the history", "Close the history", self._close, size=16))
        column(self, head, self.following, self.stop, self.state, self.verdict,
               row("Criterion", self.criterion, stretch=1), row(self.of_curve, self.own, stretch=0), self._curves)
        document.study_changed.connect(self.refresh)
        histories.changed.connect(self.refresh)
        theme.hub().changed.connect(self.refresh)
        self.refresh()

    def _say_own(self, value: float) -> None:
        study = self.document.study
        self.document.edit(study.with_(criteria={**study.criteria, self.of_curve.currentText(): value}), "Convergence criterion")

    def _close(self) -> None:
        self.histories.stop()
        self.document.edit(self.document.study.with_(history=""), "Close history")

    def refresh(self) -> None:
        """Show what there is."""
        history, folder = self.histories.history, self.histories.folder
        self.setVisible(history is not None or folder is not None)
        self.following.setVisible(folder is not None)
        self.stop.setVisible(folder is not None)
        if folder is not None:
            steps = self.histories.steps_seen
            self.following.setText(f"Following {folder.name}: {steps} step{'s' if steps != 1 else ''} so far")
            self.following.setToolTip(str(folder))
        self.name.setText(self.histories.path.name if self.histories.path is not None else "History")
        self.criterion.show_value(self.document.study.criterion)
        if history is None:
            self.state.setText("")
            self.verdict.setText("There is no history yet." if folder is not None else "")
            return
        study, names = self.document.study, [c.name for c in history.curves]
        self.of_curve.offer(names, max(self.of_curve.currentIndex(), 0) if names else -1)
        name = self.of_curve.currentText()
        residual = any(c.name == name and c.residual for c in history.curves)
        self.own.show_value(study.criteria.get(name, study.criterion if residual else STEADY))
        said = verdict(history, study.criterion, study.criteria)
        first, _, rest = said.text.partition("\n")
        self.state.setText(first)
        self.verdict.setText(rest)
        for title, curves, logarithmic in (("Residuals", history.residuals, True), ("Coefficients and monitors", history.others, False)):
            if curves and title not in self.panels:
                self.panels[title] = CurvesPanel(title, logarithmic=logarithmic)
                self._curves.addWidget(self.panels[title])
            if title in self.panels:
                self.panels[title].setVisible(bool(curves))
                self.panels[title].show_curves(history, curves, study.criterion, study.criteria)


class Ledger(QWidget):
    """The panel on the right."""

    def __init__(self, document: Document, histories: Histories, findings: Findings, act: Act) -> None:
        super().__init__()
        self.setObjectName("ledgerframe")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(320)
        self.folded = False
        self.history = HistoryEntry(document, histories)
        picks = findings.picks
        self.table = TableEntry(document, picks)
        self.found = FindingEntry(document, findings, act)
        self.measure = MeasureEntry(document, act, histories)
        self.beside = BesideEntry(document, act)
        self.course = CourseEntry(document)
        page = QWidget()
        page.setObjectName("benchpage")
        inside = QVBoxLayout(page)
        inside.setContentsMargins(12, 10, 12, 12)
        inside.addWidget(label("Ledger", "title"))
        inside.addWidget(self.found)
        inside.addWidget(self.measure)
        inside.addWidget(self.beside)
        inside.addWidget(self.course)
        inside.addWidget(self.table)
        inside.addWidget(self.history)
        inside.addStretch(1)
        scroller = QScrollArea()
        scroller.setObjectName("bench")
        scroller.setWidgetResizable(True)
        scroller.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroller.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroller.setWidget(page)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(1, 0, 0, 0)
        outer.addWidget(scroller)
        histories.changed.connect(self._show_if_needed)
        picks.changed.connect(self.unfold)
        document.chosen_changed.connect(self._show_if_needed)
        document.study_changed.connect(self._show_if_needed)
        document.result_changed.connect(lambda _id: self._show_if_needed())
        document.beside.changed.connect(self._show_if_needed)
        self._histories = histories
        self._show_if_needed()

    def _show_if_needed(self) -> None:
        history = self._histories.history is not None or self._histories.folder is not None
        something = history or any(e.is_wanted for e in (self.found, self.measure, self.beside, self.course, self.table))
        self.setVisible(something and not self.folded)

    def look(self, station: str) -> None:
        """Another station is gone to."""
        self.course.look(at_station=station == "measure")
        self._show_if_needed()

    def unfold(self) -> None:
        """A line was chosen, or something is looked for: it is to be seen."""
        self.folded = self.folded and not (self.table.is_wanted or self.found.is_wanted)
        self._show_if_needed()

    def show_table(self) -> None:
        """List what the chosen card tells, or put the list away."""
        self.table.toggle()
        self.unfold()

    def fold(self) -> None:
        """Hide or show the ledger."""
        self.folded = self.isVisible()
        self._show_if_needed()
