"""Places that are wanted from the user: the next clicks on what is seen in the view give them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, pyqtSignal

Vec = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Wish:
    """Some clicks.

    Attributes
    ----------
    count : int
        How many.
    hint : str
        What to click, shown in the view.
    take : callable
        Given the places once all are there, shape (count, 3); of a stroke as many as it laid.
    stroke : bool
        Whether a drag over what is seen lays places along it.
    """

    count: int
    hint: str
    take: Callable[[Vec], object]
    stroke: bool = False


class Clicks(QObject):
    """The wish in force, and the places that it has so far. A new wish takes the place of an old one.

    Signals
    -------
    changed
        Another wish, another place, or none any more.
    """

    changed = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.wish: Wish | None = None
        self.places: list[Vec] = []

    def ask(self, wish: Wish) -> None:
        """Want some places."""
        self.wish, self.places = wish, []
        self.changed.emit()

    def give(self, place: Vec) -> None:
        """A place was clicked."""
        wish = self.wish
        if wish is None:
            return
        self.places.append(place)
        if len(self.places) == wish.count:
            found, self.wish, self.places = np.array(self.places), None, []
            self.changed.emit()
            wish.take(found)
        else:
            self.changed.emit()

    def lay(self, places: list[Vec]) -> None:
        """A stroke laid some places."""
        wish, self.wish, self.places = self.wish, None, []
        self.changed.emit()
        if wish is not None:
            wish.take(np.array(places))

    def give_up(self) -> bool:
        """Want no more; whether anything was wanted."""
        was = self.wish is not None
        self.wish, self.places = None, []
        if was:
            self.changed.emit()
        return was
