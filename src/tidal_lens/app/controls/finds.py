"""Controls of the finders: strictness and least size with a live count, and how findings are drawn."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtWidgets import QWidget

from tidal_lens.app.controls.base import Coloured, SurfaceLookControls
from tidal_lens.app.controls.dressing import Relook
from tidal_lens.app.controls.line_look import LineLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Slider, column, label, row
from tidal_lens.study.evaluate import sifting_of
from tidal_lens.study.model import Layer
from tidal_lens.study.said import Sieve, listing
from tidal_lens.study.words import number_text

_LARGE = 1.0  # of the length of the body: the greatest least size


class SieveControls(QWidget):
    """Which of the candidates are shown; moving them computes nothing."""

    def __init__(self, document: Document, relook: Relook) -> None:
        super().__init__()
        self._document, self._relook = document, relook
        self.strictness = Slider("Strictness", "How clear a finding must be: in the middle all thresholds are where they were found right",
                                 0.0, 1.0)
        self.strictness.moved.connect(lambda v: self._set("Strictness", strictness=v))
        self.least = Slider("Least size", "The least extent that is shown, up to the length of the body", 0.0, 1.0)
        self.least.moved.connect(lambda v: self._set("Least size", least=self._size(v)))
        self.count = label("", "soft")
        self.told = label("", "soft")
        column(self, row("Strictness", self.strictness, stretch=1), row("Least size", self.least, stretch=1), self.count, self.told,
               spacing=6)

    def _size(self, share: float) -> float:
        """Fine at the small end."""
        flow = self._document.flow
        return float(f"{_LARGE * share * share * (flow.length if flow is not None else 1.0):.4g}")

    def _set(self, what: str, **changes: Any) -> None:
        layer = self._document.chosen_layer
        if layer is not None and layer.look.on in ("lines", "surface"):
            old = layer.look.sieve or Sieve()
            self._relook(what, what.lower(), sieve=old.with_(**changes))

    def show_layer(self, layer: Layer) -> None:
        """Show what the layer holds now, and how many there are."""
        look = layer.look
        if look.on not in ("lines", "surface"):
            return
        sieve = look.sieve or Sieve()
        flow = self._document.flow
        self.strictness.show_value(sieve.strictness)
        self.least.show_value(float(np.sqrt(sieve.least / (_LARGE * (flow.length if flow is not None else 1.0)))))
        result = self._document.asking.results.get(layer.id)
        if result is None:
            self.count.setText("Looking…")
            self.told.setText("")
            return
        listed = listing(result.unmasked.findings, sifting_of(layer, self._document.study))
        shown = sum(x.shown for x in listed)
        size = f", at least {number_text(sieve.least)} long" if sieve.least else ""
        self.count.setText(f"{shown} of {len(listed)} candidates shown{size}")
        gone = sum(x.verdict == "dismiss" for x in listed)
        self.told.setText(f"{gone} dismissed: they are listed below the others" if gone else
                          "" if listed else "Nothing of the sort is in this flow.")


class FoundLineControls(Coloured[Any]):
    """Of findings that are lines."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.sieve = SieveControls(document, self.relook)
        self.drawn = LineLookControls(document, self.relook)
        self.body.addWidget(self.sieve)
        self.body.addLayout(row("Colour by", self.chooser, self.chip, stretch=1))
        self.body.addWidget(self.drawn)
        self.body.addWidget(self.key)
        document.result_changed.connect(lambda layer_id: self.refresh() if layer_id == document.chosen else None)

    def refresh(self) -> None:
        layer, evaluator = self.layer(), self.document.evaluator
        if layer is None or evaluator is None or layer.look.on != "lines" or layer.kind != self.kind:
            return
        self.sieve.show_layer(layer)
        self.show_colour(layer, evaluator)
        self.drawn.show_value(layer.look)


class FoundSurfaceControls(SurfaceLookControls[Any]):
    """Of findings that are surfaces."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.sieve = SieveControls(document, self.relook)
        self.body.insertWidget(0, self.sieve)
        document.result_changed.connect(lambda layer_id: self.refresh() if layer_id == document.chosen else None)

    def refresh(self) -> None:
        layer = self.layer()
        if layer is not None and layer.kind == self.kind:
            self.sieve.show_layer(layer)
            super().refresh()
