"""A condition: what fails it is not drawn."""

from __future__ import annotations

from typing import ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import FiniteFloat

from tidal_lens.cutting.masking import kept_surface
from tidal_lens.errors import MissingQuantityError
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.first_values import best_name, round_to
from tidal_lens.study.kinds.kind import Begun, Kind, Made, Shape, Sort, Tile
from tidal_lens.study.looks import NoLook
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import Words
from tidal_lens.tracing.masking import kept_lines
from tidal_lens.tracing.streamlines import Lines


class MaskShape(Shape):
    """A quantity, and which side of a value is kept. It has no geometry: it cuts what is drawn of its subject."""

    kind: Literal["mask"] = "mask"
    geometry: ClassVar[Sort] = "none"
    subjects: ClassVar[tuple[Sort, ...]] = ("surface", "lines")
    quantity: QuantityName
    keep: Literal["above", "below"] = "above"
    value: FiniteFloat

    def hide(self, made: Made, values: NDArray[np.float64]) -> Made:
        """What is left of something, by the quantity's values at its points."""
        geometry = made.geometry
        over = values - self.value if self.keep == "above" else self.value - values
        return Made(kept_lines(geometry, over) if isinstance(geometry, Lines) else kept_surface(geometry, over))

    def tell(self, words: Words) -> str:
        """The condition."""
        return f"keeps {words.quantity(self.quantity)} {'≥' if self.keep == 'above' else '≤'} {words.number(self.value)}"

    def levels(self) -> tuple[tuple[str, float], ...]:
        """Its value."""
        return ((self.quantity, self.value),)

    def at_level(self, _number: int, value: float) -> Self:
        """At another value."""
        return self.with_(value=value)


def new_mask(store: QuantityStore) -> Begun:
    """Half of the usual range of the best quantity is kept."""
    name = best_name(store)
    if name is None:
        raise MissingQuantityError("This result has no scalar quantity to mask by.", store.flow.title)
    low, high = store.distribution(name).usual
    return Begun("Mask", MaskShape(quantity=name, value=round_to(0.5 * (low + high), 0.01 * (high - low))), NoLook())


KIND = Kind(MaskShape, "A condition on a quantity: what fails it is not drawn, on all cards or on one.", "look", "mask",
            (Tile("add-mask", "Mask", "Hide what lies above or below a value of a quantity."),),
            lambda store, _argument: new_mask(store), slow=True, group="Hide")
