"""Controls of lines that stay as they were, and the button that makes such a copy."""

from __future__ import annotations

from tidal_lens.app.controls.base import Coloured
from tidal_lens.app.controls.line_look import LineLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import label, row
from tidal_lens.errors import TidalLensError
from tidal_lens.quantities.names import OWN
from tidal_lens.study.kinds.frozen import FrozenShape, freeze
from tidal_lens.study.looks import LineLook
from tidal_lens.study.model import KeySetting
from tidal_lens.study.words import number_text
from tidal_lens.tracing.streamlines import Lines


class FrozenControls(Coloured[FrozenShape]):
    """What the copy is of, and how it is drawn."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.source = label("", "soft")
        self.body.addWidget(self.source)
        self.drawn = LineLookControls(document, self.relook)
        self.body.addLayout(row("Colour by", self.chooser, self.chip, stretch=1))
        self.body.addWidget(self.drawn)
        self.body.addWidget(self.key)

    def refresh(self) -> None:
        layer, shape, evaluator = self.layer(), self.shape(), self.document.evaluator
        if layer is None or shape is None or evaluator is None or layer.look.on != "lines":
            return
        self.source.setText(f"A copy of {shape.source}. It stays as it was.")
        self.show_colour(layer, evaluator)
        self.drawn.show_value(layer.look)


def freeze_chosen(document: Document) -> None:
    """Put a copy of the chosen card's lines on the table, as they are drawn now: another key keeps their colours."""
    layer, evaluator, flow = document.chosen_layer, document.evaluator, document.flow
    result = document.asking.results.get(layer.id) if layer is not None else None
    if layer is None or evaluator is None or flow is None or result is None or not isinstance(result.geometry, Lines):
        return
    look = result.layer.look
    assert isinstance(look, LineLook)
    name = look.colour_by
    quantity = evaluator.store.describe(name) if name else None
    when = f" at {number_text(flow.times[flow.step])} s" if len(flow.times) > 1 else ""
    try:
        begun = freeze(result.geometry, result.colours, look, f"{layer.name}{when} in {flow.path.name}", quantity.title if quantity else "")
    except TidalLensError as error:
        document.tell(error)
        return
    copy = document.study.layer_of(begun)
    study = document.study.adding(copy)
    known, new = document.key(name) if name else None, copy.look.colour_by
    if new and new.startswith(OWN) and new != name and known is not None and quantity is not None and name is not None:
        old = document.study.keys.get(name, KeySetting())
        palette = old.palette or ("" if quantity.scale == "even" else quantity.scale)
        study = study.with_key(new, old.with_(low=known[1], high=known[2], palette=palette, symmetric=False))
    document.edit(study, f"Add {copy.name}")
    document.choose(copy.id)
