"""Hands that do what a user does, by real events, and count it: an action is a click, a drag, or a number typed."""

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QContextMenuEvent
from PyQt6.QtWidgets import QApplication

from driving import click, drag, keys, pick, type_into


class Hands:
    """Does what a user does, and counts it."""

    def __init__(self):
        self.actions = 0

    def click(self, widget, at=None):
        self.actions += 1
        click(widget, at)

    def pick(self, box, text):
        self.actions += 2  # the list is opened, an entry is clicked
        pick(box, text)

    def tick(self, box):
        self.actions += 1
        click(box, QPointF(8, 8))

    def key(self, widget, key, modifiers=Qt.KeyboardModifier.NoModifier):
        self.actions += 1
        keys(widget, key, modifiers=modifiers)

    def drag(self, widget, begin, end):
        self.actions += 1
        drag(widget, begin, end)

    def menu(self, widget, text):
        """An entry of the menu that the other button of the mouse opens."""
        self.actions += 2
        middle = widget.rect().center()
        QApplication.sendEvent(widget, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, middle, widget.mapToGlobal(middle)))
        menu = QApplication.activePopupWidget()
        action = next(a for a in menu.actions() if a.text().startswith(text))
        click(menu, menu.actionGeometry(action).center())

    def type(self, field, text):
        self.actions += 1
        type_into(field, text)
