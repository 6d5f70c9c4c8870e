"""How long the view takes to follow a drag on the demo, from the mouse's move to its picture: ``python bench/dragging.py [--moves 40]``.

A slice is dragged by its bead, then a seed line by its middle. After each move the bench waits until the picture of that very place is
shown, so each figure is the whole way: edit, evaluation, scene, drawing, painting.
"""

from __future__ import annotations

import argparse
import os
import time
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtCore import QEvent, QEventLoop, QPointF, Qt, QTimer
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication

from tidal_lens.app.start import application, complete
from tidal_lens.app.window import Window

_LEFT, _NONE = Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton
_PATIENCE = 60.0  # seconds
_WAITING = QEventLoop.ProcessEventsFlag.AllEvents | QEventLoop.ProcessEventsFlag.WaitForMoreEvents


def until(there: Any, what: str) -> None:
    end = time.perf_counter() + _PATIENCE
    beat = QTimer()
    beat.start(20)
    while not there():
        QApplication.processEvents(_WAITING)  # as in a running application: asking all the time would take a core from the work
        if time.perf_counter() > end:
            raise TimeoutError(what)


def mouse(window: Window, kind: QEvent.Type, at: QPointF, button: Qt.MouseButton, held: Qt.MouseButton) -> None:
    view = window.view
    there = QPointF(view.mapToGlobal(at.toPoint()))
    QApplication.sendEvent(view, QMouseEvent(kind, at, there, button, held, Qt.KeyboardModifier.NoModifier))


def dragged(window: Window, bead: str, way: QPointF, moves: int) -> list[float]:
    """Seconds from each move to its picture."""
    view, document = window.view, window.document
    seen: list[Any] = []
    view.frame_shown.connect(lambda: seen.append(document.asking.results[document.chosen].layer.shape))
    begin = view.handles.bead_at(bead)
    mouse(window, QEvent.Type.MouseButtonPress, begin, _LEFT, _LEFT)
    took = []
    for n in range(1, moves + 1):
        seen.clear()
        began = time.perf_counter()
        mouse(window, QEvent.Type.MouseMove, begin + way * n, _NONE, _LEFT)
        wanted = document.chosen_layer.shape
        until(lambda wanted=wanted: bool(seen) and seen[-1] == wanted, "the picture of a move")
        took.append(time.perf_counter() - began)
    mouse(window, QEvent.Type.MouseButtonRelease, begin + way * moves, _LEFT, _NONE)
    until(lambda: complete(window), "the picture in full")
    view.frame_shown.disconnect()
    return took


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--moves", type=int, default=40)
    chosen = options.parse_args()
    app = application()
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.open_demo()
    until(lambda: complete(window), "the demo")
    time.sleep(1.0)
    for title, bead, way in (("slice", "slice", QPointF(1.5, 0.5)), ("seed line", "middle", QPointF(0.5, 0.7))):
        window.act("add-slice-x" if title == "slice" else "add-streamlines")
        until(lambda: complete(window), title)
        dragged(window, bead, way, 5)  # everything that is loaded when first needed
        took = 1e3 * np.array(dragged(window, bead, way, chosen.moves))
        print(f"{title:10s} median {np.median(took):6.1f} ms   95 % {np.percentile(took, 95):6.1f} ms   ({chosen.moves} moves)")
    window.hide()  # or it would ask about unsaved work
    window.close()
    app.quit()


if __name__ == "__main__":
    main()
