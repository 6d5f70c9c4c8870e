"""Controls of probes."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtWidgets import QPushButton

from tidal_lens.app.clicks import Wish
from tidal_lens.app.controls.base import BallLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, PointField, row
from tidal_lens.study.kinds.probe import ProbeShape


class ProbeControls(BallLookControls[ProbeShape]):
    """Places, by number or by click."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.snap = Choice([("place", "Place", "Values at the place itself"), ("node", "Node", "Values at the nearest node"),
                            ("cell", "Cell", "The mean of the corners of the cell that holds it"),
                            ("wall", "Wall", "Values at the nearest node of a wall, with what is known on walls, on either side")])
        self.snap.picked.connect(lambda v: self.reshape("Values at", snap=v))
        self.number = NumberField("Number", "Which of the places", 1, 1)
        self.number.whole = True
        self.number.edited.connect(lambda _v: self.refresh())
        self.place = PointField("Place", "Three numbers; its bead in the view can be dragged")
        self.place.pointed.connect(self._typed)
        self.click = QPushButton("Add by clicks")
        self.click.setToolTip("Each click in the view adds a place, until Esc")
        self.click.clicked.connect(self.ask)
        self.less = QPushButton("Take away")
        self.less.setToolTip("Take this place away")
        self.less.clicked.connect(self._take_away)
        lines = row("At", self.snap, stretch=1), row("Number", self.number, stretch=1), row("Place", self.place, stretch=1)
        for at, part in enumerate((*lines, row(self.click, self.less, stretch=0))):
            self.body.insertLayout(at, part)

    def _at(self, shape: ProbeShape) -> int:
        return min(max(int(self.number.value()) - 1, 0), len(shape.places) - 1)

    def _typed(self, place: tuple[float, float, float]) -> None:
        shape = self.shape()
        if shape is not None:
            self.reshape("Place", places=shape.typed(f"place {self._at(shape)}", place).places)

    def _take_away(self) -> None:
        shape = self.shape()
        if shape is not None and len(shape.places) > 1:
            at = self._at(shape)
            self.reshape("Take a place away", places=shape.places[:at] + shape.places[at + 1:])

    def ask(self) -> None:
        """Let each click in the view add a place, until it is given up."""
        asked = self.document.chosen

        def take(places: NDArray[np.float64]) -> None:
            shape = self.shape()
            if shape is not None and self.document.chosen == asked:
                x, y, z = (float(f"{c:.9g}") for c in places[0])
                self.number.show_value(len(shape.places) + 1)
                self.reshape("Add a place", places=shape.with_place((x, y, z)).places)
                self.ask()

        self.document.clicks.ask(Wish(1, "Click where all quantities are to be read.", take))

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self.snap.show_value(shape.snap)
        self.number.show_value(self._at(shape) + 1)
        self.place.show_values(shape.places[self._at(shape)])
        self.less.setEnabled(len(shape.places) > 1)
        super().refresh()
