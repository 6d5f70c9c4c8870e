"""Controls of streamlines from a seed line."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.card_chooser import CardChooser
from tidal_lens.app.controls.arrows import ArrowsControls
from tidal_lens.app.controls.base import Coloured
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, Slider, column, label, row, rule
from tidal_lens.study.kinds.streamlines import StreamShape
from tidal_lens.tracing.streamlines import Lines


class StreamControls(Coloured[StreamShape]):
    """Seeds, how lines are followed, how they look, and what became of them."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.line: list[QWidget] = []
        self.card = CardChooser("Seeds on", "Lay the seeds on a line of their own, or evenly over a card", "a line of their own")
        self.card.picked.connect(lambda card: self.reshape("Where seeds lie", seeded_on=card))
        self.body.addLayout(row("Seeds on", self.card, stretch=1))
        self.listed = label("", "soft")
        self.body.addWidget(self.listed)
        self.ends = {end: [NumberField(f"{end} {axis}", f"{axis} of the seed line's {end.lower()}") for axis in "xyz"]
                     for end in ("Start", "End")}
        for end, fields in self.ends.items():
            for axis, field in enumerate(fields):
                field.edited.connect(partial(self._place, end.lower(), axis))
            self.line.append(QWidget())
            column(self.line[-1], row(end, *fields))
            self.body.addWidget(self.line[-1])
        self.count = NumberField("Seeds", "How many seeds are on the line", 1, 1, 5000)
        self.count.whole = True
        self.count.edited.connect(lambda v: self.reshape("Number of seeds", count=int(v)))
        self.inside = label("", "soft")
        self.body.addLayout(row("Seeds", self.count, self.inside, stretch=2))
        self.direction = Choice([("backward", "Backward", "Follow the flow upstream"), ("both", "Both", "Follow it both ways"),
                                 ("forward", "Forward", "Follow the flow downstream")])
        self.direction.picked.connect(lambda d: self.reshape("Direction", direction=d))
        self.body.addLayout(row("Follow", self.direction, stretch=1))
        self.length = NumberField("Greatest length", "Where a line is cut off, each way", 1.0, 1e-12, 1e12)
        self.length.edited.connect(lambda v: self.reshape("Length limit", max_length=v))
        self.tolerance = NumberField("Tolerance", "Error allowed a step, in cell widths; smaller is truer and slower", 1e-4, 1e-8, 0.1)
        self.tolerance.edited.connect(lambda v: self.reshape("Tolerance", tolerance=v))
        self.body.addLayout(row("Length ≤", self.length, "tolerance", self.tolerance, stretch=1))
        self.body.addWidget(rule())
        self.width_slider = Slider("Width", "Width of the lines in pixels", 0.5, 8.0)
        self.width_slider.moved.connect(lambda v: self.relook("Width", "width", width=v))
        self.body.addLayout(row("Colour by", self.chooser, self.chip, stretch=1))
        self.body.addLayout(row("Width", self.width_slider, stretch=1))
        self.arrows = ArrowsControls(document, self.relook)
        self.body.addWidget(self.arrows)
        self.body.addWidget(self.key)
        self.body.addWidget(rule())
        self.fate = label("", "soft")
        self.body.addWidget(self.fate)
        document.result_changed.connect(self._tell_fate)

    def _place(self, end: str, axis: int, value: float) -> None:
        shape = self.shape()
        if shape is not None:
            point = list(getattr(shape, end))
            point[axis] = value
            changes: dict[str, Any] = {end: tuple(point)}
            self.reshape("Move seed line", "", **changes)

    def _tell_fate(self, layer_id: str) -> None:
        layer = self.layer()
        if layer is None or layer.id != layer_id:
            return
        result = self.document.asking.results.get(layer_id)
        if result is None or not isinstance(result.unmasked.geometry, Lines):
            self.inside.setText("")
            self.fate.setText("")
            return
        lines = result.unmasked.geometry
        self.inside.setText(inside_text(lines))
        worst = float(lines.error.max()) if lines.n_lines else 0.0
        told = [f"{n} {words}" for words, n in lines.census]
        self.fate.setText("How the lines ended: " + "; ".join(told) + f".\nLargest error estimate {worst:.1e}. "
                          "Point at a line to read its own story." if told else "No line: all seeds are outside the flow.")

    def refresh(self) -> None:
        layer, shape, evaluator, flow = self.layer(), self.shape(), self.document.evaluator, self.document.flow
        if layer is None or shape is None or evaluator is None or flow is None or layer.look.on != "lines":
            return
        listed = () if shape.seeded_on else shape.listed
        self.card.offer(self.document.study.subjects_for(layer, ("surface",)), shape.seeded_on)
        self.count.setVisible(not listed)
        for widget in self.line:
            widget.setVisible(not listed and not shape.seeded_on)
        self.listed.setVisible(bool(listed))
        self.listed.setText(f"{len(listed)} seeds listed in {shape.source or 'a file'}")
        step = float(f"{flow.size / 200:.0e}")
        for end, fields in self.ends.items():
            for field, value in zip(fields, getattr(shape, end.lower()), strict=True):
                field.step = step
                field.show_value(value)
        self.count.show_value(shape.count)
        self.direction.show_value(shape.direction)
        self.length.step = float(f"{flow.size / 10:.0e}")
        self.length.show_value(shape.max_length)
        self.tolerance.show_value(shape.tolerance)
        self.show_colour(layer, evaluator)
        self.width_slider.show_value(layer.look.width)
        self.arrows.show_value(layer.look.arrows)
        self._tell_fate(layer.id)


def inside_text(lines: Lines) -> str:
    """How many seeds are inside, in words."""
    if lines.n_lines == lines.n_seeds:
        return f"all {lines.n_seeds} are inside" if lines.n_seeds > 1 else "the seed is inside"
    return f"{lines.n_lines} of {lines.n_seeds} seeds are inside"
