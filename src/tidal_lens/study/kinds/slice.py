"""A plane cut."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field, FiniteFloat

from tidal_lens.cutting.contour import axis_slice
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.first_values import AXES, best_name, round_to
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Tile, Vec
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.words import Words, number_text

_PLACES = 17  # at which its bead may stand


class SliceShape(Shape):
    """A plane on which one coordinate (0, 1, 2 for x, y, z) is constant."""

    kind: Literal["slice"] = "slice"
    lit: ClassVar[bool] = False
    axis: Annotated[int, Field(ge=0, le=2)]
    position: FiniteFloat

    def make(self, see: See) -> Made:
        """The cut."""
        return Made(axis_slice(see.flow, self.axis, self.position, see.token))

    def tell(self, words: Words) -> str:
        """Where it is."""
        return f"whole flow at {AXES[self.axis]} = {words.number(self.position)}"

    def handles(self, flow: Flow, _made: Made | None) -> Handles:
        """One bead on the middle line of the plane, as near to its upper rim as can be seen; and the rim."""
        low, high = flow.bounds
        axis = self.axis
        up = 2 if axis != 2 else 1
        track = np.tile(0.5 * (low + high), (_PLACES, 1))
        track[:, up] = np.linspace(high[up], low[up], _PLACES) if axis != 2 else np.linspace(low[up], high[up], _PLACES)
        track[:, axis] = self.position
        b, c = (a for a in range(3) if a != axis)
        rim = np.empty((4, 3))
        rim[:, axis] = self.position
        rim[:, b] = (low[b], high[b], high[b], low[b])
        rim[:, c] = (low[c], low[c], high[c], high[c])
        label = f"{AXES[axis]} = {number_text(self.position, 5)}"
        bead = Handle("slice", track[0], np.eye(3)[axis], track, label, self.position)
        return Handles("slice", (bead,), ((rim, True),))

    def moved(self, _handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """Along its axis, within the flow."""
        low, high = (float(b[self.axis]) for b in flow.bounds)
        position = min(max(float(to[self.axis]), low), high)
        if snap:
            column = flow.points[:, self.axis]
            return self.with_(position=float(column[np.abs(column - position).argmin()]))
        return self.with_(position=round_to(position, 0.0005 * (high - low)))

    def typed(self, _handle: str, value: Any) -> Self:
        """At a number."""
        return self.with_(position=value)

    def stepped(self, steps: float, flow: Flow) -> Self:
        """By steps of a fiftieth of the flow."""
        low, high = (float(b[self.axis]) for b in flow.bounds)
        position = float(np.clip(self.position + steps * round_to((high - low) / 50, (high - low) / 50), low, high))
        return self.with_(position=float(f"{position:.9g}"))


def new_slice(store: QuantityStore, axis: int) -> Begun:
    """A slice through the middle, coloured by the best quantity."""
    low, high = store.flow.bounds
    position = round_to(0.5 * float(low[axis] + high[axis]), 0.01 * float(high[axis] - low[axis]))
    return Begun(f"Slice {AXES[axis]}", SliceShape(axis=axis, position=position), SurfaceLook(colour_by=best_name(store)))


KIND = Kind(SliceShape, "A plane cut through the flow.", "look", "slice",
            tuple(Tile(f"add-slice-{axis}", f"Slice {axis}", f"Cut the flow where {axis} is constant.", axis) for axis in AXES),
            lambda store, axis: new_slice(store, AXES.index(axis)))
