"""What a view shows, where there are several: the name of its case."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter

from tidal_lens.app.overlays.base import Quiet, halo_text
from tidal_lens.app.stage import Stage

_TOP, _EDGE = 18.0, 16.0


class TitlesOverlay(Quiet):
    """Names at the top of the view, each at the right end of what it names: keys stand at the left.

    Parameters
    ----------
    view : Stage
        The view.
    titles : callable
        Gives names, and the shares of the view's width between which what they name stands.
    """

    def __init__(self, view: Stage, titles: Callable[[], list[tuple[str, float, float]]]) -> None:
        self._view, self._titles = view, titles

    def paint(self, p: QPainter) -> None:
        width = self._view.width()
        for text, low, high in self._titles():
            if text and (high - low) * width > 40.0:
                halo_text(p, QPointF(high * width - _EDGE, _TOP), text, bold=True, align=Qt.AlignmentFlag.AlignRight)
