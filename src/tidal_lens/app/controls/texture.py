"""Controls of a flow texture."""

from __future__ import annotations

from tidal_lens.app.controls.arrows import ArrowsControls
from tidal_lens.app.controls.dressing import DressingControls, Relook
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, QuantityChooser, Slider, column, row
from tidal_lens.study.dressings import Texture


class TextureControls(DressingControls[Texture]):
    """Of what the streaks are, and how they look."""

    def __init__(self, document: Document, relook: Relook) -> None:
        super().__init__(document, relook, "texture", "Flow texture", "Draw streaks along the flow over the whole surface")
        self._vectors = ArrowsControls(document, relook)
        self._vectors.hide()
        self.of = QuantityChooser("Streaks along", "The vector that the streaks follow", plain=False)
        self.of.picked.connect(lambda name: self.set("Flow texture", of=name))
        self.length = Slider("Length", "How long the streaks are, in pixels", 4.0, 60.0)
        self.length.moved.connect(lambda v: self.set("Length of streaks", "streak length", length=round(v)))
        self.grain = Slider("Grain", "How wide the streaks are, in pixels", 1.0, 6.0)
        self.grain.moved.connect(lambda v: self.set("Grain of streaks", "streak grain", grain=v))
        self.contrast = Slider("Contrast", "How much the streaks darken and lighten the paint", 0.05, 1.0)
        self.contrast.moved.connect(lambda v: self.set("Contrast of streaks", "streak contrast", contrast=v))
        self.running = Check("Running", "Let the streaks run with the flow", lambda on: self.set("Running streaks", running=on))
        column(self.more, row("Along", self.of, stretch=1), row("Length", self.length, stretch=1), row("Grain", self.grain, stretch=1),
               row("Contrast", self.contrast, stretch=1), self.running, spacing=6)

    def begin(self) -> Texture | None:
        arrows = self._vectors.begin()  # the same vectors, and the same that is told where there is none
        return Texture(of=arrows.of) if arrows is not None else None

    def show_settings(self, value: Texture) -> None:
        layer, evaluator = self.document.chosen_layer, self.document.evaluator
        if layer is None or evaluator is None:
            return
        self._vectors.offer(self.of, value.of)
        self.length.show_value(value.length)
        self.grain.show_value(value.grain)
        self.contrast.show_value(value.contrast)
        self.running.setChecked(value.running)
