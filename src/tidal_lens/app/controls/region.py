"""Controls of a region."""

from __future__ import annotations

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.controls.conditions import ConditionsEditor
from tidal_lens.app.controls.mask import EDGES
from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, label, row
from tidal_lens.study.kinds.region import RegionShape


class RegionControls(SurfaceLookControls[RegionShape]):
    """Which conditions are met in it, what it holds, and how its skin is shown."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.of = OfBlocks(document, lambda blocks: self.reshape("Blocks", blocks=blocks))
        self.conditions = ConditionsEditor(document, self.reshape)
        self.edges = Choice(EDGES)
        self.edges.picked.connect(lambda edges: self.reshape("Edges of the region", edges=edges))
        self.holds = label("", "soft")
        self.holds.setWordWrap(True)
        self.body.insertWidget(0, self.conditions)
        self.body.insertLayout(1, row("Edges", self.edges, stretch=1))
        self.body.insertWidget(2, self.holds)
        document.result_changed.connect(self._tell)
        self.body.insertWidget(0, self.of)

    def _tell(self, layer_id: str) -> None:
        if layer_id == self.document.chosen:
            result = self.document.asking.results.get(layer_id)
            told = result.unmasked.told_in(self.document.units) if result is not None else ""
            self.holds.setText(f"It holds {told}." if told else "")

    def refresh(self) -> None:
        shape = self.shape()
        if shape is None:
            return
        self.conditions.show_value(shape.conditions)
        self.edges.show_value(shape.edges)
        self._tell(self.document.chosen or "")
        self.of.show_value(shape.blocks)
        super().refresh()
