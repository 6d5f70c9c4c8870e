"""The Find station: one action for each sort of feature, and one for all."""

from __future__ import annotations

from PyQt6.QtWidgets import QPushButton

from tidal_lens.app.document import Document
from tidal_lens.app.stations.look import LayerStation
from tidal_lens.app.stations.station import Act, Station


class FindStation(LayerStation):
    """Tiles of the finders, and a button for all of them."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__("find", document, act, "What is found is listed in the ledger, with its numbers and how far to trust it.")
        self.all = QPushButton("Find all four")
        self.all.setToolTip("Find vortices, separation, shocks and recirculation: as far as this result has the quantities (Ctrl+L)")
        self.all.clicked.connect(lambda: act("find-all"))
        inside = self.layout()
        assert inside is not None
        inside.addWidget(self.all)


STATION = Station("find", "Find", "Vortices, separation, shocks, recirculation", FindStation, cards=True)
