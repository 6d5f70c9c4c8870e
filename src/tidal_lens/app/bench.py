"""The bench: the station's tiles and facts, and the controls of the chosen card."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from tidal_lens.app.controls.panel import CardPanel
from tidal_lens.app.document import Document
from tidal_lens.app.parts import label
from tidal_lens.app.stations import case, derive, find, look, measure, tell, trace
from tidal_lens.app.stations.station import Act, Station

# One line a station, in the order of work.
STATIONS: tuple[Station, ...] = (
    case.STATION,
    derive.STATION,
    look.STATION,
    trace.STATION,
    find.STATION,
    measure.STATION,
    tell.STATION,
)


class Bench(QWidget):
    """Shows the page of one station."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self.setObjectName("benchframe")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(300)
        self.card = CardPanel(document)
        self.pages: dict[str, QWidget] = {station.name: station.page(document, act) for station in STATIONS}
        self.title = label("", "title")
        page = QWidget()
        page.setObjectName("benchpage")
        inside = QVBoxLayout(page)
        inside.setContentsMargins(12, 10, 12, 12)
        inside.setSpacing(8)
        inside.addWidget(self.title)
        for widget in self.pages.values():
            inside.addWidget(widget)
        inside.addWidget(self.card)
        inside.addStretch(1)
        self.scroller = QScrollArea()
        self.scroller.setObjectName("bench")
        self.scroller.setWidgetResizable(True)
        self.scroller.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroller.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.scroller.setWidget(page)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 1, 0)
        outer.addWidget(self.scroller)
        self.station = STATIONS[0]
        self.show_station("look")

    def show_station(self, name: str) -> None:
        """Show another station's page."""
        self.station = next(station for station in STATIONS if station.name == name)
        for key, widget in self.pages.items():
            widget.setVisible(key == name)
        self.card.setVisible(self.station.cards)
        self.title.setText(self.station.title)
        bar = self.scroller.verticalScrollBar()
        if bar is not None:
            bar.setValue(0)
