"""Marks painted by Qt, in the colours and fonts of the theme."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QFontMetricsF, QImage, QPainter, QPen, QPolygonF

from tidal_lens.app import theme
from tidal_lens.scene.marks import Dot, Mark, Picture, Plate, Tint, Words


def measure(text: str, size: float, bold: bool) -> float:
    """Width of a text in our own font."""
    return QFontMetricsF(theme.font(size, bold=bold)).horizontalAdvance(text)


def paint_marks(p: QPainter, marks: Iterable[Mark]) -> None:
    """Paint marks, the first at the back."""
    for mark in marks:
        if isinstance(mark, Words):
            p.setFont(theme.font(mark.size, bold=mark.bold))
            p.setPen(_colour(mark.tint))
            p.drawText(QPointF(*mark.at), mark.text)
            continue
        if isinstance(mark, Picture):
            tall, wide = mark.pixels.shape[:2]
            p.drawImage(QRectF(*mark.box), QImage(mark.pixels.tobytes(), wide, tall, 4 * wide, QImage.Format.Format_RGBA8888))
            continue
        p.setPen(Qt.PenStyle.NoPen if mark.edge is None else QPen(_colour(mark.edge), 1.0 if isinstance(mark, Plate) else mark.width))
        p.setBrush(Qt.BrushStyle.NoBrush if mark.fill is None else QBrush(_colour(mark.fill)))
        if isinstance(mark, Plate):
            if mark.radius:
                p.drawRoundedRect(QRectF(*mark.box), mark.radius, mark.radius)
            else:
                p.drawRect(QRectF(*mark.box))
        elif isinstance(mark, Dot):
            p.drawEllipse(QPointF(*mark.at), mark.radius, mark.radius)
        else:
            places = QPolygonF([QPointF(*place) for place in mark.places])
            p.drawPolyline(places) if mark.fill is None else p.drawPolygon(places)


def _colour(tint: Tint) -> QColor:
    if not tint.role.startswith("#"):
        return theme.colour(tint.role, tint.alpha)
    own = QColor(tint.role)
    own.setAlphaF(tint.alpha)
    return own
