"""The chosen measure in the ledger: its numbers, its charts, and how they are saved."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QApplication, QBoxLayout, QPushButton, QWidget

from tidal_lens.app import theme
from tidal_lens.app.chart_view import ChartView
from tidal_lens.app.document import Document
from tidal_lens.app.expected_entry import ExpectedEntry
from tidal_lens.app.histories import Histories
from tidal_lens.app.parts import column, label, row
from tidal_lens.app.trust_entry import TrustEntry
from tidal_lens.study.kinds.kind import Made
from tidal_lens.study.model import Layer
from tidal_lens.study.shown import InUnits
from tidal_lens.study.side_by_side import charts_beside
from tidal_lens.study.tables import Table

Act = Callable[..., None]
_REACH = 0.03  # of the body's length: so near a curve's place is what is pointed at in the view


class MeasureEntry(QWidget):
    """What the chosen card of a measure came to.

    Signals
    -------
    pointed(object)
        The place (3,) of what is pointed at in a chart, or None.
    shown
        Another card, or other charts.

    Parameters
    ----------
    document : Document
        Whose chosen card it is.
    act : callable
        Carries out a command by its id.
    histories : Histories
        The solver's own numbers.
    """

    pointed = pyqtSignal(object)
    shown = pyqtSignal()

    def __init__(self, document: Document, act: Act, histories: Histories) -> None:
        super().__init__()
        self._document = document
        self._lifted = False
        self._seen: tuple[object, ...] = ()
        self.name = label("", "head")
        self.told = label("", "soft")
        self.told.setWordWrap(True)
        self.charts: list[ChartView] = []
        self.holder = QWidget()
        self._charts = QBoxLayout(QBoxLayout.Direction.TopToBottom, self.holder)
        self._charts.setContentsMargins(0, 0, 0, 0)
        self.numbers = label("")
        self.numbers.setTextFormat(Qt.TextFormat.RichText)
        self.numbers.setWordWrap(True)
        self.numbers.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.save = QPushButton("Save CSV…")
        self.save.setToolTip("Save all numbers of the card as a table")
        self.save.clicked.connect(lambda: act("save-table"))
        self.picture = QPushButton("Picture…")
        self.picture.setToolTip("Save the charts as pictures: PNG or SVG")
        self.picture.clicked.connect(lambda: act("save-charts"))
        self.copy = QPushButton("Copy")
        self.copy.setToolTip("Copy the numbers as a table, to be pasted elsewhere")
        self.copy.clicked.connect(self._copy)
        self.lift = QPushButton("Lift")
        self.lift.setToolTip("Lift the charts to half of the view, or lay them back (U)")
        self.lift.clicked.connect(lambda: act("lift-charts"))
        self.taps = QPushButton("Experiment…")
        self.taps.setToolTip("Lay measured points over the curves: a table with columns x, y, z and the quantity")
        self.taps.clicked.connect(lambda: act("lay-taps"))
        self.expected = ExpectedEntry(document, histories)
        self.trust = TrustEntry(document)
        lines = row(self.save, self.copy, stretch=0), row(self.picture, self.lift, stretch=0)
        self._column = column(self, self.name, self.told, self.holder, *lines, self.taps,
                              self.numbers, self.trust, self.expected, spacing=6)
        document.chosen_changed.connect(self.refresh)
        document.study_changed.connect(self.refresh)
        document.result_changed.connect(lambda layer_id: self.refresh() if layer_id == document.chosen else None)
        theme.hub().changed.connect(self._anew)
        self.refresh()

    @property
    def is_wanted(self) -> bool:
        """Whether the chosen card is a measure that came to something."""
        layer = self._document.chosen_layer
        return layer is not None and layer.shape.measures and layer.id in self._document.asking.results

    @property
    def has_charts(self) -> bool:
        """Whether the chosen card has any."""
        return self.is_wanted and bool(self._seen) and any(not v.isHidden() for v in self.charts)

    def _copy(self) -> None:
        """The numbers, else the first table, with tabs between cells."""
        made, clipboard = self._seen[0] if self._seen else None, QApplication.clipboard()
        if isinstance(made, Made) and made.tables and clipboard is not None:
            table = self._document.units.table(next((t for t in made.tables if t.heads[0] == "what"), made.tables[0]))
            clipboard.setText("\n".join("\t".join(f"{c:.9g}" if isinstance(c, float) else c for c in row) for row in table.whole))

    def take_back(self) -> None:
        """Charts stand here again."""
        self._column.insertWidget(2, self.holder)

    def let_grow(self, *, freely: bool) -> None:
        """Charts take the height that there is, or a fixed one."""
        self._lifted = freely
        self.lift.setText("Lay back" if freely else "Lift")
        # There is room beside one another then.
        self._charts.setDirection(QBoxLayout.Direction.LeftToRight if freely else QBoxLayout.Direction.TopToBottom)
        for view in self.charts:
            view.grow(freely=freely)

    def mark_place(self, place: object) -> None:
        """What is seen at a place of the view is ringed in the charts."""
        flow = self._document.flow
        for view in self.charts if flow is not None and self.isVisible() else ():
            if not view.isHidden() and flow is not None:
                view.mark_place(place if isinstance(place, np.ndarray) else None, _REACH * flow.length)

    def _elsewhere(self, layer: Layer) -> dict[int, Made]:
        """What the card came to in other cases."""
        if layer.case is not None:
            return {}
        found = {n: one.asking.results.get(layer.id) for n, one in sorted(self._document.beside.cases.items())}
        return {n: result.unmasked for n, result in found.items() if result is not None}

    def _anew(self) -> None:
        self._seen = ()
        self.refresh()

    def refresh(self) -> None:
        """Show what there is."""
        self.setVisible(self.is_wanted)
        layer, result = self._document.chosen_layer, self._document.asking.results.get(self._document.chosen or "")
        if not self.is_wanted or layer is None or result is None:
            self.pointed.emit(None)
            self.shown.emit()
            return
        made, others = result.unmasked, self._elsewhere(layer)
        units = self._document.units
        seen = (made, layer.name, layer.look, tuple(map(id, others.values())), self._document.study.case_titles, units.setting)
        if self._seen and seen[0] is self._seen[0] and seen[1:] == self._seen[1:]:
            return
        self._seen = seen
        if others:
            titles = self._document.study.case_titles
            charts = charts_beside([made.charts, *(one.charts for one in others.values())], [titles[n] for n in (0, *others)])
            made = replace(made, charts=charts)
        self.name.setText(layer.name)
        self.told.setText(made.told_in(units))
        self.taps.setVisible(layer.shape.takes_taps)
        while len(self.charts) < len(made.charts):
            self.charts.append(ChartView())
            self.charts[-1].pointed.connect(self.pointed.emit)
            self._charts.addWidget(self.charts[-1])
        look = layer.look
        colour = look.colour if look.on in ("lines", "points") and look.colour_by is None else ""
        for n, view in enumerate(self.charts):
            view.setVisible(n < len(made.charts))
            if n < len(made.charts):
                view.show_chart(units.chart(made.charts[n]), colour, units.number)
                view.grow(freely=self._lifted)
        for button in (self.picture, self.lift):
            button.setVisible(bool(made.charts))
        # Rows of curves are for files: what has a chart of its own rows is not told in words as well.
        table = next((t for t in made.tables if t.heads[0] == "what"), None)
        self.numbers.setText(_html(units.table(table), units) if table is not None else "")
        self.shown.emit()


def _html(table: Table, units: InUnits) -> str:
    """A small table in words."""
    soft = theme.colour("soft").name()
    heads = "" if len(table.heads) == 2 else (
        "<tr><td></td>" + "".join(f'<td align="right" style="color:{soft}">{h}</td>' for h in table.heads[1:]) + "</tr>")
    rows = ""
    for name, *cells in table.rows:
        empty = next((n for n, c in enumerate(cells) if c != ""), 0)  # long names take the room of what does not stand beside them
        rows += f'<tr><td style="color:{soft}" colspan="{1 + empty}">{name}&nbsp;</td>' + "".join(
            f'<td align="right">&nbsp;{c if isinstance(c, str) else units.number(c)}</td>' for c in cells[empty:]) + "</tr>"
    return f'<table cellspacing="0" cellpadding="1">{heads}{rows}</table>'
