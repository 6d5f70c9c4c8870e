"""Controls of an isosurface."""

from __future__ import annotations

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import NumberField, QuantityChooser, label, number_text, row
from tidal_lens.study.beginnings import new_isosurface
from tidal_lens.study.model import IsoLayer


class IsoControls(SurfaceLookControls):
    """Which quantity takes which value, and how the surface is shown."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.quantity = QuantityChooser("Surface of", "The quantity that is constant on the surface", plain=False)
        self.quantity.picked.connect(self._change)
        self.value = NumberField("Value", "The value of the surface; its bead on the colour key can be dragged too")
        self.value.edited.connect(lambda v: self.reshape("Isosurface value", value=v))
        self.span = label("", "soft")
        self.body.insertLayout(0, row("Surface of", self.quantity, stretch=1))
        self.body.insertLayout(1, row("Value", self.value, stretch=1))
        self.body.insertWidget(2, self.span)
        document.quantity_known.connect(lambda _name: self.refresh())

    def _change(self, name: str) -> None:
        evaluator, layer = self.document.evaluator, self.layer()
        if evaluator is None or not isinstance(layer, IsoLayer) or name == layer.shape.quantity:
            return
        store, study, layer_id = evaluator.store, self.document.study, layer.id

        def made(fresh: IsoLayer) -> None:
            now = self.document.study.layer(layer_id)
            if isinstance(now, IsoLayer):
                title = fresh.name if now.name.endswith("isosurface") else now.name
                self.document.edit_layer(now.with_(shape=fresh.shape, name=title), "Isosurface quantity")

        self.document.jobs.submit("beginning", store.describe(name).title,
                                  lambda token: (store.distribution(name, token), new_isosurface(study, store, name))[1],
                                  made, self.document._tell)

    def refresh(self) -> None:
        layer, evaluator = self.layer(), self.document.evaluator
        if not isinstance(layer, IsoLayer) or evaluator is None:
            return
        self.quantity.offer(evaluator.store.quantities(), layer.shape.quantity)
        spread = evaluator.store.known_distribution(layer.shape.quantity)
        if spread is not None:
            self.value.step = float(f"{max(spread.usual[1] - spread.usual[0], 1e-300) / 50:.0e}")
            met = spread.low <= layer.shape.value <= spread.high
            note = "" if met else " The flow does not take this value."
            self.span.setText(f"The flow has {number_text(spread.low)} to {number_text(spread.high)}.{note}")
        self.value.show_value(layer.shape.value)
        super().refresh()
