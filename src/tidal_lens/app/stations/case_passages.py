"""Passages of a turning machine: how many there are round the axis, and how many are drawn."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import NumberField, column, label, row
from tidal_lens.flow.annulus import passages_of
from tidal_lens.flow.case import Flow


class PassagesControls(QWidget):
    """Their number and how many are shown; of flows that have a hub, or take up a whole part of the way round."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self.number = NumberField("Passages", "How many make the whole wheel; empty or 0: as recognised by the inlet", 1.0, 0.0, 1000.0)
        self.number.whole = True
        self.number.edited.connect(lambda v: document.edit(document.study.with_(passages=int(v)), "Passages"))
        self.shown = NumberField("Shown", "How many are drawn, side by side round the axis; nothing is computed twice", 1.0, 1.0, 1000.0)
        self.shown.whole = True
        self.shown.edited.connect(lambda v: document.edit(document.study.with_(passages_shown=int(v)), "Passages shown"))
        column(self, label("Passages of a turning machine", "soft"), row("Passages", self.number, stretch=1),
               row("Shown", self.shown, stretch=1), spacing=4)
        document.study_changed.connect(lambda: self.refresh(document.flow) if document.flow is not None else None)

    def refresh(self, flow: Flow) -> None:
        """Show what there is."""
        study = self._document.study
        found = passages_of(flow, study.choices.axis_point, study.choices.axis)
        self.setVisible(found > 1 or study.passages > 0 or any(b.kind == "hub" for b in flow.boundaries))
        self.number.setPlaceholderText(f"{found} by the inlet" if found > 1 else "1: none recognised")
        if study.passages:
            self.number.show_value(study.passages)
        elif not self.number.hasFocus():
            self.number.clear()
        self.shown.show_value(study.passages_shown)
