"""What a view shows, where there are several: the name of its case."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter

from tidal_lens.app import theme
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
    troubles : callable
        Gives what of another case cannot be shown, and why.
    """

    def __init__(self, view: Stage, titles: Callable[[], list[tuple[str, float, float]]], troubles: Callable[[], list[str]]) -> None:
        self._view, self._titles, self._troubles = view, titles, troubles

    def paint(self, p: QPainter) -> None:
        width = self._view.width()
        for text, low, high in self._titles():
            if text and (high - low) * width > 40.0:
                halo_text(p, QPointF(high * width - _EDGE, _TOP), text, bold=True, align=Qt.AlignmentFlag.AlignRight)
        room = QFontMetricsF(theme.font(12.5))
        for n, text in enumerate(self._troubles()):
            told = room.elidedText(text, Qt.TextElideMode.ElideRight, width - 2.0 * _EDGE)
            halo_text(p, QPointF(width - _EDGE, _TOP + 24.0 * (n + 1)), told, "red", align=Qt.AlignmentFlag.AlignRight)
