"""The list of all commands and keys."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QScrollArea, QVBoxLayout, QWidget

from tidal_lens.app.parts import label

_MOUSE = (("Turn the view", "left drag, arrows", "Double-click sets the point that it turns about."),
          ("Move the view", "middle drag, Shift+left", ""), ("Zoom", "wheel, + −", "Zooms to the pointer."))


def help_sheet(window: QWidget, commands: Sequence[tuple[str, str, str]]) -> QWidget:
    """A small window of titles, keys and what each does."""
    sheet = QWidget(window, Qt.WindowType.Tool)
    sheet.setObjectName("help")
    sheet.setWindowTitle("Keys and commands")
    sheet.resize(640, 560)
    inside = QWidget()
    inside.setObjectName("benchpage")
    grid = QGridLayout(inside)
    grid.setHorizontalSpacing(18)
    grid.setVerticalSpacing(4)
    for at, (title, keys, text) in enumerate((*commands, *_MOUSE)):
        grid.addWidget(label(title), at, 0)
        grid.addWidget(label(keys, "head"), at, 1)
        grid.addWidget(label(text, "soft"), at, 2)
    grid.setColumnStretch(2, 1)
    scroll = QScrollArea()
    scroll.setWidgetResizable(True)
    scroll.setWidget(inside)
    line = QVBoxLayout(sheet)
    line.setContentsMargins(1, 1, 1, 1)
    line.addWidget(scroll)
    return sheet
