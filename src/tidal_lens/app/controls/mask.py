"""Controls of a mask."""

from __future__ import annotations

from tidal_lens.app.card_chooser import CardChooser
from tidal_lens.app.controls.base import Controls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, QuantityChooser, Slider, label, row
from tidal_lens.study.kinds.first_values import round_to
from tidal_lens.study.kinds.mask import MaskShape
from tidal_lens.study.model import Subject
from tidal_lens.study.words import number_text


class MaskControls(Controls[MaskShape]):
    """Of which quantity, which side of which value is kept."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.quantity = QuantityChooser("Mask by", "The quantity that decides what is hidden", plain=False)
        self.quantity.picked.connect(self._change)
        self.keep = Choice([("above", "Keep above", "Hide what lies below the value"), ("below", "Keep below", "Hide what lies above it")])
        self.keep.picked.connect(lambda side: self.reshape("Side of the mask", keep=side))
        self.value = NumberField("Value", "Where it is cut; its bead on the colour key can be dragged too")
        self.value.edited.connect(lambda v: self.reshape("Value of the mask", value=v))
        self.sweep = Slider("Sweep", "Sweep the value through the usual range", 0.0, 1.0)
        self.sweep.moved.connect(self._swept)
        self.span = label("", "soft")
        self.card = CardChooser("Hides in", "Whether it hides parts of all cards or of one", "all cards")
        self.card.picked.connect(self._let_hide)
        hint = label("Numbers are taken over the whole flow. Put out its lamp to see everything.", "soft")
        self.body.addLayout(row("Hides in", self.card, stretch=1))
        self.body.addLayout(row("Mask by", self.quantity, stretch=1))
        self.body.addLayout(row("", self.keep, stretch=1))
        self.body.addLayout(row("Value", self.value, stretch=1))
        self.body.addLayout(row("", self.sweep, stretch=1))
        self.body.addWidget(self.span)
        self.body.addWidget(hint)
        document.quantity_known.connect(lambda _name: self.refresh())

    def _let_hide(self, card: str) -> None:
        layer = self.layer()
        if layer is not None:
            self.document.edit_layer(layer.with_(subject=Subject(card=card)), "Where the mask hides")

    def _usual(self, name: str) -> tuple[float, float] | None:
        evaluator = self.document.evaluator
        spread = evaluator.store.known_distribution(name) if evaluator is not None else None
        return spread.usual if spread is not None else None

    def _change(self, name: str) -> None:
        usual = self._usual(name)
        if usual is None:
            self.reshape("Quantity of the mask", quantity=name)
        else:
            self.reshape("Quantity of the mask", quantity=name, value=round_to(0.5 * sum(usual), 0.01 * (usual[1] - usual[0])))

    def _swept(self, share: float) -> None:
        shape = self.shape()
        usual = self._usual(shape.quantity) if shape is not None else None
        if usual is not None:
            self.reshape("Value of the mask", "mask sweep", value=round_to(usual[0] + share * (usual[1] - usual[0]),
                                                                           0.002 * (usual[1] - usual[0])))

    def refresh(self) -> None:
        shape, evaluator = self.shape(), self.document.evaluator
        if shape is None or evaluator is None:
            return
        self.quantity.offer(evaluator.store.quantities(), shape.quantity)
        self.keep.show_value(shape.keep)
        layer = self.layer()
        if layer is not None:
            self.card.offer(self.document.study.subjects_for(layer, shape.subjects), layer.subject.card)
        usual = self._usual(shape.quantity)
        if usual is not None:
            self.value.step = float(f"{max(usual[1] - usual[0], 1e-300) / 50:.0e}")
            self.sweep.show_value((shape.value - usual[0]) / max(usual[1] - usual[0], 1e-300))
            self.span.setText(f"Usual values are {number_text(usual[0])} to {number_text(usual[1])}.")
        self.value.show_value(shape.value)
