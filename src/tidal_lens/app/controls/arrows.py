"""Controls of arrows on a surface."""

from __future__ import annotations

from tidal_lens.app.controls.dressing import DressingControls, Relook
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, QuantityChooser, Slider, column, row
from tidal_lens.errors import TidalLensError
from tidal_lens.quantities.store import Quantity
from tidal_lens.study.dressings import Arrows

_SHEAR = "wall-shear"
_VELOCITY = Quantity("velocity", "Velocity", "U", "", "", "from the array or the momentum that plays that role", "even", 3)


class ArrowsControls(DressingControls[Arrows]):
    """Of what they are, how far apart, and how they are drawn."""

    def __init__(self, document: Document, relook: Relook) -> None:
        super().__init__(document, relook, "arrows", "Arrows", "Draw arrows of a vector on the surface")
        self.of = QuantityChooser("Arrows of", "The vector that the arrows show", plain=False)
        self.of.picked.connect(lambda name: self.set("Arrows", of=name))
        self.spacing = Slider("Spacing", "How far apart they are, as a share of the flow's size", 0.004, 0.12)
        self.spacing.moved.connect(lambda v: self.set("Spacing of arrows", "arrow spacing", spacing=v))
        self.even = Check("Even length", "All as long as one another, else by size", lambda on: self.set("Length of arrows", even=on))
        self.along = Check("Along the surface", "Only the part along the surface", lambda on: self.set("Arrows along", along=on))
        column(self.more, row("Arrows of", self.of, self.chip, stretch=1), row("Spacing", self.spacing, stretch=1),
               self.even, self.along, spacing=6)

    def begin(self) -> Arrows | None:
        layer, evaluator = self.document.chosen_layer, self.document.evaluator
        if layer is None or evaluator is None:
            return None
        vectors = [q.name for q in evaluator.store.quantities() if q.components == 3 and not q.missing and q.place != "wall"]
        if layer.shape.on_walls and any(q.name == _SHEAR and not q.missing for q in evaluator.store.quantities()):
            vectors = [_SHEAR]  # where the flow rests it tells more
        elif evaluator.flow.roles.has_velocity:
            vectors = [_VELOCITY.name]
        if vectors:
            return Arrows(of=vectors[0])
        self.document.tell(TidalLensError("This result has no vector to draw arrows of.", evaluator.flow.title,
                                          "Say in the Case station what its velocity is, or write a formula of three components."))
        return None

    def show_settings(self, value: Arrows) -> None:
        layer, evaluator = self.document.chosen_layer, self.document.evaluator
        if layer is None or evaluator is None:
            return
        own = (_VELOCITY,) if evaluator.flow.roles.has_velocity else ()
        self.of.offer((*own, *evaluator.store.quantities()), value.of, walls=layer.shape.on_walls, components=3)
        self.spacing.show_value(value.spacing)
        self.even.setChecked(value.even)
        self.along.setChecked(value.along)
