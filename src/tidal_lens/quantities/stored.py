"""What a moment of a flow asks of the store that keeps its values."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.formula.tree import Node
from tidal_lens.quantities.methods import Methods
from tidal_lens.work import Token

Values = NDArray[Any]


class Elsewhere(Protocol):
    """A case beside this one."""

    @property
    def store(self) -> Stored:
        """Its values."""

    def bring(self, values: Values, token: Token | None) -> Values:
        """Its node values at the nodes of this one."""


class Stored(Protocol):
    """Values of the quantities of one step, on the threads of jobs: see :class:`tidal_lens.quantities.store.QuantityStore`."""

    @property
    def flow(self) -> Flow:
        """The flow."""

    @property
    def reference(self) -> ReferenceState:
        """The free stream that coefficients refer to."""

    @property
    def methods(self) -> Methods:
        """Choices, and the user's formulas."""

    @property
    def moments(self) -> Callable[[int, ReferenceState, Methods], Stored] | None:
        """Gives the store of another step of the series, where there is one."""

    @property
    def others(self) -> tuple[Elsewhere | None, ...]:
        """Cases beside this one, the second first; None for one that is not there."""

    def kept(self, name: str) -> Values | None:
        """Values of a quantity if they are at hand."""

    def values(self, name: str, token: Token | None = None) -> Values:
        """Node values of a quantity."""

    def keep(self, name: str, values: Values) -> None:
        """Keep values that came along."""

    def below(self, name: str) -> list[str]:
        """What a formula rests on, that which rests on nothing first."""

    def tree(self, key: str) -> Node | None:
        """The formula that a quantity is."""

    def signature(self, key: str) -> frozenset[tuple[object, ...]]:
        """Changes when the values of a quantity do, for another reason than another flow."""

    def lack(self, key: str) -> tuple[str, ...]:
        """What is missing to have a quantity."""

    def cell_field(self, key: str) -> NDArray[Any] | None:
        """Its values at cells, where it is to be differentiated on those."""
