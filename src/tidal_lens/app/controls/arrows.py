"""Controls of arrows on a surface, along lines or at points."""

from __future__ import annotations

from tidal_lens.app.controls.dressing import DressingControls, Relook
from tidal_lens.app.controls.first_range import half_of_usual
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, Choice, NumberField, QuantityChooser, Slider, column, row
from tidal_lens.errors import TidalLensError
from tidal_lens.quantities.store import Quantity
from tidal_lens.study.dressings import Arrows

_SHEAR = "wall-shear"
VELOCITY = Quantity("velocity", "Velocity", "U", "", "", "from the array or the momentum that plays that role", "even", 3)


class ArrowsControls(DressingControls[Arrows]):
    """Of what they are, how far apart, and how they are drawn."""

    def __init__(self, document: Document, relook: Relook) -> None:
        super().__init__(document, relook, "arrows", "Arrows", "Draw arrows of a vector")
        self.of = QuantityChooser("Arrows of", "The vector that the arrows show", plain=False)
        self.of.picked.connect(lambda name: self.set("Arrows", of=name))
        self.spacing = Slider("Spacing", "How far apart they are, as a share of the flow's size", 0.004, 0.12)
        self.spacing.moved.connect(lambda v: self.set("Spacing of arrows", "arrow spacing", spacing=v))
        self.even = Check("Even length", "All as long as one another, else by size", lambda on: self.set("Length of arrows", even=on))
        self.part = Choice([("true", "True", "The vector as it is in space"), ("along", "Along", "Only the part along the surface"),
                            ("across", "Across", "Only the part across the surface")])
        self.part.picked.connect(lambda part: self.set("Part of the arrows", part=part))
        self.at = Choice([("even", "Evenly apart", "As far apart as the spacing says"),
                          ("all", "At each", "At every point, or where each line began")])
        self.at.picked.connect(lambda at: self.set("Places of arrows", at=at))
        self.bent = Check("Bent", "Let them follow the flow rather than stand straight", lambda on: self.set("Bent arrows", bent=on))
        self.scale = Slider("Length", "How long they are, against what fits", 0.2, 4.0)
        self.scale.moved.connect(lambda v: self.set("Length of arrows", "arrow length", scale=v))
        self.thick = Slider("Thickness", "How thick they are, in pixels", 0.5, 6.0)
        self.thick.moved.connect(lambda v: self.set("Thickness of arrows", "arrow thickness", width=v))
        self.by = QuantityChooser("Colour of the arrows", "What colours them", plain=True)
        self.by.picked.connect(lambda name: self.set("Colour of arrows", colour_by=name or ""))
        self.only = QuantityChooser("Only where", "They are drawn only where this quantity is in a range", plain=True, none="everywhere")
        self.only.picked.connect(self._limit)
        self.low, self.high = NumberField("From", "Least value"), NumberField("To", "Greatest value")
        self.low.edited.connect(lambda v: self.set("Range of arrows", low=v))
        self.high.edited.connect(lambda v: self.set("Range of arrows", high=v))
        self.slope = Check("Its gradient", "Let the size of its gradient decide", lambda on: self.set("Range of arrows", slope=on))
        column(self.more, row("Arrows of", self.of, stretch=1), row("Colour", self.by, self.chip, stretch=1),
               row("Spacing", self.spacing, stretch=1), row("Length", self.scale, stretch=1), row("Thick", self.thick, stretch=1),
               row("Part", self.part, stretch=1), row("Where", self.at, stretch=1),
               row(self.even, self.bent, stretch=0), row("Only at", self.only, stretch=1),
               row("From, to", self.low, self.high, stretch=1), self.slope, spacing=6)

    def begin(self) -> Arrows | None:
        layer, evaluator = self.document.chosen_layer, self.document.evaluator
        if layer is None or evaluator is None:
            return None
        own = [q.name for q in evaluator.store.own_of(layer.id) if q.components == 3]
        vectors = [q.name for q in evaluator.store.quantities() if q.components == 3 and not q.missing and q.place != "wall"]
        if own:
            vectors = own
        elif layer.shape.on_walls and any(q.name == _SHEAR and not q.missing for q in evaluator.store.quantities()):
            vectors = [_SHEAR]  # where the flow rests it tells more
        elif evaluator.flow.roles.has_velocity:
            vectors = [VELOCITY.name]
        if vectors:
            return Arrows(of=vectors[0])
        self.document.tell(TidalLensError("This result has no vector to draw arrows of.", evaluator.flow.title,
                                          "Say in the Case station what its velocity is, or write a formula of three components."))
        return None

    def offer(self, chooser: QuantityChooser, chosen: str) -> None:
        """List the vectors that there are on the chosen card."""
        layer, evaluator = self.document.chosen_layer, self.document.evaluator
        if layer is not None and evaluator is not None:
            velocity = (VELOCITY,) if evaluator.flow.roles.has_velocity else ()
            chooser.offer((*evaluator.store.own_of(layer.id), *velocity, *evaluator.store.quantities()), chosen,
                          walls=layer.shape.on_walls, components=3)

    def _limit(self, name: str | None) -> None:
        if not name:
            self.set("Range of arrows", only="")
            return
        low, high = half_of_usual(self.document, name, upper=True)
        self.set("Range of arrows", only=name, low=low, high=high)

    def show_settings(self, value: Arrows) -> None:
        layer, evaluator = self.document.chosen_layer, self.document.evaluator
        if layer is None or evaluator is None:
            return
        self.offer(self.of, value.of)
        self.spacing.show_value(value.spacing)
        self.even.setChecked(value.even)
        self.part.show_value(value.part)
        self.part.setEnabled(layer.look.on == "surface")
        self.at.show_value(value.at)
        self.at.setEnabled(layer.look.on != "surface")
        self.bent.setChecked(value.bent)
        self.scale.show_value(value.scale)
        self.thick.show_value(value.width)
        own = evaluator.store.own_of(layer.id)
        self.by.offer((*own, *evaluator.store.quantities()), value.colour_by or None, walls=layer.shape.on_walls)
        self.chip.setVisible(not value.colour_by)
        self.only.offer(evaluator.store.quantities(), value.only or None, walls=layer.shape.on_walls)
        for field, number in ((self.low, value.low), (self.high, value.high)):
            field.show_in(self.document.units.of_name(value.only))
            field.show_value(number)
            field.setEnabled(bool(value.only))
        self.slope.setChecked(value.slope)
        self.slope.setEnabled(bool(value.only))
