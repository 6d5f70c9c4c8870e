"""The bench: the station's tiles and facts, and the controls of the chosen card."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from tidal_lens.app.controls.panel import CardPanel
from tidal_lens.app.document import Document
from tidal_lens.app.parts import label
from tidal_lens.app.stations import case, derive, find, look, measure, tell, trace
from tidal_lens.app.stations.station import Act, Station

_SOON = 30  # ms after the window was built

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


class Pages(dict[str, QWidget]):
    """Pages by the names of their stations; one that is not there yet is made when it is asked for."""

    def __init__(self, make: Callable[[str], QWidget]) -> None:
        super().__init__()
        self._make = make

    def __missing__(self, name: str) -> QWidget:
        self[name] = page = self._make(name)
        return page


class Bench(QWidget):
    """Shows the page of one station. Other pages are made when the window has been seen, but before a case is there."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self.setObjectName("benchframe")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(300)
        self.card = CardPanel(document)
        self.pages = Pages(lambda name: self._made(name, document, act))
        document.coming.connect(self.make_all)
        self.title = label("", "title")
        page = QWidget()
        page.setObjectName("benchpage")
        inside = QVBoxLayout(page)
        inside.setContentsMargins(12, 10, 12, 12)
        inside.setSpacing(8)
        inside.addWidget(self.title)
        self._inside = inside
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
        later = QTimer(self)
        later.setSingleShot(True)
        later.timeout.connect(self.make_all)
        later.start(_SOON)

    def _made(self, name: str, document: Document, act: Act) -> QWidget:
        page = next(station for station in STATIONS if station.name == name).page(document, act)
        page.setVisible(False)
        self._inside.insertWidget(1, page)
        return page

    def make_all(self) -> None:
        """Make the pages that are not there yet: from now on they hear what happens."""
        for station in STATIONS:
            self.pages[station.name]

    def show_station(self, name: str) -> None:
        """Show another station's page."""
        self.station = next(station for station in STATIONS if station.name == name)
        shown = self.pages[name]
        for widget in self.pages.values():
            widget.setVisible(widget is shown)
        self.card.setVisible(self.station.cards)
        self.title.setText(self.station.title)
        bar = self.scroller.verticalScrollBar()
        if bar is not None:
            bar.setValue(0)
