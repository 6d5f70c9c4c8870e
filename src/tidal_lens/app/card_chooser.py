"""Chooses another card: what the chosen one is made from, or is of."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal

from tidal_lens.app.parts import Box
from tidal_lens.study.model import Layer


class CardChooser(Box):
    """A list of cards, after an entry for none of them; what is gone is told.

    Parameters
    ----------
    name, tip : str
        For screen readers; in the tooltip.
    none : str
        The first entry.
    """

    picked = pyqtSignal(str)

    def __init__(self, name: str, tip: str, none: str) -> None:
        super().__init__(name, tip)
        self._none = none
        self._listed: list[tuple[str, str]] = []
        self.activated.connect(lambda at: self.picked.emit(self._listed[at][0]))

    def offer(self, cards: Sequence[Layer], chosen: str) -> None:
        """List cards and mark the chosen one."""
        listed = [("", self._none), *((c.id, c.name) for c in cards)]
        if chosen not in dict(listed):
            listed.append((chosen, "a card that is gone"))
        if listed != self._listed:
            self._listed = listed
            self.clear()
            self.addItems([name for _id, name in listed])
        self.setCurrentIndex([layer_id for layer_id, _name in listed].index(chosen))
