"""From layers to geometry and colours: pure functions of the study, kept by what they rest on."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting import outlines
from tidal_lens.cutting.surface import OwnSurface
from tidal_lens.errors import CancelledError, LostLayerError, StudyError, TidalLensError
from tidal_lens.flow.annulus import Annulus, annulus_of, passages_of
from tidal_lens.flow.case import Flow
from tidal_lens.flow.periodic import Periodic, periodic_of
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.kept import Kept
from tidal_lens.quantities.at_places import everything_at
from tidal_lens.quantities.methods import Frame, Methods, unit_vector
from tidal_lens.quantities.names import OWN
from tidal_lens.quantities.store import Distribution, Quantity, QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.basis import Basis, colours_basis, dressing_basis, masked_basis, rebased, shape_basis, sifted_basis
from tidal_lens.study.dressings import Dressed, Dressing
from tidal_lens.study.geometry import Geometry, own_values, own_vectors
from tidal_lens.study.kinds.finds import sifted
from tidal_lens.study.kinds.kind import Made, See, Shape
from tidal_lens.study.model import KeySetting, Layer, Study
from tidal_lens.study.said import Sieve, Sifting, findings_table, listing
from tidal_lens.study.tables import Amount, Table
from tidal_lens.study.value import walk
from tidal_lens.study.words import Words
from tidal_lens.work import Token

_DECADES = 1e-4  # of the greatest value, where a logarithmic key begins if it must be above zero
_ALONE = Study()  # of a layer that is made from no other, and not masked
PLACES = ("place-x", "place-y", "place-z")


def reference_of(flow: Flow, study: Study) -> ReferenceState:
    """The reference state in force: the typed one, else the one that came with the flow."""
    typed = study.reference
    if typed is None:
        return flow.reference
    return ReferenceState(typed.pressure, typed.density, typed.velocity, typed.gamma, typed.origin, typed.gas_constant, typed.viscosity,
                          typed.prandtl, typed.area, typed.length, typed.about, typed.depth)


def methods_of(study: Study) -> Methods:
    """How derived quantities are worked out in a study, and its formulas."""
    frames = tuple(Frame(f.blocks, f.point, f.axis, f.rate) for f in study.choices.frames)
    chosen = {**study.choices.model_dump(), "frames": frames}
    return Methods(tuple((f.name, f.text) for f in study.formulas), **chosen, passages=study.passages, shown=study.passages_shown)


@dataclass(frozen=True, eq=False)
class Evaluated:
    """What one layer came to.

    Attributes
    ----------
    layer : Layer
        What was asked for.
    made : Made
        What is drawn of it: what masks left.
    colours : ndarray, shape (points,), or None
        Values of the colouring quantity.
    draft : bool
        Whether it was made quickly while something was dragged.
    dressed : tuple of Dressed
        What the dressings of its look came to, in their order.
    whole : Made or None
        What its shape came to, where masks hide some of it.
    trouble : str
        Why a dressing, or a value of its own, is not there, if one cannot be had: the rest is.
    sizes : ndarray, shape (points,), or None
        Values of the quantity that sizes its points.
    """

    layer: Layer
    made: Made
    colours: NDArray[np.float64] | None
    draft: bool = False
    dressed: tuple[Dressed, ...] = ()
    whole: Made | None = None
    trouble: str = ""
    sizes: NDArray[np.float64] | None = None

    @property
    def unmasked(self) -> Made:
        """What its shape came to."""
        return self.whole or self.made

    @property
    def geometry(self) -> Geometry:
        """Its surface or lines."""
        return self.made.geometry


@dataclass(frozen=True)
class Wish:
    """All that the answer for a layer rests on: equal wishes have equal answers."""

    shape: Basis
    sifted: Basis | None
    masked: tuple[Basis, ...]
    colours: Basis | None
    dressings: tuple[Basis, ...] = ()
    sizes: Basis | None = None


@dataclass(frozen=True, eq=False)
class _Sight:
    """What a shape sees: see :class:`tidal_lens.study.kinds.kind.See`."""

    store: QuantityStore
    token: Token
    subjects: Mapping[str, Basis | None]
    work: Callable[[Basis, QuantityStore, Token], Made]

    @property
    def flow(self) -> Flow:
        return self.store.flow

    @property
    def reference(self) -> ReferenceState:
        return self.store.reference

    @property
    def annulus(self) -> Annulus:
        methods = self.store.methods
        try:
            return annulus_of(self.flow, methods.axis_point, unit_vector(methods.axis))
        except ValueError as why:
            raise StudyError(f"There is no annulus between hub and casing: {why}.", "",
                             "Say in the Case station which boundaries are hub and casing.") from why

    @property
    def spin(self) -> float:
        return self.store.methods.spin

    @property
    def periodic(self) -> Periodic | None:
        methods = self.store.methods
        return periodic_of(self.flow, methods.axis_point, unit_vector(methods.axis), methods.passages)

    @property
    def shown(self) -> int:
        methods = self.store.methods
        if methods.shown < 2:
            return 1
        return min(methods.shown, methods.passages or passages_of(self.flow, methods.axis_point, unit_vector(methods.axis)))

    def values(self, name: str) -> NDArray[Any]:
        return self.store.values(name, self.token)

    def called(self, name: str) -> str:
        return self.store.describe(name).label

    def amount(self, name: str, value: float, *, change: bool = False) -> Amount:
        return Amount(value, self.store.describe(name).unit, name, change=change)

    def everything_at(self, stencil: Stencil, *, walls: bool = False) -> list[tuple[Quantity, NDArray[np.float64]]]:
        return everything_at(self.store, stencil, self.token, walls=walls)

    def at_step(self, step: int) -> See:
        store = self.store
        if step != self.flow.step:
            if store.moments is None:
                raise StudyError("Another step of its series is needed, but only this one is open.", str(self.flow.path),
                                 "Open all its steps together.")
            store = store.moments(step, store.reference, store.methods)
        return replace(self, store=store, subjects={n: None if b is None else rebased(b, store) for n, b in self.subjects.items()})

    def _below(self, layer_id: str) -> Basis:
        below = self.subjects.get(layer_id)
        if below is None:
            raise LostLayerError
        return below

    def shape(self, layer_id: str) -> Shape:
        shape = self._below(layer_id).of
        assert isinstance(shape, Shape)
        return shape

    def made(self, layer_id: str) -> Made:
        return self.work(self._below(layer_id), self.store, self.token)


@dataclass(frozen=True, eq=False)
class Answers:
    """What has been worked out for one case, of which number: of all its steps, states and methods."""

    case: int
    shapes: Kept[Basis, Made]
    colours: Kept[Basis, NDArray[np.float64]]
    dressings: Kept[Basis, Dressed]

    @staticmethod
    def none(case: int = 0) -> Answers:
        """Nothing yet."""
        return Answers(case, Kept("shapes", lambda made: made.nbytes), Kept("colours", lambda values: values.nbytes),
                       Kept("shapes", lambda dressed: dressed.nbytes))

    def forget(self, flow: int) -> None:
        """A flow is gone: nobody will ask for what rests on it."""
        self.shapes.forget(lambda basis: basis.flow == flow)
        self.colours.forget(lambda basis: basis.flow == flow)
        self.dressings.forget(lambda basis: basis.flow == flow)


class Evaluator:
    """Evaluates layers on one flow with one reference state.

    Parameters
    ----------
    flow : Flow
        The flow.
    reference : ReferenceState
        The free stream.
    methods : Methods, optional
        How quantities are worked out.
    answers : Answers, optional
        What was worked out before, for other steps of the case.
    """

    def __init__(self, flow: Flow, reference: ReferenceState, methods: Methods | None = None, answers: Answers | None = None) -> None:
        self.flow = flow
        self.store = QuantityStore(flow, reference, methods)
        self.answers = answers or Answers.none()
        self._outline: NDArray[np.float64] | None = None

    def with_context(self, reference: ReferenceState, methods: Methods) -> Evaluator:
        """The same flow with another free stream or other methods; what does not depend on them is taken along."""
        other = Evaluator(self.flow, reference, methods, self.answers)
        other.store = self.store.with_context(reference, methods)
        other._outline = self._outline
        return other

    def apart(self) -> Evaluator:
        """The same for who works beside this one: own values of cards that it notes are not those that this one tells."""
        return self.with_context(self.store.reference, self.store.methods)

    def lacking(self, layer: Layer, study: Study) -> str:
        """Why what a layer's shape names cannot be had; nothing where it can."""
        if any(study.layer(name) is None for name in walk(layer, "layer")):
            return str(LostLayerError())
        offered = {q.name: q for q in self.store.quantities()}
        for name in layer.shape.needs():
            if name not in offered:
                return f"There is no quantity {name!r} in this result. Choose another."
            if offered[name].missing:
                return f"{offered[name].title} needs {offered[name].missing}, which this result does not have. Choose another quantity."
        return ""

    def masks(self, study: Study, layer: Layer) -> tuple[Layer, ...]:
        """Masks in force on a layer: one whose quantity cannot be had hides nothing."""
        return tuple(mask for mask in study.masks() if mask.subject.is_of(layer.id)
                     and mask.is_of(self.answers.case) and not self.lacking(mask, study))

    def _shape_basis(self, layer: Layer, study: Study, *, draft: bool) -> Basis:
        def of(layer_id: str) -> Basis | None:
            other = study.layer(layer_id)
            return self._shape_basis(other, study, draft=draft) if other is not None else None

        return shape_basis(layer.shape.draft() if draft else layer.shape, self.store, of)

    def wish(self, layer: Layer, study: Study = _ALONE, *, draft: bool = False) -> Wish:
        """What the answer for a layer rests on, with the masks of its study that are in force."""
        shape = last = self._shape_basis(layer, study, draft=draft)
        sifted = None
        if layer.shape.finds:
            last = sifted = sifted_basis(last, sifting_of(layer, study))
        masked: list[Basis] = []
        for mask in self.masks(study, layer):
            last = masked_basis(last, mask.shape, self.store)
            masked.append(last)
        name, size = layer.look.colour_by, size_of(layer)
        return Wish(shape, sifted, tuple(masked), colours_basis(last, name, self.store) if name is not None else None,
                    tuple(dressing_basis(last, d, self.store) for d in layer.look.dressings()),
                    colours_basis(last, size, self.store) if size else None)

    def use(self, wish: Wish) -> None:
        """Its answer is on the table: it is not the one that was unused longest."""
        for basis in (wish.shape, wish.sifted, *wish.masked):
            if basis is not None:
                self.answers.shapes.ready(basis)
        for values in (wish.colours, wish.sizes):
            if values is not None:
                self.answers.colours.ready(values)
        for basis in wish.dressings:
            self.answers.dressings.ready(basis)

    def evaluate(self, layer: Layer, token: Token, study: Study = _ALONE, *, draft: bool = False) -> Evaluated:
        """Geometry and colours of a layer, as far as the masks of its study leave them.

        Raises
        ------
        TidalLensError
            It cannot be made from this flow.
        CancelledError
            The token was cancelled.
        """
        store = self.store
        # A draft is not made where the whole is at hand.
        wish = self.wish(layer, study)
        if draft and self.answers.shapes.ready(wish.shape) is None:
            wish = self.wish(layer, study, draft=True)
        made = whole = self._make(wish.shape, store, token)
        if wish.sifted is not None:
            made = self._sift(wish.sifted, made)
        own = made.geometry if whole.findings else whole.geometry
        for basis in wish.masked:
            made = self._mask(basis, made, token)
        token.check()
        store.note_own(layer.id, {**own_values(own), **own_vectors(own)})
        dressed, trouble = [], ""
        colours, sizes = (self._values(basis, made.geometry, token) for basis in (wish.colours, wish.sizes))
        for keyed in quantities_on_keys(layer):
            if keyed.startswith(OWN):
                if store.own_distribution(keyed, (layer.id,)) is None:
                    trouble = f"There is no {keyed[len(OWN):]} in {layer.shape.tell(Words(None))}. Choose another quantity."
                continue
            store.distribution(keyed, token)
        for basis, dressing in zip(wish.dressings, layer.look.dressings(), strict=True):
            try:
                dressed.append(self._dress(basis, dressing, made, token))
            except CancelledError:
                raise
            except TidalLensError as error:
                dressed.append(Dressed.none())
                trouble = str(error)
        rest = whole if wish.masked or wish.sifted else None
        return Evaluated(layer, made, colours, wish.shape.of is not layer.shape, tuple(dressed), rest, trouble, sizes)

    def sight(self, token: Token, layer: Layer | None = None, study: Study = _ALONE) -> See:
        """What a layer's shape sees of this flow; without one, a shape that is made from no other layer."""
        basis = self._shape_basis(layer, study, draft=False) if layer is not None else None
        below = zip(walk(layer.shape, "layer"), basis.subjects, strict=True) if layer is not None and basis is not None else ()
        return _Sight(self.store, token, dict(below), self._make)

    def _values(self, basis: Basis | None, geometry: Geometry, token: Token) -> NDArray[np.float64] | None:
        """Values of the quantity of a basis at the points of a geometry; None where the card should bring them along and does not."""
        if basis is None:
            return None
        ((name, _),) = basis.quantities
        if name.startswith(OWN):
            own = own_values(geometry).get(name[len(OWN):])
            return None if own is None else self.answers.colours.obtain(basis, lambda: np.asarray(own, np.float64))
        return self.answers.colours.obtain(basis, lambda: geometry.stencil.apply(self.store.values(name, token)))

    def _make(self, basis: Basis, store: QuantityStore, token: Token) -> Made:
        """What a shape comes to, those that it is made from before it: in this thread and through the same gates."""
        shape = basis.of
        assert isinstance(shape, Shape)
        subjects = dict(zip(walk(shape, "layer"), basis.subjects, strict=True))
        return self.answers.shapes.obtain(basis, lambda: shape.make(_Sight(store, token, subjects, self._make)))

    def _sift(self, basis: Basis, made: Made) -> Made:
        sifting = basis.how
        assert isinstance(sifting, Sifting)
        return self.answers.shapes.obtain(basis, lambda: sifted(made, sifting))

    def _mask(self, basis: Basis, made: Made, token: Token) -> Made:
        token.check()
        mask = basis.how
        assert isinstance(mask, Shape)

        def at(geometry: Geometry, name: str) -> NDArray[np.float64]:
            if isinstance(geometry, OwnSurface) and name in PLACES:  # such as pictures and means: their values are no interpolations
                return geometry.points[:, PLACES.index(name)]
            return geometry.stencil.apply(self.store.values(name, token))

        return self.answers.shapes.obtain(basis, lambda: mask.hide(made, at))

    def _dress(self, basis: Basis, dressing: Dressing, made: Made, token: Token) -> Dressed:
        token.check()
        return self.answers.dressings.obtain(basis, lambda: dressing.make(self.flow, made.geometry,
                                                                          lambda name: self.store.values(name, token)))

    @property
    def known_outline(self) -> NDArray[np.float64] | None:
        """The outline if it has been worked out."""
        return self._outline

    def outline(self) -> NDArray[np.float64]:
        """Sharp edges of the flow's outside, shape (n, 2, 3)."""
        if self._outline is None:
            self._outline = outlines.outline(self.flow)
        return self._outline


def sifting_of(layer: Layer, study: Study) -> Sifting:
    """What decides which findings of a layer are shown."""
    look = layer.look
    return Sifting(sieve=(look.sieve if look.on in ("surface", "lines") else None) or Sieve(), said=study.said)


def tables_of(result: Evaluated, study: Study, names: Sequence[str] = ()) -> tuple[Table, ...]:
    """What a layer tells in rows and columns; of findings those that are shown, by their names if given."""
    if not result.layer.shape.finds:
        return result.unmasked.tables
    layer = study.layer(result.layer.id) or result.layer
    return (findings_table(listing(result.unmasked.findings, sifting_of(layer, study), names), layer.name),)


def size_of(layer: Layer) -> str:
    """The quantity that sizes a layer's points; nothing where none does."""
    look = layer.look
    return look.size_by if look.on == "points" and look.sized != "even" else ""


def quantities_on_keys(layer: Layer) -> tuple[str, ...]:
    """Quantities that have a key because of a layer: what colours it, and those whose values it takes."""
    own = [layer.look.colour_by, *(d.coloured_by() for d in layer.look.dressings())]
    return tuple(dict.fromkeys([*filter(None, own), *(name for name, _ in layer.shape.levels())]))


@lru_cache(maxsize=1024)
def _rounded_out(low: float, high: float) -> tuple[float, float]:
    """The range widened to numbers that read well: steps of a hundredth to a thousandth of it."""
    if not high > low:
        return low, high
    step = 10.0 ** (np.floor(np.log10(high - low)) - 2)
    return float(f"{np.floor(low / step) * step:.12g}"), float(f"{np.ceil(high / step) * step:.12g}")


def key_range(scale: str, distribution: Distribution, setting: KeySetting) -> tuple[float, float]:
    """Range of a colour key.

    Parameters
    ----------
    scale : str
        ``signed`` ranges are symmetric about zero where nothing else was set, ``angle`` is once round; others span the usual values.
    distribution : Distribution
        Of the quantity.
    setting : KeySetting
        What the user set.
    """
    low, high = _rounded_out(*((distribution.low, distribution.high) if scale == "mach" else distribution.usual))
    if scale == "angle":
        low, high = -np.pi, np.pi
    low, high = (low if setting.low is None else setting.low), (high if setting.high is None else setting.high)
    if setting.log and scale == "even" and high > 0.0:
        return (low if 0.0 < low < high else _DECADES * high), high
    untouched = setting.low is None and setting.high is None
    if setting.symmetric or (scale == "signed" and untouched):
        reach = max(abs(low), abs(high))
        low, high = -reach, reach
    if not high > low:
        middle = 0.5 * (low + high)
        room = max(abs(middle) * 1e-3, 1e-12)
        low, high = middle - room, middle + room
    return low, high
