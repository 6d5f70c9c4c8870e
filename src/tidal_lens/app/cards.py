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
        """Colour the chosen cards by a quantity."""
        layers = [x for x in self._document.chosen_layers if x.look.on != "none"]
        if layers and name:
            self._document.edit_layers([x.with_(look=x.look.with_(colour_by=name)) for x in layers], "Colour")

    def toggle_lamp(self, layer_id: str) -> None:
        """Show or hide a card's layer, or those of all chosen cards."""
        layers = self._cards(layer_id)
        study = self._document.study
        if layers:
            shown, grip = not study.is_drawn(layers[0]), f"lamp {layers[0].id}"
            study = study.with_(alone=None)
            for layer in layers:
                study = study.replacing(layer.with_(shown=shown))
            self._document.edit(study, "Show" if shown else "Hide", grip)

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

    def _cards(self, layer_id: str) -> tuple[Layer, ...]:
        """The card that is named, or all that are chosen: those too if it is one of them."""
        chosen = self._document.chosen_layers
        if not layer_id or layer_id in [x.id for x in chosen]:
            return chosen
        layer = self._document.study.layer(layer_id)
        return (layer,) if layer is not None else ()

    def remove(self, layer_id: str = "") -> None:
        """Remove a card, or all that are chosen."""
        layers, study = self._cards(layer_id), self._document.study
        for layer in layers:
            study = study.without(layer.id)
        if layers:
            self._document.edit(study, f"Remove {layers[0].name if len(layers) == 1 else f'{len(layers)} cards'}")

    def stack(self) -> None:
        """Stack the chosen cards."""
        ids = [x.id for x in self._document.chosen_layers]
        if len(ids) > 1:
            self._document.edit(self._document.study.stacked(ids), "Stack cards")

    def unstack(self) -> None:
        """Take the stacks of the chosen cards apart."""
        stacks = {x.stack for x in self._document.chosen_layers if x.stack}
        self._document.edit_layers([x.with_(stack="") for x in self._document.study.layers if x.stack in stacks], "Take a stack apart")

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

    def next_beside(self, how: str = "") -> None:
        """Another way to show cases beside the first: the one named, else the next."""
        ways = ("split", "wipe", "first")
        study = self._document.study
        new = how if how in ways else ways[(ways.index(study.beside) + 1) % len(ways)]
        self._document.edit(study.with_(beside=new), "How cases are shown")

    def apart(self) -> None:
        """Make one card of each case of the chosen one."""
        layer = self._document.chosen_layer
        if layer is not None and layer.case is None:
            self._document.edit(self._document.study.apart(layer), "Take the cases apart")

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
