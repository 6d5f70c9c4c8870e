"""Controls of an isosurface."""

from __future__ import annotations

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import NumberField, NumbersField, QuantityChooser, label, row
from tidal_lens.errors import TidalLensError
from tidal_lens.study.kinds.isosurface import IsoShape, new_isosurface
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.words import number_text


class IsoControls(SurfaceLookControls[IsoShape]):
    """Which quantity takes which value, and how the surface is shown."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.quantity = QuantityChooser("Surface of", "The quantity that is constant on the surface", plain=False)
        self.quantity.picked.connect(self._change)
        self.value = NumberField("Value", "The value of the surface; its bead on the colour key can be dragged too")
        self.value.edited.connect(lambda v: self.reshape("Isosurface value", value=v))
        self.more = NumbersField("Also at", "Further values that have a surface too")
        self.more.edited.connect(lambda values: self.reshape("Isosurface values", more=values[:50]))
        self.more.refused.connect(lambda why: document.tell(TidalLensError(why, "", "Type values with blanks between them.")))
        self.span = label("", "soft")
        self.body.insertLayout(0, row("Surface of", self.quantity, stretch=1))
        self.body.insertLayout(1, row("Value", self.value, stretch=1))
        self.body.insertLayout(2, row("Also at", self.more, stretch=1))
        self.body.insertWidget(3, self.span)
        document.quantity_known.connect(lambda _name: self.refresh())

    def _change(self, name: str) -> None:
        evaluator, layer, shape = self.document.evaluator, self.layer(), self.shape()
        if evaluator is None or layer is None or shape is None or name == shape.quantity:
            return
        store, layer_id = evaluator.store, layer.id

        def made(fresh: Begun) -> None:
            now = self.document.study.layer(layer_id)
            if now is not None:
                title = fresh.name if now.name.endswith("isosurface") else now.name
                self.document.edit_layer(now.with_(shape=fresh.shape, name=title), "Isosurface quantity")

        self.document.jobs.submit(Slot("begin again", layer_id), store.describe(name).title,
                                  lambda token: (store.distribution(name, token), new_isosurface(store, name))[1],
                                  made, self.document.tell)

    def refresh(self) -> None:
        shape, evaluator = self.shape(), self.document.evaluator
        if shape is None or evaluator is None:
            return
        self.quantity.offer(evaluator.store.quantities(), shape.quantity)
        spread = evaluator.store.known_distribution(shape.quantity)
        if spread is not None:
            self.value.step = float(f"{max(spread.usual[1] - spread.usual[0], 1e-300) / 50:.0e}")
            missed = [v for v in shape.values if not spread.low <= v <= spread.high]
            note = f" It does not take {', '.join(map(number_text, missed))}." if missed else ""
            self.span.setText(f"The flow has {number_text(spread.low)} to {number_text(spread.high)}.{note}")
        self.value.show_value(shape.value)
        self.more.show_values(shape.more)
        super().refresh()
