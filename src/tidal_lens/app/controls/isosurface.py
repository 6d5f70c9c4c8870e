"""Controls of an isosurface."""

from __future__ import annotations

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.controls.first_range import half_of_usual
from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import Choice, NumberField, NumbersField, QuantityChooser, label, row
from tidal_lens.app.play_button import PlayButton
from tidal_lens.errors import TidalLensError
from tidal_lens.study.kinds.isosurface import IsoShape, new_isosurface
from tidal_lens.study.kinds.kind import Begun


class IsoControls(SurfaceLookControls[IsoShape]):
    """Which quantity takes which value, and how the surface is shown."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.of = OfBlocks(document, lambda blocks: self.reshape("Blocks", blocks=blocks))
        self.quantity = QuantityChooser("Surface of", "The quantity that is constant on the surface", plain=False)
        self.quantity.picked.connect(self._change)
        self.value = NumberField("Value", "The value of the surface; its bead on the colour key can be dragged too")
        self.value.edited.connect(lambda v: self.reshape("Isosurface value", value=v))
        self.more = NumbersField("Also at", "Further values that have a surface too")
        self.more.edited.connect(lambda values: self.reshape("Isosurface values", more=values[:50]))
        self.more.refused.connect(lambda why: document.tell(TidalLensError(why, "", "Type values with blanks between them.")))
        self.by = Choice([("list", "Values", "One value, or several"), ("run", "A run", "Evenly from a first to a last value")])
        self.by.picked.connect(self._by)
        self.last = NumberField("Last", "The last value of the run; its bead on the colour key can be dragged too")
        self.last.edited.connect(lambda v: self.reshape("Isosurface values", last=v))
        self.count = NumberField("Number", "How many values the run has", 1, 1, 50)
        self.count.whole = True
        self.count.edited.connect(lambda v: self.reshape("Isosurface values", count=int(v)))
        self.only = QuantityChooser("Only where", "What is left of it: where this quantity is in a range; plain for all of it", plain=True)
        self.only.picked.connect(self._limit)
        self.low, self.high = NumberField("From", "Least value"), NumberField("To", "Greatest value")
        self.low.edited.connect(lambda v: self.reshape("Part of the isosurface", low=v))
        self.high.edited.connect(lambda v: self.reshape("Part of the isosurface", high=v))
        self.span = label("", "soft")
        self.body.insertLayout(0, row("Surface of", self.quantity, stretch=1))
        self.body.insertLayout(1, row("Value", self.value, PlayButton(document), stretch=1))
        self.body.insertLayout(2, row("Also at", self.more, stretch=1))
        self.body.insertLayout(3, row("Values by", self.by, stretch=1))
        self.body.insertLayout(4, row("To, in", self.last, self.count, stretch=1))
        self.body.insertWidget(5, self.span)
        self.body.insertLayout(6, row("Only at", self.only, stretch=1))
        self.body.insertLayout(7, row("From, to", self.low, self.high, stretch=1))
        document.quantity_known.connect(lambda _name: self.refresh())
        self.body.insertWidget(0, self.of)

    def _by(self, by: str) -> None:
        shape, evaluator = self.shape(), self.document.evaluator
        if shape is None or evaluator is None:
            return
        spread = evaluator.store.known_distribution(shape.quantity)
        if by == "run" and shape.last == 0.0 and spread is not None:
            self.reshape("Isosurface values", by=by, last=float(f"{spread.usual[1]:.4g}"))
        else:
            self.reshape("Isosurface values", by=by)

    def _limit(self, name: str | None) -> None:
        if not name:
            self.reshape("Part of the isosurface", only="")
            return
        low, high = half_of_usual(self.document, name, upper=False)
        self.reshape("Part of the isosurface", only=name, low=low, high=high)

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
        units = self.document.units
        self.quantity.offer(evaluator.store.quantities(), shape.quantity)
        spread = evaluator.store.known_distribution(shape.quantity)
        if spread is not None:
            self.value.step = float(f"{max(spread.usual[1] - spread.usual[0], 1e-300) / 50:.0e}")
            missed = [v for v in shape.values if not spread.low <= v <= spread.high]
            note = f" It does not take {units.values(shape.quantity, missed)}." if missed else ""
            whole = units.values(shape.quantity, (spread.high,))
            self.span.setText(f"The flow has {units.texts(shape.quantity, (spread.low,))[0]} to {whole}.{note}")
        for value in (self.value, self.more, self.last):
            value.show_in(units.of_name(shape.quantity))
        self.value.show_value(shape.value)
        self.more.show_values(shape.more)
        run = shape.by == "run"
        self.by.show_value(shape.by)
        self.more.setEnabled(not run)
        self.last.show_value(shape.last)
        self.count.show_value(shape.count)
        self.last.setEnabled(run)
        self.count.setEnabled(run)
        self.only.offer(evaluator.store.quantities(), shape.only or None)
        for field, number in ((self.low, shape.low), (self.high, shape.high)):
            field.show_in(units.of_name(shape.only))
            field.show_value(number)
            field.setEnabled(bool(shape.only))
        self.of.show_value(shape.blocks)
        super().refresh()
