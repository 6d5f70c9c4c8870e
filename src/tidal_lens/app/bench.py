"""The bench: the station's tiles and facts, and the controls of the chosen card."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from tidal_lens.app.controls.panel import CardPanel
from tidal_lens.app.document import Document
from tidal_lens.app.parts import label
from tidal_lens.app.stations.case import CaseStation
from tidal_lens.app.stations.derive import DeriveStation
from tidal_lens.app.stations.look import LayerStation

STATIONS: tuple[tuple[str, str, str], ...] = (
    ("case", "Case", "Take stock of what was opened"),
    ("derive", "Derive", "Quantities that follow from it"),
    ("look", "Look", "Walls, slices and isosurfaces"),
    ("trace", "Trace", "Seeds and streamlines"),
)
LAYER_STATIONS = ("look", "trace")


class Bench(QWidget):
    """Shows the page of one station."""

    def __init__(self, document: Document, act: Any) -> None:
        super().__init__()
        self.setObjectName("benchframe")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(300)
        self.case = CaseStation(document, act)
        self.derive = DeriveStation(document, act)
        self.look = LayerStation("look", act)
        self.trace = LayerStation("trace", act, "Drag the beads of the seed line in the view: the lines follow.")
        self.card = CardPanel(document)
        self.pages: dict[str, QWidget] = {"case": self.case, "derive": self.derive, "look": self.look, "trace": self.trace}
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
        self.station = ""
        self.show_station("look")

    def show_station(self, name: str) -> None:
        """Show another station's page."""
        self.station = name
        for key, widget in self.pages.items():
            widget.setVisible(key == name)
        self.card.setVisible(name in LAYER_STATIONS)
        self.title.setText(next(title for key, title, _ in STATIONS if key == name))
        bar = self.scroller.verticalScrollBar()
        if bar is not None:
            bar.setValue(0)
