"""Numbers and names as they are told."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Literal

from tidal_lens.quantities.names import OWN
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.tables import Amount

Notation = Literal["plain", "powers", "thousands"]


def number_text(value: float, digits: int = 4, notation: Notation = "plain") -> str:
    """A number with as many digits as it deserves, with a true minus sign.

    Parameters
    ----------
    value : float
        A dash stands for what is no number.
    digits : int
        Significant ones.
    notation : str
        Powers of ten where zeros would be many (``plain``), always (``powers``), or where there are thousands, and then of thousands only
        (``thousands``).
    """
    if not math.isfinite(value):
        return "—"
    if value == 0:
        return "0"
    size = abs(value)
    large, small = {"plain": (1e6, 1e-4), "powers": (0.0, 0.0), "thousands": (1e3, 1.0)}[notation]
    text = f"{value:.{digits - 1}e}" if size >= large or size < small else f"{value:.{digits}g}"
    if "e" in text and notation == "thousands":
        text = _in_thousands(text, digits)
    elif "e" in text:
        head, tail = text.split("e")
        head = head.rstrip("0").rstrip(".") if "." in head else head
        text = f"{head}e{int(tail)}"
    return text.replace("-", "−")


def amount_text(amount: Amount) -> str:
    """A number with its unit, as it is."""
    return f"{number_text(amount)} {amount.unit}" if amount.unit else number_text(amount)


def _in_thousands(text: str, digits: int) -> str:
    """A number as 1.234e4 with a power of a thousand: 12.34e3."""
    head, tail = text.split("e")
    shift = int(tail) % 3
    head = f"{float(head) * 10**shift:.{max(digits - 1 - shift, 0)}f}"
    head = head.rstrip("0").rstrip(".") if "." in head else head
    power = int(tail) - shift
    return f"{head}e{power}" if power else head


class Words:
    """How a flow's things are called, as far as they are known.

    Parameters
    ----------
    store : QuantityStore or None
        The flow's quantities.
    cards : mapping, optional
        Names of the study's cards by their ids.
    values : callable, optional
        Tells values of a quantity, by its name.
    """

    def __init__(self, store: QuantityStore | None, cards: Mapping[str, str] | None = None,
                 values: Callable[[str, Sequence[float]], str] | None = None) -> None:
        self._store, self._cards, self._values = store, cards or {}, values

    def values(self, name: str, values: Sequence[float]) -> str:
        """Values of a quantity, one after another."""
        return self._values(name, values) if self._values is not None else ", ".join(map(number_text, values))

    def card(self, layer_id: str) -> str:
        """Name of a card."""
        return self._cards.get(layer_id, "a card that is gone")

    def quantity(self, name: str) -> str:
        """Symbol of a quantity."""
        if name.startswith(OWN):
            return name[len(OWN):]
        found = next((q for q in self._store.quantities() if q.name == name), None) if self._store is not None else None
        return found.symbol if found is not None else name

    @staticmethod
    def number(value: float, digits: int = 4) -> str:
        """See :func:`number_text`."""
        return number_text(value, digits)
