"""Controls of paths, layer depths and boundary layers."""

from __future__ import annotations

from PyQt6.QtWidgets import QPushButton

from tidal_lens.app.clicks import Wish
from tidal_lens.app.controls.measures import Between, LineControls, QuantityControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, Picker, PointField, QuantityChooser, row
from tidal_lens.study.kinds.boundary_layer import BoundaryLayerShape
from tidal_lens.study.kinds.layer_depth import LayerDepthShape
from tidal_lens.study.kinds.path import PathShape

_OVER = ("length", "time", "x", "y", "z")


class PathControls(QuantityControls[PathShape]):
    """Of which lines, over what."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._cards: list[str] = []
        self.of = Picker("Along", "A card of lines")
        self.of.activated.connect(lambda at: self.reshape("Along what", card=self._cards[at]))
        self.against = Picker("Over", "What the quantity is drawn over")
        self.against.offer(["length along it", "time from the seed", "x", "y", "z"], 0)
        self.against.activated.connect(lambda at: self.reshape("Over what", against=_OVER[at]))
        self.line = NumberField("Line", "Number of the first line; 0 takes the longest", 1, 0, 1_000_000)
        self.line.whole = True
        self.line.edited.connect(lambda v: self.reshape("Line", line=int(v)))
        self.count = NumberField("Lines", "How many lines", 1, 1, 12)
        self.count.whole = True
        self.count.edited.connect(lambda v: self.reshape("Lines", count=int(v)))
        for word, part in (("Along", self.of), ("Over", self.against), ("Line", self.line), ("Lines", self.count)):
            self.body.addLayout(row(word, part, stretch=1))
        self.finish()

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        cards = [x for x in self.document.study.layers if PathShape.takes(x.shape)]
        self._cards = [x.id for x in cards]
        self.of.offer([x.name for x in cards], self._cards.index(shape.card) if shape.card in self._cards else -1)
        self.show_quantities(shape.quantities, walls=False)
        self.against.setCurrentIndex(_OVER.index(shape.against))
        self.line.show_value(shape.line)
        self.count.show_value(shape.count)
        self.show_look()


class LayerDepthControls(LineControls[LayerDepthShape]):
    """From the floor to the ceiling, by what."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.quantity = QuantityChooser("By", "What tells the layers apart; above zero everywhere, as an absolute temperature", plain=False)
        self.quantity.picked.connect(lambda name: self.reshape("Quantity", quantity=name))
        self.between = Between(self.reshape)
        self.body.addLayout(row("By", self.quantity, stretch=1))
        self.body.addWidget(self.between)
        self.finish()

    def refresh(self) -> None:
        shape, evaluator = self.shape(), self.document.evaluator
        if shape is None or evaluator is None:
            return
        self.quantity.offer(evaluator.store.quantities(), shape.quantity)
        self.between.show_value(shape)
        self.show_look()


class BoundaryLayerControls(LineControls[BoundaryLayerShape]):
    """Where on the wall, and what the edge is known by."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.edge = Choice([("vorticity", "Vorticity", "The edge is where the vorticity has gone"),
                            ("total pressure", "Total pressure", "The edge is where the total pressure has come to its greatest value")])
        self.edge.picked.connect(lambda v: self.reshape("Edge", edge=v))
        self.place = PointField("Place", "Three numbers: the nearest place of a wall is taken; its bead in the view can be dragged")
        self.place.pointed.connect(lambda v: self.reshape("Place", place=v))
        self.click = QPushButton("By a click on a wall")
        self.click.setToolTip("The next click in the view says where")
        self.click.clicked.connect(self._ask)
        self.stations = NumberField("Stations", "Along a line from this place to another one: curves over them", 1, 1, 100)
        self.stations.whole = True
        self.stations.edited.connect(self._several)
        self._cards: list[str] = []
        self.along = Picker("Along", "A straight line that is laid onto the wall, or the first line of a section")
        self.along.activated.connect(self._follow)
        self.to = PointField("To", "The last station")
        self.to.pointed.connect(lambda v: self.reshape("Last station", to=v))
        self.tall = NumberField("Height", "How far along the normal it is looked at; 0: as far as is needed", 0.01, 0.0, 1e12)
        self.tall.edited.connect(lambda v: self.reshape("Height", height=v))
        for word, part in (("Edge by", self.edge), ("Place", self.place), ("", self.click), ("Stations", self.stations),
                           ("Along", self.along), ("To", self.to),
                           ("Height", self.tall)):
            self.body.addLayout(row(word, part, stretch=1))
        self.finish()

    def _follow(self, at: int) -> None:
        shape = self.shape()
        if shape is not None:
            self.reshape("Stations", card=self._cards[at], stations=max(shape.stations, 12) if at else shape.stations)

    def _ask(self) -> None:
        asked = self.document.chosen

        def take(places: object) -> None:
            if self.document.chosen == asked and self.shape() is not None:
                x, y, z = (float(f"{c:.9g}") for c in places[0])  # type: ignore[index]
                self.reshape("Place", place=(x, y, z))

        self.document.clicks.ask(Wish(1, "Click the wall.", take))

    def _several(self, count: float) -> None:
        """So many; the last one first stands a quarter of the body downstream."""
        shape, flow, evaluator = self.shape(), self.document.flow, self.document.evaluator
        if shape is None or flow is None or evaluator is None:
            return
        to = shape.to
        if count > 1 and to is None:
            speed = evaluator.store.reference.speed
            way = [c / speed for c in evaluator.store.reference.velocity] if speed > 0.0 else [1.0, 0.0, 0.0]
            by = 0.25 * flow.length
            x, y, z = (float(f"{p + by * w:.4g}") for p, w in zip(shape.place, way, strict=True))
            to = x, y, z
        self.reshape("Stations", stations=int(count), to=to)

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self.edge.show_value(shape.edge)
        self.place.show_values(shape.place)
        self.stations.show_value(shape.stations)
        cards = [x for x in self.document.study.layers if BoundaryLayerShape.follows(x.shape)]
        self._cards = ["", *(x.id for x in cards)]
        self.along.offer(["a line from here", *(x.name for x in cards)], self._cards.index(shape.card) if shape.card in self._cards else -1)
        for field in (self.place, self.click):
            field.setEnabled(not shape.card)
        self.to.setEnabled(shape.stations > 1 and not shape.card)
        if shape.to is not None:
            self.to.show_values(shape.to)
        else:
            self.to.clear()
        self.tall.show_value(shape.height)
        self.show_look()
