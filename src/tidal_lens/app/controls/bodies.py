"""Controls of bodies and of listed points."""

from __future__ import annotations

from pathlib import Path

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Slider, label, row
from tidal_lens.study.model import BodyLayer, PointsLayer


class BodyControls(SurfaceLookControls):
    """Where a body came from, and how it is shown."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.source = label("", "soft")
        self.body.insertWidget(0, self.source)

    def refresh(self) -> None:
        layer = self.layer()
        if isinstance(layer, BodyLayer):
            self.source.setText(f"From {Path(layer.shape.path).name}; grey where it is outside the flow")
            self.source.setToolTip(layer.shape.path)
            super().refresh()


class PointsControls(SurfaceLookControls):
    """How many points there are, and how large they are drawn."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.source = label("", "soft")
        self.size_slider = Slider("Size", "Size of the points", 0.0005, 0.03)
        self.size_slider.moved.connect(lambda v: self.reshape("Size of points", "size", size=v))
        self.body.insertWidget(0, self.source)
        self.body.insertLayout(1, row("Size", self.size_slider, stretch=1))

    def refresh(self) -> None:
        layer = self.layer()
        if isinstance(layer, PointsLayer):
            self.source.setText(f"{len(layer.shape.points)} points{' from ' + layer.shape.source if layer.shape.source else ''}; "
                                "grey where they are outside the flow")
            self.size_slider.show_value(layer.shape.size)
            super().refresh()
