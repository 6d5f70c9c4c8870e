"""How long the view takes to follow a drag, from the move to its picture: ``python bench/dragging.py [--moves 40] [--millions 10]``.

On the demo a slice with paint, 20 contour lines and 900 arrows is shifted and tilted by its beads, beads of an isosurface and a mask are
dragged on the key, a seed line by its middle; or, with ``--millions``, a plain and a dressed slice on a structured block of so many cells.
After each move the bench waits until the picture of that very place is shown, so each figure is the whole way: edit, evaluation, scene,
drawing, painting.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtCore import QEvent, QEventLoop, QPointF, Qt, QTimer
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication

from tidal_lens.app.jobs import Slot
from tidal_lens.app.start import application, complete
from tidal_lens.app.window import Window
from tidal_lens.formats.vtk_write import StructuredPiece, write_structured
from tidal_lens.sampling.mesh import ready_mesh
from tidal_lens.study.dressings import Arrows, Contours

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


def dragged(window: Window, begin: QPointF, way: QPointF, moves: int, watched: str) -> list[float]:
    """Seconds from each move to the picture of what a watched layer comes to by it."""
    view, document = window.view, window.document
    seen: list[Any] = []
    view.frame_shown.connect(lambda: seen.append(document.asking.results.get(watched)))
    mouse(window, QEvent.Type.MouseButtonPress, begin, _LEFT, _LEFT)
    took = []
    for n in range(1, moves + 1):
        before, study = document.asking.results.get(watched), document.study
        seen.clear()
        began = time.perf_counter()
        mouse(window, QEvent.Type.MouseMove, begin + way * n, _NONE, _LEFT)
        if document.study is study:
            continue  # rounded to the same number
        until(lambda before=before: bool(seen) and seen[-1] is not before and not document.jobs.is_busy(Slot("card", watched)), "a picture")
        took.append(time.perf_counter() - began)
    mouse(window, QEvent.Type.MouseButtonRelease, begin + way * moves, _LEFT, _NONE)
    until(lambda: complete(window), "the picture in full")
    view.frame_shown.disconnect()
    return took


def tell(window: Window, title: str, begin: QPointF, way: QPointF, moves: int, watched: str = "", wanted: str = "") -> None:
    """Drag a little for all that is loaded when first needed, then drag and print."""
    watched = watched or window.document.chosen or ""
    dragged(window, begin, way, 5, watched)
    took = 1e3 * np.array(dragged(window, begin + 5 * way, way, moves, watched))
    print(f"{title:34s} median {np.median(took):6.1f} ms   95 % {np.percentile(took, 95):6.1f} ms   {wanted}", flush=True)


def dress(window: Window) -> None:
    """Paint, 20 contour lines and some 900 arrows on the chosen slice."""
    document = window.document
    layer, store = document.chosen_layer, document.evaluator.store
    name = layer.look.colour_by
    low, high = store.distribution(name).usual
    lines = Contours(of=name, by="number", number=20, low=low, high=high)
    arrows = Arrows(of="velocity", spacing=0.02, part="along")
    for _ in range(6):
        document.edit_layer(document.chosen_layer.with_(look=layer.look.with_(contours=lines, arrows=arrows)), "Dress")
        until(lambda: complete(window), "the dressed slice")
        count = len(document.asking.results[layer.id].dressed[1].offsets) // 2
        if 700 < count < 1200:
            break
        arrows = arrows.with_(spacing=min(max(arrows.spacing * np.sqrt(max(count, 1) / 900), 0.004), 0.5))


def on_the_demo(window: Window, moves: int) -> None:
    """All that is dragged on the demo."""
    document, view = window.document, window.view
    window.act("add-slice-y")
    until(lambda: complete(window), "a slice")
    tell(window, "slice", view.handles.bead_at("slice"), QPointF(1.0, 1.0), moves)
    dress(window)
    tell(window, "slice, 20 lines, 900 arrows", view.handles.bead_at("slice"), QPointF(1.0, 1.0), moves, wanted="(wanted 40 ms)")
    tell(window, "its tilt", view.handles.bead_at("tilt right"), QPointF(-0.7, 0.7), moves, wanted="(wanted 40 ms)")
    window.act("remove")
    window.act("add-isosurface", "mach")
    until(lambda: complete(window), "an isosurface")
    layer = document.chosen_layer
    tell(window, "isosurface by its bead", view.keys.grip_at("mach", layer.id), QPointF(0.0, 0.6), moves, wanted="(wanted 40 ms)")
    window.act("remove")
    cut = next(x for x in document.study.layers if x.kind == "slice")
    window.act("add-mask")
    until(lambda: complete(window), "a mask")
    tell(window, "mask by its bead", view.keys.grip_at("mach", document.chosen), QPointF(0.0, 0.6), moves, cut.id, "(wanted 40 ms)")
    window.act("remove")
    point_at_a_chart(window, moves)
    window.act("add-streamlines")
    until(lambda: complete(window), "lines")
    tell(window, "seed line", view.handles.bead_at("middle"), QPointF(0.5, 0.7), moves)


def point_at_a_chart(window: Window, moves: int) -> None:
    """From the pointer over a chart to the ring in the view, and from a place of the view to the ring in the chart."""
    window.act("add-section")
    until(lambda: complete(window) and window.ledger.measure.has_charts, "a section")
    (chart,) = (v for v in window.ledger.measure.charts if v.isVisible())
    curve = chart.chart.curves[0]
    box = chart.plot.getPlotItem().getViewBox()
    there, back = [], []
    for n in np.linspace(0, len(curve.at) - 1, moves).astype(int):
        began = time.perf_counter()
        chart.point(box.mapViewToScene(QPointF(float(curve.at[n]), float(curve.values[n]))))
        window.view.repaint()
        chart.plot.repaint()
        there.append(1e3 * (time.perf_counter() - began))
        began = time.perf_counter()
        window.view.seen.emit(curve.places[n])
        chart.plot.repaint()
        back.append(1e3 * (time.perf_counter() - began))
    for title, took in (("chart to view", there), ("view to chart", back)):
        print(f"{title:34s} median {np.median(took):6.1f} ms   95 % {np.percentile(took, 95):6.1f} ms   (wanted 33 ms)", flush=True)
    window.act("remove")


def on_a_large_block(window: Window, moves: int, millions: float, folder: Path) -> None:
    """A slice of one structured block."""
    n = round((millions * 1e6) ** (1 / 3)) + 1
    i = np.linspace(0.0, 1.0, n)
    z, y, x = (a.ravel() for a in np.meshgrid(i, i, i, indexing="ij"))
    fields = {"Velocity": np.column_stack([1.0 - y, x, 0.2 * np.sin(6 * z)]).astype(np.float32), "Pressure": (x * y + z).astype(np.float32),
              "Density": np.ones(len(x), np.float32)}
    path = folder / "large.vts"
    points = np.column_stack([x + 0.02 * np.sin(6 * y), y, z])
    write_structured(path, StructuredPiece("large", (n, n, n), points, fields), {})
    window.document.open_path(path)
    until(lambda: complete(window) and ready_mesh(window.document.flow) is not None, "the large block")
    window.act("add-slice-x")
    until(lambda: complete(window), "a slice")
    tell(window, f"slice of {(n - 1)**3 / 1e6:.1f} M cells", window.view.handles.bead_at("slice"), QPointF(0.7, 0.2), moves)
    dress(window)
    tell(window, "the same, dressed", window.view.handles.bead_at("slice"), QPointF(0.7, 0.2), moves, wanted="(wanted 150 ms)")


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--moves", type=int, default=40)
    options.add_argument("--millions", type=float, default=0.0, help="cells of a block that takes the place of the demo")
    chosen = options.parse_args()
    app = application()
    window = Window()
    window.resize(1280, 800)
    window.show()
    if chosen.millions:
        with tempfile.TemporaryDirectory() as folder:
            on_a_large_block(window, chosen.moves, chosen.millions, Path(folder))
    else:
        window.open_demo()
        until(lambda: complete(window), "the demo")
        time.sleep(1.0)
        on_the_demo(window, chosen.moves)
    window.hide()  # or it would ask about unsaved work
    window.close()
    app.quit()


if __name__ == "__main__":
    main()
