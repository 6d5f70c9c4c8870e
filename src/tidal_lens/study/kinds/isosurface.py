"""Where a quantity takes a value."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, FiniteFloat

from tidal_lens.cutting.contour import isosurface
from tidal_lens.cutting.surface import join
from tidal_lens.errors import MissingQuantityError
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.first_values import best_name, round_to
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Tile
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import Words


class IsoShape(Shape):
    """A quantity and the value that it takes, or several."""

    kind: Literal["isosurface"] = "isosurface"
    quantity: QuantityName
    value: FiniteFloat
    more: Annotated[tuple[FiniteFloat, ...], Field(max_length=50)] = ()

    @property
    def values(self) -> tuple[float, ...]:
        """All values, each once."""
        return tuple(dict.fromkeys((self.value, *self.more)))

    def make(self, see: See) -> Made:
        """The surfaces, as one."""
        field = see.values(self.quantity)
        return Made(join([isosurface(see.flow, field, value, see.token) for value in self.values]))

    def tell(self, words: Words) -> str:
        """Quantity and values."""
        return f"whole flow, {words.quantity(self.quantity)} = {', '.join(words.number(v) for v in self.values)}"

    def levels(self) -> tuple[tuple[str, float], ...]:
        """Its values."""
        return tuple((self.quantity, value) for value in (self.value, *self.more))

    def at_level(self, number: int, value: float) -> Self:
        """With another in the place of one of them."""
        if number == 0:
            return self.with_(value=value)
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
