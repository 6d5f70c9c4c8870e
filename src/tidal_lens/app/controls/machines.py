"""Controls of what is told of turning machines."""

from __future__ import annotations

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.controls.boundary_list import Boundaries
from tidal_lens.app.controls.measures import QuantityControls
from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, Choice, NumberField, NumbersField, QuantityChooser, Slider, label, row
from tidal_lens.study.kinds.round_axis import RoundAxisShape
from tidal_lens.study.kinds.round_blade import RoundBladeShape
from tidal_lens.study.kinds.span import SpanShape

_MOST = 12  # stations or spans in one chart


def _shares(typed: tuple[float, ...]) -> tuple[float, ...]:
    return tuple(min(max(share, 0.0), 1.0) for share in typed[:_MOST])


class RoundAxisControls(SurfaceLookControls[RoundAxisShape]):
    """What is averaged, by what, and where it is drawn over the span."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.quantity = QuantityChooser("Of", "What is averaged round the axis", plain=False)
        self.quantity.picked.connect(lambda name: self.reshape("Quantity", quantity=name))
        self.by = Choice([("angle", "Angle", "Each place counts by the angle that it takes up"),
                          ("mass", "Mass", "Each place counts by the mass that goes along the annulus there")])
        self.by.picked.connect(lambda by: self.reshape("Mean by", by=by))
        self.stations = NumbersField("Stations", "Shares of the way, from 0 at the inlet to 1 at the outlet, drawn over the span")
        self.stations.edited.connect(lambda v: self.reshape("Stations", stations=_shares(v)))
        self.rays = NumberField("Rays", "Angles at which each ring is looked at", 20, 8, 5000)
        self.rays.whole = True
        self.rays.edited.connect(lambda v: self.reshape("Rays", rays=int(v)))
        for n, (word, part) in enumerate((("Of", self.quantity), ("By", self.by), ("Stations", self.stations), ("Rays", self.rays))):
            self.body.insertLayout(n, row(word, part, stretch=1))

    def refresh(self) -> None:
        shape, evaluator = self.shape(), self.document.evaluator
        if shape is None or evaluator is None:
            return
        self.quantity.offer(evaluator.store.quantities(), shape.quantity)
        self.by.show_value(shape.by)
        self.stations.show_values(shape.stations)
        self.rays.show_value(shape.rays)
        super().refresh()


class SpanControls(SurfaceLookControls[SpanShape]):
    """Where between hub and casing."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.slider = Slider("Span", "From the hub (0) to the casing (1)", 0.0, 1.0)
        self.slider.moved.connect(lambda v: self.reshape("Share of span", "span", share=v))
        self.share = NumberField("Share of span", "From the hub (0) to the casing (1); its bead in the view can be dragged", 0.05, 0.0, 1.0)
        self.share.edited.connect(lambda v: self.reshape("Share of span", share=v))
        self.unrolled = Check("Unrolled", "Lay it flat beside the machine, vectors turned along",
                              lambda on: self.reshape("Unroll", unrolled=on))
        self.shown = NumberField("Passages shown", "How many passages are drawn side by side, of all cards", 1.0, 1.0, 1000.0)
        self.shown.whole = True
        self.shown.edited.connect(lambda v: document.edit(document.study.with_(passages_shown=int(v)), "Passages shown"))
        self.blocks = OfBlocks(document, lambda blocks: self.reshape("Blocks", blocks=blocks))
        self.body.insertWidget(0, self.blocks)
        self.body.insertLayout(1, row("Span", self.share, stretch=1))
        self.body.insertWidget(2, self.slider)
        self.body.insertWidget(3, self.unrolled)
        self.body.insertLayout(4, row("Passages", self.shown, stretch=1))

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self.blocks.show_value(shape.blocks)
        self.share.show_value(shape.share)
        self.slider.show_value(shape.share)
        self.unrolled.setChecked(shape.unrolled)
        self.shown.show_value(self.document.study.passages_shown)
        super().refresh()


class RoundBladeControls(QuantityControls[RoundBladeShape]):
    """At which spans, over what, of which walls."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.against = Choice([("chord", "Chord", "Share of the way along the annulus from the leading to the trailing edge"),
                               ("m'", "m′", "The way along the annulus, each step divided by its radius")])
        self.against.picked.connect(lambda a: self.reshape("Over what", against=a))
        self.share = NumberField("Share of span", "From the hub (0) to the casing (1); its bead in the view can be dragged", 0.05, 0.0, 1.0)
        self.share.edited.connect(lambda v: self.reshape("Share of span", share=v))
        self.more = NumbersField("And at", "Further shares of the span: several in one chart")
        self.more.edited.connect(lambda v: self.reshape("Further spans", more=_shares(v)))
        self.walls = Boundaries(document, lambda names: self.reshape("Boundaries", boundaries=names))
        for word, part in (("Over", self.against), ("Span", self.share), ("And at", self.more)):
            self.body.addLayout(row(word, part, stretch=1))
        for widget in (label("Of the boundaries", "soft"), self.walls):
            self.body.addWidget(widget)
        self.finish()

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self.show_quantities(shape.quantities, walls=True)
        self.against.show_value(shape.against)
        self.share.show_value(shape.share)
        self.more.show_values(shape.more)
        self.walls.show_value(shape.boundaries)
        self.show_look()
