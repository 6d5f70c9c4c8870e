"""What is done with cards: shown, named, copied, taken away, coloured and moved."""

from __future__ import annotations

from tidal_lens.app.deck import Deck
from tidal_lens.app.document import Document
from tidal_lens.study.model import Layer


class Cards:
    """Edits of the chosen card, or of the one that is named."""

    def __init__(self, document: Document, deck: Deck) -> None:
        self._document, self._deck = document, deck

    def _card(self, layer_id: str) -> Layer | None:
        return self._document.study.layer(layer_id) if layer_id else self._document.chosen_layer

    def colour_by(self, name: str) -> None:
        """Colour the chosen card by a quantity."""
        layer = self._document.chosen_layer
        if layer is not None and name and layer.look.on != "none":
            self._document.edit_layer(layer.with_(look=layer.look.with_(colour_by=name)), "Colour")

    def toggle_lamp(self, layer_id: str) -> None:
        """Show or hide a card's layer."""
        layer = self._card(layer_id)
        study = self._document.study
        if layer is not None:
            shown = not study.is_drawn(layer)
            self._document.edit(study.with_(alone=None).replacing(layer.with_(shown=shown)), "Show" if shown else "Hide",
                               f"lamp {layer.id}")

    def show_alone(self, layer_id: str) -> None:
        """Show a card's layer alone; again: all."""
        layer = self._card(layer_id)
        if layer is not None:
            alone = None if self._document.study.alone == layer.id else layer.id
            self._document.edit(self._document.study.with_(alone=alone), "Show alone" if alone else "Show all")

    def rename(self, layer_id: str = "") -> None:
        """Type another name on a card."""
        card = self._deck.cards.get(layer_id or self._document.chosen or "")
        if card is not None:
            card.rename()

    def duplicate(self, layer_id: str = "") -> None:
        """Add a copy of a card after it."""
        layer, study = self._card(layer_id), self._document.study
        if layer is not None:
            copy = layer.with_(id=study.new_id(layer.kind), name=study.new_name(layer.name))
            self._document.edit(study.adding(copy, layer.id), f"Duplicate {layer.name}")
            self._document.choose(copy.id)

    def remove(self, layer_id: str = "") -> None:
        """Remove a card."""
        layer = self._card(layer_id)
        if layer is not None:
            self._document.edit(self._document.study.without(layer.id), f"Remove {layer.name}")

    def focus_card(self, layer_id: str) -> None:
        """Give a card the keyboard."""
        if layer_id in self._deck.cards:
            self._deck.cards[layer_id].setFocus()

    def step(self, steps: float) -> None:
        """Move the chosen card by steps of its own."""
        layer, flow = self._document.chosen_layer, self._document.flow
        shape = layer.shape.stepped(steps, flow) if layer is not None and flow is not None else None
        if layer is not None and shape is not None:
            self._document.edit_layer(layer.with_(shape=shape), f"Move {layer.kind}")

    def next_ground(self, ground: str = "") -> None:
        """Another ground of the view: the one named, else the next."""
        grounds = ("water", "paper", "white", "ink")
        study = self._document.study
        new = ground if ground in grounds else grounds[(grounds.index(study.ground) + 1) % len(grounds)]
        self._document.edit(study.with_(ground=new), "Ground of the view")

    def toggle_outline(self) -> None:
        """Draw or hide the outline."""
        study = self._document.study
        self._document.edit(study.with_(outline=not study.outline), "Outline")
