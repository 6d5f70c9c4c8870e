"""Controls of measures."""

from __future__ import annotations

from typing import Any, Generic, TypeVar

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app.controls.base import Coloured
from tidal_lens.app.controls.boundary_list import Boundaries
from tidal_lens.app.controls.taps import TapsControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, NumbersField, Picker, PointField, QuantityChooser, Slider, column, label, row
from tidal_lens.study.kinds.forces import ForcesShape
from tidal_lens.study.kinds.kind import Shape
from tidal_lens.study.kinds.line_between import LineBetween
from tidal_lens.study.kinds.profile import ProfileShape
from tidal_lens.study.kinds.section import SectionShape

S = TypeVar("S", bound=Shape)


class LineControls(Coloured[S], Generic[S]):
    """How the line in the view is drawn; below what kinds put first."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.thick = Slider("Width", "Width of the line in the view", 0.5, 12.0)
        self.thick.moved.connect(lambda v: self.relook("Width", "width", width=v))

    def finish(self) -> None:
        """Below all else, how the line is drawn."""
        self.body.addLayout(row("Colour by", self.chooser, self.chip, stretch=1))
        self.body.addLayout(row("Width", self.thick, stretch=1))
        self.body.addWidget(self.key)

    def show_look(self) -> None:
        """Show how the line is drawn."""
        layer, evaluator = self.layer(), self.document.evaluator
        if layer is not None and evaluator is not None and layer.look.on == "lines":
            self.show_colour(layer, evaluator)
            self.thick.show_value(layer.look.width)


class QuantityControls(LineControls[S], Generic[S]):
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

    def show_quantities(self, quantities: tuple[str, ...], *, walls: bool) -> None:
        """Show what is measured."""
        evaluator = self.document.evaluator
        if evaluator is not None:
            offered = evaluator.store.quantities()
            self.measured.offer(offered, quantities[0], walls=walls)
            self.second.offer(offered, quantities[1] if len(quantities) > 1 else None, walls=walls)


class Between(QWidget):
    """From where to where, and how many points."""

    def __init__(self, reshape: Any) -> None:
        super().__init__()
        self.start = PointField("From", "Where it begins: three numbers; its bead in the view can be dragged")
        self.start.pointed.connect(lambda v: reshape("Begin of the line", start=v))
        self.end = PointField("To", "Where it ends")
        self.end.pointed.connect(lambda v: reshape("End of the line", end=v))
        self.count = NumberField("Points", "Points along it", 10, 2, 20_000)
        self.count.whole = True
        self.count.edited.connect(lambda v: reshape("Points of the line", count=int(v)))
        column(self, row("From", self.start, stretch=1), row("To", self.end, stretch=1), row("Points", self.count, stretch=1), spacing=8)

    def show_value(self, shape: LineBetween) -> None:
        """Show a line."""
        self.start.show_values(shape.start)
        self.end.show_values(shape.end)
        self.count.show_value(shape.count)


class ProfileControls(QuantityControls[ProfileShape]):
    """From where to where, and lines beside it."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.between = Between(self.reshape)
        self.start, self.end, self.count = self.between.start, self.between.end, self.between.count
        self.shift = NumberField("Shift", "How far each line's curve stands from the one before, in the quantity", 0.1, -1e12, 1e12)
        self.shift.edited.connect(lambda v: self.reshape("Shift of the curves", shift=v))
        self.lines = NumberField("Lines", "Lines side by side: stations one over another in the chart", 1, 1, 50)
        self.lines.whole = True
        self.lines.edited.connect(self._several)
        self.step = PointField("Step", "From each line to the next")
        self.step.pointed.connect(lambda v: self.reshape("Step of the lines", step=v))
        self._step = QWidget()
        inside = QVBoxLayout(self._step)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addLayout(row("Step", self.step, stretch=1))
        inside.addLayout(row("Shift", self.shift, stretch=1))
        self.body.addWidget(self.between)
        self.body.addLayout(row("Lines", self.lines, stretch=1))
        self.body.addWidget(self._step)
        self.taps = TapsControls(document, self.reshape, columns=True)
        self.body.addWidget(self.taps)
        self.finish()

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
        self.show_quantities(shape.quantities, walls=False)
        self.between.show_value(shape)
        self.shift.show_value(shape.shift)
        self.lines.show_value(shape.lines)
        self.step.show_values(shape.step)
        self._step.setVisible(shape.lines > 1)
        self.taps.show_value(shape.taps, shape.taps_across, shape.taps_up)
        self.show_look()


class SectionControls(QuantityControls[SectionShape]):
    """Where the walls are cut, and what is drawn over what."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.against = Picker("Over", "What the quantity is drawn over")
        self.against.offer(["x", "y", "z", "share of the chord", "length along the cut"], 0)
        self.against.activated.connect(lambda at: self.reshape("Over what", against=("x", "y", "z", "chord", "arc")[at]))
        self._cards: list[str] = []
        self.by = Picker("By", "Its own plane, or that of a slice")
        self.by.activated.connect(lambda at: self.reshape("Plane of the section", card=self._cards[at]))
        self.direction = PointField("Across", "The direction across the cutting plane: three numbers")
        self.direction.pointed.connect(lambda v: self.reshape("Direction of the section", direction=v) if any(v) else None)
        self.position = NumberField("At", "Where the plane stands along its direction; its bead in the view can be dragged", 0.01)
        self.position.edited.connect(lambda v: self.reshape("Section", position=v))
        self.more = NumbersField("And at", "Further positions: several spans in one chart")
        self.more.edited.connect(lambda v: self.reshape("Further sections", more=tuple(v[:20])))
        self.taps = TapsControls(document, self.reshape, columns=False)
        self.without = self.taps.without
        self.walls = Boundaries(document, lambda names: self.reshape("Boundaries", boundaries=names))
        lines = ("Over", self.against), ("By", self.by), ("Across", self.direction), ("At", self.position), ("And at", self.more)
        for word, part in lines:
            self.body.addLayout(row(word, part, stretch=1))
        for widget in (self.taps, label("Of the boundaries", "soft"), self.walls):
            self.body.addWidget(widget)
        self.finish()

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self.show_quantities(shape.quantities, walls=True)
        self.against.setCurrentIndex(("x", "y", "z", "chord", "arc").index(shape.against))
        cards = [x for x in self.document.study.layers if SectionShape.follows(x.shape)]
        self._cards = ["", *(x.id for x in cards)]
        self.by.offer(["its own plane", *(x.name for x in cards)], self._cards.index(shape.card) if shape.card in self._cards else -1)
        for field in (self.direction, self.position, self.more):
            field.setEnabled(not shape.card)
        self.direction.show_values(shape.direction)
        self.position.show_value(shape.position)
        self.more.show_values(shape.more)
        self.taps.show_value(shape.taps)
        self.walls.show_value(shape.boundaries)
        self.show_look()


class ForcesControls(LineControls[ForcesShape]):
    """On which walls, and what coefficients are taken with."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._cards: list[str] = []
        self.over = Picker("On", "Walls, or a card's surface: what the flow before it does to what is behind it, or within it")
        self.over.activated.connect(lambda at: self.reshape("On what", card=self._cards[at]))
        self.through = Picker("Balance", "Where momentum is balanced, to be set beside the walls' own force: a surface round them")
        self.through.activated.connect(lambda at: self.reshape("Balance of momentum", through=self._cards[at]))
        self.area = NumberField("Area", "Reference area; empty or 0: that of the case, or the walls' planform", 0.01, 0.0, 1e12)
        self.area.edited.connect(lambda v: self.reshape("Reference area", area=v))
        self.length = NumberField("Length", "Reference length; empty or 0: that of the case, or the body's length", 0.01, 0.0, 1e12)
        self.length.edited.connect(lambda v: self.reshape("Reference length", length=v))
        self.about = PointField("Moments about", "The point that moments are taken about; its bead in the view can be dragged")
        self.about.pointed.connect(lambda v: self.reshape("Moment point", about=v))
        self.axis = Choice([(a, a, f"The chart adds the force up along {a}") for a in "xyz"])
        self.axis.picked.connect(lambda a: self.reshape("Axis of the chart", axis=a))
        self.walls = Boundaries(document, lambda names: self.reshape("Boundaries", boundaries=names))
        for part in (row("On", self.over, stretch=1), row("Balance", self.through, stretch=1), row("Area", self.area, stretch=1),
                     row("Length", self.length, stretch=1), row("About", self.about, stretch=1), row("Along", self.axis, stretch=1)):
            self.body.addLayout(part)
        self.walls_label = label("The boundaries", "soft")
        for widget in (self.walls_label, self.walls):
            self.body.addWidget(widget)
        self.finish()

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        for field, value in ((self.area, shape.area), (self.length, shape.length)):
            field.setPlaceholderText("as the case says")
            if value:
                field.show_value(value)
            elif not field.hasFocus():
                field.clear()
        evaluator = self.document.evaluator
        self.about.show_values(shape.about or (evaluator.store.reference.about if evaluator is not None else (0.0, 0.0, 0.0)))
        self.axis.show_value(shape.axis)
        self.walls.show_value(shape.boundaries)
        cards = [x for x in self.document.study.layers if x.shape.geometry == "surface"]
        self._cards = ["", *(x.id for x in cards)]
        for picker, first, card in ((self.over, "Boundaries", shape.card), (self.through, "All other boundaries", shape.through)):
            picker.offer([first, *(x.name for x in cards)], self._cards.index(card) if card in self._cards else -1)
        self.through.setEnabled(not shape.card)
        for widget in (self.walls_label, self.walls):
            widget.setVisible(not shape.card)
        self.show_look()
