"""The line that is chosen by a click: drawn thick, told in the ledger, taken away with its seed."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tidal_lens.app import theme
from tidal_lens.app.asking import CaseHere
from tidal_lens.app.document import Document
from tidal_lens.scene.scene import LinesItem
from tidal_lens.tracing.streamlines import Lines

_WIDTH = 5.0


class LinePicks(QObject):
    """One line of one card, by the number of its seed. Not an edit.

    Signals
    -------
    changed
        Another line is chosen, or none.
    """

    changed = pyqtSignal()

    def __init__(self, document: Document, case: CaseHere, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._document, self._case = document, case
        self.of: tuple[str, int] | None = None
        self.forget: Callable[[], bool] = lambda: False  # what is done with a chosen finding in the place of a seed
        self._item: tuple[tuple[object, ...], tuple[LinesItem, ...]] = ((), ())
        document.chosen_changed.connect(self._other_card)
        document.case_changed.connect(self.drop)

    def _other_card(self) -> None:
        if self.of is not None and self.of[0] != self._document.chosen:
            self.drop()

    def pick(self, layer_id: str, seed: int) -> None:
        """Choose the line of a seed, and its card."""
        if self._document.chosen != layer_id:
            self._document.choose(layer_id)
        if self.of != (layer_id, seed):
            self.of = layer_id, seed
            self.changed.emit()

    def drop(self) -> bool:
        """Choose none; whether one was."""
        was, self.of = self.of is not None, None
        if was:
            self.changed.emit()
        return was

    def take_away(self) -> bool:
        """Take the chosen line's seed away; whether a line was chosen."""
        if self.of is None:
            return False
        if self.forget():
            return True
        layer, result = self._document.study.layer(self.of[0]), self._case.asking.results.get(self.of[0])
        if layer is None or result is None or result.unmasked.began is None:
            return False
        shape = layer.shape.without_seed(self.of[1], result.unmasked.began)
        if shape is not None:
            self._document.edit_layer(layer.with_(shape=shape), "Remove a seed")
        self.drop()
        return True

    def items(self) -> tuple[LinesItem, ...]:
        """The chosen line, thick; the same while nothing about it changes."""
        if self.of is None:
            return ()
        name, seed = self.of
        layer, result = self._document.study.layer(name), self._case.asking.results.get(name)
        if layer is None or result is None or not isinstance(result.geometry, Lines) or not self._document.study.is_drawn(layer):
            return ()
        lines, colour = result.geometry, theme.current().magenta
        basis = (id(lines), seed, colour)
        if self._item[0] != basis:
            own = [lines.points[lines.offsets[n]:lines.offsets[n + 1]] for n in np.flatnonzero(lines.seeds == seed)]
            made: tuple[LinesItem, ...] = ()
            if own:
                offsets = np.concatenate([[0], np.cumsum([len(p) for p in own])]).astype(np.int64)
                made = (LinesItem("·line", np.concatenate(own), offsets, None, None, colour, _WIDTH, pickable=False, lying=True),)
            self._item = basis, made
        return self._item[1]
