"""The distribution of a quantity as a small picture."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from tidal_lens.app import theme
from tidal_lens.quantities.spread import Distribution


class Silhouette(QWidget):
    """The distribution of a quantity, lying."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(56)
        self._spread: Distribution | None = None

    def show_distribution(self, spread: Distribution | None) -> None:
        """Show another distribution, or none."""
        self._spread = spread
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        base = self.height() - 1.0
        painter.setPen(theme.colour("line"))
        painter.drawLine(0, int(base), self.width(), int(base))
        if self._spread is None or self._spread.counts.max() == 0:
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("sea", 0.75))
        shares = (self._spread.counts / self._spread.counts.max()) ** 0.5
        wide = self.width() / len(shares)
        for n, share in enumerate(shares):
            painter.drawRect(QRectF(n * wide, base - share * (base - 4), max(wide - 1, 1), share * (base - 4)))
