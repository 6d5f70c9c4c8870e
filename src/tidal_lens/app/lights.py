"""Places with one value, lit on everything that shows its quantity, until they are put out."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tidal_lens.app.jobs import Jobs, Slot
from tidal_lens.cutting.level_lines import level_lines
from tidal_lens.cutting.surface import Surface
from tidal_lens.scene.scene import LinesItem
from tidal_lens.study.evaluate import Evaluated
from tidal_lens.work import Token

Shown = Callable[[], list[Evaluated]]
_WIDTH = 2.5


class Lights(QObject):
    """Works the lines out in the background, anew when what is shown changes.

    Parameters
    ----------
    jobs : Jobs
        Where it is done.
    shown : callable
        What is drawn now.

    Signals
    -------
    changed
        Other lines are lit, or none.
    """

    changed = pyqtSignal()

    def __init__(self, jobs: Jobs, shown: Shown, parent: QObject | None = None, case: int = 0) -> None:
        super().__init__(parent)
        self._jobs, self._shown, self._case = jobs, shown, case
        self.of: tuple[str, float] | None = None
        self.items: tuple[LinesItem, ...] = ()
        self._basis: tuple[object, ...] = ()

    def light(self, name: str, value: float, colour: str) -> None:
        """Light where a quantity takes a value."""
        self.of, self._colour, self._basis = (name, value), colour, ()
        self.refresh()

    def refresh(self) -> None:
        """What is drawn may have changed."""
        if self.of is None:
            return
        name, value = self.of
        found = [(r.layer.id, surface, colours) for r in self._shown()
                 if r.layer.look.colour_by == name and isinstance(surface := r.geometry, Surface) and (colours := r.colours) is not None]
        basis = (name, value, *((layer, id(surface), id(colours)) for layer, surface, colours in found))
        if basis == self._basis:
            return
        self._basis = basis

        def work(token: Token) -> tuple[LinesItem, ...]:
            out = []
            for layer, surface, colours in found:
                token.check()
                points = level_lines(surface, colours, [value])[0]
                strokes = points[:, [0, 1, 0]].reshape(-1, 3)
                offsets = np.arange(0, 3 * len(points) + 1, 3, dtype=np.int64)
                out.append(LinesItem(f"·light {layer}", strokes, offsets, None, None, self._colour, _WIDTH, pickable=False, lying=True))
            return tuple(out)

        def done(items: tuple[LinesItem, ...]) -> None:
            if self._basis == basis:
                self.items = items
                self.changed.emit()

        self._jobs.submit(Slot("lights", str(self._case)), "Lighting places", work, done, lambda _error: None)

    def put_out(self) -> bool:
        """Light nothing; whether anything was."""
        was = self.of is not None
        self.of, self.items, self._basis = None, (), ()
        if was:
            self.changed.emit()
        return was
