"""What all layer controls share: how a look is edited, and the numbers of a colour key."""

from __future__ import annotations

from typing import Any, Generic, TypeVar, cast

import numpy as np
from PyQt6.QtWidgets import QLineEdit, QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.controls.arrows import ArrowsControls
from tidal_lens.app.controls.contours import ContoursControls
from tidal_lens.app.controls.texture import TextureControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import (
    Check,
    Choice,
    ColourButton,
    NumberField,
    Picker,
    QuantityChooser,
    Slider,
    column,
    label,
    row,
    rule,
)
from tidal_lens.quantities.store import Quantity
from tidal_lens.scene.palettes import CHOICES
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.kind import Shape
from tidal_lens.study.model import KeySetting, Layer

S = TypeVar("S", bound=Shape)


class Controls(QWidget, Generic[S]):
    """Controls of a layer whose shape is of one kind; reads it from the document and sends edits."""

    kind = ""  # said by the panel

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.body: QVBoxLayout = column(self, spacing=8)

    def layer(self) -> Layer | None:
        """The chosen layer."""
        return self.document.chosen_layer

    def shape(self) -> S | None:
        """The chosen layer's shape, if it is of the kind that these controls are for."""
        layer = self.layer()
        return cast(S, layer.shape) if layer is not None and layer.kind == self.kind else None

    def reshape(self, what: str, grip: str = "", **changes: Any) -> None:
        """Edit the shape of the chosen layer."""
        layer = self.layer()
        if layer is not None:
            self.document.edit_layer(layer.with_(shape=layer.shape.with_(**changes)), what, grip)

    def relook(self, what: str, grip: str = "", **changes: Any) -> None:
        """Edit the look of the chosen layers, as one step: of those whose looks have all that is changed."""
        able = [x for x in self.document.chosen_layers if set(changes) <= set(type(x.look).model_fields)]
        if able:
            self.document.edit_layers([x.with_(look=x.look.with_(**changes)) for x in able], what, grip)

    def refresh(self) -> None:
        """Show what the layer holds now."""


class Coloured(Controls[S]):
    """Controls of a layer that is coloured by a quantity, or plain."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.chooser = QuantityChooser("Colour by", "What it is coloured by", plain=True)
        self.chooser.picked.connect(lambda name: self.relook("Colour", colour_by=name))
        self.chip = ColourButton("Plain colour")
        self.chip.picked.connect(lambda c: self.relook("Colour", colour=c))
        self.key = KeyControls(document)

    def show_colour(self, layer: Layer, evaluator: Evaluator) -> None:
        """Show what colours the layer."""
        look = layer.look
        if look.on != "none":
            offered = (*evaluator.store.own_of(layer.id), *evaluator.store.quantities())
            self.chooser.offer(offered, look.colour_by, walls=layer.shape.on_walls)
            self.chip.setVisible(look.colour_by is None)
            self.chip.show_value(look.colour)
            self.key.show_quantity(look.colour_by)


class SurfaceLookControls(Coloured[S]):
    """Colour, opacity and mesh lines of a surface."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.opacity = Slider("Opacity", "How solid the surface is", 0.05, 1.0)
        self.opacity.moved.connect(lambda v: self.relook("Opacity", "opacity", opacity=v))
        self.mesh = Check("Mesh lines", "Draw the edges of the faces", lambda on: self.relook("Mesh lines", mesh_lines=on))
        self.lit = Check("Lit", "Let a light fall on it; without, it shows the colours of the key exactly",
                         lambda on: self.relook("Light", lit=on))
        self.contours = ContoursControls(document, self.relook)
        self.arrows = ArrowsControls(document, self.relook)
        self.body.addLayout(row("Colour by", self.chooser, self.chip, stretch=1))
        self.body.addLayout(row("Opacity", self.opacity, stretch=1))
        self.body.addLayout(row(self.mesh, self.lit, stretch=0))
        self.body.addWidget(self.contours)
        self.body.addWidget(self.arrows)
        self.texture = TextureControls(document, self.relook)
        self.body.addWidget(self.texture)
        self.body.addWidget(self.key)

    def refresh(self) -> None:
        layer = self.layer()
        evaluator = self.document.evaluator
        if layer is None or evaluator is None or layer.look.on != "surface":
            return
        look = layer.look
        self.show_colour(layer, evaluator)
        self.opacity.show_value(look.opacity)
        self.mesh.setChecked(look.mesh_lines)
        self.lit.setChecked(layer.shape.lit if look.lit is None else look.lit)
        self.contours.show_value(look.contours)
        self.arrows.show_value(look.arrows)
        self.texture.show_value(look.texture)


class BallLookControls(Coloured[S]):
    """Size, colour and opacity of balls, and arrows at them."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.size_slider = Slider("Size", "Radius of the balls, as a share of the flow's size; of the greatest where they differ",
                                  0.0002, 0.03)
        self.size_slider.moved.connect(lambda v: self.relook("Size of balls", "size", size=v))
        self.sized = Choice([("even", "Even", "All balls are alike"), ("share", "In proportion", "Their radii go with a quantity"),
                             ("true", "True", "The quantity is their diameter, in the flow's unit of length")])
        self.sized.picked.connect(self._size_so)
        self.size_by = QuantityChooser("Size by", "The quantity that sizes the balls", plain=False)
        self.size_by.picked.connect(lambda name: self.relook("Size of balls", size_by=name))
        self.opacity = Slider("Opacity", "How solid the balls are", 0.05, 1.0)
        self.opacity.moved.connect(lambda v: self.relook("Opacity", "opacity", opacity=v))
        self.arrows = ArrowsControls(document, self.relook)
        for one in (row("Sizes", self.sized, stretch=1), row("Size by", self.size_by, stretch=1), row("Size", self.size_slider, stretch=1),
                    row("Colour by", self.chooser, self.chip, stretch=1), row("Opacity", self.opacity, stretch=1)):
            self.body.addLayout(one)
        self.body.addWidget(self.arrows)
        self.body.addWidget(self.key)
        document.result_changed.connect(lambda layer_id: self.refresh() if layer_id == document.chosen else None)

    def _offered(self) -> tuple[Quantity, ...]:
        layer, evaluator = self.layer(), self.document.evaluator
        return (*evaluator.store.own_of(layer.id), *evaluator.store.quantities()) if layer is not None and evaluator is not None else ()

    def _size_so(self, sized: str) -> None:
        layer = self.layer()
        if layer is None or layer.look.on != "points":
            return
        first = next((q.name for q in self._offered() if q.components == 1 and not q.missing and q.place != "wall"), "")
        self.relook("Size of balls", sized=sized, size_by=layer.look.size_by or first)

    def refresh(self) -> None:
        layer, evaluator = self.layer(), self.document.evaluator
        if layer is None or evaluator is None or layer.look.on != "points" or layer.kind != self.kind:
            return
        look = layer.look
        self.show_colour(layer, evaluator)
        self.sized.show_value(look.sized)
        self.size_by.offer(self._offered(), look.size_by)
        self.size_by.setEnabled(look.sized != "even")
        self.size_slider.setEnabled(look.sized != "true")
        self.size_slider.show_value(look.size)
        self.opacity.show_value(look.opacity)
        self.arrows.show_value(look.arrows)


class KeyControls(QWidget):
    """The range of a quantity's colour key by number; the same for all that it colours."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self._name: str | None = None
        self.low = NumberField("Key from", "Lower end of the colour key")
        self.high = NumberField("Key to", "Upper end of the colour key")
        self.low.edited.connect(lambda v: self._set("Key range", low=v))
        self.high.edited.connect(lambda v: self._set("Key range", high=v))
        self.symmetric = Check("Symmetric about zero", "Make both ends equally far from zero", self._mirror)
        self.reset = QPushButton("Reset")
        self.reset.setToolTip("Let the data set the range")
        self.reset.clicked.connect(lambda: self._say("Reset the key", low=None, high=None, symmetric=False))
        self.log = Check("Logarithmic", "Let colours go by the logarithm", lambda on: self._say("Logarithmic key", log=on, symmetric=False))
        self.bands = NumberField("Bands", "Of how many plain colours the key is; 0 is smooth", 1, 0, 64)
        self.bands.whole = True
        self.bands.setFixedWidth(96)
        self.bands.edited.connect(lambda v: self._say("Bands of the key", bands=int(v)))
        self.flipped = Check("Flipped", "Let the palette run the other way", lambda on: self._say("Flip the palette", flipped=on))
        self.colours = Picker("Palette", "The colours of the key; by meaning, as its quantity asks for")
        self.colours.offer(list(CHOICES.values()), 0)
        self.colours.activated.connect(lambda at: self._say("Palette", palette=list(CHOICES)[at]))
        self.beyond = Choice([("colour", "Colour", "Beyond the range the colour of its end is drawn"),
                              ("grey", "Grey", "Beyond the range grey is drawn"),
                              ("nothing", "Nothing", "Beyond the range nothing is drawn")])
        self.beyond.picked.connect(lambda what: self._say("Beyond the range", beyond=what))
        self.own_title = QLineEdit()
        self.own_title.setAccessibleName("Title of the key")
        self.own_title.setToolTip("What the key is called in the view; its quantity's name if nothing is said")
        self.own_title.editingFinished.connect(self._rename)
        self.digits = NumberField("Digits", "How many digits its numbers have; 0 lets them have as many as they deserve", 1, 0, 9)
        self.digits.whole = True
        self.digits.edited.connect(lambda v: self._say("Digits of the key", digits=int(v)))
        self.shown = Check("In the view", "Show the key in the view; its head can be dragged there",
                           lambda on: self._say("Show the key" if on else "Hide the key", hidden=not on))
        self.fit = QPushButton("Fit to what is shown")
        self.fit.setToolTip("From the least to the greatest value on the cards that are drawn")
        self.fit.clicked.connect(self._fit)
        self.title = label("", "soft")
        column(self, rule(), self.title, row("From, to", self.low, self.high, stretch=1),
               row(self.symmetric, self.reset, stretch=0), self.log,
               row("Palette", self.colours, stretch=1),
               row("Bands", self.bands, self.flipped, stretch=2), row("Beyond", self.beyond, stretch=1), self.fit,
               row("Called", self.own_title, stretch=1), row("Digits", self.digits, self.shown, stretch=2), spacing=6)

    def _set(self, what: str, **changes: Any) -> None:
        if self._name is None:
            return
        known = self.document.key(self._name)
        setting = self.document.study.keys.get(self._name, KeySetting())
        if known is not None:
            setting = setting.with_(low=known[1], high=known[2], symmetric=False)
        self.set_all(setting.with_(**changes), what)

    def _say(self, what: str, **changes: Any) -> None:
        if self._name is not None:
            self.set_all(self.document.study.keys.get(self._name, KeySetting()).with_(**changes), what)

    def _mirror(self, on: bool) -> None:
        self._say("Symmetric key", symmetric=on, log=False)

    def _rename(self) -> None:
        text = self.own_title.text().strip()[:200]
        if self._name is not None and text != self.document.study.keys.get(self._name, KeySetting()).title:
            self._say("Title of the key", title=text)

    def _fit(self) -> None:
        study, results = self.document.study, self.document.asking.results
        shown = [results[x.id].colours for x in study.layers if x.id in results and study.is_drawn(x) and x.look.colour_by == self._name]
        finite = [c[np.isfinite(c)] for c in shown if c is not None]
        values = [c for c in finite if len(c)]
        if values:
            low, high = min(float(c.min()) for c in values), max(float(c.max()) for c in values)
            self._say("Fit the key", low=float(f"{low:.4g}"), high=float(f"{high:.4g}"), symmetric=False)

    def set_all(self, setting: KeySetting, what: str) -> None:
        """Give the key another setting."""
        if self._name is not None:
            self.document.edit(self.document.study.with_key(self._name, setting), what)

    def show_quantity(self, name: str | None) -> None:
        """Show the key of a quantity, or nothing."""
        self._name = name
        evaluator = self.document.evaluator
        self.setVisible(name is not None and evaluator is not None)
        if name is None or evaluator is None:
            return
        try:
            quantity = evaluator.store.describe(name)
        except Exception as exc:  # noqa: BLE001  (a study may name a quantity that this flow lacks)
            self.title.setText(str(exc))
            return
        self.title.setText(f"Colour key: {self.document.units.label(quantity)} · {quantity.made}")
        known = self.document.key(name)
        setting = self.document.study.keys.get(name, KeySetting())
        turns = (setting.palette or quantity.scale) != "mach"
        self.flipped.setToolTip("Let the palette run the other way" if turns else "A palette that breaks at Mach 1 stays as it is")
        for field in (self.low, self.high, self.symmetric, self.reset, self.bands, self.flipped, self.beyond,
                      self.log):
            field.setEnabled(known is not None and (turns or field is not self.flipped)
                             and (quantity.scale == "even" or field is not self.log))
        if known is not None:
            spread, low, high = known
            self.low.step = self.high.step = _nice_step(spread.usual[1] - spread.usual[0])
            for field in (self.low, self.high):
                field.show_in(self.document.units.of(quantity))
            self.low.show_value(low)
            self.high.show_value(high)
            self.colours.offer(list(CHOICES.values()), list(CHOICES).index(setting.palette))
            self.symmetric.setChecked(setting.symmetric)
            self.log.setChecked(setting.log)
            self.bands.show_value(setting.bands)
            self.flipped.setChecked(setting.flipped)
            self.beyond.show_value(setting.beyond)
            self.digits.show_value(setting.digits)
            self.shown.setChecked(not setting.hidden)
            self.own_title.setPlaceholderText(quantity.title)
            if not self.own_title.hasFocus():
                self.own_title.setText(setting.title)


def _nice_step(span: float) -> float:
    return float(f"{span / 40:.0e}") if span > 0 else 0.1
