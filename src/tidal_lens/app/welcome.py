"""A card at the very first start, with three choices."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from tidal_lens.app.parts import IconButton, Tile, label

_WIDE = 460


class Welcome(QWidget):
    """Lies over the middle of a widget until something is chosen, or Esc is pressed.

    Parameters
    ----------
    over : QWidget
        What it lies over.
    choices : sequence of tuple
        Icon, name, tip and what is done of each.
    """

    def __init__(self, over: QWidget, choices: tuple[tuple[str, str, str, Callable[[], object]], ...]) -> None:
        super().__init__(over)
        self.setObjectName("welcome")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setAccessibleName("Welcome")
        self.setFixedWidth(_WIDE)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        head, line = QHBoxLayout(), QHBoxLayout()
        head.addWidget(label("Welcome to Tidal Lens", "title"), 1)
        head.addWidget(IconButton("x", "Close", "Close this card (Esc)", self.away, size=16))
        line.setSpacing(8)
        self.tiles: list[Tile] = []
        for icon, name, tip, act in choices:
            tile = Tile(icon, name, tip, partial(self._choose, act))
            tile.setMinimumHeight(84)
            self.tiles.append(tile)
            line.addWidget(tile)
        inside = QVBoxLayout(self)
        inside.setContentsMargins(18, 14, 18, 18)
        inside.setSpacing(10)
        inside.addLayout(head)
        inside.addWidget(label("The demo is open behind this card: a glider at Mach 1.6. What you do to it can be undone.", "soft"))
        inside.addLayout(line)
        over.installEventFilter(self)
        self._lie()
        self.show()
        self.setFocus()

    def _choose(self, act: Callable[[], object]) -> None:
        self.away()
        act()

    def away(self) -> None:
        """Take the card away for good."""
        self.hide()
        self.deleteLater()

    def _lie(self) -> None:
        over = self.parentWidget()
        if over is not None:
            inside = self.layout()
            self.resize(_WIDE, inside.totalHeightForWidth(_WIDE) if inside is not None else self.height())
            self.move((over.width() - self.width()) // 2, max(20, (over.height() - self.height()) // 3))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Resize and watched is self.parentWidget():
            self._lie()
        return False

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.away()
            return
        super().keyPressEvent(event)
