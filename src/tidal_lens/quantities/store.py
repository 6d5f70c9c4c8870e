"""All quantities of one flow at its nodes, computed when first needed and kept within a memory budget."""

from __future__ import annotations

import difflib
import threading
from collections import OrderedDict
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import SCALAR_ROLES
from tidal_lens.quantities.catalogue import BY_NAME, CATALOGUE, HIDDEN, Scale
from tidal_lens.quantities.gradients import flow_gradient, flow_turning
from tidal_lens.quantities.nodes import node_values
from tidal_lens.work import Token

FILE = "file:"
_AXES = ("x", "y", "z")
TURNING = ("velocity-gradient", "vorticity", "q")


@dataclass(frozen=True)
class Quantity:
    """What can be shown: a catalogue entry or an array of the file.

    Attributes
    ----------
    name, title, symbol, unit, group, about, scale
        As in :class:`tidal_lens.quantities.catalogue.Definition`.
    components : int
        1 or 3; only those with 1 can colour things.
    place : str
        ``node`` or ``cell``: where the values that it rests on stand in the file.
    missing : str
        Empty, or what is missing to have it.
    """

    name: str
    title: str
    symbol: str
    unit: str
    group: str
    about: str
    scale: Scale
    components: int = 1
    place: str = "node"
    missing: str = ""

    @property
    def label(self) -> str:
        """Title with unit."""
        return f"{self.title} [{self.unit}]" if self.unit else self.title


@dataclass(frozen=True, eq=False)
class Distribution:
    """How the values of a quantity are spread over the nodes.

    Attributes
    ----------
    low, high : float
        Least and greatest finite value.
    usual : tuple of float
        Range without the outermost half per cent on either side.
    counts : ndarray
        Nodes in even bins between the ends of ``usual`` widened by a fifth, limited to low and high.
    span : tuple of float
        Ends of the bins.
    not_finite : int
        Number of values that are not finite.
    """

    low: float
    high: float
    usual: tuple[float, float]
    counts: NDArray[np.int64]
    span: tuple[float, float]
    not_finite: int


def distribution_of(values: NDArray[Any], bins: int = 72) -> Distribution:
    """Distribution of values of shape (n,)."""
    finite = values[np.isfinite(values)]
    if len(finite) == 0:
        return Distribution(0.0, 0.0, (0.0, 0.0), np.zeros(bins, np.int64), (0.0, 0.0), len(values))
    low, high = float(finite.min()), float(finite.max())
    sample = finite[:: max(1, len(finite) // 400_000)]
    a, b = (float(v) for v in np.quantile(sample, [0.005, 0.995]))
    if not b > a:
        a, b = low, high
    room = 0.2 * (b - a)
    span = (max(low, a - room), min(high, b + room))
    if span[1] - span[0] <= 1e-9 * max(abs(low), abs(high), 1e-300):  # all but constant: one bin holds it all
        middle = 0.5 * (low + high)
        reach = max(abs(middle), 1e-12)
        counts, _ = np.histogram(sample, bins=bins, range=(middle - reach, middle + reach))
    else:
        counts, _ = np.histogram(sample, bins=bins, range=span)
    return Distribution(low, high, (a, b), counts.astype(np.int64), span, len(values) - len(finite))


def depends_on_reference(name: str) -> bool:
    """Whether a quantity changes with the free stream or with γ."""
    return name in ("mach", "cp")


class QuantityStore:
    """Node values of any quantity of a flow.

    Parameters
    ----------
    flow : Flow
        The flow.
    reference : ReferenceState
        The free stream that coefficients refer to.
    budget : int
        Bytes of derived values to keep; the longest unused are dropped first.
    """

    def __init__(self, flow: Flow, reference: ReferenceState, budget: int = 2_000_000_000) -> None:
        self.flow = flow
        self.reference = reference
        self._budget = budget
        self._offered: tuple[Quantity, ...] | None = None
        self._kept: OrderedDict[str, NDArray[Any]] = OrderedDict()
        self._spread: dict[str, Distribution] = {}
        self._locks: dict[str, threading.Lock] = {}
        self._lock = threading.Lock()
        self._turning_gate = threading.Lock()

    def with_reference(self, reference: ReferenceState) -> QuantityStore:
        """A store with another free stream; values that do not depend on it are taken along."""
        other = QuantityStore(self.flow, reference, self._budget)
        with self._lock:
            other._kept = OrderedDict((n, v) for n, v in self._kept.items() if not depends_on_reference(n))
            other._spread = {n: d for n, d in self._spread.items() if not depends_on_reference(n)}
        return other

    def kept(self, name: str) -> NDArray[Any] | None:
        """Values of a quantity if they are at hand, without computing anything."""
        with self._lock:
            return self._kept.get(name)

    def quantities(self) -> tuple[Quantity, ...]:
        """Everything on offer: the catalogue, then the file's own arrays."""
        if self._offered is None:
            self._offered = self._list()
        return self._offered

    def _list(self) -> tuple[Quantity, ...]:
        offered = [Quantity(d.name, d.title, d.symbol, d.unit if self.flow.si_units else "", d.group, d.about, d.scale,
                            d.components, self._place(d.needs), self._missing(d.needs))
                   for d in CATALOGUE if d.group != HIDDEN]
        for f in self.flow.fields.values():
            offered.append(Quantity(f"{FILE}{f.name}", f.name, f.name, "", "In the file", f"array of the file, one value a {f.place}",
                                    "even", f.components, f.place))
            if f.components == 3:
                offered.extend(Quantity(f"{FILE}{f.name}.{axis}", f"{f.name} {axis}", f"{f.name} {axis}", "", "In the file",
                                        f"{axis} component of {f.name}", "signed", 1, f.place) for axis in _AXES)
        return tuple(offered)

    def describe(self, name: str) -> Quantity:
        """What is known of a quantity.

        Raises
        ------
        MissingQuantityError
            There is none of that name.
        """
        for quantity in self.quantities():
            if quantity.name == name:
                return quantity
        close = difflib.get_close_matches(name, [q.name for q in self.quantities()], 1)
        raise MissingQuantityError(f"There is no quantity {name!r} in this result.", self.flow.title,
                                   f"Did you mean {close[0]!r}?" if close else "")

    def values(self, name: str, token: Token | None = None) -> NDArray[Any]:
        """Node values of a quantity, shape (n,), (n, 3) or (n, 3, 3).

        Raises
        ------
        MissingQuantityError
            It cannot be had from this result.
        CancelledError
            The token was cancelled.
        """
        with self._lock:
            if name in self._kept:
                self._kept.move_to_end(name)
                return self._kept[name]
            gate = self._locks.setdefault(name, threading.Lock())
        with gate:
            with self._lock:
                if name in self._kept:
                    return self._kept[name]
            values = self._compute(name, token)
            self._keep(name, values)
            return values

    def _keep(self, name: str, values: NDArray[Any]) -> None:
        values.flags.writeable = False
        with self._lock:
            self._kept[name] = values
            self._trim(name)

    def _turning(self, name: str, token: Token | None) -> NDArray[Any]:
        """Work out the three that rest on the velocity gradient at once; a second thread waits for the first."""
        with self._turning_gate:
            with self._lock:
                if name in self._kept:
                    return self._kept[name]
            answers = dict(zip(TURNING, flow_turning(self.flow, self.values("velocity", token), token), strict=True))
            for other in TURNING:
                self._keep(other, answers[other])
            return answers[name]

    def distribution(self, name: str, token: Token | None = None) -> Distribution:
        """Distribution of a scalar quantity over the nodes."""
        ready = self._spread.get(name)
        if ready is None:
            ready = self._spread[name] = distribution_of(self.values(name, token))
        return ready

    def known_distribution(self, name: str) -> Distribution | None:
        """The distribution if it has been worked out already."""
        return self._spread.get(name)

    @property
    def nbytes(self) -> int:
        """Bytes of kept values."""
        with self._lock:
            return sum(v.nbytes for v in self._kept.values())

    def _trim(self, newest: str) -> None:
        while sum(v.nbytes for v in self._kept.values()) > self._budget and len(self._kept) > 1:
            oldest = next(iter(self._kept))
            if oldest == newest:
                break
            del self._kept[oldest]

    def _compute(self, name: str, token: Token | None) -> NDArray[Any]:
        if name == "velocity":
            return self._velocity(token)
        if name == "pressure" and self.flow.roles.pressure is None and self.flow.roles.has_pressure:
            return self._pressure_from_energy(token)
        if name in SCALAR_ROLES:
            return self.values(f"{FILE}{getattr(self.flow.roles, name)}", token)
        if name.startswith(FILE):
            return self._from_file(name[len(FILE):])
        if name not in BY_NAME:
            self.describe(name)
        definition = BY_NAME[name]
        missing = self._missing(definition.needs)
        if missing:
            raise MissingQuantityError(f"{definition.title or name} needs {missing}, which this result does not have.", self.flow.title,
                                       "Choose another quantity.")
        if token is not None:
            token.check()
        values = definition.compute(_Tokened(self, token))
        return np.ascontiguousarray(values)

    def _from_file(self, label: str) -> NDArray[Any]:
        field, axis = self.flow.fields.get(label), -1
        if field is None and label[-2:] in (".x", ".y", ".z"):
            field, axis = self.flow.fields.get(label[:-2]), _AXES.index(label[-1])
        if field is None or (axis >= 0 and field.components != 3):
            raise MissingQuantityError(f"There is no array {label!r} in the file.", self.flow.title, "Choose another quantity.")
        values = node_values(self.flow, field)
        return np.ascontiguousarray(values[:, axis]) if axis >= 0 else values.view()

    def _velocity(self, token: Token | None) -> NDArray[Any]:
        roles = self.flow.roles
        if not roles.has_velocity:
            raise MissingQuantityError("No velocity was recognised in this result.", self.flow.title,
                                       "Say which arrays it is in the Case station, under Roles.")
        names = roles.velocity or roles.momentum
        parts = [self.values(f"{FILE}{n}", token) for n in names]
        joined = parts[0] if len(parts) == 1 else np.column_stack(parts)
        if roles.velocity:
            return joined.view()
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(joined / self.values("density", token)[:, None])

    def _pressure_from_energy(self, token: Token | None) -> NDArray[Any]:
        """(γ − 1)(ρE − ½ρu²), the perfect gas law for the total energy of a volume."""
        density, velocity = self.values("density", token), self.values("velocity", token)
        energy = self.values(f"{FILE}{self.flow.roles.energy}", token)
        return np.asarray((self.reference.gamma - 1.0) * (energy - 0.5 * density * (velocity * velocity).sum(axis=1)))

    def _missing(self, needs: tuple[str, ...]) -> str:
        roles, ref = self.flow.roles, self.reference
        have = {"velocity": roles.has_velocity, "pressure": roles.has_pressure, "density": roles.density is not None,
                "free stream": ref.pressure is not None and ref.density is not None and ref.speed > 0}
        return ", ".join(n for n in needs if not have[n])

    def _place(self, needs: tuple[str, ...]) -> str:
        roles = self.flow.roles
        names = [*(roles.velocity or roles.momentum)] if "velocity" in needs else []
        names += [n for n in (getattr(roles, need, None) for need in needs if need in ("pressure", "density")) if n]
        return "cell" if any(self.flow.fields[n].place == "cell" for n in names) else "node"


class _Tokened:
    """A store seen with the token of one piece of work."""

    def __init__(self, store: QuantityStore, token: Token | None) -> None:
        self._store = store
        self._token = token

    @property
    def reference(self) -> ReferenceState:
        return self._store.reference

    def get(self, name: str) -> NDArray[Any]:
        if self._token is not None:
            self._token.check()
        return self._store.values(name, self._token)

    def turning(self, name: str) -> NDArray[Any]:
        return self._store._turning(name, self._token)

    def gradient(self, values: NDArray[Any]) -> NDArray[Any]:
        return flow_gradient(self._store.flow, values, self._token)
