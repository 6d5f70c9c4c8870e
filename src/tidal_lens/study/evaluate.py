"""From layers to geometry and colours: pure functions of the study, cached by what they depend on."""

from __future__ import annotations

import threading
import weakref
from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.bodies import beads, body_surface
from tidal_lens.cutting.contour import axis_slice, isosurface
from tidal_lens.cutting.surface import Surface
from tidal_lens.cutting.walls import boundary_surface, outline
from tidal_lens.flow.case import Flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.memory import KEEPER, new_group, popping
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.store import Distribution, QuantityStore
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.model import (
    AnyLayer,
    BodyLayer,
    IsoLayer,
    IsoShape,
    KeySetting,
    PointsLayer,
    SliceLayer,
    StreamLayer,
    Study,
    WallLayer,
)
from tidal_lens.tracing.streamlines import Lines, TraceSettings, seeds_on_line, trace_lines
from tidal_lens.work import Token

Geometry = Surface | Lines
_Key = tuple[str, object, bool]
_KEPT = 64


def reference_of(flow: Flow, study: Study) -> ReferenceState:
    """The reference state in force: the typed one, else the one that came with the flow."""
    typed = study.reference
    if typed is None:
        return flow.reference
    return ReferenceState(typed.pressure, typed.density, typed.velocity, typed.gamma, typed.origin, typed.gas_constant, typed.viscosity,
                          typed.prandtl)


def methods_of(study: Study) -> Methods:
    """How derived quantities are worked out in a study, and its formulas."""
    return Methods(tuple((f.name, f.text) for f in study.formulas), **study.choices.model_dump())


@dataclass(frozen=True, eq=False)
class Evaluated:
    """What one layer came to.

    Attributes
    ----------
    layer : layer
        What was asked for.
    geometry : Surface or Lines
        Its shape.
    colours : ndarray, shape (points,), or None
        Values of the colouring quantity.
    draft : bool
        Whether it was made quickly while something was dragged.
    """

    layer: AnyLayer
    geometry: Geometry
    colours: NDArray[np.float64] | None
    draft: bool = False


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
    """

    def __init__(self, flow: Flow, reference: ReferenceState, methods: Methods | None = None) -> None:
        self.flow = flow
        self.store = QuantityStore(flow, reference, methods)
        self._shapes: OrderedDict[_Key, Geometry] = OrderedDict()
        self._group = new_group()
        weakref.finalize(self, KEEPER.forget_group, self._group)
        self._outline: NDArray[np.float64] | None = None
        self._lock = threading.Lock()

    def with_context(self, reference: ReferenceState, methods: Methods) -> Evaluator:
        """The same flow with another free stream or other methods; what does not depend on them is taken along."""
        other = Evaluator(self.flow, reference, methods)
        other.store = self.store.with_context(reference, methods)
        other._outline = self._outline
        with self._lock:
            kept = [(key, made) for key, made in self._shapes.items()
                    if not isinstance(key[1], IsoShape) or self.store.signature(key[1].quantity) == other.store.signature(key[1].quantity)]
        for key, made in kept:
            other._keep(key, made)
        return other

    def evaluate(self, layer: AnyLayer, token: Token, *, draft: bool = False) -> Evaluated:
        """Geometry and colours of a layer.

        Raises
        ------
        TidalLensError
            It cannot be made from this flow.
        CancelledError
            The token was cancelled.
        """
        geometry = self._geometry(layer, token, draft)
        token.check()
        if isinstance(geometry, Lines):
            _ = geometry.census, geometry.lengths  # worked out here, where nobody waits
        colours = None
        if layer.look.colour_by is not None:
            colours = geometry.stencil.apply(self.store.values(layer.look.colour_by, token))
            self.store.distribution(layer.look.colour_by, token)
        if isinstance(layer, IsoLayer):
            self.store.distribution(layer.shape.quantity, token)
        return Evaluated(layer, geometry, colours, draft)

    @property
    def known_outline(self) -> NDArray[np.float64] | None:
        """The outline if it has been worked out."""
        return self._outline

    def outline(self) -> NDArray[np.float64]:
        """Sharp edges of the flow's outside, shape (n, 2, 3)."""
        if self._outline is None:
            self._outline = outline(self.flow)
        return self._outline

    def _geometry(self, layer: AnyLayer, token: Token, draft: bool) -> Geometry:
        drafted = draft and isinstance(layer, StreamLayer)
        key = (layer.kind, layer.shape, drafted)
        with self._lock:
            for wanted in (key, (layer.kind, layer.shape, False)):
                ready = self._shapes.get(wanted)
                if ready is not None:
                    self._shapes.move_to_end(wanted)
                    KEEPER.use((self._group, wanted))
                    return ready
        made = self._make(layer, token, drafted)
        self._keep(key, made)
        return made

    def _keep(self, key: _Key, made: Geometry) -> None:
        with self._lock:
            self._shapes[key] = made
            old = [self._shapes.popitem(last=False)[0] for _ in range(len(self._shapes) - _KEPT)]
        for gone in old:
            KEEPER.forget((self._group, gone))
        KEEPER.note((self._group, key), _size_of(made), popping(self._shapes, key, self._lock), "shapes")

    def _make(self, layer: AnyLayer, token: Token, draft: bool) -> Geometry:
        if isinstance(layer, WallLayer):
            return boundary_surface(self.flow, layer.shape.boundaries, token)
        if isinstance(layer, SliceLayer):
            return axis_slice(self.flow, layer.shape.axis, layer.shape.position, token)
        if isinstance(layer, IsoLayer):
            return isosurface(self.flow, self.store.values(layer.shape.quantity, token), layer.shape.value, token)
        if isinstance(layer, BodyLayer):
            return body_surface(self.flow, Path(layer.shape.path), token)
        if isinstance(layer, PointsLayer):
            return beads(self.flow, np.array(layer.shape.points), layer.shape.size * self.flow.size, token)
        shape = layer.shape
        settings = TraceSettings(shape.direction, shape.max_length, 1e-2 if draft else shape.tolerance,
                                 max_cells=5.0 if draft else 3.5)
        seeds = np.array(shape.listed) if shape.listed else seeds_on_line(shape.start, shape.end, shape.count)
        return trace_lines(self.flow, mesh_of(self.flow, token), self.store.values("velocity", token), seeds, settings, token)


def _size_of(made: Geometry) -> int:
    """Bytes of a geometry."""
    arrays = [made.points, made.offsets, made.time] if isinstance(made, Lines) else [made.points, made.faces]
    # Of lines the interpolation is made when it is asked for: eight nodes and weights a point.
    stencil = 128 * len(made.points) if isinstance(made, Lines) else made.stencil.ids.nbytes + made.stencil.weights.nbytes
    return sum(a.nbytes for a in arrays) + stencil


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
    untouched = setting.low is None and setting.high is None
    if setting.symmetric or (scale == "signed" and untouched):
        reach = max(abs(low), abs(high))
        low, high = -reach, reach
    if not high > low:
        middle = 0.5 * (low + high)
        room = max(abs(middle) * 1e-3, 1e-12)
        low, high = middle - room, middle + room
    return low, high
