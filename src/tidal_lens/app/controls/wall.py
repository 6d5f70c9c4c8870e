"""Controls of walls."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtWidgets import QLineEdit, QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.clicks import Wish
from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, label
from tidal_lens.flow.boundaries import nearest_boundary
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
        groups = QWidget()
        self._groups = QVBoxLayout(groups)
        self._groups.setContentsMargins(0, 0, 0, 0)
        self._groups.setSpacing(4)
        self.groups: dict[str, Check] = {}
        self.click = QPushButton("Click them in the view")
        self.click.setToolTip("Each click on a boundary in the view shows or hides it, until Esc")
        self.click.clicked.connect(lambda _checked=False: self._ask())
        self.group = QLineEdit()
        self.group.setAccessibleName("Name of a group")
        self.group.setPlaceholderText("Name the ticked ones as a group")
        self.group.setToolTip("Type a name and press Return: the ticked boundaries become a group, to be ticked at once; "
                              "where none is ticked the group goes away")
        self.group.returnPressed.connect(self._name_group)
        self.body.insertWidget(0, label("Boundaries", "soft"))
        self.body.insertWidget(1, groups)
        self.body.insertWidget(2, holder)
        self.body.insertWidget(3, self.click)
        self.body.insertWidget(4, self.group)
        self.of = OfBlocks(document, lambda blocks: self.reshape("Blocks", blocks=blocks), "none", "Blocks")
        self.of.setToolTip("Blocks whose outsides are shown too")
        self.body.insertWidget(5, self.of)
        self.only = OfBlocks(document, lambda blocks: self.reshape("Only on blocks", only=blocks), "all blocks", "Only on")
        self.only.setToolTip("Boundaries are shown only as far as they are on these blocks")
        self.body.insertWidget(6, self.only)

    def _toggle(self, name: str, on: bool) -> None:
        shape = self.shape()
        if shape is not None:
            chosen = [b for b in shape.boundaries if b != name] + ([name] if on else [])
            self.reshape("Boundaries", boundaries=tuple(chosen))

    def _toggle_group(self, name: str, on: bool) -> None:
        shape, members = self.shape(), self.document.study.groups.get(name, ())
        if shape is not None:
            rest = tuple(b for b in shape.boundaries if b not in members)
            self.reshape("Boundaries", boundaries=(*rest, *members) if on else rest)

    def _name_group(self) -> None:
        shape, name = self.shape(), self.group.text().strip()[:200]
        if shape is None or not name:
            return
        groups = {**self.document.study.groups, name: shape.boundaries}
        if not shape.boundaries:
            del groups[name]
        self.group.clear()
        self.document.edit(self.document.study.with_(groups=groups), "Group of boundaries")

    def _ask(self) -> None:
        layer = self.layer()
        asked = layer.id if layer is not None else ""

        def take(places: NDArray[np.float64]) -> None:
            flow, shape = self.document.flow, self.shape()
            if flow is None or shape is None or self.document.chosen != asked:
                return
            found = nearest_boundary(flow.boundaries, places[0])
            if found is not None:
                self._toggle(found[0].name, found[0].name not in shape.boundaries)
                self._ask()  # until it is given up

        self.document.clicks.ask(Wish(1, "Click a boundary to show or hide it.", take))

    def _show_groups(self, shape: WallShape) -> None:
        groups = self.document.study.groups
        if list(self.groups) != list(groups):
            for box in self.groups.values():
                box.deleteLater()
            self.groups = {}
            for name in groups:
                box = Check(f"{name}  ·  group of {len(groups[name])}", "Show all boundaries of this group",
                            partial(self._toggle_group, name))
                self._groups.addWidget(box)
                self.groups[name] = box
        for name, box in self.groups.items():
            box.setChecked(set(groups[name]) <= set(shape.boundaries))

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
        self._show_groups(shape)
        self.of.show_value(shape.blocks)
        self.only.show_value(shape.only)
        super().refresh()
