"""Labels of contour lines, painted over the picture."""

from __future__ import annotations

from PyQt6.QtGui import QPainter

from tidal_lens.app.overlays.base import Quiet
from tidal_lens.app.overlays.painting import measure, paint_marks
from tidal_lens.app.stage import Stage
from tidal_lens.scene.label_marks import label_marks
from tidal_lens.scene.marks import Mark


class LabelsOverlay(Quiet):
    """Nothing to hold: only to be read."""

    def __init__(self, view: Stage) -> None:
        self._view = view

    def marks(self) -> list[Mark]:
        """All labels of what is drawn, as far as they can be seen."""
        document, camera = self._view.document, self._view.shown_camera
        if camera is None:
            return []
        taken: list[tuple[float, float, float, float]] = []
        out: list[Mark] = []
        for layer in document.study.layers:
            result = self._view.case.asking.results.get(layer.id)
            if result is None or not document.study.is_drawn(layer):
                continue
            for dressed in result.dressed:
                texts = document.units.texts(dressed.of, dressed.numbers)
                out += label_marks(dressed.places, texts, camera, (self._view.width(), self._view.height()), self._view.depths,
                                   measure, taken)
        return out

    def paint(self, p: QPainter) -> None:
        paint_marks(p, self.marks())
