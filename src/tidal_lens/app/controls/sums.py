"""Controls of integrals and means, and of numbers over time."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QVBoxLayout

from tidal_lens.app.controls.base import BallLookControls, Controls
from tidal_lens.app.controls.boundary_list import Boundaries
from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, NumberField, Picker, QuantityChooser, label, row
from tidal_lens.study.kinds.boundaries import BoundariesShape
from tidal_lens.study.kinds.over import OverShape, open_ones
from tidal_lens.study.kinds.over_time import OverTimeShape
from tidal_lens.study.kinds.volume import VolumeShape
from tidal_lens.study.tables import numbers_of


class OverControls(BallLookControls[OverShape]):
    """Over what, and of what."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._cards: list[str] = []
        self.over = Picker("Over", "A card's surface, or boundaries")
        self.over.activated.connect(self._take)
        self.quantity = QuantityChooser("Of", "What is averaged and added up", plain=False)
        self.quantity.picked.connect(lambda name: self.reshape("Quantity", quantity=name))
        self.walls = Boundaries(document, lambda names: self.reshape("Boundaries", boundaries=names))
        self.body.insertLayout(0, row("Over", self.over, stretch=1))
        self.body.insertLayout(1, row("Of", self.quantity, stretch=1))
        self.body.insertWidget(2, self.walls)

    def _take(self, at: int) -> None:
        shape, flow = self.shape(), self.document.flow
        if shape is not None and flow is not None:
            boundaries = shape.boundaries or (() if self._cards[at] else open_ones(flow))
            self.reshape("Over what", card=self._cards[at], boundaries=boundaries)

    def refresh(self) -> None:
        shape, evaluator = self.shape(), self.document.evaluator
        if shape is None or evaluator is None:
            return
        cards = [x for x in self.document.study.layers if x.shape.geometry == "surface"]
        self._cards = ["", *(x.id for x in cards)]
        self.over.offer(["Boundaries", *(x.name for x in cards)], self._cards.index(shape.card) if shape.card in self._cards else -1)
        self.quantity.offer(evaluator.store.quantities(), shape.quantity, walls=True)
        self.walls.setVisible(not shape.card)
        self.walls.show_value(shape.boundaries)
        super().refresh()


class VolumeControls(BallLookControls[VolumeShape]):
    """In what, and of what."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._cards: list[str] = []
        self.over = Picker("In", "A region, or the flow")
        self.over.activated.connect(lambda at: self.reshape("In what", card=self._cards[at]))
        self.quantity = QuantityChooser("Of", "What is averaged and added up", plain=False)
        self.quantity.picked.connect(lambda name: self.reshape("Quantity", quantity=name))
        self.blocks = OfBlocks(document, lambda blocks: self.reshape("Blocks", blocks=blocks), lead="Blocks")
        self.bins = NumberField("Bins", "Of the distribution", 10, 4, 2000)
        self.bins.whole = True
        self.bins.edited.connect(lambda v: self.reshape("Bins", bins=int(v)))
        for at, (word, part) in enumerate((("In", self.over), ("Of", self.quantity), ("Bins", self.bins))):
            self.body.insertLayout(at, row(word, part, stretch=1))
        self.body.insertWidget(3, self.blocks)

    def refresh(self) -> None:
        shape, evaluator = self.shape(), self.document.evaluator
        if shape is None or evaluator is None:
            return
        cards = [x for x in self.document.study.layers if VolumeShape.takes(x.shape)]
        self._cards = ["", *(x.id for x in cards)]
        self.over.offer(["the flow", *(x.name for x in cards)], self._cards.index(shape.card) if shape.card in self._cards else -1)
        self.quantity.offer(evaluator.store.quantities(), shape.quantity)
        self.bins.show_value(shape.bins)
        self.blocks.show_value(shape.blocks)
        if shape.card:
            self.blocks.hide()
        super().refresh()


class BoundariesControls(Controls[BoundariesShape]):
    """Groups, and what heat is carried by."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.groups = Check("The case's groups too", "A column for each named group of boundaries", self._take)
        self.heat = NumberField("Heat capacity", "Of a liquid: heat flows are ρ c T u; 0: a perfect gas, by total enthalpy", 100.0, 0.0,
                                1e12)
        self.heat.edited.connect(lambda v: self.reshape("Heat capacity", heat=v))
        self.body.addWidget(self.groups)
        self.body.addLayout(row("Capacity", self.heat, stretch=1))

    def _take(self, on: bool) -> None:
        self.reshape("Groups", groups=tuple(self.document.study.groups.items()) if on else ())

    def refresh(self) -> None:
        shape = self.shape()
        if shape is not None:
            self.groups.setChecked(bool(shape.groups))
            self.groups.setEnabled(bool(shape.groups or self.document.study.groups))
            self.heat.show_value(shape.heat)


class OverTimeControls(Controls[OverTimeShape]):
    """Of which card, and which of its numbers."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._cards: list[str] = []
        self.of = Picker("Of", "A card that tells numbers, or the flow")
        self.of.activated.connect(lambda at: self.reshape("Of what", card=self._cards[at], numbers=()))
        self.spectrum = Check("Spectra", "Draw the amplitude over the frequency too", lambda on: self.reshape("Spectra", spectrum=on))
        self.boxes: dict[str, Check] = {}
        self._list = QVBoxLayout()
        self._list.setSpacing(4)
        self.body.addLayout(row("Of", self.of, stretch=1))
        self.body.addWidget(self.spectrum)
        self.body.addWidget(label("Its numbers", "soft"))
        self.body.addLayout(self._list)
        document.result_changed.connect(lambda _id: self.refresh())

    def _toggle(self, name: str, on: bool) -> None:
        shape = self.shape()
        if shape is not None:
            own = self._drawn(shape)
            self.reshape("Numbers", numbers=tuple(n for n in list(self.boxes) if (n in own) != (n == name) or (n == name and on))[:6])

    def _drawn(self, shape: OverTimeShape) -> tuple[str, ...]:
        """What is drawn."""
        return shape.numbers or tuple(self.boxes)[:1]

    def refresh(self) -> None:
        shape, layer = self.shape(), self.layer()
        if shape is None or layer is None:
            return
        cards = [x for x in self.document.study.layers if OverTimeShape.takes(x.shape)]
        self._cards = ["", *(x.id for x in cards)]
        self.of.offer(["the flow", *(x.name for x in cards)], self._cards.index(shape.card) if shape.card in self._cards else -1)
        self.spectrum.setChecked(shape.spectrum)
        result = self.document.asking.results.get(shape.card or layer.id)
        made = result.unmasked if result is not None else None
        if made is None or not made.tables:
            return
        names = list(numbers_of(made.tables)) if shape.card else [c.up for c in made.charts if c.across.startswith("time")]
        if names != list(self.boxes) and (shape.card or len(names) >= len(self.boxes)):
            for box in self.boxes.values():
                box.deleteLater()
            self.boxes = {}
            for name in names:
                self.boxes[name] = Check(name, "Draw it over time", partial(self._toggle, name))
                self._list.addWidget(self.boxes[name])
        drawn = self._drawn(shape) if shape.card else shape.numbers or tuple(self.boxes)
        for name, box in self.boxes.items():
            box.setChecked(name in drawn)
