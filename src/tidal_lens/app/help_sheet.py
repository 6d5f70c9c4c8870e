"""The list of all commands and keys."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QPushButton, QScrollArea, QTextBrowser, QVBoxLayout, QWidget

from tidal_lens.app.parts import label

_MOUSE = (("Turn the view", "left drag, arrows", "Double-click sets the point that it turns about."),
          ("Move the view", "middle drag, Shift+left", ""), ("Zoom", "wheel, + −", "Zooms to the pointer."),
          ("Magnify", "M and left drag", "Frames a rectangle."),
          ("Choose several cards", "Ctrl+click", "What is set is set on all of them."))
_PAGES = Path(__file__).parents[3] / "docs" / "guide"
# Not there where the program was installed without its documents.
GUIDES = tuple(_PAGES / f"{name}.md" for name in ("look", "trace", "find", "optics", "measure"))


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
    for page in GUIDES:
        if page.exists():
            button = QPushButton(f"Guide: {page.stem.capitalize()}")
            button.setToolTip("Open this page of the guide")
            button.clicked.connect(lambda _checked=False, page=page: guide_page(sheet, page).show())
            line.addWidget(button)
    line.addWidget(scroll)
    return sheet


def guide_page(window: QWidget, page: Path) -> QTextBrowser:
    """A page of the guide in a small window of its own."""
    reader = QTextBrowser(window)
    reader.setWindowFlag(Qt.WindowType.Tool)
    reader.setWindowTitle(f"Guide: {page.stem.capitalize()}")
    reader.setAccessibleName("Guide")
    reader.setOpenLinks(False)
    reader.setSearchPaths([str(page.parent)])
    reader.setMarkdown(page.read_text(encoding="utf-8"))
    reader.resize(900, 700)
    return reader
