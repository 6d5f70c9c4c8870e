"""A small picture with words below it, in a strip; it is gone to by a click, Enter or the space bar."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QEnterEvent, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from tidal_lens.app import theme

WIDE = 132


class Thumb(QWidget):
    """One of a strip.

    Parameters
    ----------
    tall : int
        Its height.
    """

    def __init__(self, tall: int) -> None:
        super().__init__()
        self._pointed, self._tall = False, tall
        self.setFixedHeight(tall)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:
        return QSize(WIDE, self._tall)

    def go(self) -> None:
        """Show what it stands for."""
        raise NotImplementedError

    def is_here(self) -> bool:
        """Whether it is what is shown."""
        raise NotImplementedError

    def picture(self) -> QImage | None:
        """What it looks like, once that is known; the middle of it is seen."""
        raise NotImplementedError

    def words(self) -> tuple[str, bool]:
        """What stands below it, and whether that is bad news."""
        raise NotImplementedError

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton and self.rect().contains(event.pos()):
            self.go()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.go()
        else:
            super().keyPressEvent(event)

    def enterEvent(self, event: QEnterEvent | None) -> None:
        self._pointed = True
        self.update()

    def leaveEvent(self, event: QEvent | None) -> None:
        self._pointed = False
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        with QPainter(self) as p:
            p.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
            here, frame = self.is_here(), QRectF(self.rect()).adjusted(1, 1, -1, -1)
            p.setPen(QPen(theme.colour("sea" if here or self._pointed else "line"), 2 if here else 1))
            p.setBrush(theme.colour("panel"))
            p.drawRoundedRect(frame, 5, 5)
            place = frame.adjusted(3, 3, -3, -19)
            p.fillRect(place, theme.colour("ground"))
            image = self.picture()
            if image is not None:
                share = max(place.width() / image.width(), place.height() / image.height())
                size, middle = place.size() / share, QRectF(image.rect()).center()
                p.drawImage(place, image, QRectF(middle - QPointF(0.5 * size.width(), 0.5 * size.height()), size))
            text, bad = self.words()
            p.setFont(theme.font(11.5, bold=here))
            p.setPen(theme.colour("red" if bad else "ink" if here else "soft"))
            p.drawText(frame.adjusted(4, 0, -4, -2), Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignHCenter, text)
