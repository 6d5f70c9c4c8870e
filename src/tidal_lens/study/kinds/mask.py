"""Conditions: what fails them is not drawn."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from tidal_lens.cutting.masking import kept_surface, whole_faces
from tidal_lens.cutting.points import Points
from tidal_lens.errors import MissingQuantityError
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.conditions import Condition, levels_of, needs_of, told, with_level
from tidal_lens.study.kinds.first_values import best_name, round_to
from tidal_lens.study.kinds.kind import At, Begun, Kind, Made, Shape, Sort, Tile
from tidal_lens.study.looks import NoLook
from tidal_lens.study.words import Words
from tidal_lens.tracing.masking import kept_lines
from tidal_lens.tracing.streamlines import Lines


class MaskShape(Shape):
    """Conditions of which all are met, or any, where something is drawn. It has no geometry: it cuts what is drawn of its subjects."""

    kind: Literal["mask"] = "mask"
    geometry: ClassVar[Sort] = "none"
    subjects: ClassVar[tuple[Sort, ...]] = ("surface", "lines", "points")
    conditions: Annotated[tuple[Condition, ...], Field(min_length=1, max_length=20)]
    how: Literal["all", "any"] = "all"
    edges: Literal["exact", "cells"] = "exact"

    @model_validator(mode="before")
    @classmethod
    def _of_one(cls, raw: Any) -> Any:
        """Earlier studies know one condition."""
        if isinstance(raw, dict) and "quantity" in raw and "conditions" not in raw:
            own = {k: raw[k] for k in ("quantity", "keep", "value") if k in raw}
            return {**{k: v for k, v in raw.items() if k not in own}, "conditions": (own,)}
        return raw

    def needs(self) -> tuple[str, ...]:
        """Quantities of the conditions that count."""
        return needs_of(self.conditions)

    def hide(self, made: Made, at: At) -> Made:
        """What is left of something, by values at its points."""
        geometry = made.geometry
        counted = [c for c in self.conditions if c.on]
        if not counted or len(geometry.points) == 0:
            return made
        if isinstance(geometry, Points):
            over = self._together([c.over(lambda name: at(made.geometry, name)) for c in counted])
            return Made(geometry.take(np.flatnonzero(over >= 0.0)))
        if isinstance(geometry, Lines):
            return Made(kept_lines(geometry, self._together([c.over(lambda name: at(made.geometry, name)) for c in counted])))
        if self.edges == "cells" or self.how == "any":
            over = self._together([c.over(lambda name: at(made.geometry, name)) for c in counted])
            return Made(whole_faces(geometry, over) if self.edges == "cells" else kept_surface(geometry, over))
        for condition in counted:  # one after another: edges between them are exact
            part = geometry
            geometry = kept_surface(part, condition.over(lambda name, part=part: at(part, name)))  # type: ignore[misc]
        return Made(geometry)

    def _together(self, overs: list[np.ndarray[Any, Any]]) -> np.ndarray[Any, Any]:
        return np.asarray((np.minimum if self.how == "all" else np.fmax).reduce(overs))

    def tell(self, words: Words) -> str:
        """The conditions."""
        return f"keeps {told(self.conditions, self.how, words)}"

    def levels(self) -> tuple[tuple[str, float], ...]:
        """Its numbers."""
        return levels_of(self.conditions)

    def at_level(self, number: int, value: float) -> Self:
        """At another number."""
        return self.with_(conditions=with_level(self.conditions, number, value))


def new_mask(store: QuantityStore) -> Begun:
    """Half of the usual range of the best quantity is kept."""
    name = best_name(store)
    if name is None:
        raise MissingQuantityError("This result has no scalar quantity to mask by.", store.flow.title)
    low, high = store.distribution(name).usual
    condition = Condition(quantity=name, value=round_to(0.5 * (low + high), 0.01 * (high - low)))
    return Begun("Mask", MaskShape(conditions=(condition,)), NoLook())


KIND = Kind(MaskShape, "Conditions on quantities: what fails them is not drawn, on all cards or on some.", "look", "mask",
            (Tile("add-mask", "Mask", "Hide what lies above or below values of quantities."),),
            lambda store, _argument: new_mask(store), slow=True, group="Hide")
