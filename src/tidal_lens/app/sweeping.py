"""Rings of garbage are looked for on the window's thread, between two events, and nowhere else.

Python looks for them on whatever thread makes the next object. There it would delete what belongs to the window, and it reads which
slots signals are connected to while Qt takes some of them away on the window's thread: what was in use was taken for garbage.

Of a widget that is to be deleted later, what Python holds may be garbage already while it still stands on the screen and may be
clicked. So it is swept after what was to be deleted, and not at all where a loop of events within another keeps that from going.
"""

from __future__ import annotations

import gc

from PyQt6.QtCore import QObject, Qt, QThread, QTimer, pyqtSignal
from PyQt6.QtWidgets import QApplication

_PACE = 250  # milliseconds between looks whether there is enough to sweep


class Sweeping(QObject):
    """Sweeps from time to time while the application runs; Python itself no longer does."""

    _due = pyqtSignal()

    def __init__(self, app: QApplication) -> None:
        super().__init__(app)
        gc.disable()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._due)
        self._due.connect(self._look, Qt.ConnectionType.QueuedConnection)  # type: ignore[call-arg]  # after what was to be deleted before
        self._timer.start(_PACE)

    def _look(self) -> None:
        thread = QThread.currentThread()
        if thread is not None and thread.loopLevel() > 1:
            return
        sweep(whole=QApplication.mouseButtons() == Qt.MouseButton.NoButton)


def sweep(*, whole: bool = True) -> int:
    """Look for garbage among what is new, or older too when its turn has come, by Python's own thresholds. On the window's thread.

    Parameters
    ----------
    whole : bool
        Whether all there is may be looked through: that takes longest, so not in the midst of a drag.

    Returns
    -------
    int
        The oldest generation that was looked through; -1 if none was.
    """
    new, middle, old = (count > least for count, least in zip(gc.get_count(), gc.get_threshold(), strict=True))
    if not new:
        return -1
    generation = 2 if middle and old and whole else 1 if middle else 0
    gc.collect(generation)
    return generation
