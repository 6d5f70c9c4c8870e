"""Controls of walls."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, label
from tidal_lens.study.kinds.wall import WallShape


class WallControls(SurfaceLookControls[WallShape]):
    """Which boundaries are shown, and how."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        holder = QWidget()
        self._list = QVBoxLayout(holder)
        self._list.setContentsMargins(0, 0, 0, 0)
        self._list.setSpacing(4)
        self.boxes: dict[str, Check] = {}
        self.body.insertWidget(0, label("Boundaries", "soft"))
        self.body.insertWidget(1, holder)

    def _toggle(self, name: str, on: bool) -> None:
        shape = self.shape()
        if shape is not None:
            chosen = [b for b in shape.boundaries if b != name] + ([name] if on else [])
            self.reshape("Boundaries", boundaries=tuple(chosen))

    def refresh(self) -> None:
        shape, flow = self.shape(), self.document.flow
        if shape is None or flow is None:
            return
        names = [b.name for b in flow.boundaries]
        if list(self.boxes) != names:
            for box in self.boxes.values():
                box.deleteLater()
            self.boxes = {}
            for boundary in flow.boundaries:
                name = boundary.name
                box = Check(f"{name}  ·  {boundary.kind}", "Show this boundary", partial(self._toggle, name))
                self._list.addWidget(box)
                self.boxes[name] = box
        for name, box in self.boxes.items():
            box.setChecked(name in shape.boundaries)
        super().refresh()
