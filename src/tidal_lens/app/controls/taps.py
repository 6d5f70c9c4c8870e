"""An experiment's table over curves: which of its columns are meant, and without it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import Picker, column, row
from tidal_lens.formats.csv_tables import read_table

_BY_NAME = "by its name"


class TapsControls(QWidget):
    """There while a table is laid over the curves.

    Parameters
    ----------
    document : Document
        Whose jobs read the table's head.
    reshape : callable
        Edits the shape.
    columns : bool
        Whether its columns can be chosen.
    """

    def __init__(self, document: Document, reshape: Any, *, columns: bool) -> None:
        super().__init__()
        self._document = document
        self._read = ""
        self._names: list[str] = []
        self.without = QPushButton("Without the experiment")
        self.without.setToolTip("Lay the measured points aside")
        self.without.clicked.connect(lambda: reshape("Without the experiment", taps=""))
        self.across = Picker("Where its points are", "The column of the experiment that tells where its points are")
        self.across.activated.connect(lambda at: reshape("Column of the experiment", taps_across=self._names[at - 1] if at else ""))
        self.up = Picker("Its values", "The column of the experiment that holds its values")
        self.up.activated.connect(lambda at: reshape("Column of the experiment", taps_up=self._names[at - 1] if at else ""))
        self._columns = QWidget()
        inside = QVBoxLayout(self._columns)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addLayout(row("Points at", self.across, stretch=1))
        inside.addLayout(row("Values", self.up, stretch=1))
        column(self, self.without, self._columns, spacing=6)
        self._columns.setVisible(columns)

    def show_value(self, taps: str, across: str = "", up: str = "") -> None:
        """Show a table and its columns."""
        self.setVisible(bool(taps))
        if taps and taps != self._read:
            self._read, self._names = taps, []

            def done(names: tuple[str, ...]) -> None:
                if self._read == taps:
                    self._names = list(names)
                    self._offer(across, up)

            # What is wrong with the table the card itself tells.
            self._document.jobs.submit(Slot("taps", taps), f"Reading {Path(taps).name}", lambda _token: read_table(Path(taps)).names, done,
                                       lambda _error: None)
        self._offer(across, up)

    def _offer(self, across: str, up: str) -> None:
        for picker, now in ((self.across, across), (self.up, up)):
            picker.offer([_BY_NAME, *self._names], self._names.index(now) + 1 if now in self._names else 0)
