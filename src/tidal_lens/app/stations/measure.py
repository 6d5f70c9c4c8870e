"""The Measure station: numbers, charts and tables of the flow."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QGridLayout

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Tile, label
from tidal_lens.app.stations.cases_beside import CasesBeside
from tidal_lens.app.stations.look import LayerStation
from tidal_lens.app.stations.station import Act, Station

# What is set beside the chosen card: its command, name, icon and help.
AGAINST = (("beside", "Second case", "beside", "Open another result beside this one: all cards are worked out for it too."),
           ("difference", "Difference", "difference", "Colour the chosen card by what its quantity differs in the second case."),
           ("lay-taps", "Experiment", "points", "Lay measured points over the curves of the chosen section or profile."),
           ("expect", "Expected value", "expected", "Set a number from elsewhere beside one of the chosen card's."))


class MeasureStation(LayerStation):
    """Tiles of the measures, and what they are set against."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__("measure", document, act,
                         "Numbers and charts of the chosen card stand in the ledger; its beads move it in the view.")
        grid = QGridLayout()
        grid.setSpacing(6)
        grid.addWidget(label("Against", "soft"), 0, 0, 1, 2)
        for at, (command, name, icon, text) in enumerate(AGAINST):
            self.tiles[command] = Tile(icon, name, text, partial(act, command))
            grid.addWidget(self.tiles[command], 1 + at // 2, at % 2)
        self.inside.insertLayout(self.inside.count() - 1, grid)  # before the hint
        self.beside = CasesBeside(document)
        self.inside.insertWidget(self.inside.count() - 1, self.beside)


STATION = Station("measure", "Measure", "Sections, profiles, forces, means and flow rates", MeasureStation, cards=True)
