"""Controls of measures."""

from __future__ import annotations

from functools import partial
from typing import Any, Generic, TypeVar

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.controls.base import BallLookControls, Coloured
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, Choice, NumberField, NumbersField, Picker, PointField, QuantityChooser, Slider, label, row
from tidal_lens.study.kinds.forces import ForcesShape
from tidal_lens.study.kinds.kind import Shape
from tidal_lens.study.kinds.over import OverShape
from tidal_lens.study.kinds.profile import ProfileShape
from tidal_lens.study.kinds.section import SectionShape

S = TypeVar("S", bound=Shape)


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


class _LineControls(Coloured[S], Generic[S]):
    """How the line in the view is drawn; below what kinds put first."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.thick = Slider("Width", "Width of the line in the view", 0.5, 12.0)
        self.thick.moved.connect(lambda v: self.relook("Width", "width", width=v))

    def _finish(self) -> None:
        self.body.addLayout(row("Colour by", self.chooser, self.chip, stretch=1))
        self.body.addLayout(row("Width", self.thick, stretch=1))
        self.body.addWidget(self.key)

    def _show_look(self) -> None:
        layer, evaluator = self.layer(), self.document.evaluator
        if layer is not None and evaluator is not None and layer.look.on == "lines":
            self.show_colour(layer, evaluator)
            self.thick.show_value(layer.look.width)


class _QuantityControls(_LineControls[S], Generic[S]):
    """What is measured: one quantity, and others, each with a chart of its own."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.measured = QuantityChooser("Measures", "What is measured", plain=False)
        self.measured.picked.connect(lambda name: self._say(0, name))
        self.second = QuantityChooser("And", "A second quantity, with a chart of its own", plain=True, none="nothing else")
        self.second.picked.connect(lambda name: self._say(1, name))
        self.body.addLayout(row("Measures", self.measured, stretch=1))
        self.body.addLayout(row("And", self.second, stretch=1))

    def _say(self, at: int, name: str | None) -> None:
        shape: Any = self.shape()
        if shape is not None:
            own = [*shape.quantities[:at], *([name] if name is not None else []), *shape.quantities[at + 1:]]
            self.reshape("What is measured", quantities=tuple(dict.fromkeys(own)))

    def _show_quantities(self, quantities: tuple[str, ...], *, walls: bool) -> None:
        evaluator = self.document.evaluator
        if evaluator is not None:
            offered = evaluator.store.quantities()
            self.measured.offer(offered, quantities[0], walls=walls)
            self.second.offer(offered, quantities[1] if len(quantities) > 1 else None, walls=walls)


class ProfileControls(_QuantityControls[ProfileShape]):
    """From where to where, and lines beside it."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.start = PointField("From", "Where it begins: three numbers; its bead in the view can be dragged")
        self.start.pointed.connect(lambda v: self.reshape("Begin of the profile", start=v))
        self.end = PointField("To", "Where it ends")
        self.end.pointed.connect(lambda v: self.reshape("End of the profile", end=v))
        self.count = NumberField("Points", "Points along it", 10, 2, 20_000)
        self.count.whole = True
        self.count.edited.connect(lambda v: self.reshape("Points of the profile", count=int(v)))
        self.lines = NumberField("Lines", "Lines side by side: stations one over another in the chart", 1, 1, 50)
        self.lines.whole = True
        self.lines.edited.connect(self._several)
        self.step = PointField("Step", "From each line to the next")
        self.step.pointed.connect(lambda v: self.reshape("Step of the lines", step=v))
        self._step = QWidget()
        inside = QVBoxLayout(self._step)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addLayout(row("Step", self.step, stretch=1))
        for part in (row("From", self.start, stretch=1), row("To", self.end, stretch=1), row("Points", self.count, stretch=1),
                     row("Lines", self.lines, stretch=1)):
            self.body.addLayout(part)
        self.body.addWidget(self._step)
        self._finish()

    def _several(self, count: float) -> None:
        """So many lines; first ones stand a tenth of the body apart, downstream."""
        shape, flow, evaluator = self.shape(), self.document.flow, self.document.evaluator
        if shape is None or flow is None or evaluator is None:
            return
        step = shape.step
        if count > 1 and not any(step):
            speed = evaluator.store.reference.speed
            way = [c / speed for c in evaluator.store.reference.velocity] if speed > 0.0 else [1.0, 0.0, 0.0]
            main = max(range(3), key=lambda a: abs(way[a]))
            by = float(f"{0.1 * flow.length:.3g}")
            step = (by * (main == 0), by * (main == 1), by * (main == 2))
        self.reshape("Lines of the profile", lines=int(count), step=step)

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self._show_quantities(shape.quantities, walls=False)
        self.start.show_values(shape.start)
        self.end.show_values(shape.end)
        self.count.show_value(shape.count)
        self.lines.show_value(shape.lines)
        self.step.show_values(shape.step)
        self._step.setVisible(shape.lines > 1)
        self._show_look()


class SectionControls(_QuantityControls[SectionShape]):
    """Where the walls are cut, and what is drawn over what."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.against = Picker("Over", "What the quantity is drawn over")
        self.against.offer(["x", "y", "z", "share of the chord", "length along the cut"], 0)
        self.against.activated.connect(lambda at: self.reshape("Over what", against=("x", "y", "z", "chord", "arc")[at]))
        self.direction = PointField("Across", "The direction across the cutting plane: three numbers")
        self.direction.pointed.connect(lambda v: self.reshape("Direction of the section", direction=v) if any(v) else None)
        self.position = NumberField("At", "Where the plane stands along its direction; its bead in the view can be dragged", 0.01)
        self.position.edited.connect(lambda v: self.reshape("Section", position=v))
        self.more = NumbersField("And at", "Further positions: several spans in one chart")
        self.more.edited.connect(lambda v: self.reshape("Further sections", more=tuple(v)))
        self.without = QPushButton("Without the experiment")
        self.without.setToolTip("Lay the measured points aside")
        self.without.clicked.connect(lambda: self.reshape("Without the experiment", taps=""))
        self.walls = Boundaries(document, lambda names: self.reshape("Boundaries", boundaries=names))
        for part in (row("Over", self.against, stretch=1), row("Across", self.direction, stretch=1), row("At", self.position, stretch=1),
                     row("And at", self.more, stretch=1)):
            self.body.addLayout(part)
        for widget in (self.without, label("Of the boundaries", "soft"), self.walls):
            self.body.addWidget(widget)
        self._finish()

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self._show_quantities(shape.quantities, walls=True)
        self.against.setCurrentIndex(("x", "y", "z", "chord", "arc").index(shape.against))
        self.direction.show_values(shape.direction)
        self.position.show_value(shape.position)
        self.more.show_values(shape.more)
        self.without.setVisible(bool(shape.taps))
        self.walls.show_value(shape.boundaries)
        self._show_look()


class ForcesControls(_LineControls[ForcesShape]):
    """On which walls, and what coefficients are taken with."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.area = NumberField("Area", "Reference area of the coefficients; 0: the walls' planform", 0.01, 0.0, 1e12)
        self.area.edited.connect(lambda v: self.reshape("Reference area", area=v))
        self.length = NumberField("Length", "Reference length of moments; 0: the body's length", 0.01, 0.0, 1e12)
        self.length.edited.connect(lambda v: self.reshape("Reference length", length=v))
        self.about = PointField("Moments about", "The point that moments are taken about; its bead in the view can be dragged")
        self.about.pointed.connect(lambda v: self.reshape("Moment point", about=v))
        self.axis = Choice([(a, a, f"The chart adds the force up along {a}") for a in "xyz"])
        self.axis.picked.connect(lambda a: self.reshape("Axis of the chart", axis=a))
        self.walls = Boundaries(document, lambda names: self.reshape("Boundaries", boundaries=names))
        for part in (row("Area", self.area, stretch=1), row("Length", self.length, stretch=1), row("About", self.about, stretch=1),
                     row("Along", self.axis, stretch=1)):
            self.body.addLayout(part)
        for widget in (label("On the boundaries", "soft"), self.walls):
            self.body.addWidget(widget)
        self._finish()

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self.area.show_value(shape.area)
        self.length.show_value(shape.length)
        self.about.show_values(shape.about)
        self.axis.show_value(shape.axis)
        self.walls.show_value(shape.boundaries)
        self._show_look()


class OverControls(BallLookControls[OverShape]):
    """Over what, and of what."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._cards: list[str] = []
        self.over = Picker("Over", "A card's surface, or boundaries")
        self.over.activated.connect(lambda at: self.reshape("Over what", card=self._cards[at]))
        self.quantity = QuantityChooser("Of", "What is averaged and added up", plain=False)
        self.quantity.picked.connect(lambda name: self.reshape("Quantity", quantity=name))
        self.walls = Boundaries(document, lambda names: self.reshape("Boundaries", boundaries=names))
        self.body.insertLayout(0, row("Over", self.over, stretch=1))
        self.body.insertLayout(1, row("Of", self.quantity, stretch=1))
        self.body.insertWidget(2, self.walls)

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
