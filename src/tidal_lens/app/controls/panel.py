"""The controls of the chosen card, whatever its kind."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QLineEdit, QWidget

from tidal_lens.app.controls.base import Controls
from tidal_lens.app.controls.bodies import BodyControls, CloudControls, PointsControls
from tidal_lens.app.controls.card_facts import CardFacts
from tidal_lens.app.controls.case_of_card import CaseOfCard
from tidal_lens.app.controls.finds import FoundLineControls, FoundSurfaceControls
from tidal_lens.app.controls.frozen import FrozenControls
from tidal_lens.app.controls.grid_surface import GridControls
from tidal_lens.app.controls.isosurface import IsoControls
from tidal_lens.app.controls.lines_measured import BoundaryLayerControls, LayerDepthControls, PathControls
from tidal_lens.app.controls.machines import RoundAxisControls, RoundBladeControls, SpanControls
from tidal_lens.app.controls.mask import MaskControls
from tidal_lens.app.controls.measures import (
    ForcesControls,
    ProfileControls,
    SectionControls,
)
from tidal_lens.app.controls.optics import OpticsControls
from tidal_lens.app.controls.probe import ProbeControls
from tidal_lens.app.controls.region import RegionControls
from tidal_lens.app.controls.round import RoundControls
from tidal_lens.app.controls.slice import SliceControls
from tidal_lens.app.controls.slice_set import SliceSetControls
from tidal_lens.app.controls.streamlines import StreamControls
from tidal_lens.app.controls.sums import BoundariesControls, OverControls, OverTimeControls, VolumeControls
from tidal_lens.app.controls.wall import WallControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import column, label, rule

# One line a kind: its controls.
CONTROLS: dict[str, Callable[[Document], Controls[Any]]] = {
    "wall": WallControls,
    "slice": SliceControls,
    "slice-set": SliceSetControls,
    "round": RoundControls,
    "grid-surface": GridControls,
    "isosurface": IsoControls,
    "streamlines": StreamControls,
    "frozen": FrozenControls,
    "body": BodyControls,
    "points": PointsControls,
    "cloud": CloudControls,
    "mask": MaskControls,
    "region": RegionControls,
    "optics": OpticsControls,
    "vortices": FoundLineControls,
    "separation": FoundLineControls,
    "shocks": FoundSurfaceControls,
    "recirculation": FoundSurfaceControls,
    "probe": ProbeControls,
    "profile": ProfileControls,
    "section": SectionControls,
    "forces": ForcesControls,
    "over": OverControls,
    "boundaries": BoundariesControls,
    "path": PathControls,
    "layer-depth": LayerDepthControls,
    "boundary-layer": BoundaryLayerControls,
    "volume": VolumeControls,
    "over-time": OverTimeControls,
    "round-axis": RoundAxisControls,
    "span": SpanControls,
    "round-blade": RoundBladeControls,
}


class CardPanel(QWidget):
    """Name and controls of the chosen card."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the card")
        self.name.setToolTip("Name of the chosen card (F2)")
        self.name.editingFinished.connect(self._rename)
        self.trouble = label("", "bad")
        self.empty = label("Nothing is chosen. Click a card in the deck, or a thing in the view, or add one above.", "soft")
        self.controls: dict[str, Controls[Any]] = {}  # made when a card of their kind is first chosen
        self.facts = CardFacts(document)
        self.case = CaseOfCard(document)
        self._place = column(self, rule(), self.empty, self.name, self.case, self.trouble, self.facts)
        document.chosen_changed.connect(self.refresh)
        document.study_changed.connect(self.refresh)
        document.quantity_known.connect(lambda _name: self.refresh())
        document.result_changed.connect(lambda _id: self._tell_trouble())
        self.refresh()

    def _rename(self) -> None:
        layer = self.document.chosen_layer
        text = self.name.text().strip()[:200]
        if layer is not None and text and text != layer.name:
            self.document.edit_layer(layer.with_(name=text), "Rename")

    def _tell_trouble(self) -> None:
        text = self.document.asking.failures.get(self.document.chosen or "", "")
        self.trouble.setText(text)
        self.trouble.setVisible(bool(text))

    def refresh(self) -> None:
        """Show the chosen card's controls."""
        layer = self.document.chosen_layer
        self.empty.setVisible(layer is None and self.document.flow is not None)
        self.name.setVisible(layer is not None)
        if layer is not None and not (self.name.hasFocus() and self.name.isModified()):
            self.name.setText(layer.name)
        if layer is not None and layer.kind not in self.controls:
            made = CONTROLS[layer.kind](self.document)
            made.kind = layer.kind
            self.controls[layer.kind] = made
            self._place.insertWidget(self._place.count() - 1, made)
        for kind, widget in self.controls.items():
            widget.setVisible(layer is not None and layer.kind == kind)
            if layer is not None and layer.kind == kind:
                widget.refresh()
        self._tell_trouble()
