"""Controls of what comes from files: bodies, clouds of particles, listed points."""

from __future__ import annotations

from pathlib import Path

from tidal_lens.app.controls.base import BallLookControls, SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import NumberField, label, row
from tidal_lens.study.kinds.body import BodyShape
from tidal_lens.study.kinds.cloud import CloudShape
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


class CloudControls(BallLookControls[CloudShape]):
    """Where particles came from, which step of theirs is shown, and how they are drawn."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.source = label("", "soft")
        self.moment = NumberField("Step", "Which step of the particles is shown, from 0; with a series of flows it goes with theirs",
                                  1, 0, 10_000_000)
        self.moment.whole = True
        self.moment.edited.connect(lambda v: self.reshape("Step of the particles", "moment", moment=int(v)))
        self.body.insertWidget(0, self.source)
        self.body.insertLayout(1, row("Step", self.moment, stretch=1))

    def refresh(self) -> None:
        shape, flow, layer = self.shape(), self.document.flow, self.layer()
        if shape is None or flow is None or layer is None:
            return
        result = self.document.asking.results.get(layer.id)
        told = result.unmasked.told if result is not None else ""
        self.source.setText(f"From {Path(shape.path).name}{': ' if told else ''}{told}")
        self.source.setToolTip(shape.path)
        self.moment.setEnabled("step" in told and len(flow.times) < 2)
        self.moment.show_value(shape.moment)
        super().refresh()


class PointsControls(BallLookControls[PointsShape]):
    """How many points there are, and how they are drawn."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.source = label("", "soft")
        self.body.insertWidget(0, self.source)

    def refresh(self) -> None:
        shape = self.shape()
        if shape is not None:
            self.source.setText(f"{len(shape.points)} points{' from ' + shape.source if shape.source else ''}; "
                                "grey where they are outside the flow")
            super().refresh()
