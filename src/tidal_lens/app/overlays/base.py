"""What overlays have in common."""

from __future__ import annotations

from typing import Protocol

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter

from tidal_lens.app import theme


class Overlay(Protocol):
    """Something painted over the picture that the mouse can hold."""

    def paint(self, p: QPainter) -> None:
        """Paint it."""

    def grasp(self, at: QPointF) -> bool:
        """Take hold of what is there; whether there was anything."""

    def drag(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """Move what is held."""

    def let_go(self) -> None:
        """End the drag."""

    def double_click(self, at: QPointF) -> bool:
        """Act on a double click; whether there was anything."""

    def menu(self, at: QPointF) -> bool:
        """Open a menu; whether there is one."""

    def hint(self, at: QPointF) -> str:
        """What can be done there, or nothing."""


class Quiet:
    """An overlay, or a part of one, that nothing is done with."""

    def grasp(self, _at: QPointF) -> bool:
        """Nothing is there to be held."""
        return False

    def drag(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """Nothing is held."""

    def let_go(self) -> None:
        """Nothing was held."""

    def double_click(self, _at: QPointF) -> bool:
        """Nothing is done."""
        return False

    def menu(self, _at: QPointF) -> bool:
        """There is none."""
        return False

    def hint(self, _at: QPointF) -> str:
        """Nothing can be done."""
        return ""


def halo_text(p: QPainter, at: QPointF, text: str, role: str = "ink", size: float = 12.5, *, bold: bool = False,
              align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft) -> QRectF:
    """Text on a plate of paper, so that it reads over anything; returns its place."""
    font = theme.font(size, bold=bold)
    metrics = QFontMetricsF(font)
    width, height = metrics.horizontalAdvance(text), metrics.height()
    left = at.x() - {Qt.AlignmentFlag.AlignLeft: 0.0, Qt.AlignmentFlag.AlignRight: width}.get(align, width / 2)
    box = QRectF(left - 4, at.y() - height / 2 - 1, width + 8, height + 2)
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(theme.colour("panel", 0.86))
    p.drawRoundedRect(box, 4, 4)
    p.setPen(theme.colour(role))
    p.setFont(font)
    p.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    return box


def near(a: QPointF, b: QPointF, reach: float) -> bool:
    """Whether two places are within reach of one another."""
    d = a - b
    return d.x() * d.x() + d.y() * d.y() <= reach * reach
