"""A number that runs between two limits: a slice that sweeps, a value of an isosurface that rises. Running is no edit."""

from __future__ import annotations

import time
from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer

from tidal_lens.app.holder import Holder
from tidal_lens.app.jobs import Slot
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.kind import Shape
from tidal_lens.study.model import Study

_BEAT = 25  # milliseconds between two looks at whether the last picture is there
WAYS = {"once": "Once", "round": "Round and round", "fro": "To and fro"}
PACES = {2.0: "2 seconds a way", 5.0: "5 seconds a way", 10.0: "10 seconds a way", 20.0: "20 seconds a way"}


def place_of(way: str, turn: float) -> tuple[float, bool]:
    """Where a number is after so many ways, from 0 to 1, and whether it has come to its end."""
    if way == "once":
        return min(turn, 1.0), turn >= 1.0
    if way == "round":
        return turn % 1.0, False
    return 1.0 - abs(1.0 - turn % 2.0), False


def _nothing() -> None:
    pass


class Player(QObject):
    """Runs one number at a time; whatever is edited meanwhile stops it."""

    def __init__(self, document: Holder) -> None:
        super().__init__(document)
        self._document = document
        self.way, self.pace = "fro", 5.0
        self._layer = ""
        self._owner: object = None
        self._store: QuantityStore | None = None
        self._kept: Shape | None = None
        self._own: Shape | None = None  # what was set last by it
        self._began = 0.0
        self._timer = QTimer(self)
        self._timer.setInterval(_BEAT)
        self._timer.timeout.connect(self._beat)
        self._told: Callable[[], None] = _nothing

    def runs(self, layer_id: str, owner: object) -> bool:
        """Whether a button's number of a card is running."""
        return self._timer.isActive() and self._layer == layer_id and self._owner is owner

    def start(self, layer_id: str, owner: object, store: QuantityStore, told: Callable[[], None]) -> None:
        """Let the number of a card run that it has for that; ``told`` is called at the end."""
        self.stop()
        layer = self._document.study.layer(layer_id)
        if layer is None:
            return
        self._layer, self._owner, self._store, self._told = layer_id, owner, store, told
        self._kept = self._own = layer.shape
        self._began = time.monotonic()
        self._document.dragging = True
        self._timer.start()

    def stop(self) -> None:
        """Stop, and put the number back to where it was."""
        if not self._timer.isActive():
            return
        self._timer.stop()
        layer = self._document.study.layer(self._layer)
        if layer is not None and self._kept is not None and layer.shape == self._own:
            self._document.show_instead(layer.with_(shape=self._kept))
        self._document.release()
        told = self._told
        self._layer, self._owner, self._told = "", None, _nothing
        self._store = self._kept = self._own = None  # a whole flow hangs on it
        told()

    def settled(self, study: Study) -> Study:
        """A study that takes the place of the one in which it runs: with the number where it was, unless it was set; it stops."""
        if not self._timer.isActive():
            return study
        name, own, kept = self._layer, self._own, self._kept
        self.stop()
        layer = study.layer(name)
        return study.replacing(layer.with_(shape=kept)) if layer is not None and layer.shape == own and kept is not None else study

    def _beat(self) -> None:
        layer = self._document.study.layer(self._layer)
        if layer is None or self._store is None or self._kept is None or layer.shape != self._own:  # it was edited, undone or taken away
            self._kept = None
            self.stop()
            return
        if self._document.jobs.is_busy(Slot("card", self._layer)):
            return
        share, over = place_of(self.way, (time.monotonic() - self._began) / self.pace)
        self._own = self._kept.swept(share, self._store) or self._own
        self._document.show_instead(layer.with_(shape=self._own))
        if over:
            self.stop()
