"""Colours, fonts, icons and the style sheet of both themes."""

from __future__ import annotations

import sys
from functools import lru_cache
from importlib import resources
from typing import Any

from PyQt6.QtCore import QByteArray, QEvent, QObject, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPixmap
from PyQt6.QtSvg import QSvgRenderer
from PyQt6.QtWidgets import QApplication

from tidal_lens.scene.themes import CHART, THEMES, Theme

_ROUNDS = 5
FAMILIES = ["Source Sans 3", "Tidal Symbols"]


class _Hub(QObject):
    changed = pyqtSignal()


@lru_cache(maxsize=1)
def hub() -> _Hub:
    """Whoever paints with theme colours listens here."""
    return _Hub()


class _Now:
    theme = CHART


def current() -> Theme:
    """The theme in force."""
    return _Now.theme


def use(name: str) -> None:
    """Change the theme of the whole application, in one repaint."""
    _Now.theme = THEMES.get(name, CHART)
    _pixmap.cache_clear()
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        hub().changed.emit()
        return
    pace = sys.getswitchinterval()
    sys.setswitchinterval(5e-5)  # of the many small steps here each would wait its turn behind the threads at work
    try:
        # From one sheet to another all widgets are worked over at once; from none, hidden ones wait until they are shown.
        app.setStyleSheet("")
        app.setStyleSheet(_style(_Now.theme))
        hub().changed.emit()
        for _ in range(_ROUNDS):  # what changes its size does so before all is painted, once; a layout may ask for its parent's
            app.sendPostedEvents(None, QEvent.Type.LayoutRequest)
    finally:
        sys.setswitchinterval(pace)


def colour(role: str, alpha: float = 1.0) -> QColor:
    """A colour of the theme in force by its role."""
    out = QColor(str(getattr(_Now.theme, role)))
    out.setAlphaF(alpha)
    return out


@lru_cache(maxsize=1)
def load_fonts() -> tuple[str, ...]:
    """Load the shipped fonts; names of the families."""
    found: list[str] = []
    for entry in resources.files("tidal_lens").joinpath("assets/fonts").iterdir():
        if entry.name.endswith(".ttf"):
            number = QFontDatabase.addApplicationFontFromData(QByteArray(entry.read_bytes()))
            found.extend(QFontDatabase.applicationFontFamilies(number))
    return tuple(found)


def font(size: float = 13.0, *, bold: bool = False) -> QFont:
    """The interface font at a size in pixels."""
    out = QFont()
    out.setFamilies(FAMILIES)
    out.setPixelSize(round(size))
    out.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    return out


@lru_cache(maxsize=256)
def _pixmap(name: str, tint: str, size: int, ratio: float) -> QPixmap:
    text = resources.files("tidal_lens").joinpath(f"assets/icons/{name}.svg").read_text()
    renderer = QSvgRenderer(QByteArray(text.replace("currentColor", tint).encode()))
    out = QPixmap(round(size * ratio), round(size * ratio))
    out.setDevicePixelRatio(ratio)
    out.fill(Qt.GlobalColor.transparent)
    with QPainter(out) as painter:
        renderer.render(painter, QRectF(0, 0, size, size))
    return out


def pixmap(name: str, role: str = "ink", size: int = 18, ratio: float = 2.0) -> QPixmap:
    """An icon in a theme colour."""
    return _pixmap(name, str(getattr(_Now.theme, role)), size, ratio)


def icon(name: str, role: str = "ink", size: int = 18) -> QIcon:
    """An icon in a theme colour, greyed where disabled."""
    out = QIcon(pixmap(name, role, size))
    out.addPixmap(pixmap(name, "line", size), QIcon.Mode.Disabled)
    return out


def setup(app: QApplication, name: str) -> None:
    """Fonts and style of the application."""
    load_fonts()
    app.setStyle("Fusion")
    app.setFont(font(13))
    use(name)


def _style(t: Theme) -> str:
    values: dict[str, Any] = {k: getattr(t, k) for k in Theme.__dataclass_fields__}
    values["tick"] = str(resources.files("tidal_lens").joinpath(f"assets/icons/check-{t.name}.svg"))
    text = _SHEET
    for key in sorted(values, key=len, reverse=True):
        text = text.replace(f"${key}", str(values[key]))
    return text


_SHEET = """
* { color: $ink; font-family: "Source Sans 3", "Tidal Symbols"; font-size: 13px; }
QMainWindow, QWidget#root { background: $paper; }
QWidget#topbar, QWidget#rail, QWidget#statusline { background: $paper; }
QWidget#topbar { border-bottom: 1px solid $line; }
QWidget#rail { border-right: 1px solid $line; }
QWidget#statusline { border-top: 1px solid $line; }
QWidget#statusline QLabel { font-size: 12px; color: $soft; }
QWidget#bench, QWidget#bench > QWidget, QWidget#benchpage { background: $panel; }
QScrollArea { background: $panel; border: none; }
QWidget#benchframe { background: $panel; border-right: 1px solid $line; }
QWidget#deck, QScrollArea#deckscroll, QWidget#deckrow { background: $paper; }
QWidget#deck { border-top: 1px solid $line; }
QLabel { background: transparent; }
QLabel[role="title"] { font-size: 17px; font-weight: 600; }
QLabel[role="head"] { font-weight: 600; color: $ink; }
QLabel[role="soft"] { color: $soft; font-size: 12px; }
QLabel[role="warn"] { color: $amber; font-size: 12px; }
QLabel[role="bad"] { color: $red; font-size: 12px; }
QToolButton, QPushButton { background: transparent; border: 1px solid transparent; border-radius: 6px; padding: 4px 8px; }
QPushButton { border-color: $line; background: $panel; }
QToolButton:hover, QPushButton:hover { background: $shoal; }
QToolButton:pressed, QPushButton:pressed { background: $shoal; border-color: $sea; }
QToolButton:focus, QPushButton:focus { border-color: $sea; }
QToolButton:disabled, QPushButton:disabled { color: $soft; }
QToolButton[role="fact"] { color: $soft; font-size: 12px; padding: 0 4px; }
QToolButton[role="station"] { padding: 6px 0; font-size: 12px; border-radius: 6px; }
QToolButton[role="station"]:checked { background: $shoal; color: $sea; font-weight: 600; }
QToolButton[role="tile"] { border: 1px solid $line; background: $paper; padding: 6px 4px; font-size: 12px; }
QToolButton[role="tile"]:hover { border-color: $sea; background: $shoal; }
QToolButton[role="tile"]:focus { border-color: $sea; }
QToolButton[role="fold"] { border: 1px solid transparent; padding: 2px 0; font-weight: 600; text-align: left; }
QToolButton[role="pick"] { border: 1px solid $line; padding: 3px 2px; }
QToolButton[role="pick"]:checked { background: $sea; color: $on_sea; border-color: $sea; }
QPlainTextEdit { background: $paper; border: 1px solid $line; border-radius: 6px; padding: 2px 4px;
    selection-background-color: $shoal; selection-color: $ink; }
QPlainTextEdit:focus { border-color: $sea; }
QLineEdit { background: $paper; border: 1px solid $line; border-radius: 6px; padding: 3px 6px;
  selection-background-color: $sea; selection-color: $on_sea; }
QLineEdit:focus { border-color: $sea; }
QLineEdit[bad="true"] { border-color: $red; color: $red; }
QLineEdit:disabled { color: $soft; }
QComboBox { background: $paper; border: 1px solid $line; border-radius: 6px; padding: 3px 6px; }
QComboBox:focus { border-color: $sea; }
QComboBox::drop-down { border: none; width: 18px; }
QComboBox QAbstractItemView, QListWidget {
  background: $panel; border: 1px solid $line; selection-background-color: $shoal; selection-color: $ink; outline: none; }
QTableView { background: $panel; border: 1px solid $line; border-radius: 6px; gridline-color: transparent;
  selection-background-color: $shoal; selection-color: $ink; outline: none; font-size: 12px; }
QTableView::item { padding: 0 4px; border-bottom: 1px solid $line; }
QHeaderView, QTableCornerButton::section { background: $panel; border: none; }
QHeaderView::section { background: $panel; color: $soft; border: none; border-bottom: 1px solid $line; padding: 3px 6px; font-size: 12px; }
QListWidget#commands { border: 1px solid $sea; border-radius: 6px; }
QListWidget::item { padding: 3px 6px; }
QListWidget::item:selected { background: $shoal; color: $ink; }
QCheckBox { spacing: 6px; background: transparent; }
QCheckBox::indicator { width: 14px; height: 14px; border: 1px solid $soft; border-radius: 4px; background: $paper; }
QCheckBox::indicator:checked { background: $sea; border-color: $sea; image: url("$tick"); }
QCheckBox:focus { color: $sea; }
QSlider::groove:horizontal { height: 2px; background: $line; border-radius: 1px; }
QSlider::sub-page:horizontal { background: $sea; }
QSlider::handle:horizontal { background: $panel; border: 2px solid $sea; width: 10px; height: 10px; margin: -6px 0; border-radius: 7px; }
QSlider::handle:horizontal:focus { background: $sea; }
QProgressBar { background: $line; border: none; border-radius: 3px; max-height: 6px; min-height: 6px; }
QProgressBar::chunk { background: $sea; border-radius: 3px; }
QMenu { background: $panel; border: 1px solid $line; border-radius: 6px; padding: 4px; }
QMenu::item { padding: 4px 22px 4px 12px; border-radius: 4px; }
QMenu::item:selected { background: $shoal; }
QMenu::item:disabled { color: $soft; }
QMenu::separator { height: 1px; background: $line; margin: 4px 8px; }
QToolTip { background: $panel; color: $ink; border: 1px solid $line; padding: 4px 6px; }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar:horizontal { background: transparent; height: 8px; margin: 0; }
QScrollBar::handle { background: $line; border-radius: 4px; min-height: 24px; min-width: 24px; margin: 1px; }
QScrollBar::handle:hover { background: $soft; }
QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QFrame#rule { background: $line; max-height: 1px; min-height: 1px; border: none; }
QWidget#strip { background: $panel; border: 1px solid $amber; border-radius: 6px; }
QWidget#strip[grade="bad"] { border-color: $red; }
QWidget#strip[grade="note"] { border-color: $sea; }
QWidget#welcome { background: $panel; border: 1px solid $sea; border-radius: 6px; }
QWidget#help { background: $panel; border: 1px solid $line; border-radius: 6px; }
"""
