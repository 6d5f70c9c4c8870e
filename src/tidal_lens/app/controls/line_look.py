"""How lines are drawn: as lines, tubes or ribbons; marks and arrows along them."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.controls.arrows import ArrowsControls
from tidal_lens.app.controls.dressing import DressingControls, Relook
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, Choice, NumberField, QuantityChooser, Slider, column, row
from tidal_lens.study.dressings import Marks, Ribbons, Tubes
from tidal_lens.study.looks import LineLook
from tidal_lens.tracing.streamlines import Lines

_MARKS = 12  # on the longest line, at first


class LineLookControls(QWidget):
    """What takes the place of lines, its size, and what is laid along them.

    Parameters
    ----------
    document : Document
        Whose chosen card is edited.
    relook : callable
        Edits its look.
    """

    def __init__(self, document: Document, relook: Relook) -> None:
        super().__init__()
        self._document, self._relook = document, relook
        self._look = LineLook()
        self.drawn = Choice([("line", "Lines", "Thin lines, as wide as the slider says in pixels"),
                             ("tube", "Tubes", "Tubes, of a radius in the flow"),
                             ("ribbon", "Ribbons", "Ribbons that turn as the flow does: at half the streamwise vorticity")])
        self.drawn.picked.connect(self._draw)
        self.width_slider = Slider("Width", "Width of the lines in pixels", 0.5, 8.0)
        self.width_slider.moved.connect(lambda v: self._relook("Width", "width", width=v))
        self.radius = Slider("Radius", "Radius of the tubes, as a share of the flow's size", 1e-4, 0.01)
        self.radius.moved.connect(lambda v: self._tubes("Radius of tubes", "radius", radius=v))
        self.radius_by = QuantityChooser("Radius by", "The quantity that makes tubes thick", plain=True, none="one radius")
        self.radius_by.picked.connect(lambda name: self._tubes("Radius of tubes", radius_by=name or ""))
        self.wide = Slider("Wide", "Width of the ribbons, as a share of the flow's size", 1e-4, 0.04)
        self.wide.moved.connect(lambda v: self._ribbons("Width of ribbons", "wide", wide=v))
        self.turning = Check("Turning", "Let ribbons turn with the flow; without, they only follow the line",
                             lambda on: self._ribbons("Turning ribbons", turning=on))
        self.marks = MarksControls(document, relook)
        self.arrows = ArrowsControls(document, relook)
        self._rows: dict[str, QWidget] = {}
        for name, rows in (("line", [row("Width", self.width_slider, stretch=1)]),
                           ("tube", [row("Radius", self.radius, stretch=1), row("By", self.radius_by, stretch=1)]),
                           ("ribbon", [row("Width", self.wide, stretch=1), row("", self.turning)])):
            self._rows[name] = QWidget()
            column(self._rows[name], *rows, spacing=6)
        column(self, row("Drawn as", self.drawn, stretch=1), *self._rows.values(), self.marks, self.arrows, spacing=8)

    def _draw(self, what: str) -> None:
        self._relook("Drawn as", tubes=Tubes() if what == "tube" else None, ribbons=Ribbons() if what == "ribbon" else None)

    def _tubes(self, what: str, grip: str = "", **changes: Any) -> None:
        if self._look.tubes is not None:
            self._relook(what, grip, tubes=self._look.tubes.with_(**changes))

    def _ribbons(self, what: str, grip: str = "", **changes: Any) -> None:
        if self._look.ribbons is not None:
            self._relook(what, grip, ribbons=self._look.ribbons.with_(**changes))

    def show_value(self, look: LineLook) -> None:
        """Show a look."""
        self._look = look
        what = "tube" if look.tubes is not None else "ribbon" if look.ribbons is not None else "line"
        self.drawn.show_value(what)
        for name, widget in self._rows.items():
            widget.setVisible(name == what)
        self.width_slider.show_value(look.width)
        layer, evaluator = self._document.chosen_layer, self._document.evaluator
        if look.tubes is not None and layer is not None and evaluator is not None:
            self.radius.show_value(look.tubes.radius)
            self.radius_by.offer((*evaluator.store.own_of(layer.id), *evaluator.store.quantities()), look.tubes.radius_by or None)
        if look.ribbons is not None:
            self.wide.show_value(look.ribbons.wide)
            self.turning.setChecked(look.ribbons.turning)
        self.marks.show_value(look.marks)
        self.arrows.show_value(look.arrows)


class MarksControls(DressingControls[Marks]):
    """By what marks are apart, and how far."""

    def __init__(self, document: Document, relook: Relook) -> None:
        super().__init__(document, relook, "marks", "Marks", "Draw balls along the lines, evenly apart from where they began")
        self.by = Choice([("time", "Time", "As much time from one to the next"), ("length", "Length", "As far from one to the next")])
        self.by.picked.connect(self._apart_in)
        self.every = NumberField("Every", "From one mark to the next", 1.0, 1e-12, 1e12)
        self.every.edited.connect(lambda v: self.set("Distance of marks", every=v))
        self.size_slider = Slider("Size", "Radius of the marks, as a share of the flow's size", 1e-4, 0.02)
        self.size_slider.moved.connect(lambda v: self.set("Size of marks", "mark size", size=v))
        self.running = Check("Running", "Let the marks run along their lines", lambda on: self.set("Running marks", running=on))
        column(self.more, row("Even in", self.by, stretch=1), row("Every", self.every, stretch=1), row("Size", self.size_slider, stretch=1),
               self.running, spacing=6)

    def _every(self, by: str) -> float:
        """So far apart that there is about a dozen on the longest line."""
        result = self.document.asking.results.get(self.document.chosen or "")
        if result is None or not isinstance(result.geometry, Lines) or not result.geometry.n_lines:
            return 1.0
        lines = result.geometry
        values = lines.time if by == "time" else lines.along
        spans = values[lines.offsets[1:] - 1] - values[lines.offsets[:-1]]
        return float(f"{max(float(spans.max()) / _MARKS, 1e-12):.2g}")

    def begin(self) -> Marks:
        return Marks(every=self._every("time"))

    def _apart_in(self, by: str) -> None:
        self.set("Distance of marks", by=by, every=self._every(by))

    def show_settings(self, value: Marks) -> None:
        self.by.show_value(value.by)
        self.every.step = float(f"{value.every / 10:.0e}")
        self.every.show_value(value.every)
        self.size_slider.show_value(value.size)
        self.running.setChecked(value.running)
