"""Where a quantity takes a value."""

from __future__ import annotations

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, FiniteFloat

from tidal_lens.cutting.contour import isosurface
from tidal_lens.cutting.masking import kept_surface
from tidal_lens.cutting.surface import join
from tidal_lens.errors import MissingQuantityError
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.cut import Cut
from tidal_lens.study.kinds.first_values import best_name, round_to
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Tile
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import Words


class IsoShape(Cut):
    """A quantity and the value that it takes, or several.

    Attributes
    ----------
    by : str
        Whether its values are the first and those of ``more``, or a run of ``count`` from the first to ``last``.
    only, low, high
        What is left of it: where another quantity is between two values.
    """

    kind: Literal["isosurface"] = "isosurface"
    quantity: QuantityName
    value: FiniteFloat
    more: Annotated[tuple[FiniteFloat, ...], Field(max_length=50)] = ()

    by: Literal["list", "run"] = "list"
    last: FiniteFloat = 0.0
    count: Annotated[int, Field(ge=1, le=50)] = 5
    only: QuantityName = ""
    low: FiniteFloat = 0.0
    high: FiniteFloat = 1.0

    @property
    def values(self) -> tuple[float, ...]:
        """All values, each once."""
        if self.by == "run":
            return tuple(dict.fromkeys(float(f"{v:.12g}") for v in np.linspace(self.value, self.last, self.count)))
        return tuple(dict.fromkeys((self.value, *self.more)))

    def make(self, see: See) -> Made:
        """The surfaces, as one."""
        field = see.values(self.quantity)
        blocks = self.own_blocks(see.flow)
        surface = join([isosurface(see.flow, field, value, see.token, blocks) for value in self.values])
        if self.only and len(surface.faces):
            other = see.values(self.only)
            surface = kept_surface(surface, surface.stencil.apply(other) - self.low)
            if len(surface.faces):
                surface = kept_surface(surface, self.high - surface.stencil.apply(other))
        return Made(surface)

    def tell(self, words: Words) -> str:
        """Quantity and values."""
        name = words.quantity(self.quantity)
        listed = f"= {words.values(self.quantity, self.values)}"
        run = f"= {words.values(self.quantity, (self.value,))} … {words.values(self.quantity, (self.last,))} in {self.count}"
        ends = [words.values(self.only, (value,)) for value in (self.low, self.high)]
        only = f", where {words.quantity(self.only)} is {' to '.join(ends)}" if self.only else ""
        return f"{self.subject_told()}, {name} {run if self.by == 'run' else listed}{only}"

    def swept(self, share: float, store: QuantityStore) -> Self | None:
        """The surface at a share of the usual range, once that is known."""
        spread = store.known_distribution(self.quantity)
        return None if spread is None else self.with_(value=spread.usual[0] + (0.02 + 0.96 * share) * (spread.usual[1] - spread.usual[0]))

    def levels(self) -> tuple[tuple[str, float], ...]:
        """Its values."""
        ends = (self.value, self.last) if self.by == "run" else (self.value, *self.more)
        return tuple((self.quantity, value) for value in ends)

    def at_level(self, number: int, value: float) -> Self:
        """With another in the place of one of them."""
        if number == 0:
            return self.with_(value=value)
        if self.by == "run":
            return self.with_(last=value)
        return self.with_(more=tuple(value if n == number else old for n, old in enumerate(self.more, 1)))


def new_isosurface(store: QuantityStore, quantity: str = "") -> Begun:
    """An isosurface at a telling value: Mach 1, a positive Q, else the upper quartile of the usual range.

    Round a body, Q starts at twenty times (speed / body length)²: vortices rather than the thin layers at walls, where it is greatest.

    Parameters
    ----------
    quantity : str
        Its name; Q where there is velocity, else the first scalar, if nothing is said.

    Raises
    ------
    MissingQuantityError
        There is no scalar in this result.
    """
    offered = [q.name for q in store.quantities() if q.components == 1 and not q.missing]
    name = quantity if quantity in offered else next((n for n in ("q", *offered) if n in offered), None)
    if name is None:
        raise MissingQuantityError("This result has no scalar quantity to make a surface of.", store.flow.title)
    spread = store.distribution(name)
    described = store.describe(name)
    low, high = spread.usual
    value = low + 0.75 * (high - low)
    if described.scale == "mach" and spread.low < 1.0 < spread.high:
        value = 1.0
    elif described.name == "q" and high > 0:
        value = 0.25 * high
        if store.flow.body is not None and store.reference.speed > 0:
            value = 20.0 * (store.reference.speed / float((store.flow.body[1] - store.flow.body[0]).max())) ** 2
    if not spread.low <= value <= spread.high:
        value = 0.5 * (spread.low + spread.high)
    return Begun(f"{described.title} isosurface", IsoShape(quantity=name, value=round_to(value, 0.01 * (high - low))),
                 SurfaceLook(colour_by=best_name(store), opacity=0.85))


KIND = Kind(IsoShape, "The surface on which a quantity takes a value, or the surfaces of several.", "look", "isosurface",
            (Tile("add-isosurface", "Isosurface", "Show where a quantity takes a value."),), new_isosurface, slow=True, group="Surfaces")
