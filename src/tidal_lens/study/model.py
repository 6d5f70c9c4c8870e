"""What a study holds. All of it is immutable: an edit makes a new value."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from pathlib import PurePath
from typing import Annotated, Literal, Self

from pydantic import Field, FiniteFloat, field_validator, model_validator

from tidal_lens.errors import StudyError
from tidal_lens.flow.case import BoundaryKind
from tidal_lens.study.expected import Expected
from tidal_lens.study.kinds import LayerShape
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.looks import Look
from tidal_lens.study.notes import Note, names_card, renamed
from tidal_lens.study.said import Said
from tidal_lens.study.shown import UnitsSetting
from tidal_lens.study.telling import FilmSetting, PictureSetting, ReportSetting, RunSetting
from tidal_lens.study.value import Identity, LayerId, Name, QuantityName, StudyPath, Value, Vector, walk
from tidal_lens.study.words import Words

SCHEMA: Literal[2] = 2
LAMP = 124.0  # from which the light falls on the picture, from the right anticlockwise [degrees]
Share = Annotated[float, Field(ge=0.0, le=1.0)]
MOST_CASES = 4
_NUMBERED = re.compile(r"-(\d{1,12})$")


class Subject(Value):
    """What a layer is of: the whole flow, or another card, or several."""

    card: LayerId = ""
    more: Annotated[tuple[LayerId, ...], Field(max_length=500)] = ()

    @property
    def cards(self) -> tuple[str, ...]:
        """All cards that it names."""
        return tuple(filter(None, (self.card, *self.more)))

    def is_of(self, layer_id: str) -> bool:
        """Whether it names a card, or none and so all."""
        return not self.cards or layer_id in self.cards


class Layer(Value):
    """A card: what it computes, and how that is shown.

    Attributes
    ----------
    id : str
        Never used again in a study, not even when the layer is gone.
    name : str
        As on its card.
    shown : bool
        Whether its lamp is lit.
    subject : Subject
        What it is of.
    shape : a kind's shape
        What to compute.
    look : SurfaceLook or LineLook
        How to show it; of the sort that the shape comes to.
    stack : str
        What it is stacked with: all layers of one text that is not empty.
    case : int or None
        The one case that it is of, the first being 0; of all cases for None.
    expected : tuple of Expected
        Numbers from elsewhere that its own are judged by.
    """

    id: Identity
    name: Name
    shown: bool = True
    subject: Subject = Subject()
    shape: LayerShape
    look: Look
    stack: Annotated[str, Field(max_length=40)] = ""
    case: Annotated[int, Field(ge=0, le=MOST_CASES - 1)] | None = None
    expected: Annotated[tuple[Expected, ...], Field(max_length=50)] = ()

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.look.on != self.shape.geometry:
            raise ValueError(f"a {self.shape.kind} is not drawn as {self.look.on}")
        if self.subject.cards and not self.shape.subjects:
            raise ValueError(f"a {self.shape.kind} is of the whole flow")
        return self

    @property
    def kind(self) -> str:
        """Name of its kind."""
        return self.shape.kind

    def is_of(self, case: int) -> bool:
        """Whether it is worked out for a case."""
        return self.case is None or self.case == case

    def tell(self, words: Words) -> str:
        """What it is made from, and in what other card if it is of one."""
        told = self.shape.tell(words)
        return f"{told}, in {' and '.join(map(words.card, self.subject.cards))}" if self.subject.cards else told


class KeySetting(Value):
    """What the user set on a quantity's colour key; None means by the data.

    Attributes
    ----------
    low, high, symmetric
        Its range.
    log : bool
        Whether colours go by the logarithm; only of quantities whose palette has no middle, and above zero.
    bands : int
        Of how many plain colours it is; smooth for 0.
    flipped : bool
        Whether its palette runs the other way; not where it breaks at Mach 1.
    beyond : str
        What is drawn where values lie beyond the range: the colour of the end, grey, or nothing.
    title : str
        In the place of the quantity's own.
    digits : int
        Of its numbers; as many as they deserve for 0.
    place : tuple or None
        Where its left upper corner is, in shares of the view; in the row of all keys where nothing is said.
    hidden : bool
        Whether it is not shown.
    palette : str
        In the place of what the quantity's meaning asks for.
    """

    low: FiniteFloat | None = None
    high: FiniteFloat | None = None
    symmetric: bool = False
    log: bool = False
    bands: Annotated[int, Field(ge=0, le=64)] = 0
    flipped: bool = False
    beyond: Literal["colour", "grey", "nothing"] = "colour"
    title: Name = ""
    digits: Annotated[int, Field(ge=0, le=9)] = 0
    place: tuple[Share, Share] | None = None
    hidden: bool = False
    palette: Literal["", "even", "ember", "moss", "signed", "mach", "angle", "ink", "paper"] = ""

    def is_log(self, scale: str, low: float, high: float) -> bool:
        """Whether colours between two values of a quantity of a scale go by the logarithm."""
        return self.log and scale == "even" and 0.0 < low < high


class SeenRange(Value):
    """The usual and the whole range of a quantity at the step of a series where it was first seen.

    ``of`` tells what the user had said on which its values rest.
    """

    low: FiniteFloat
    high: FiniteFloat
    least: FiniteFloat
    greatest: FiniteFloat
    of: Annotated[str, Field(max_length=64)] = ""


class Reference(Value):
    """A typed reference state; it takes the place of the one that was read or guessed."""

    pressure: Annotated[float, Field(ge=-1e300, le=1e300)] | None = None
    density: Annotated[float, Field(gt=0, le=1e300)] | None = None
    velocity: Vector = (0.0, 0.0, 0.0)
    gamma: Annotated[float, Field(gt=1.0, le=3.0)] = 1.4
    gas_constant: Annotated[float, Field(gt=0, le=1e300)] | None = None
    viscosity: Annotated[float, Field(gt=0, le=1e300)] | None = None
    prandtl: Annotated[float, Field(gt=0, le=1e6)] = 0.72
    area: Annotated[float, Field(gt=0, le=1e300)] | None = None
    length: Annotated[float, Field(gt=0, le=1e300)] | None = None
    about: Vector = (0.0, 0.0, 0.0)
    depth: Annotated[float, Field(gt=0, le=1e300)] | None = None
    origin: Name = "typed"


class ReadingSetting(Value):
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


class OtherCase(Value):
    """A result beside the first.

    Attributes
    ----------
    path : str
        Its file.
    name : str
        As it is called; by its file where nothing is said.
    reading, numbered
        What is read of it, as of the study's own case.
    by : str
        Which of its steps goes with the first's: the nearest in time, in phase (both series are once round), or of the same number.
    shift : float
        Added to the first's time [s], phase or number before.
    anyway : bool
        Whether its units are taken for those of the first although they are not known.
    """

    path: StudyPath
    name: Name = ""
    reading: ReadingSetting = ReadingSetting()
    numbered: bool = False
    by: Literal["time", "phase", "number"] = "time"
    shift: FiniteFloat = 0.0
    anyway: bool = False

    @property
    def title(self) -> str:
        """What it is called."""
        return self.name or title_of(self.path)


def title_of(path: str) -> str:
    """What a result is called after its file."""
    return PurePath(path).stem or path


class FormulaText(Value):
    """A formula by its name."""

    name: Annotated[str, Field(pattern=r"^[^\W\d]\w*$", max_length=60)]
    text: Annotated[str, Field(max_length=4000)]


class FrameOfBlocks(Value):
    """Blocks that turn otherwise than the rest: see :class:`tidal_lens.quantities.methods.Frame`."""

    blocks: Annotated[tuple[Name, ...], Field(max_length=10_000)] = ()
    point: Vector = (0.0, 0.0, 0.0)
    axis: Vector = (1.0, 0.0, 0.0)
    rate: FiniteFloat = 0.0


class Choices(Value):
    """How derived quantities are worked out where there is a choice: see :class:`tidal_lens.quantities.methods.Methods`."""

    fourth_order: bool = False
    on_cells: bool = False
    averaging: Literal["count", "volume", "distance"] = "count"
    axis_point: Vector = (0.0, 0.0, 0.0)
    axis: Vector = (1.0, 0.0, 0.0)
    spin: FiniteFloat = 0.0
    turning: Annotated[tuple[Name, ...], Field(max_length=10_000)] = ()
    frames: Annotated[tuple[FrameOfBlocks, ...], Field(max_length=50)] = ()
    knife: Vector = (1.0, 0.0, 0.0)
    shading: Annotated[float, Field(gt=0.0, le=1000.0)] = 8.0


class CameraSetting(Value):
    """Where the picture is seen from: eye, the point looked at, the up direction and the opening angle [degrees].

    ``span`` is half the height of what is seen with parallel rays; 0 in perspective.
    """

    eye: Vector
    focus: Vector
    up: Vector
    angle: Annotated[float, Field(gt=1.0, lt=120.0)] = 28.0
    span: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0

    @field_validator("up")
    @classmethod
    def _has_direction(cls, up: Vector) -> Vector:
        if math.sqrt(sum(c * c for c in up)) < 1e-9:
            raise ValueError("the up direction has no length")
        return up


class Plate(Value):
    """A view to come back to: what is lit, how it is coloured, from where it is seen, and when.

    Attributes
    ----------
    id, name : str
        As of a layer.
    notes : str
        What there is to say of it.
    lit : tuple of str
        Cards whose lamps are lit, masks among them; others are dark.
    noted : tuple of str
        Notes that are shown; others are not.
    alone, keys, camera, step, ground, lamp, outline, passages_shown, beside, divider
        As of the study.
    """

    id: Identity
    name: Name
    notes: Annotated[str, Field(max_length=10_000)] = ""
    lit: Annotated[tuple[Identity, ...], Field(max_length=500)] = ()
    noted: Annotated[tuple[Identity, ...], Field(max_length=500)] = ()
    alone: Identity | None = None
    keys: dict[QuantityName, KeySetting] = Field(default_factory=dict)
    camera: CameraSetting | None = None
    step: Annotated[int, Field(ge=0, le=10_000_000)] = 0
    ground: Literal["water", "paper", "white", "ink"] = "water"
    lamp: Annotated[float, Field(ge=-360.0, le=360.0)] = LAMP
    outline: bool = True
    passages_shown: Annotated[int, Field(ge=1, le=1000)] = 1
    beside: Literal["split", "wipe", "first"] = "split"
    divider: Share = 0.5


class Study(Value):
    """Everything on the table.

    Attributes
    ----------
    case : str
        Path of the result.
    others : tuple of OtherCase
        Results beside it.
    beside : str
        How they are shown: in views of their own, in one view with a divider, or not.
    divider : float
        Where the divider is, as a share of the view's width.
    layers : tuple of layers
        Cards of the deck, from the left.
    keys : dict
        Colour-key settings by quantity.
    ranges : dict
        Ranges of the quantities of a series, as first seen, each with what the user had said then: all its steps are coloured alike. Seeing
        one is no edit.
    counter : int
        The greatest number that the id of any layer had that is gone.
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
    passages, passages_shown : int
        Of which a machine has so many round its axis, 0 as recognised; and how many are drawn.
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
    said : tuple of Said
        What the user said of findings.
    plates : tuple of Plate
        Views to come back to, in their order.
    notes : tuple of Note
        What is written and drawn over the view.
    units : UnitsSetting
        What numbers are shown in, and with how many digits.
    picture, film, report, run : PictureSetting, FilmSetting, ReportSetting, RunSetting
        How pictures, animations, reports and runs of it are made.
    numbered : bool
        Whether the files beside the case that differ in a number only are the steps.
    """

    schema_version: Literal[2] = SCHEMA
    case: StudyPath = ""
    others: Annotated[tuple[OtherCase, ...], Field(max_length=MOST_CASES - 1)] = ()
    beside: Literal["split", "wipe", "first"] = "split"
    divider: Share = 0.5
    layers: Annotated[tuple[Layer, ...], Field(max_length=500)] = ()
    keys: dict[QuantityName, KeySetting] = Field(default_factory=dict)
    ranges: Annotated[dict[QuantityName, tuple[SeenRange, ...]], Field(max_length=2000)] = Field(default_factory=dict)
    counter: Annotated[int, Field(ge=0, le=10**12)] = 0
    reference: Reference | None = None
    outline: bool = True
    groups: Annotated[dict[Name, Annotated[tuple[Name, ...], Field(max_length=10_000)]], Field(max_length=500)] = Field(
        default_factory=dict)
    ground: Literal["water", "paper", "white", "ink"] = "water"
    lamp: Annotated[float, Field(ge=-360.0, le=360.0)] = LAMP
    units: UnitsSetting = UnitsSetting()
    camera: CameraSetting | None = None
    alone: Identity | None = None
    step: Annotated[int, Field(ge=0, le=10_000_000)] = 0
    numbered: bool = False
    said: Annotated[tuple[Said, ...], Field(max_length=5000)] = ()
    history: StudyPath = ""
    reading: ReadingSetting = ReadingSetting()
    formulas: Annotated[tuple[FormulaText, ...], Field(max_length=200)] = ()
    choices: Choices = Choices()
    criterion: Annotated[float, Field(ge=1e-12, lt=1.0)] = 1e-3
    criteria: Annotated[dict[Name, Annotated[float, Field(ge=1e-12, lt=1.0)]], Field(max_length=500)] = Field(default_factory=dict)
    roles: dict[Literal["velocity", "momentum", "pressure", "density", "temperature", "viscosity", "energy"],
                Annotated[tuple[Name, ...], Field(max_length=3)]] = Field(default_factory=dict)
    turned: Literal["", "flat", "x", "y", "z"] = ""
    passages: Annotated[int, Field(ge=0, le=1000)] = 0
    passages_shown: Annotated[int, Field(ge=1, le=1000)] = 1
    kinds: dict[Name, BoundaryKind] = Field(default_factory=dict)
    plates: Annotated[tuple[Plate, ...], Field(max_length=500)] = ()
    notes: Annotated[tuple[Note, ...], Field(max_length=500)] = ()
    picture: PictureSetting = PictureSetting()
    film: FilmSetting = FilmSetting()
    report: ReportSetting = ReportSetting()
    run: RunSetting = RunSetting()

    @model_validator(mode="after")
    def _unique(self) -> Self:
        if len({layer.id for layer in self.layers}) != len(self.layers):
            raise ValueError("two layers have the same id")
        circle = next(filter(None, map(self._circle_of, self.layers)), ())
        if circle:
            raise ValueError(f"{_listed(circle)} are made from one another")
        return self

    def layer(self, layer_id: str) -> Layer | None:
        """The layer of that id, or None."""
        return next((layer for layer in self.layers if layer.id == layer_id), None)

    def replacing(self, layer: Layer) -> Study:
        """The study with the layer of the same id replaced.

        Raises
        ------
        StudyError
            It would be made from itself, by way of others.
        """
        before = self.layer(layer.id)
        notes = renamed(self.notes, before.name, layer.name) if before is not None and before.name != layer.name else self.notes
        new = self.model_copy(update={"layers": tuple(layer if old.id == layer.id else old for old in self.layers), "notes": notes})
        circle = new._circle_of(layer)
        if circle:
            raise StudyError(f"{_listed(circle)} would be made from one another.", layer.name, "Choose another card.")
        return new

    def stacked(self, layers: Sequence[str]) -> Study:
        """The study with some layers in one stack, side by side where the first of them is."""
        name = f"stack-{self._greatest + 1}"
        own = [x.with_(stack=name) for x in self.layers if x.id in layers]
        if len(own) < 2:
            return self
        first = next(n for n, x in enumerate(self.layers) if x.id in layers)
        before = [x for x in self.layers[:first] if x.id not in layers]
        after = [x for x in self.layers[first:] if x.id not in layers]
        return self.model_copy(update={"layers": (*before, *own, *after), "counter": self._greatest + 1})

    def in_stack(self, layer: Layer) -> tuple[Layer, ...]:
        """All layers of a layer's stack; itself alone where it is in none."""
        return tuple(x for x in self.layers if x.stack == layer.stack) if layer.stack else (layer,)

    def rests_on(self, layer: Layer) -> frozenset[str]:
        """Ids of the layers that a layer is made from, by way of others too."""
        found: set[str] = set()
        waiting = [layer]
        while waiting:
            for name in walk(waiting.pop(), "layer"):
                other = self.layer(name)
                if other is not None and name not in found:
                    found.add(name)
                    waiting.append(other)
        return frozenset(found)

    def _circle_of(self, layer: Layer) -> tuple[str, ...]:
        """Names of the layers that a layer is in a circle with."""
        below = self.rests_on(layer)
        return tuple(x.name for x in self.layers if x.id in below and layer.id in self.rests_on(x)) if layer.id in below else ()

    def subjects_for(self, layer: Layer, sorts: Sequence[str]) -> tuple[Layer, ...]:
        """Cards that a layer may be made from: those that come to one of these sorts of geometry, and are not made from it."""
        return tuple(x for x in self.layers if x.id != layer.id and x.shape.geometry in sorts and layer.id not in self.rests_on(x))

    def adding(self, layer: Layer, after: str | None = None) -> Study:
        """The study with a layer more, after another or at the end."""
        layers = list(self.layers)
        at = next((n + 1 for n, old in enumerate(layers) if old.id == after), len(layers))
        layers.insert(at, layer)
        return self.model_copy(update={"layers": tuple(layers), "counter": max(self._greatest, _number(layer.id))})

    def without(self, layer_id: str) -> Study:
        """The study with a layer less."""
        alone = None if self.alone == layer_id else self.alone
        layers = tuple(x for x in self.layers if x.id != layer_id)
        return self.model_copy(update={"layers": layers, "alone": alone, "counter": self._greatest})

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

    def is_drawn(self, layer: Layer) -> bool:
        """Whether a layer is to be seen: its lamp is lit, or it is shown alone."""
        return layer.id == self.alone if self.alone is not None else layer.shown

    def is_named(self, layer: Layer) -> bool:
        """Whether a note that is shown asks for a number of a layer."""
        return any(note.shown and names_card(note, layer.name) for note in self.notes)

    def masks(self) -> tuple[Layer, ...]:
        """Layers that hide parts of others: their lamps are lit. What is shown alone is masked too."""
        return tuple(layer for layer in self.layers if layer.shown and layer.shape.geometry == "none")

    @property
    def case_titles(self) -> tuple[str, ...]:
        """What the cases are called, the first first; told apart by number where they are called alike."""
        plain = [title_of(self.case), *(other.title for other in self.others)]
        return tuple(f"{name} ({n + 1})" if plain.count(name) > 1 else name for n, name in enumerate(plain))

    def without_case(self, number: int) -> Study:
        """The study with one of the other cases less: its own cards go with it."""
        layers = [x for x in self.layers if x.case != number]
        layers = [x.with_(case=x.case - 1) if x.case is not None and x.case > number else x for x in layers]
        others = tuple(o for n, o in enumerate(self.others) if n + 1 != number)
        return self.model_copy(update={"layers": tuple(layers), "others": others, "counter": self._greatest})

    def apart(self, layer: Layer) -> Study:
        """The study with a card of all cases split into one of each, so that each can be set by itself."""
        study, titles = self.replacing(layer.with_(case=0)), self.case_titles
        after = layer.id
        for number in range(1, len(titles)):
            own = layer.with_(id=study.new_id(layer.kind), name=study.new_name(f"{layer.name}, {titles[number]}"[:200]), case=number)
            study = study.adding(own, after)
            after = own.id
        return study

    def card_names(self) -> dict[str, str]:
        """Names of all cards by their ids."""
        return {layer.id: layer.name for layer in self.layers}

    def new_id(self, kind: str) -> str:
        """An id that no layer has, or had."""
        return f"{kind}-{self._greatest + 1}"

    @property
    def _greatest(self) -> int:
        return max(self.counter, *(_number(i) for i in (*(x.id for x in self.layers), *(p.id for p in self.plates),
                                                                *(n.id for n in self.notes))), 0)

    def layer_of(self, begun: Begun) -> Layer:
        """A layer of first values, with an id and a name of its own."""
        return Layer(id=self.new_id(begun.shape.kind), name=self.new_name(begun.name), shape=begun.shape, look=begun.look)

    def new_name(self, name: str) -> str:
        """A name that no layer has, as near as possible to the one given."""
        used = {layer.name for layer in self.layers}
        if name not in used:
            return name
        return next(f"{name} {n}" for n in range(2, len(used) + 3) if f"{name} {n}" not in used)


def _listed(names: Sequence[str]) -> str:
    return " and ".join(filter(None, [", ".join(names[:-1]), names[-1]])) if len(names) > 1 else f"{names[0]} and itself"


def _number(layer_id: str) -> int:
    """The number at the end of an id, 0 where there is none."""
    found = _NUMBERED.search(layer_id)
    return int(found.group(1)) if found is not None else 0
