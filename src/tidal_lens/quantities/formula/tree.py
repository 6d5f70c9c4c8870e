"""What a checked formula is made of."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from tidal_lens.errors import TidalLensError
from tidal_lens.quantities.units import Unit

Shape = Literal["scalar", "vector", "tensor", "condition"]


class FormulaError(TidalLensError):
    """A formula that cannot be understood or computed.

    Attributes
    ----------
    begin, end : int
        Where in the text it is wrong.
    suggestion : str
        What may have been meant, to be written there instead; or nothing.
    """

    def __init__(self, what: str, begin: int, end: int, advice: str = "", suggestion: str = "") -> None:
        super().__init__(what, f"column {begin + 1}", advice)
        self.begin, self.end, self.suggestion = begin, max(end, begin + 1), suggestion


@dataclass(frozen=True)
class Leaf:
    """What a name stands for: a quantity of the store by its ``key``, a coordinate, or a fixed ``value``.

    ``value`` has 1 or 3 numbers; a place has neither key nor value but an ``axis``.
    """

    shape: Shape
    unit: Unit | None
    key: str = ""
    value: tuple[float, ...] = ()
    axis: int = -1


@dataclass(frozen=True)
class Node:
    """A part of a formula.

    Attributes
    ----------
    what : str
        ``leaf``, ``number``, an operator or the name of a function.
    shape : str
        ``scalar``, ``vector``, ``tensor`` or ``condition``.
    unit : Unit or None
        None where it is not known.
    parts : tuple of Node
        What it is computed from.
    leaf : Leaf or None
        Of a name.
    value : float
        Of a number.
    plain : bool
        Whether it is a bare number, which takes any unit that is added to it.
    """

    what: str
    shape: Shape
    unit: Unit | None
    parts: tuple[Node, ...] = ()
    leaf: Leaf | None = None
    value: float = 0.0
    plain: bool = False

    def walk(self) -> Iterator[Node]:
        """The node and all below it."""
        yield self
        for part in self.parts:
            yield from part.walk()

    @property
    def fixed(self) -> float | None:
        """Its value, if it is made of numbers only."""
        if self.what == "number":
            return self.value
        values = [p.fixed for p in self.parts] if self.what in ("neg", "+", "-", "*", "/") else []
        if not values or any(v is None for v in values):
            return None
        a, b = float(values[0] or 0.0), float(values[-1] or 0.0)
        try:
            return {"neg": lambda: -a, "+": lambda: a + b, "-": lambda: a - b, "*": lambda: a * b, "/": lambda: a / b}[self.what]()
        except (ZeroDivisionError, OverflowError):
            return None

    @property
    def keys(self) -> frozenset[str]:
        """Quantities that it names."""
        return frozenset(n.leaf.key for n in self.walk() if n.leaf is not None and n.leaf.key)


@dataclass(frozen=True)
class Formula:
    """A checked formula: its text, its tree, and what is doubtful about its units."""

    text: str
    root: Node
    doubts: tuple[str, ...] = ()
