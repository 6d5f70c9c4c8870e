"""What a kind of layer is: a shape that can be made, told, dragged and begun.

A kind is one module here and one line in :data:`tidal_lens.study.kinds.KINDS`; its controls are one module and one line in the window.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Protocol, Self

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.points import Points
from tidal_lens.features.finding import Finding
from tidal_lens.flow.annulus import Annulus
from tidal_lens.flow.case import Flow
from tidal_lens.flow.periodic import Periodic
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.store import Quantity, QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.charts import Chart
from tidal_lens.study.geometry import Geometry
from tidal_lens.study.looks import AnyLook
from tidal_lens.study.shown import InUnits
from tidal_lens.study.tables import Amount, Table
from tidal_lens.study.value import Value, Vector, walk
from tidal_lens.study.words import Words, amount_text, number_text
from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token

Vec = NDArray[np.float64]
Sort = Literal["surface", "lines", "points", "none"]
At = Callable[[Geometry, str], NDArray[np.float64]]


class See(Protocol):
    """What a shape sees when it is made; on a job's thread."""

    @property
    def flow(self) -> Flow:
        """The flow."""

    @property
    def reference(self) -> ReferenceState:
        """The free stream; a shape that looks at it needs a quantity that rests on what it takes of it."""

    @property
    def token(self) -> Token:
        """Progress and cancel."""

    @property
    def annulus(self) -> Annulus:
        """Between hub and casing, about the chosen axis; a shape that looks at it names ``const:axis`` and ``const:axis_point``.

        Raises
        ------
        StudyError
            The flow has none.
        """

    @property
    def spin(self) -> float:
        """Rate of rotation about the axis [rad/s]; a shape that looks at it names ``const:spin``."""

    @property
    def periodic(self) -> Periodic | None:
        """How the flow goes on beyond its periodic sides, where it does; for shapes ``of_sides``."""

    @property
    def shown(self) -> int:
        """Of how many passages of a machine cuts are made; for shapes whose ``of_sides`` is ``cuts``."""

    def values(self, name: str) -> NDArray[Any]:
        """Node values of a quantity that the shape needs."""

    def called(self, name: str) -> str:
        """What such a quantity is called, with its unit."""

    def amount(self, name: str, value: float, *, change: bool = False) -> Amount:
        """A value of such a quantity, or how much such values differ, with its unit."""

    def everything_at(self, stencil: Stencil, *, walls: bool = False) -> list[tuple[Quantity, NDArray[np.float64]]]:
        """Every quantity at some places: see :func:`tidal_lens.quantities.at_places.everything_at`; for shapes ``of_all``."""

    def at_step(self, step: int) -> See:
        """What it would see at another step of the series, read if need be; other layers are made anew there.

        Raises
        ------
        TidalLensError
            There is no such step, or it cannot be read.
        """

    def shape(self, layer_id: str) -> Shape:
        """The shape of another layer that this one names; see :meth:`made`."""

    def made(self, layer_id: str) -> Made:
        """What another layer came to that the shape names in a :data:`~tidal_lens.study.value.LayerId`; whole, whatever masks hide of it.

        Raises
        ------
        LostLayerError
            There is no such layer.
        """


@dataclass(frozen=True, eq=False)
class Made:
    """What a shape came to."""

    geometry: Geometry
    began: Vec | None = None  # places that lines began from, (k, 3), inside or not
    tables: tuple[Table, ...] = ()  # what it tells in rows and columns
    told: str = ""  # what it came to, in a few words for its card
    frame: tuple[Vec, Vec] | None = None  # a place and a direction that come from elsewhere: of a plane that goes with another card
    findings: tuple[Finding, ...] = ()  # all candidates, the clearest first
    charts: tuple[Chart, ...] = ()  # what it tells as curves
    whole: bool = False  # whether all passages that are shown are in it already
    amounts: tuple[Amount, ...] = ()  # numbers in what is told, in their order

    def told_in(self, units: InUnits) -> str:
        """What is told, its amounts in the units that they are shown in."""
        out, rest = "", self.told
        for amount in self.amounts:
            before, _, rest = rest.partition(amount_text(amount) if amount_text(amount) in rest else number_text(amount))
            out += before + units.amount_text(amount)
        return out + rest

    @property
    def nbytes(self) -> int:
        """Memory that it takes."""
        geometry = self.geometry
        if isinstance(geometry, Lines):
            # The interpolation is made when it is asked for: eight nodes and weights a point.
            return sum(a.nbytes for a in (geometry.points, geometry.offsets, geometry.time)) + 128 * len(geometry.points)
        if isinstance(geometry, Points):
            return geometry.nbytes
        stencil = geometry.stencil
        return sum(a.nbytes for a in (geometry.points, geometry.faces, stencil.ids, stencil.weights))


@dataclass(frozen=True, eq=False)
class Handle:
    """A bead that can be dragged.

    Attributes
    ----------
    id : str
        Which of the shape's.
    place : ndarray, shape (3,)
        Where it stands.
    rail : ndarray, shape (3,), or None
        The direction along which it goes; freely before the viewer where there is none.
    track : ndarray, shape (n, 3), or None
        Places at which it may stand, the best first: the first that can be seen is taken.
    label : str
        Beside it.
    value : float, tuple or None
        What can be typed in its place: a number, or three coordinates.
    small : bool
        Whether it is one beside others.
    turns : bool
        Whether it turns or sizes what it belongs to, rather than stand where it is dragged.
    """

    id: str
    place: Vec
    rail: Vec | None = None
    track: Vec | None = None
    label: str = ""
    value: float | Vector | None = None
    small: bool = False
    turns: bool = False


@dataclass(frozen=True, eq=False)
class Handles:
    """All that is drawn of a shape while its card is chosen.

    Attributes
    ----------
    what : str
        What is dragged, for hints and undo: ``slice``.
    beads : tuple of Handle
        They can be dragged.
    lines : tuple of (ndarray (n, 3), bool)
        Lines beside them, and whether each is closed.
    dots : ndarray, shape (k, 3)
        Places that the shape begins from.
    good : ndarray, shape (k,), bool
        Whether each dot is of use; others are drawn hollow.
    told : str
        What became of it, in a few words.
    """

    what: str
    beads: tuple[Handle, ...]
    lines: tuple[tuple[Vec, bool], ...] = ()
    dots: Vec = field(default_factory=lambda: np.empty((0, 3)))
    good: NDArray[np.bool_] = field(default_factory=lambda: np.empty(0, bool))
    told: str = ""


class Shape(Value):
    """What a layer computes. Its fields are the settings; each kind says what follows from them.

    ``make`` is called on job threads, all else on the window's or a job's: none of it may take long but ``make``.
    """

    kind: str
    geometry: ClassVar[Sort] = "surface"  # what it comes to: looks follow from it
    lit: ClassVar[bool] = True  # whether a light falls on it; others show the colours of the key exactly
    on_walls: ClassVar[bool] = False  # whether it lies on walls, where quantities are known that are known nowhere else
    subjects: ClassVar[tuple[Sort, ...]] = ()  # cards that its layer may be of, by what they come to
    finds: ClassVar[bool] = False  # whether it tells findings
    takes_taps: ClassVar[bool] = False  # whether an experiment's table, its ``taps``, may be laid over what it measures
    measures: ClassVar[bool] = False  # whether what it tells is what it is for: the ledger shows it
    reckoned: ClassVar[str] = ""  # how what it tells was got, and how exact that is
    of_mesh: ClassVar[bool] = True  # whether, but for the quantities that it needs, it rests on the mesh alone
    of_passages: ClassVar[bool] = True  # whether it is drawn once more for each passage of a machine that is shown
    of_sides: ClassVar[Literal["", "lines", "cuts"]] = ""  # whether it goes on through periodic sides: as lines, or cut in each passage
    of_all: ClassVar[bool] = False  # whether it rests on every quantity, whichever there are
    of_series: ClassVar[bool] = False  # whether it is of all steps, whichever is shown: it may see them by ``at_step`` only

    @classmethod
    def takes(cls, _shape: Shape) -> bool:
        """Whether one of its kind may be begun of a card of a shape: the chosen one is given to it."""
        return False

    @property
    def lying(self) -> bool:
        """Whether what it comes to lies on a surface, and is to be drawn before it."""
        return False

    def make(self, see: See) -> Made:
        """Work it out: a pure function of the shape and of what it sees.

        Raises
        ------
        TidalLensError
            It cannot be made from this flow.
        CancelledError
            The token was cancelled.
        """
        raise NotImplementedError

    def hide(self, made: Made, _at: At) -> Made:
        """Of a shape without geometry: what it leaves of something else; ``at`` gives a quantity's values at the points of a geometry."""
        return made

    def needs(self) -> tuple[str, ...]:
        """Quantities that the shape itself rests on, whatever colours it."""
        return tuple(dict.fromkeys(walk(self, "quantity")))

    def constants(self) -> tuple[str, ...]:
        """Fixed numbers that it rests on besides: see :data:`tidal_lens.quantities.names.CONSTANTS`."""
        return ()

    def draft(self) -> Self:
        """A cheaper twin, made while something is dragged; itself where it is cheap."""
        return self

    def tell(self, words: Words) -> str:
        """What it is made from, for the card, reports and screen readers."""
        raise NotImplementedError

    def levels(self) -> tuple[tuple[str, float], ...]:
        """Quantities and values that it takes: beads on their colour keys."""
        return ()

    def at_level(self, _number: int, _value: float) -> Self:
        """With another value in the place of one of its levels."""
        return self

    def handles(self, _flow: Flow, _made: Made | None) -> Handles | None:
        """Its beads and what is drawn beside them; None where there is nothing to drag."""
        return None

    def moved(self, _handle: str, _to: Vec, _flow: Flow, *, snap: bool) -> Self:
        """With a bead dragged to a place; to the nearest node with ``snap``, else to round numbers."""
        return self

    def typed(self, _handle: str, _value: Any) -> Self:
        """With a bead at what was typed for it, exactly."""
        return self

    def without_seed(self, _number: int, _began: Vec) -> Self | None:
        """Without one of the places (n, 3) that its lines began from; None where it has none."""
        return None

    def stepped(self, _steps: float, _flow: Flow) -> Self | None:
        """Moved by some steps of its own; None where it has no way to go."""
        return None

    def swept(self, _share: float, _store: QuantityStore) -> Self | None:
        """With the number that runs when it is played at a share of its way, from 0 to 1; None where it has none."""
        return None


@dataclass(frozen=True)
class Begun:
    """A new layer's first values."""

    name: str
    shape: Shape
    look: AnyLook


@dataclass(frozen=True)
class Tile:
    """A way to begin a layer: a button of its station, a command, a line of the help page.

    Attributes
    ----------
    id : str
        Of the command: ``add-slice-x``.
    name, help : str
        On the tile; one sentence.
    argument : str
        Given to ``begin``.
    icon : str
        Its own, in the place of the kind's.
    group : str
        The caption that it stands under, in the place of the kind's.
    """

    id: str
    name: str
    help: str
    argument: str = ""
    icon: str = ""
    group: str = ""


@dataclass(frozen=True)
class Kind:
    """A kind of layer.

    Attributes
    ----------
    shape : type
        Its shape.
    station : str
        Where its tiles are; nothing for one that begins from a file.
    icon : str
        Of its tiles.
    tiles : tuple of Tile
        Ways to begin it.
    begin : callable or None
        First values from the flow's quantities and a tile's argument, placed where the flow is interesting; if slow, on a job's thread.
    slow : bool or callable
        Whether first values are worked out from values of the flow, or from what of a flow is not there yet.
    lacks : callable
        What a flow does not have to begin it, in a few words; nothing if all is there.
    help : str
        What it is, for the page of kinds.
    group : str
        Caption over its tiles, shared by kinds that stand together.
    files : tuple of str
        Kinds of files that it begins from, as dialogs name them; its tiles ask for one.
    begun_by : str
        How one without tiles begins.
    """

    shape: type[Shape]
    help: str
    station: str = ""
    icon: str = ""
    tiles: tuple[Tile, ...] = ()
    begin: Callable[[QuantityStore, str], Begun] | None = None
    slow: bool | Callable[[Flow], bool] = False
    lacks: Callable[[Flow], str] = lambda _flow: ""
    group: str = ""
    files: tuple[str, ...] = ()
    begun_by: str = "opening its file, or a table"

    def takes_long(self, flow: Flow) -> bool:
        """Whether beginning one is a job beside the window."""
        return self.slow(flow) if callable(self.slow) else self.slow

    @property
    def name(self) -> str:
        """As in study files."""
        return str(self.shape.model_fields["kind"].default)
