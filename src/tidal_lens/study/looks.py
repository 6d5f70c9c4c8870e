"""How things are drawn: one look for surfaces, one for lines, one for points, whatever made them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from tidal_lens.study.dressings import Arrows, Contours, Dressing, Marks, Ribbons, Texture, Tubes
from tidal_lens.study.said import Sieve
from tidal_lens.study.value import Colour, Opacity, QuantityName, Value


class SurfaceLook(Value):
    """How a surface is shown: painted by a quantity, or plain; of findings those that pass a sieve."""

    on: Literal["surface"] = "surface"
    colour_by: QuantityName | None = None
    colour: Colour = "#C9C2B4"
    opacity: Opacity = 1.0
    mesh_lines: bool = False
    lit: bool | None = None  # as its shape has it, where nothing is said
    contours: Contours | None = None
    arrows: Arrows | None = None
    texture: Texture | None = None
    sieve: Sieve | None = None

    def dressings(self) -> tuple[Dressing, ...]:
        """Those that are on."""
        return tuple(d for d in (self.contours, self.arrows, self.texture) if d is not None)


class LineLook(Value):
    """How lines are shown; width in pixels of an ordinary screen. Tubes or ribbons take their place; of findings those past a sieve."""

    on: Literal["lines"] = "lines"
    colour_by: QuantityName | None = None
    colour: Colour = "#0E6E7E"
    width: Annotated[float, Field(ge=0.5, le=12.0)] = 2.0
    arrows: Arrows | None = None
    tubes: Tubes | None = None
    ribbons: Ribbons | None = None
    marks: Marks | None = None
    sieve: Sieve | None = None

    def dressings(self) -> tuple[Dressing, ...]:
        """Those that are on."""
        return tuple(d for d in (self.arrows, self.tubes, self.ribbons, self.marks) if d is not None)


class BallLook(Value):
    """How points are shown: as balls of a size, a share of the flow's, or sized by a quantity.

    Attributes
    ----------
    size : float
        Radius as a share of the flow's size; of the greatest where they are sized in proportion.
    size_by : str
        The quantity that sizes them.
    sized : str
        All alike, in proportion to it, or it is the ``true`` diameter.
    """

    on: Literal["points"] = "points"
    colour_by: QuantityName | None = None
    colour: Colour = "#B0246B"
    opacity: Opacity = 1.0
    size: Annotated[float, Field(ge=0.0002, le=0.05)] = 0.004
    size_by: QuantityName = ""
    sized: Literal["even", "share", "true"] = "even"
    arrows: Arrows | None = None

    def dressings(self) -> tuple[Dressing, ...]:
        """Those that are on."""
        return () if self.arrows is None else (self.arrows,)


class NoLook(Value):
    """Of what is not drawn itself."""

    on: Literal["none"] = "none"
    colour_by: None = None
    colour: Colour = "#B0246B"

    def dressings(self) -> tuple[Dressing, ...]:
        """None."""
        return ()


AnyLook = SurfaceLook | LineLook | BallLook | NoLook
Look = Annotated[AnyLook, Field(discriminator="on")]
