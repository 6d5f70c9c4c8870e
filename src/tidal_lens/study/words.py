"""Numbers and names as they are told."""

from __future__ import annotations

import math
from collections.abc import Mapping

from tidal_lens.quantities.names import OWN
from tidal_lens.quantities.store import QuantityStore


def number_text(value: float, digits: int = 4) -> str:
    """A number with as many digits as it deserves, with a true minus sign."""
    if not math.isfinite(value):
        return "—"
    if value == 0:
        return "0"
    size = abs(value)
    text = f"{value:.{digits - 1}e}" if size >= 1e6 or size < 1e-4 else f"{value:.{digits}g}"
    if "e" in text:
        head, tail = text.split("e")
        head = head.rstrip("0").rstrip(".") if "." in head else head
        text = f"{head}e{int(tail)}"
    return text.replace("-", "−")


class Words:
    """How a flow's things are called, as far as they are known.

    Parameters
    ----------
    store : QuantityStore or None
        The flow's quantities.
    cards : mapping, optional
        Names of the study's cards by their ids.
    """

    def __init__(self, store: QuantityStore | None, cards: Mapping[str, str] | None = None) -> None:
        self._store, self._cards = store, cards or {}

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
