"""Facts of the chosen card, when they are asked for."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import column
from tidal_lens.app.stations.rows import Facts, Section
from tidal_lens.study.facts import Fact, facts_of


class CardFacts(QWidget):
    """A list that unfolds: points, faces, area, range; the places of the least and greatest value can be gone to."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._shown: tuple[Fact, ...] = ()
        self.section = Section("Facts", folded=True)
        self.section.head.clicked.connect(lambda _on: self.refresh())
        self.table: Facts | None = None
        column(self, self.section)
        document.chosen_changed.connect(self.refresh)
        document.result_changed.connect(lambda layer_id: self.refresh() if layer_id == document.chosen else None)

    def refresh(self) -> None:
        """Work the facts out beside the window, if they are unfolded."""
        document = self._document
        result = document.asking.results.get(document.chosen or "")
        self.setVisible(result is not None)
        if result is None or not self.section.head.isChecked():
            return

        def done(facts: tuple[Fact, ...]) -> None:
            if document.asking.results.get(document.chosen or "") is result:
                self._show(facts)

        units, name = document.units, result.layer.look.colour_by
        document.jobs.submit(Slot("facts"), "Facts of the card",
                             lambda _token: facts_of(result, lambda v: units.values(name or "", (v,))), done, document.tell)

    def _show(self, facts: tuple[Fact, ...]) -> None:
        if facts == self._shown and self.table is not None:
            return
        self._shown = facts
        self.section.clear()
        places = [(f"Go to the {f.name.lower()}", partial(self._document.visit.emit, f.place)) for f in facts if f.place is not None]
        self.table = Facts([(f.name, f.value) for f in facts], places)
        self.section.add(self.table)
