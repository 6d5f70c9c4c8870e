"""Findings in the ledger: the list, and what is known of the chosen one and can be done with it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QPushButton, QWidget

from tidal_lens.app import theme
from tidal_lens.app.chart_view import ChartView
from tidal_lens.app.document import Document
from tidal_lens.app.finding_list import FindingList
from tidal_lens.app.findings import Findings
from tidal_lens.app.parts import Picker, column, label, row
from tidal_lens.features.finding import Finding, Number
from tidal_lens.study.charts import Chart, Curve
from tidal_lens.study.tables import Table

Act = Callable[..., None]


class FindingDetail(QWidget):
    """The chosen finding: what is done with it, its numbers, what speaks for and against it, a curve along it."""

    def __init__(self, document: Document, findings: Findings, act: Act) -> None:
        super().__init__()
        self._document, self._findings = document, findings
        self.curve_on = self.time_on = False
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the finding")
        self.name.setToolTip("What the finding is called, remembered by its place")
        self.name.editingFinished.connect(self._rename)
        self.sort = label("", "soft")
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        self.buttons: dict[str, QPushButton] = {}
        for n, (name, text, tip) in enumerate((
                ("go", "Go there", "Bring it into the picture"), ("cut", "Cut across", "Lay a slice across it, moved along it by its bead"),
                ("seed", "Seed around", "Trace lines round it: ribbons round a vortex"),
                ("profile", "Profile", "Draw quantities along a line through it: across a shock or a core, off a wall"),
                ("curve", "Curve", "Draw a number along it"),
                ("keep", "Keep", "Show it whatever the strictness; again: let the sliders decide"),
                ("time", "Over time", "Look for it at all steps of the series: its numbers become curves"),
                ("dismiss", "Dismiss", "Show it no longer (Del); again: bring it back"))):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _on=False, i=name: act(f"finding-{i}"))
            self.buttons[name] = button
            grid.addWidget(button, n // 3, n % 3)
        self.numbers = label("")
        self.numbers.setTextFormat(Qt.TextFormat.RichText)
        self.numbers.setWordWrap(True)
        self.reasons = label("", "soft")
        self.reasons.setTextFormat(Qt.TextFormat.RichText)
        self.reasons.setWordWrap(True)
        self.which = Picker("Number along it", "Which number is drawn along the finding")
        self.which.activated.connect(lambda _at: self.refresh())
        self.save = QPushButton("Save CSV…")
        self.save.setToolTip("Save all numbers along it as a table")
        self.save.clicked.connect(lambda: act("save-finding-curve"))
        self.along = row(self.which, self.save, stretch=0)
        self.chart = ChartView()
        column(self, row(self.name, stretch=0), self.sort, grid, self.along, self.chart, self.numbers, self.reasons, spacing=6)

    def _rename(self) -> None:
        found = self._findings.chosen
        text = self.name.text().strip()[:60]
        if found is not None and text and text != found[1].name:
            self._findings.say(name=text)

    def toggle_curve(self) -> None:
        """Draw a number along the finding, or put it away."""
        self.curve_on, self.time_on = not self.curve_on or self.time_on, False
        self.refresh()

    def over_time(self) -> None:
        """Follow the finding through the steps."""
        self.time_on = True
        self._findings.follow_in_time()

    def table(self) -> Table | None:
        """All numbers along the chosen finding: where, how far along it, and each; or over time where that is shown."""
        found, through = self._findings.chosen, self._findings.through_time
        if found is not None and self.time_on and through is not None and through[0] == found[1].name:
            return through[1]
        if found is None or not found[1].finding.curves:
            return None
        finding = found[1].finding
        columns = [finding.line[:, 0], finding.line[:, 1], finding.line[:, 2], lengths(finding), *finding.curves.values()]
        rows = tuple(zip(*(c.tolist() for c in columns), strict=True))
        return Table(found[1].name, ("x", "y", "z", "length along it", *finding.curves), rows)

    def refresh(self) -> None:
        """Show the chosen finding."""
        found = self._findings.chosen
        self.setVisible(found is not None)
        if found is None:
            return
        own = found[1]
        finding = own.finding
        units, tell = self._document.units, teller(self._document)
        if not self.name.hasFocus():
            self.name.setText(own.name)
        self.sort.setText(finding.sort)
        self.buttons["keep"].setText("Kept" if own.verdict == "keep" else "Keep")
        self.buttons["dismiss"].setText("Bring back" if own.verdict == "dismiss" else "Dismiss")
        flow, through = self._document.flow, self._findings.through_time
        self.buttons["time"].setEnabled(flow is not None and len(flow.times) > 1)
        timed = self.time_on and through is not None and through[0] == own.name
        curves = list(finding.curves) if not timed or through is None else list(through[1].heads[1:])
        self.buttons["curve"].setEnabled(bool(finding.curves))
        self.buttons["curve"].setToolTip("Draw a number along it" if finding.curves else "It has no line to draw a number along")
        on = (self.curve_on or timed) and bool(curves)
        for widget in (self.which, self.save, self.chart):
            widget.setVisible(on)
        if on:
            first = next((n.name for n in finding.numbers if n.name in curves), curves[0])
            chosen = self.which.currentText() if self.which.currentText() in curves else first
            self.which.offer(curves, curves.index(chosen))
            if timed and through is not None:
                heads, rows = through[1].heads, through[1].rows
                values = np.array([[c if isinstance(c, float) else np.nan for c in r] for r in rows])
                curve = Curve(own.name, values[:, heads.index("time")], values[:, heads.index(chosen)])
                self.chart.show_chart(units.chart(Chart("time", chosen, (curve,))), number=units.number)
            else:
                curve = Curve(own.name, lengths(finding), finding.curves[chosen], places=finding.line)
                self.chart.show_chart(units.chart(Chart("length along it", chosen, (curve,))), number=units.number)
        soft = theme.colour("soft").name()
        self.numbers.setText("".join(f'<div><span style="color:{soft}">{n.name}</span>&nbsp; {tell(n)}</div>'
                                     for n in finding.numbers))
        told = [f"Trust {finding.trust:.0%}. It passes up to strictness {finding.score:.2f}.", *finding.told,
                *(f"{'●' if r.share >= 0.6 else '◐' if r.share >= 0.3 else '○'} {r.words}" for r in finding.reasons)]
        self.reasons.setText("".join(f"<div>{line}</div>" for line in told))


def teller(document: Document) -> Callable[[Number], str]:
    """How numbers of findings are told."""
    si = document.flow is not None and document.flow.si_units
    units = document.units
    return lambda number: units.finding_number(number, si=si)


def lengths(finding: Finding) -> NDArray[np.float64]:
    """How far along its line each point of a finding is."""
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(finding.line, axis=0), axis=1))])


class FindingEntry(QWidget):
    """All findings, those of each card under its name."""

    def __init__(self, document: Document, findings: Findings, act: Act) -> None:
        super().__init__()
        self._document, self._findings = document, findings
        self.list = FindingList()
        self.detail = FindingDetail(document, findings, act)
        self.list.picked.connect(findings.choose)
        self.list.gone_to.connect(findings.go_there)
        self.busy = label("", "soft")
        column(self, self.detail, self.busy, self.list, spacing=8)
        document.study_changed.connect(self.refresh)
        document.result_changed.connect(lambda _id: self.refresh())
        findings.picks.changed.connect(self.refresh)
        self.hide()

    @property
    def is_wanted(self) -> bool:
        """Whether there is any finder's card."""
        return any(x.shape.finds for x in self._document.study.layers)

    def refresh(self) -> None:
        """Show what was found."""
        self.setVisible(self.is_wanted)
        if not self.is_wanted:
            if self.list.rows:
                self.list.show_rows([], None, teller(self._document))
            return
        cards = self._findings.cards()
        looking = [x.name for x in self._document.study.layers if x.shape.finds and x.id not in self._document.asking.results
                   and self._document.study.is_drawn(x) and x.id not in self._document.asking.failures]
        self.busy.setText(f"Looking for {', '.join(looking).lower()}…" if looking else "")
        self.busy.setVisible(bool(looking))
        self.list.show_rows(cards, self._findings.picks.of, teller(self._document))
        self.detail.refresh()
