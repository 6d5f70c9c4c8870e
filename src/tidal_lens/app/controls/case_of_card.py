"""Of which case the chosen card is, where there are several."""

from __future__ import annotations

from PyQt6.QtWidgets import QPushButton, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Picker, column, row


class CaseOfCard(QWidget):
    """All cases, or one of them; a card of all can be taken apart into one of each."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self.of = Picker("Case", "Of which case the card is: of all it is worked out for each, with the same settings")
        self.of.activated.connect(self._choose)
        self.apart = QPushButton("Apart")
        self.apart.setToolTip("Make one card of each case, so that each can be set by itself")
        self.apart.clicked.connect(lambda: document.edit(document.study.apart(layer), "Take the cases apart")
                                   if (layer := document.chosen_layer) is not None else None)
        column(self, row("Case", self.of, self.apart, stretch=1))
        document.chosen_changed.connect(self.refresh)
        document.study_changed.connect(self.refresh)
        self.refresh()

    def _choose(self, at: int) -> None:
        layer = self._document.chosen_layer
        if layer is not None:
            self._document.edit_layer(layer.with_(case=at - 1 if at else None), "Case of the card")

    def refresh(self) -> None:
        """Show what is said."""
        study, layer = self._document.study, self._document.chosen_layer
        self.setVisible(bool(study.others) and layer is not None)
        if layer is not None:
            self.of.offer(["all cases", *study.case_titles], 0 if layer.case is None else layer.case + 1)
            self.apart.setEnabled(layer.case is None)
