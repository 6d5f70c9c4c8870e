"""The chosen measure in the ledger: its numbers, its charts, and how they are saved."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.chart_view import ChartView
from tidal_lens.app.document import Document
from tidal_lens.app.parts import column, label, row
from tidal_lens.study.tables import Table
from tidal_lens.study.words import number_text

Act = Callable[..., None]


class MeasureEntry(QWidget):
    """What the chosen card of a measure came to.

    Parameters
    ----------
    document : Document
        Whose chosen card it is.
    act : callable
        Carries out a command by its id.
    """

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self._document = document
        self._seen: tuple[object, ...] = ()
        self.name = label("", "head")
        self.told = label("", "soft")
        self.told.setWordWrap(True)
        self.charts: list[ChartView] = []
        holder = QWidget()
        self._charts = QVBoxLayout(holder)
        self._charts.setContentsMargins(0, 0, 0, 0)
        self.numbers = label("")
        self.numbers.setTextFormat(Qt.TextFormat.RichText)
        self.numbers.setWordWrap(True)
        self.numbers.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.save = QPushButton("Save CSV…")
        self.save.setToolTip("Save all numbers of the card as a table")
        self.save.clicked.connect(lambda: act("save-table"))
        self.taps = QPushButton("Experiment…")
        self.taps.setToolTip("Lay measured points over the curves: a table with columns x, y, z and the quantity")
        self.taps.clicked.connect(lambda: act("lay-taps"))
        column(self, self.name, self.told, holder, row(self.save, self.taps, stretch=0), self.numbers, spacing=6)
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

    def _anew(self) -> None:
        self._seen = ()
        self.refresh()

    def refresh(self) -> None:
        """Show what there is."""
        self.setVisible(self.is_wanted)
        layer, result = self._document.chosen_layer, self._document.asking.results.get(self._document.chosen or "")
        if not self.is_wanted or layer is None or result is None:
            return
        seen = (result.unmasked, layer.name)
        if self._seen and seen[0] is self._seen[0] and seen[1] == self._seen[1]:
            return
        self._seen = seen
        made = result.unmasked
        self.name.setText(layer.name)
        self.told.setText(made.told)
        self.taps.setVisible(layer.shape.takes_taps)
        while len(self.charts) < len(made.charts):
            self.charts.append(ChartView())
            self._charts.addWidget(self.charts[-1])
        for n, view in enumerate(self.charts):
            view.setVisible(n < len(made.charts))
            if n < len(made.charts):
                view.show_chart(made.charts[n])
        # Rows of curves are for files: what has a chart of its own rows is not told in words as well.
        table = next((t for t in made.tables if t.heads[0] == "what"), None)
        self.numbers.setText(_html(table) if table is not None else "")


def _html(table: Table) -> str:
    """A small table in words."""
    soft = theme.colour("soft").name()
    heads = "" if len(table.heads) == 2 else (
        "<tr><td></td>" + "".join(f'<td align="right" style="color:{soft}">{h}</td>' for h in table.heads[1:]) + "</tr>")
    rows = "".join(f'<tr><td style="color:{soft}">{cells[0]}&nbsp;</td>' + "".join(
        f'<td align="right">&nbsp;{c if isinstance(c, str) else number_text(c)}</td>' for c in cells[1:]) + "</tr>" for cells in table.rows)
    return f'<table cellspacing="0" cellpadding="1">{heads}{rows}</table>'
