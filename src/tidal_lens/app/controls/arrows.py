"""Controls of arrows on a surface: a row with a tick, and what unfolds below it."""

from __future__ import annotations

from typing import Any, Protocol

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, ColourButton, QuantityChooser, Slider, column, row
from tidal_lens.errors import TidalLensError
from tidal_lens.quantities.store import Quantity
from tidal_lens.study.dressings import Arrows

_SHEAR = "wall-shear"
_VELOCITY = Quantity("velocity", "Velocity", "U", "", "", "from the array or the momentum that plays that role", "even", 3)


class Relook(Protocol):
    """Edits the look of the chosen layer."""

    def __call__(self, what: str, grip: str = "", **changes: Any) -> None:
        """Do it; edits of one grip are one step of undo."""


class ArrowsControls(QWidget):
    """Whether there are arrows, of what, how far apart, and how they are drawn.

    Parameters
    ----------
    document : Document
        Whose chosen card is edited.
    relook : callable
        Edits its look.
    """

    def __init__(self, document: Document, relook: Relook) -> None:
        super().__init__()
        self._document, self._relook = document, relook
        self._value: Arrows | None = None
        self.on = Check("Arrows", "Draw arrows of a vector on the surface", self._switch)
        self.of = QuantityChooser("Arrows of", "The vector that the arrows show", plain=False)
        self.of.picked.connect(lambda name: self._set("Arrows", of=name))
        self.chip = ColourButton("Colour of the arrows")
        self.chip.picked.connect(lambda c: self._set("Colour of arrows", colour=c))
        self.spacing = Slider("Spacing", "How far apart they are, as a share of the flow's size", 0.004, 0.12)
        self.spacing.moved.connect(lambda v: self._set("Spacing of arrows", "arrow spacing", spacing=v))
        self.even = Check("Even length", "All as long as one another, else by size", lambda on: self._set("Length of arrows", even=on))
        self.along = Check("Along the surface", "Only the part along the surface", lambda on: self._set("Arrows along", along=on))
        self.more = QWidget()
        column(self.more, row("Arrows of", self.of, self.chip, stretch=1), row("Spacing", self.spacing, stretch=1),
               self.even, self.along, spacing=6)
        column(self, self.on, self.more, spacing=6)

    def _switch(self, on: bool) -> None:
        layer, evaluator = self._document.chosen_layer, self._document.evaluator
        if layer is None or evaluator is None:
            return
        vectors = [q.name for q in evaluator.store.quantities() if q.components == 3 and not q.missing and q.place != "wall"]
        if layer.shape.on_walls and any(q.name == _SHEAR and not q.missing for q in evaluator.store.quantities()):
            vectors = [_SHEAR]  # where the flow rests it tells more
        elif evaluator.flow.roles.has_velocity:
            vectors = [_VELOCITY.name]
        if on and not vectors:
            self._document.tell(TidalLensError("This result has no vector to draw arrows of.", evaluator.flow.title,
                                               "Say in the Case station what its velocity is, or write a formula of three components."))
            self.on.setChecked(False)
            return
        self._relook("Arrows", arrows=Arrows(of=vectors[0]) if on else None)

    def _set(self, what: str, grip: str = "", **changes: Any) -> None:
        if self._value is not None:
            self._relook(what, grip, arrows=self._value.with_(**changes))

    def show_value(self, value: Arrows | None) -> None:
        """Show what the look holds now."""
        self._value = value
        evaluator = self._document.evaluator
        self.on.setChecked(value is not None)
        self.more.setVisible(value is not None)
        if value is None or evaluator is None:
            return
        own = (_VELOCITY,) if evaluator.flow.roles.has_velocity else ()
        wall = self._document.chosen_layer is not None and self._document.chosen_layer.shape.on_walls
        self.of.offer((*own, *evaluator.store.quantities()), value.of, walls=wall, components=3)
        self.chip.show_value(value.colour)
        self.spacing.show_value(value.spacing)
        self.even.setChecked(value.even)
        self.along.setChecked(value.along)
