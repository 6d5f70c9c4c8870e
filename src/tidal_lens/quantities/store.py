"""All quantities of one flow at its nodes, computed when first needed and kept within a memory budget."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.kept import Kept
from tidal_lens.quantities.book import plain
from tidal_lens.quantities.catalogue import BY_NAME
from tidal_lens.quantities.compute import COMPUTED
from tidal_lens.quantities.formula.evaluate import evaluate
from tidal_lens.quantities.formula.tree import Formula, FormulaError
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.moment import Moment, sample_ranges
from tidal_lens.quantities.names import (
    CONST,
    FILE,
    FORMULA,
    ROLES,
)
from tidal_lens.quantities.nodes import node_values
from tidal_lens.quantities.offer import AXES, Offer, Quantity
from tidal_lens.quantities.smoothing import node_volumes
from tidal_lens.quantities.spread import Distribution, distribution_of
from tidal_lens.quantities.stored import Elsewhere
from tidal_lens.quantities.walls import node_areas
from tidal_lens.work import Token

Values = NDArray[Any]
Moments = Callable[[int, ReferenceState, Methods], "QuantityStore"]
LARGE = 400_000  # nodes from which on a first look is worth it


class QuantityStore(Offer):
    """Node values of any quantity of a flow.

    Parameters
    ----------
    flow : Flow
        The flow.
    reference : ReferenceState
        The free stream that coefficients refer to.
    methods : Methods, optional
        Choices, and the user's formulas.
    moments : callable, optional
        The store of another step of the series.

    Notes
    -----
    Values count into the one limit of :mod:`tidal_lens.memory`: the longest unused are given up first.
    """

    def __init__(self, flow: Flow, reference: ReferenceState, methods: Methods | None = None, *, moments: Moments | None = None) -> None:
        self._moments = moments
        # A view of the file's own values takes nothing more.
        self._kept: Kept[str, Values] = Kept("quantities", lambda values: 0 if values.base is not None else values.nbytes)
        super().__init__(flow, reference, methods or Methods())

    def with_context(self, reference: ReferenceState, methods: Methods) -> QuantityStore:
        """A store with another free stream or other choices; values that do not depend on them are taken along."""
        other = QuantityStore(self.flow, reference, methods, moments=self.moments)
        other.others = self.others
        other._spread = {n: d for n, d in list(self._spread.items()) if self.signature(n) == other.signature(n)}
        other._own = dict(self._own)
        for name, values in self._kept.items():
            if self.signature(name) == other.signature(name):
                other._kept.put(name, values)
        return other

    @property
    def has_moments(self) -> bool:
        """Whether other steps of the series can be had."""
        return self._moments is not None

    @property
    def moments(self) -> Moments | None:
        """Gives the store of another step of the series, where there is one."""
        return self._moments

    @moments.setter
    def moments(self, moments: Moments | None) -> None:
        self._moments = moments
        self._offered = None
        self._lacks.clear()

    @property
    def others(self) -> tuple[Elsewhere | None, ...]:
        """Cases beside this one, the second first; None for one that is not there."""
        return self._others

    @others.setter
    def others(self, others: tuple[Elsewhere | None, ...]) -> None:
        if others != self._others:
            self._others = others
            self._offered = None
            self._lacks, self._signatures, self._coarse = {}, {}, {}

    # -- values --------------------------------------------------------------------------------------------------

    def kept(self, name: str) -> Values | None:
        """Values of a quantity if they are at hand, without computing anything."""
        return self._kept.ready(self._kept_as(name))

    def values(self, name: str, token: Token | None = None) -> Values:
        """Node values of a quantity, shape (n,), (n, 3) or (n, 3, 3).

        Raises
        ------
        MissingQuantityError
            It cannot be had from this result.
        FormulaError
            It is a formula that is not understood.
        CancelledError
            The token was cancelled.
        """
        # What is worked out together waits at one gate.
        kept = self._kept_as(name)
        return self._kept.obtain(kept, lambda: self._fixed(self._compute(name, token)), _together(kept))

    @staticmethod
    def _fixed(values: Values) -> Values:
        values.flags.writeable = False
        return values

    def keep(self, name: str, values: Values) -> None:
        """Keep values that came along."""
        self._kept.put(name, self._fixed(values))

    @property
    def nbytes(self) -> int:
        """Bytes of kept values."""
        return sum(v.nbytes for _, v in self._kept.items())

    def evaluate(self, formula: Formula, token: Token | None = None, *, sample: bool = False) -> Values:
        """Values of a formula that need not be one of the study's.

        With ``sample`` only some thousand nodes are looked at: the answer holds those, and no others.
        """
        lacking = self._lacking(formula.root)
        if lacking:
            raise MissingQuantityError(f"It needs {', '.join(dict.fromkeys(lacking))}, which this result does not have.", self.flow.title)
        if not sample:
            return evaluate(formula.root, Moment(self, token), token)
        ranges = sample_ranges(self.flow)
        values = evaluate(formula.root, Moment(self, token, ranges), token)
        return np.concatenate([values[a:b] for a, b in ranges])

    def distribution(self, name: str, token: Token | None = None) -> Distribution:
        """Distribution of a scalar quantity over the volume; over the walls' area for one that is known there only."""
        kept = self._kept_as(name)
        ready = self._spread.get(kept)
        if ready is None:
            values = self.values(name, token)
            if self.describe(name).place == "wall":
                on = np.isfinite(values)
                ready = distribution_of(values[on], weights=node_areas(self.flow)[on])
            else:
                ready = distribution_of(values, weights=node_volumes(self.flow, token))
            self._spread[kept] = ready
        return ready

    def preview(self, name: str, token: Token | None = None) -> Distribution | None:
        """A first look at the distribution, of a sample of the nodes; None where it takes as long as the whole."""
        tree = self.tree(plain(name))
        quantity = self._all().get(name)
        small = self.flow.n_points < LARGE or self._kept.ready(name) is not None
        if small or quantity is None or quantity.missing or quantity.components != 1:
            return None
        source = Moment(self, token, sample_ranges(self.flow))
        if tree is not None and name == plain(name):
            values = evaluate(tree, source, token)
        elif name in COMPUTED and BY_NAME[name].needs == ("velocity",):
            values = COMPUTED[name](source)
        else:
            return None
        found = self._coarse[name] = distribution_of(np.concatenate([values[a:b] for a, b in source.ranges]), coarse=True)
        return found

    def _compute(self, name: str, token: Token | None) -> Values:
        if token is not None:
            token.check()
        if name.startswith(FILE):
            return self._from_file(name[len(FILE):])
        if name != plain(name):
            return np.ascontiguousarray(self.values(plain(name), token)[:, AXES.index(name[-1])])
        found = self.formulas.get(name[len(FORMULA):]) if name.startswith(FORMULA) else None
        if isinstance(found, FormulaError):
            raise found
        self._demand(name)
        tree = self.tree(name)
        if tree is not None:
            for other in self.below(name):  # what it rests on first: chains of formulas may be long
                self.values(other, token)
            return evaluate(tree, Moment(self, token), token)
        if name == "velocity":
            return self._velocity(token)
        if name in ROLES:
            return self.values(f"{FILE}{getattr(self.flow.roles, name)}", token).view()
        return np.ascontiguousarray(COMPUTED[name](Moment(self, token)))

    def _demand(self, name: str) -> None:
        """Complain if a quantity is not there, or cannot be had."""
        if name not in BY_NAME and name not in ROLES:
            self.describe(name)
        missing = self.missing(name)
        if missing:
            title = BY_NAME[name].title if name in BY_NAME else name[len(FORMULA):] if name.startswith(FORMULA) else name.capitalize()
            raise MissingQuantityError(f"{title or name} needs {missing}, which this result does not have.", self.flow.title,
                                       "Choose another quantity, or say in the Case station what it is.")

    def _from_file(self, label: str) -> Values:
        field, axis = self.flow.fields.get(label), -1
        if field is None and label[-2:] in (".x", ".y", ".z"):
            field, axis = self.flow.fields.get(label[:-2]), AXES.index(label[-1])
        if field is None or (axis >= 0 and field.components != 3):
            raise MissingQuantityError(f"There is no array {label!r} in the file.", self.flow.title, "Choose another quantity.")
        values = node_values(self.flow, field, self.methods.averaging)
        return np.ascontiguousarray(values[:, axis]) if axis >= 0 else values.view()

    def _velocity(self, token: Token | None) -> Values:
        roles = self.flow.roles
        names = roles.velocity or roles.momentum
        parts = [self.values(f"{FILE}{n}", token) for n in names]
        joined = parts[0] if len(parts) == 1 else np.column_stack(parts)
        if roles.velocity:
            return joined.view()
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(joined / self.values("density", token)[:, None])


def _together(name: str) -> str:
    return "turning" if name in ("vorticity", "q") else name


__all__ = ["CONST", "FILE", "FORMULA", "LARGE", "Distribution", "Quantity", "QuantityStore", "distribution_of"]
