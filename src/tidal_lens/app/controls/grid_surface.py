"""Controls of a grid surface."""

from __future__ import annotations

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, Picker, Slider, label, row
from tidal_lens.app.play_button import PlayButton
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.study.kinds.grid_surface import DIRECTIONS, GridShape


class GridControls(SurfaceLookControls[GridShape]):
    """Of which block, along which of its directions, at which index."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.block = Picker("Block", "The structured block")
        self.block.activated.connect(lambda at: self.reshape("Block", block=self.block.itemText(at)))
        self.direction = Choice([(d, d, f"The index that is constant is {d}") for d in DIRECTIONS])
        self.direction.picked.connect(lambda d: self.reshape("Direction", direction=d))
        self.index = NumberField("Index", "The index, from 0", 1, 0, 10_000_000)
        self.index.whole = True
        self.index.edited.connect(lambda v: self.reshape("Index", index=int(v)))
        self.sweep = Slider("Sweep", "Sweep through all indices", 0.0, 1.0)
        self.sweep.moved.connect(self._swept)
        self.note = label("", "soft")
        for n, one in enumerate((row("Block", self.block, stretch=1), row("Constant", self.direction, stretch=1),
                                 row("Index", self.index, stretch=1), row("", self.sweep, PlayButton(document), stretch=1))):
            self.body.insertLayout(n, one)
        self.body.insertWidget(4, self.note)

    def _swept(self, share: float) -> None:
        shape, evaluator = self.shape(), self.document.evaluator
        swept = shape.swept(share, evaluator.store) if shape is not None and evaluator is not None else None
        if swept is not None:
            self.reshape("Index", "sweep", index=swept.index)

    def refresh(self) -> None:
        shape, flow = self.shape(), self.document.flow
        if shape is None or flow is None:
            return
        names = [b.name for b in flow.blocks if isinstance(b.grid, StructuredGrid)]
        self.block.offer(names, names.index(shape.block) if shape.block in names else -1)
        self.direction.show_value(shape.direction)
        self.index.show_value(shape.index)
        last = shape.last(flow)
        self.sweep.show_value(shape.index / max(last, 1))
        self.note.setText(f"{shape.direction} goes from 0 to {last}.")
        super().refresh()
