"""What a study holds. All of it is immutable: an edit makes a new value."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, field_validator

SCHEMA: Literal[1] = 1
Vector = tuple[FiniteFloat, FiniteFloat, FiniteFloat]
Colour = Annotated[str, Field(pattern=r"^#[0-9A-Fa-f]{6}$")]
Opacity = Annotated[float, Field(ge=0.05, le=1.0)]
Name = Annotated[str, Field(max_length=200)]
Identity = Annotated[str, Field(pattern=r"^[a-z0-9-]{1,40}$")]


class _Value(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    def with_(self, **changes: Any) -> Any:
        """A checked copy with some fields changed."""
        return type(self).model_validate({**{n: getattr(self, n) for n in type(self).model_fields}, **changes})


class SurfaceLook(_Value):
    """How a surface is shown: painted by a quantity, or plain."""

    colour_by: Name | None = None
    colour: Colour = "#C9C2B4"
    opacity: Opacity = 1.0
    mesh_lines: bool = False


class LineLook(_Value):
    """How lines are shown; width in pixels of an ordinary screen."""

    colour_by: Name | None = None
    colour: Colour = "#0E6E7E"
    width: Annotated[float, Field(ge=0.5, le=12.0)] = 2.0


class WallShape(_Value):
    """Which boundaries."""

    boundaries: tuple[Name, ...]


class SliceShape(_Value):
    """A plane on which one coordinate (0, 1, 2 for x, y, z) is constant."""

    axis: Annotated[int, Field(ge=0, le=2)]
    position: FiniteFloat


class IsoShape(_Value):
    """A quantity and the value that it takes."""

    quantity: Name
    value: FiniteFloat


class StreamShape(_Value):
    """A line of seeds, or a list of them that takes its place, and how streamlines are followed from it."""

    start: Vector
    end: Vector
    count: Annotated[int, Field(ge=1, le=5000)] = 30
    listed: Annotated[tuple[Vector, ...], Field(max_length=5000)] = ()
    source: Name = ""
    direction: Literal["forward", "backward", "both"] = "both"
    max_length: Annotated[float, Field(gt=0.0, le=1e12)] = 1e3
    tolerance: Annotated[float, Field(ge=1e-8, le=0.1)] = 1e-4


class BodyShape(_Value):
    """A surface from a file of its own."""

    path: Annotated[str, Field(max_length=4096)]


class PointsShape(_Value):
    """Points in space, such as those of an experiment; their size is a part of the flow's."""

    points: Annotated[tuple[Vector, ...], Field(min_length=1, max_length=20000)]
    source: Name = ""
    size: Annotated[float, Field(ge=0.0005, le=0.05)] = 0.006


class _Layer(_Value):
    id: Identity
    name: Name
    shown: bool = True


class WallLayer(_Layer):
    """Walls and other boundaries."""

    kind: Literal["wall"] = "wall"
    shape: WallShape
    look: SurfaceLook = SurfaceLook()


class SliceLayer(_Layer):
    """A slice."""

    kind: Literal["slice"] = "slice"
    shape: SliceShape
    look: SurfaceLook = SurfaceLook()


class IsoLayer(_Layer):
    """An isosurface."""

    kind: Literal["isosurface"] = "isosurface"
    shape: IsoShape
    look: SurfaceLook = SurfaceLook()


class StreamLayer(_Layer):
    """Streamlines from a seed line."""

    kind: Literal["streamlines"] = "streamlines"
    shape: StreamShape
    look: LineLook = LineLook()


class BodyLayer(_Layer):
    """A body."""

    kind: Literal["body"] = "body"
    shape: BodyShape
    look: SurfaceLook = SurfaceLook()


class PointsLayer(_Layer):
    """Points of a list."""

    kind: Literal["points"] = "points"
    shape: PointsShape
    look: SurfaceLook = SurfaceLook(colour="#B0246B")


Layer = Annotated[WallLayer | SliceLayer | IsoLayer | StreamLayer | BodyLayer | PointsLayer, Field(discriminator="kind")]
AnyLayer = WallLayer | SliceLayer | IsoLayer | StreamLayer | BodyLayer | PointsLayer


class KeySetting(_Value):
    """What the user set on a quantity's colour key; None means by the data."""

    low: FiniteFloat | None = None
    high: FiniteFloat | None = None
    symmetric: bool = False


class Reference(_Value):
    """A typed reference state; it takes the place of the one that was read or guessed."""

    pressure: Annotated[float, Field(ge=-1e300, le=1e300)] | None = None
    density: Annotated[float, Field(gt=0, le=1e300)] | None = None
    velocity: Vector = (0.0, 0.0, 0.0)
    gamma: Annotated[float, Field(gt=1.0, le=3.0)] = 1.4
    gas_constant: Annotated[float, Field(gt=0, le=1e300)] | None = None
    viscosity: Annotated[float, Field(gt=0, le=1e300)] | None = None
    prandtl: Annotated[float, Field(gt=0, le=1e6)] = 0.72
    origin: Name = "typed"


class ReadingSetting(_Value):
    """What is read of the case: blocks and quantities left out, every n-th point, corners of a region, steps from 0.

    With ``in_space``, one layer of cells is not taken for a plane flow.
    """

    without_blocks: Annotated[tuple[Name, ...], Field(max_length=10000)] = ()
    without_quantities: Annotated[tuple[Name, ...], Field(max_length=1000)] = ()
    every: Annotated[int, Field(ge=1, le=1000)] = 1
    low: Vector | None = None
    high: Vector | None = None
    first_step: Annotated[int, Field(ge=0, le=1_000_000)] = 0
    last_step: Annotated[int, Field(ge=0, le=1_000_000)] | None = None
    every_step: Annotated[int, Field(ge=1, le=100_000)] = 1
    in_space: bool = False

    @property
    def steps(self) -> slice:
        """The steps of a series that are read."""
        last = None if self.last_step is None else max(self.last_step, self.first_step) + 1
        return slice(self.first_step, last, self.every_step)


class FormulaText(_Value):
    """A formula by its name."""

    name: Annotated[str, Field(pattern=r"^[^\W\d]\w*$", max_length=60)]
    text: Annotated[str, Field(max_length=4000)]


class Choices(_Value):
    """How derived quantities are worked out where there is a choice: see :class:`tidal_lens.quantities.methods.Methods`."""

    fourth_order: bool = False
    on_cells: bool = False
    averaging: Literal["count", "volume", "distance"] = "count"
    axis_point: Vector = (0.0, 0.0, 0.0)
    axis: Vector = (1.0, 0.0, 0.0)
    spin: FiniteFloat = 0.0
    knife: Vector = (1.0, 0.0, 0.0)
    shading: Annotated[float, Field(gt=0.0, le=1000.0)] = 8.0


class CameraSetting(_Value):
    """Where the picture is seen from: eye, the point looked at, the up direction and the opening angle [degrees]."""

    eye: Vector
    focus: Vector
    up: Vector
    angle: Annotated[float, Field(gt=1.0, lt=120.0)] = 28.0

    @field_validator("up")
    @classmethod
    def _has_direction(cls, up: Vector) -> Vector:
        if math.sqrt(sum(c * c for c in up)) < 1e-9:
            raise ValueError("the up direction has no length")
        return up


class Study(_Value):
    """Everything on the table.

    Attributes
    ----------
    case : str
        Path of the result.
    layers : tuple of layers
        Cards of the deck, from the left.
    keys : dict
        Colour-key settings by quantity.
    reference : Reference or None
        Typed reference state.
    outline : bool
        Whether the flow's edges are drawn.
    camera : CameraSetting or None
        Where it is seen from; None frames everything. Moving the camera is no edit: it is kept, but not undone.
    alone : str or None
        Layer that is shown alone.
    step : int
        Step of a time series, from 0.
    roles : dict
        Fields that play a role where the user says otherwise than what was recognised; none for an empty tuple.
    kinds : dict
        Kinds of boundaries, by name, where the user says otherwise than what was read or guessed.
    reading : ReadingSetting
        What is read of the case.
    history : str
        Path of the history of the run, or nothing.
    criterion : float
        What residuals must fall to, as a part of their early greatest value.
    formulas : tuple of FormulaText
        Quantities that the user defined.
    choices : Choices
        How derived quantities are worked out.
    numbered : bool
        Whether the files beside the case that differ in a number only are the steps.
    """

    schema_version: Literal[1] = SCHEMA
    case: str = ""
    layers: Annotated[tuple[Layer, ...], Field(max_length=500)] = ()
    keys: dict[str, KeySetting] = Field(default_factory=dict)
    reference: Reference | None = None
    outline: bool = True
    camera: CameraSetting | None = None
    alone: Identity | None = None
    step: Annotated[int, Field(ge=0, le=10_000_000)] = 0
    numbered: bool = False
    history: str = ""
    reading: ReadingSetting = ReadingSetting()
    formulas: Annotated[tuple[FormulaText, ...], Field(max_length=200)] = ()
    choices: Choices = Choices()
    criterion: Annotated[float, Field(ge=1e-12, lt=1.0)] = 1e-3
    roles: dict[Literal["velocity", "momentum", "pressure", "density", "temperature", "viscosity", "energy"],
                Annotated[tuple[Name, ...], Field(max_length=3)]] = Field(default_factory=dict)
    kinds: dict[Name, Literal["wall", "symmetry", "inlet", "outlet", "far field", "open"]] = Field(default_factory=dict)

    @field_validator("layers")
    @classmethod
    def _unique(cls, layers: tuple[AnyLayer, ...]) -> tuple[AnyLayer, ...]:
        if len({layer.id for layer in layers}) != len(layers):
            raise ValueError("two layers have the same id")
        return layers

    def layer(self, layer_id: str) -> AnyLayer | None:
        """The layer of that id, or None."""
        return next((layer for layer in self.layers if layer.id == layer_id), None)

    def replacing(self, layer: AnyLayer) -> Study:
        """The study with the layer of the same id replaced."""
        layers = tuple(layer if old.id == layer.id else old for old in self.layers)
        return self.model_copy(update={"layers": layers})

    def adding(self, layer: AnyLayer, after: str | None = None) -> Study:
        """The study with a layer more, after another or at the end."""
        layers = list(self.layers)
        at = next((n + 1 for n, old in enumerate(layers) if old.id == after), len(layers))
        layers.insert(at, layer)
        return self.model_copy(update={"layers": tuple(layers)})

    def without(self, layer_id: str) -> Study:
        """The study with a layer less."""
        alone = None if self.alone == layer_id else self.alone
        return self.model_copy(update={"layers": tuple(x for x in self.layers if x.id != layer_id), "alone": alone})

    def moved(self, layer_id: str, to: int) -> Study:
        """The study with a layer moved to a place in the deck."""
        chosen = self.layer(layer_id)
        if chosen is None:
            return self
        rest = [x for x in self.layers if x.id != layer_id]
        rest.insert(max(0, min(to, len(rest))), chosen)
        return self.model_copy(update={"layers": tuple(rest)})

    def with_key(self, quantity: str, setting: KeySetting) -> Study:
        """The study with a colour-key setting changed; one without any content is taken out."""
        keys = {**self.keys, quantity: setting}
        if setting == KeySetting():
            del keys[quantity]
        return self.model_copy(update={"keys": keys})

    def is_drawn(self, layer: AnyLayer) -> bool:
        """Whether a layer is to be seen: its lamp is lit, or it is shown alone."""
        return layer.id == self.alone if self.alone is not None else layer.shown

    def new_id(self, kind: str) -> str:
        """An id that no layer has."""
        used = {layer.id for layer in self.layers}
        return next(f"{kind}-{n}" for n in range(1, len(used) + 2) if f"{kind}-{n}" not in used)

    def new_name(self, name: str) -> str:
        """A name that no layer has, as near as possible to the one given."""
        used = {layer.name for layer in self.layers}
        if name not in used:
            return name
        return next(f"{name} {n}" for n in range(2, len(used) + 3) if f"{name} {n}" not in used)
