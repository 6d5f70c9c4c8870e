"""Controls of a slice set."""

from __future__ import annotations

import numpy as np

from tidal_lens.app.card_chooser import CardChooser
from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, PointField, row
from tidal_lens.cutting.planes import reach, unit
from tidal_lens.errors import StudyError, TidalLensError
from tidal_lens.study.kinds.first_values import AXES, round_to
from tidal_lens.study.kinds.slice_set import SliceSetShape


class SliceSetControls(SurfaceLookControls[SliceSetShape]):
    """How many planes, from where to where, across what."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.of = OfBlocks(document, lambda blocks: self.reshape("Blocks", blocks=blocks))
        self.axis = Choice([(str(n), axis, f"Across {axis}") for n, axis in enumerate(AXES)])
        self.axis.picked.connect(lambda a: self._turn(tuple(float(n == int(a)) for n in range(3))))
        self.direction = PointField("Direction", "What the planes are normal to: three numbers of any length")
        self.direction.pointed.connect(self._turn)
        self.direction.refused.connect(lambda why: document.tell(TidalLensError(why, "", "Type three numbers with blanks between them.")))
        self.by = Choice([("count", "By number", "So many planes between both ends"),
                          ("spacing", "By spacing", "A plane every so often, from the first on")])
        self.by.picked.connect(lambda by: self.reshape("Slice set", by=by))
        self.count = NumberField("Number", "How many planes", 1, 1, 200)
        self.count.whole = True
        self.count.edited.connect(lambda v: self.reshape("Number of slices", by="count", count=int(v)))
        self.spacing = NumberField("Spacing", "How far apart they are", low=1e-12)
        self.spacing.edited.connect(lambda v: self.reshape("Spacing of slices", by="spacing", spacing=v))
        self.first, self.last = NumberField("First", "Where the first plane stands"), NumberField("Last", "Where the last plane stands")
        self.first.edited.connect(lambda v: self.reshape("Move slices", first=v))
        self.last.edited.connect(lambda v: self.reshape("Move slices", last=v))
        self.card = CardChooser("Along", "A card of lines that the planes stand across", "no line")
        self.card.picked.connect(self._cross)
        self.line = NumberField("Line", "Which line of the card, from 1", 1, 1, 10_000_000)
        self.line.whole = True
        self.line.edited.connect(lambda v: self.reshape("Line of the slices", line=int(v) - 1))
        for n, one in enumerate((row("Across", self.axis, stretch=1), row("Direction", self.direction, stretch=1),
                                 row("From, to", self.first, self.last, stretch=1), row("How many", self.by, stretch=1),
                                 row("", self.count, self.spacing, stretch=1), row("Along", self.card, stretch=1),
                                 row("Line", self.line, stretch=1))):
            self.body.insertLayout(n, one)
        self.body.insertWidget(0, self.of)

    def _turn(self, direction: tuple[float, ...]) -> None:
        flow, shape = self.document.flow, self.shape()
        if flow is None or shape is None:
            return
        if not np.linalg.norm(direction) > 0.0:
            self.document.tell(StudyError("A direction needs a length.", "", "Type three numbers that are not all zero."))
            return
        low, high = reach(flow.body or flow.bounds, unit(direction))
        step = 0.01 * (high - low)
        self.reshape("Turn slices", direction=tuple(direction), first=round_to(low + 0.1 * (high - low), step),
                     last=round_to(high - 0.1 * (high - low), step), across="")

    def _cross(self, card: str) -> None:
        flow, shape = self.document.flow, self.shape()
        if flow is None or shape is None:
            return
        if card and not shape.across:
            self.reshape("Slices along a line", across=card, first=0.0, last=round_to(0.5 * flow.size, 0.05 * flow.size))
        elif card:
            self.reshape("Slices along a line", across=card)
        else:
            self._turn(shape.direction)

    def refresh(self) -> None:
        shape, flow, layer = self.shape(), self.document.flow, self.layer()
        if shape is None or flow is None or layer is None:
            return
        axis = next((n for n in range(3) if tuple(float(m == n) for m in range(3)) == tuple(shape.direction)), None)
        self.axis.show_value(str(axis))
        self.direction.show_values(shape.direction)
        self.by.show_value(shape.by)
        self.count.show_value(shape.count)
        self.spacing.show_value(shape.spacing)
        for field in (self.first, self.last, self.spacing):
            field.step = float(f"{0.01 * flow.size:.0e}")
        self.first.show_value(shape.first)
        self.last.show_value(shape.last)
        self.card.offer(self.document.study.subjects_for(layer, ("lines",)), shape.across)
        self.line.show_value(shape.line + 1)
        self.line.setEnabled(bool(shape.across))
        self.axis.setEnabled(not shape.across)
        self.direction.setEnabled(not shape.across)
        self.count.setEnabled(shape.by == "count")
        self.spacing.setEnabled(shape.by == "spacing")
        self.of.show_value(shape.blocks)
        super().refresh()
