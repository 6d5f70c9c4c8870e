"""Controls of a slice."""

from __future__ import annotations

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, Slider, row
from tidal_lens.study.kinds.first_values import AXES, round_to
from tidal_lens.study.kinds.slice import SliceShape


class SliceControls(SurfaceLookControls[SliceShape]):
    """Where the plane stands, and how it is shown."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.axis = Choice([(str(n), axis, f"Normal to {axis}") for n, axis in enumerate(AXES)])
        self.axis.picked.connect(lambda a: self._turn(int(a)))
        self.position = NumberField("Position", "Where the plane cuts the axis")
        self.position.edited.connect(lambda v: self.reshape("Move slice", position=v))
        self.sweep = Slider("Sweep", "Sweep the plane through the flow", 0.0, 1.0)
        self.sweep.moved.connect(self._swept)
        self.sweep.sliderPressed.connect(self._held)
        self.sweep.sliderReleased.connect(self.document.release)
        self.body.insertLayout(0, row("Normal to", self.axis, stretch=1))
        self.body.insertLayout(1, row("Position", self.position, stretch=1))
        self.body.insertLayout(2, row("", self.sweep, stretch=1))

    def _held(self) -> None:
        self.document.dragging = True

    def _turn(self, axis: int) -> None:
        flow = self.document.flow
        if flow is None:
            return
        low, high = flow.bounds
        middle = round_to(0.5 * float(low[axis] + high[axis]), 0.01 * float(high[axis] - low[axis]))
        layer, old = self.layer(), self.shape()
        if layer is not None and old is not None:
            name = f"Slice {AXES[axis]}" if layer.name.startswith("Slice ") else layer.name
            shape = old.with_(axis=axis, position=middle)
            self.document.edit_layer(layer.with_(shape=shape, name=name), "Turn slice")

    def _swept(self, share: float) -> None:
        flow, shape = self.document.flow, self.shape()
        if flow is not None and shape is not None:
            low, high = (float(b[shape.axis]) for b in flow.bounds)
            self.reshape("Move slice", "sweep", position=round_to(low + share * (high - low), 0.002 * (high - low)))

    def refresh(self) -> None:
        shape, flow = self.shape(), self.document.flow
        if shape is None or flow is None:
            return
        low, high = (float(b[shape.axis]) for b in flow.bounds)
        self.axis.show_value(str(shape.axis))
        self.position.step = float(f"{max(high - low, 1e-300) / 100:.0e}")
        self.position.show_value(shape.position)
        self.sweep.show_value((shape.position - low) / max(high - low, 1e-300))
        super().refresh()
