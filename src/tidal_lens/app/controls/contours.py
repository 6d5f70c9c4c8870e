"""Controls of contour lines on a surface."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.controls.dressing import DressingControls, Relook
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import Check, Choice, NumberField, NumbersField, QuantityChooser, column, row
from tidal_lens.errors import TidalLensError
from tidal_lens.quantities.shown_units import Shown
from tidal_lens.quantities.store import Distribution
from tidal_lens.study.dressings import Contours
from tidal_lens.study.kinds.first_values import best_name, round_to

_FIRST = 12  # lines, or a few more or less: their step is a round number


def round_step(span: float) -> float:
    """One, two or five times a power of ten, as near as may be."""
    if not span > 0.0:
        return 1.0
    unit = 10.0 ** math.floor(math.log10(span))
    return float(f"{min((k * unit for k in (1.0, 2.0, 5.0, 10.0)), key=lambda step: abs(math.log(step / span))):.12g}")


class ContoursControls(DressingControls[Contours]):
    """Of what they are, which values have a line, and whether they are labelled."""

    def __init__(self, document: Document, relook: Relook) -> None:
        super().__init__(document, relook, "contours", "Contour lines", "Draw lines along which a quantity is constant")
        self.of = QuantityChooser("Lines of", "The quantity that is constant along each line", plain=False)
        self.of.picked.connect(self._change)
        self.by = Choice([("number", "Number", "So many lines, evenly apart"), ("step", "Step", "A line at each multiple of a step"),
                          ("list", "List", "Lines at the values that are typed")])
        self.by.picked.connect(lambda by: self.set("Contour lines", by=by))
        self.number = NumberField("Number of lines", "How many lines there are", 1, 1, 200)
        self.number.whole = True
        self.number.edited.connect(lambda v: self.set("Number of contour lines", number=int(v)))
        self.step = NumberField("Step", "How far the values of two lines are apart", 0.1, 1e-300, 1e300)
        self.step.edited.connect(lambda v: self.set("Step of contour lines", step=v))
        self.listed = NumbersField("Values of the lines", "Values that have a line")
        self.listed.edited.connect(lambda values: self.set("Values of contour lines", listed=values[:200]))
        self.listed.refused.connect(lambda why: document.tell(TidalLensError(why, "", "Type values with blanks between them.")))
        self.low = NumberField("Lines from", "The least value that may have a line")
        self.low.edited.connect(lambda v: self.set("Range of contour lines", low=v))
        self.high = NumberField("Lines to", "The greatest value that may have a line")
        self.high.edited.connect(lambda v: self.set("Range of contour lines", high=v))
        self.labels = Check("Labels", "Write the value of each line on it", lambda on: self.set("Labels", labels=on))
        self.rows: dict[str, QWidget] = {}
        for name, title, field in (("number", "How many", self.number), ("step", "Step", self.step), ("list", "Values", self.listed)):
            self.rows[name] = QWidget()
            column(self.rows[name], row(title, field, stretch=1))
        self.span = QWidget()
        column(self.span, row("From, to", self.low, self.high, stretch=1))
        column(self.more, row("Lines of", self.of, self.chip, stretch=1), row("", self.by, stretch=1), *self.rows.values(), self.span,
               self.labels, spacing=6)

    def _range(self, spread: Distribution) -> dict[str, float]:
        low, high = spread.usual
        room = 0.01 * (high - low)
        return {"low": round_to(low, room), "high": round_to(high, room), "step": round_step((high - low) / _FIRST)}

    def begin(self) -> Contours | None:
        layer, evaluator = self.document.chosen_layer, self.document.evaluator
        if layer is None or evaluator is None:
            return None
        name = layer.look.colour_by or best_name(evaluator.store)
        if name is None:
            self.document.tell(TidalLensError("This result has no scalar quantity to draw lines of.", evaluator.flow.title))
            return None
        spread = evaluator.store.known_distribution(name)
        value = Contours(of=name, **({"low": 0.0, "high": 1.0} if spread is None else self._range(spread)))
        if spread is None:
            self._ask_range(name, value)
            return None
        return value

    def _change(self, name: str) -> None:
        if self.value is None or self.document.evaluator is None:
            return
        spread = self.document.evaluator.store.known_distribution(name)
        if spread is None:
            self._ask_range(name, self.value.with_(of=name))
        else:
            self.set("Contour lines", "", of=name, **self._range(spread))

    def _ask_range(self, name: str, value: Contours) -> None:
        """Work out the quantity's range beside the window; then the lines are drawn."""
        evaluator, card = self.document.evaluator, self.document.chosen
        if evaluator is None:
            return

        def done(spread: Distribution) -> None:
            if self.document.chosen == card:
                self._relook("Contour lines", contours=value.with_(**self._range(spread)))

        self.document.jobs.submit(Slot("contours"), "Contour lines", lambda token: evaluator.store.distribution(name, token), done,
                                  self.document.tell)

    def show_settings(self, value: Contours) -> None:
        layer, evaluator = self.document.chosen_layer, self.document.evaluator
        if layer is None or evaluator is None:
            return
        self.of.offer(evaluator.store.quantities(), value.of, walls=layer.shape.on_walls)
        self.by.show_value(value.by)
        for name, widget in self.rows.items():
            widget.setVisible(name == value.by)
        self.span.setVisible(value.by != "list")
        self.number.show_value(value.number)
        shown = self.document.units.of_name(value.of)
        self.step.show_in(Shown(shown.text, shown.size))
        for field in (self.low, self.high, self.listed):
            field.show_in(shown)
        self.step.step = float(f"{value.step / 5:.0e}")
        self.step.show_value(value.step)
        room: Any = float(f"{max(abs(value.high - value.low), 1e-300) / 40:.0e}")
        self.low.step = self.high.step = room
        self.low.show_value(value.low)
        self.high.show_value(value.high)
        self.listed.show_values(value.listed)
        self.labels.setChecked(value.labels)
