"""Boundaries to be ticked."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check


class Boundaries(QWidget):
    """Boundaries to be ticked."""

    def __init__(self, document: Document, chosen: Any) -> None:
        super().__init__()
        self._document, self._chosen = document, chosen
        self.boxes: dict[str, Check] = {}
        self._shown: tuple[str, ...] = ()
        self._list = QVBoxLayout(self)
        self._list.setContentsMargins(0, 0, 0, 0)
        self._list.setSpacing(4)

    def _toggle(self, name: str, on: bool) -> None:
        self._chosen(tuple([b for b in self._shown if b != name] + ([name] if on else [])))

    def show_value(self, boundaries: tuple[str, ...]) -> None:
        """Tick some."""
        flow, self._shown = self._document.flow, boundaries
        names = [b.name for b in flow.boundaries] if flow is not None else []
        if flow is not None and list(self.boxes) != names:
            for box in self.boxes.values():
                box.deleteLater()
            self.boxes = {}
            for boundary in flow.boundaries:
                self.boxes[boundary.name] = Check(f"{boundary.name}  ·  {boundary.kind}", "Take this boundary in",
                                                  partial(self._toggle, boundary.name))
                self._list.addWidget(self.boxes[boundary.name])
        for name, box in self.boxes.items():
            box.setChecked(name in boundaries)
