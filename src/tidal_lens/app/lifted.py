"""Charts lifted out of the ledger: half of the view is theirs."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app.measure_entry import MeasureEntry
from tidal_lens.app.parts import IconButton, label, row


class Lifted(QWidget):
    """Holds the charts of the chosen measure while they are lifted.

    Parameters
    ----------
    entry : MeasureEntry
        Whose charts they are.
    """

    def __init__(self, entry: MeasureEntry) -> None:
        super().__init__()
        self._entry = entry
        self.name = label("", "head")
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(12, 6, 12, 6)
        back = IconButton("x", "Lay the charts back", "Back to the ledger (U)", self.toggle, size=16)
        self._box.addLayout(row(self.name, back, stretch=0))
        self._on = False
        entry.shown.connect(self.refresh)
        self.hide()

    def toggle(self) -> None:
        """Lift the charts, or lay them back."""
        self._on = not self._on
        if self._on:
            self._box.addWidget(self._entry.holder, 1)
        else:
            self._entry.take_back()
        self._entry.let_grow(freely=self._on)
        self.refresh()

    def refresh(self) -> None:
        """Follow the chosen card."""
        self.name.setText(self._entry.name.text())
        self.setVisible(self._on and self._entry.has_charts)
