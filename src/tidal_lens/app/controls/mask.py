"""Controls of a mask."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app.controls.base import Controls
from tidal_lens.app.controls.conditions import ConditionsEditor
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, Choice, label, row
from tidal_lens.study.kinds.mask import MaskShape
from tidal_lens.study.model import Subject

EDGES = [("exact", "Exact edges", "Cut faces where the condition ends"),
         ("cells", "Whole cells", "Keep or hide faces whole, as the cells are")]


class MaskControls(Controls[MaskShape]):
    """Which conditions, all or any of them, on which cards."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.conditions = ConditionsEditor(document, self.reshape)
        self.how = Choice([("all", "All are met", "Keep what meets every condition"),
                           ("any", "Any is met", "Keep what meets at least one")])
        self.how.picked.connect(lambda how: self.reshape("All or any", how=how))
        self.edges = Choice(EDGES)
        self.edges.picked.connect(lambda edges: self.reshape("Edges of the mask", edges=edges))
        holder = QWidget()
        self._cards = QVBoxLayout(holder)
        self._cards.setContentsMargins(0, 0, 0, 0)
        self._cards.setSpacing(4)
        self.cards: dict[str, Check] = {}
        self.everything = Check("All cards", "Hide parts of all cards, of new ones too", self._hide_in_all)
        hint = label("Numbers are taken over the whole flow. Put out its lamp to see everything.", "soft")
        self.body.addWidget(self.conditions)
        self.body.addLayout(row("Keep if", self.how, stretch=1))
        self.body.addLayout(row("Edges", self.edges, stretch=1))
        self.body.addWidget(label("Hides in", "soft"))
        self.body.addWidget(self.everything)
        self.body.addWidget(holder)
        self.body.addWidget(hint)

    def _hide_in_all(self, on: bool) -> None:
        layer = self.layer()
        if layer is not None:
            first = next(iter(self.cards), "")
            self.document.edit_layer(layer.with_(subject=Subject() if on else Subject(card=first)), "Where the mask hides")

    def _hide_in(self, card: str, on: bool) -> None:
        layer = self.layer()
        if layer is not None:
            cards = [c for c in layer.subject.cards if c != card] + ([card] if on else [])
            self.document.edit_layer(layer.with_(subject=Subject(card=cards[0], more=tuple(cards[1:])) if cards else Subject()),
                                     "Where the mask hides")

    def refresh(self) -> None:
        shape, layer = self.shape(), self.layer()
        if shape is None or layer is None:
            return
        self.conditions.show_value(shape.conditions)
        self.how.show_value(shape.how)
        self.how.setEnabled(len(shape.conditions) > 1)
        self.edges.show_value(shape.edges)
        self._show_cards(layer.subject.cards, {c.id: c.name for c in self.document.study.subjects_for(layer, shape.subjects)})

    def _show_cards(self, chosen: tuple[str, ...], offered: dict[str, str]) -> None:
        names = {**offered, **{c: "a card that is gone" for c in chosen if c not in offered}}
        if [(c, box.accessibleName()) for c, box in self.cards.items()] != list(names.items()):
            for box in self.cards.values():
                box.deleteLater()
            self.cards = {}
            for card, name in names.items():
                box = Check(name, "Hide parts of this card", partial(self._hide_in, card))
                self._cards.addWidget(box)
                self.cards[card] = box
        self.everything.setChecked(not chosen)
        self.everything.setEnabled(bool(self.cards))
        for card, box in self.cards.items():
            box.setChecked(card in chosen)
