"""What the chosen card tells in rows and columns, in the ledger: a line each, sorted by any column."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QSortFilterProxyModel, Qt
from PyQt6.QtWidgets import QAbstractItemView, QHBoxLayout, QTableView, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.line_picks import LinePicks
from tidal_lens.app.parts import IconButton, column, label
from tidal_lens.quantities.shown_units import Shown
from tidal_lens.quantities.store import Quantity
from tidal_lens.study.evaluate import Evaluated
from tidal_lens.study.shown import InUnits
from tidal_lens.study.tables import Table
from tidal_lens.tracing.streamlines import Lines

_NONE = QModelIndex()


class _Model(QAbstractTableModel):
    """A table, and columns more: numbers (n,), or places (n, 3)."""

    def __init__(self, table: Table, more: Sequence[tuple[str, NDArray[np.float64]]], number: Callable[[float], str]) -> None:
        super().__init__()
        self.table, self.more, self._number = table, more, number

    def rowCount(self, parent: QModelIndex = _NONE) -> int:
        return 0 if parent.isValid() else len(self.table.rows)

    def columnCount(self, parent: QModelIndex = _NONE) -> int:
        return 0 if parent.isValid() else len(self.table.heads) + len(self.more)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return [*self.table.heads, *(head for head, _ in self.more)][section]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        own = len(self.table.heads)
        if index.column() < own:
            value: Any = self.table.rows[index.row()][index.column()]
        else:
            value = self.more[index.column() - own][1][index.row()]
        if role == Qt.ItemDataRole.UserRole:  # what is sorted by
            return float(value[0]) if isinstance(value, np.ndarray) else float(value) if not isinstance(value, str) else value
        if role == Qt.ItemDataRole.DisplayRole:
            if isinstance(value, np.ndarray):
                return ", ".join(self._number(float(c)) for c in value)
            return value if isinstance(value, str) else self._number(float(value))
        if role == Qt.ItemDataRole.TextAlignmentRole and not isinstance(value, str):
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None


def extremes(result: Evaluated, quantity: Quantity | None, units: InUnits) -> list[tuple[str, NDArray[np.float64]]]:
    """Least and greatest value of what colours lines, of each, and where; nothing where they are plain."""
    lines, values = result.geometry, result.colours
    if not isinstance(lines, Lines) or values is None or not lines.n_lines:
        return []
    line = np.repeat(np.arange(lines.n_lines), np.diff(lines.offsets))
    out = []
    shown = units.of(quantity) if quantity is not None else Shown("")
    symbol = f"{quantity.symbol if quantity is not None else ''}{f' [{shown.text}]' if shown.text else ''}"
    for word, sign in (("least", 1.0), ("greatest", -1.0)):
        order = np.lexsort((sign * np.where(np.isfinite(values), values, sign * np.inf), line))
        at = order[lines.offsets[:-1]]
        out += [(f"{word} {symbol}", (values[at] - shown.zero) / shown.size), ("where", lines.points[at])]
    return out


class TableEntry(QWidget):
    """The table of the chosen card, there when it is asked for or a line is chosen; a click on a row chooses its line.

    Parameters
    ----------
    document : Document
        Whose chosen card tells.
    picks : LinePicks
        Which line is chosen.
    """

    def __init__(self, document: Document, picks: LinePicks) -> None:
        super().__init__()
        self._document, self._picks = document, picks
        self.asked = False
        self._basis: tuple[object, ...] = ()
        self.name = label("", "head")
        self.told = label("", "soft")
        self.sorted = QSortFilterProxyModel()
        self.sorted.setSortRole(Qt.ItemDataRole.UserRole)
        self.table = QTableView()
        self.table.setAccessibleName("Table of the card")
        self.table.setModel(self.sorted)
        self.table.setSortingEnabled(True)
        self.table.sortByColumn(0, Qt.SortOrder.AscendingOrder)
        self.table.setShowGrid(False)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setMinimumHeight(300)
        self.table.clicked.connect(self._clicked)
        rows = self.table.verticalHeader()
        if rows is not None:
            rows.hide()
            rows.setDefaultSectionSize(22)
        head = QHBoxLayout()
        head.addWidget(self.name, 1)
        head.addWidget(IconButton("x", "Close the table", "Close the table", self.close_table, size=16))
        column(self, head, self.told, self.table)
        document.chosen_changed.connect(self.refresh)
        document.result_changed.connect(lambda layer_id: self.refresh() if layer_id == document.chosen else None)
        document.study_changed.connect(self.refresh)
        picks.changed.connect(self.refresh)
        self.hide()

    def toggle(self) -> None:
        """Show or hide it."""
        self.asked = not self.isVisible()
        if not self.asked:
            self._picks.drop()
        self.refresh()

    def close_table(self) -> None:
        """Put it away."""
        self.asked = False
        self._picks.drop()
        self.refresh()

    @property
    def is_wanted(self) -> bool:
        """Whether there is something to list, and it is asked for."""
        result = self._document.asking.results.get(self._document.chosen or "")
        return result is not None and bool(result.unmasked.tables) and (self.asked or self._picks.of is not None)

    def refresh(self) -> None:
        """Show the table of the chosen card, and mark the chosen line."""
        self.setVisible(self.is_wanted)
        layer, result = self._document.chosen_layer, self._document.asking.results.get(self._document.chosen or "")
        if not self.is_wanted or layer is None or result is None:
            return
        basis = (id(result), layer.name, self._document.study.units)
        if basis != self._basis:
            self._basis = (*basis,)
            self._held = result  # so that its id stays its own
            evaluator, name = self._document.evaluator, result.layer.look.colour_by
            quantity = evaluator.store.describe(name) if evaluator is not None and name is not None else None
            units = self._document.units
            table = units.table(result.unmasked.tables[0])
            more = extremes(result, quantity, units) if len(table.rows) == getattr(result.geometry, "n_lines", -1) else []
            self.sorted.setSourceModel(_Model(table, more, units.number))
            self.table.resizeColumnsToContents()
            self.name.setText(layer.name)
            self.told.setText(f"{len(table.rows):,} rows; a click on a head sorts, on a row shows its line")
        self._mark()

    def _model(self) -> _Model | None:
        model = self.sorted.sourceModel()
        return model if isinstance(model, _Model) else None

    def _mark(self) -> None:
        model = self._model()
        if model is None or self._picks.of is None or model.table.heads[0] != "seed":
            self.table.clearSelection()
            return
        wanted = float(self._picks.of[1] + 1)
        row = next((n for n, cells in enumerate(model.table.rows) if cells[0] == wanted), -1)
        if row >= 0:
            at = self.sorted.mapFromSource(model.index(row, 0))
            self.table.selectRow(at.row())
            self.table.scrollTo(at)

    def _clicked(self, at: QModelIndex) -> None:
        model, chosen = self._model(), self._document.chosen
        if model is None or chosen is None or model.table.heads[0] != "seed":
            return
        seed = model.table.rows[self.sorted.mapToSource(at).row()][0]
        if isinstance(seed, float):
            self._picks.pick(chosen, int(seed) - 1)
