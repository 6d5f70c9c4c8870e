"""Controls of bodies and of listed points."""

from __future__ import annotations

from pathlib import Path

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Slider, label, row
from tidal_lens.study.kinds.body import BodyShape
from tidal_lens.study.kinds.points import PointsShape


class BodyControls(SurfaceLookControls[BodyShape]):
    """Where a body came from, and how it is shown."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.source = label("", "soft")
        self.body.insertWidget(0, self.source)

    def refresh(self) -> None:
        shape = self.shape()
        if shape is not None:
            self.source.setText(f"From {Path(shape.path).name}; grey where it is outside the flow")
            self.source.setToolTip(shape.path)
            super().refresh()


class PointsControls(SurfaceLookControls[PointsShape]):
    """How many points there are, and how large they are drawn."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.source = label("", "soft")
        self.size_slider = Slider("Size", "Size of the points", 0.0005, 0.03)
        self.size_slider.moved.connect(lambda v: self.reshape("Size of points", "size", size=v))
        self.body.insertWidget(0, self.source)
        self.body.insertLayout(1, row("Size", self.size_slider, stretch=1))

    def refresh(self) -> None:
        shape = self.shape()
        if shape is not None:
            self.source.setText(f"{len(shape.points)} points{' from ' + shape.source if shape.source else ''}; "
                                "grey where they are outside the flow")
            self.size_slider.show_value(shape.size)
            super().refresh()
