"""Drives the real window with mouse and keys."""

import time

import numpy as np
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit, QStyle, QStyleOptionSlider

from tidal_lens.app.start import complete

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier


def pass_events():
    """What a loop of events does in a turn: without one, what is to be deleted later would stay."""
    QApplication.processEvents()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def spin(seconds=0.0):
    end = time.monotonic() + seconds
    pass_events()
    while time.monotonic() < end:
        pass_events()
        time.sleep(0.002)


def wait(until, what="it", patience=120.0):
    end = time.monotonic() + patience
    while not until():
        pass_events()
        time.sleep(0.003)
        assert time.monotonic() < end, f"waited {patience} s for {what}"
    pass_events()


def settle(window, patience=120.0):
    wait(lambda: complete(window), "the picture", patience)
    spin(0.02)
    wait(lambda: complete(window), "the picture", patience)


def drag(widget, begin, end, modifiers=NONE, steps=6, button=LEFT):
    """Press at a place, move in steps, let go."""
    a, b = QPointF(begin), QPointF(end)
    QTest.mousePress(widget, button, modifiers, a.toPoint())
    for n in range(1, steps + 1):
        at = a + (b - a) * (n / steps)
        move(widget, at, modifiers, button)
        spin(0.01)
    QTest.mouseRelease(widget, button, modifiers, b.toPoint())
    spin()


def move(widget, at, modifiers=NONE, button=Qt.MouseButton.NoButton):
    """A mouse move; QTest's own does not carry buttons on the off-screen platform."""
    from PyQt6.QtGui import QMouseEvent

    place = QPointF(at)
    there = QPointF(widget.mapToGlobal(place.toPoint()))
    event = QMouseEvent(QEvent.Type.MouseMove, place, there, Qt.MouseButton.NoButton, button, modifiers)
    QApplication.sendEvent(widget, event)


def click(widget, at=None, modifiers=NONE, button=LEFT):
    QTest.mouseClick(widget, button, modifiers, QPoint(widget.width() // 2, widget.height() // 2) if at is None else QPointF(at).toPoint())
    spin()


def keys(widget, *what, modifiers=NONE):
    for one in what:
        if isinstance(one, str):
            QTest.keyClicks(widget, one)
        else:
            QTest.keyClick(widget, one, modifiers)
    spin()


def type_into(field, text):
    """Type a text in place of what a field holds, and press Return."""
    field.setFocus()
    field.selectAll()
    if text.isascii():
        QTest.keyClicks(field, text)
    else:  # QTest has no keys for other letters; an input method would insert them
        field.insert(text)
    QTest.keyClick(field, Qt.Key.Key_Return)
    spin()


def pixels(widget):
    """What a widget shows, shape (h, w, 3)."""
    image = widget.grab().toImage().convertToFormat(image_format())
    bits = image.constBits()
    bits.setsize(image.sizeInBytes())
    return np.frombuffer(bytes(bits), np.uint8).reshape(image.height(), image.bytesPerLine() // 4, 4)[:, : image.width(), :3].astype(int)


def image_format():
    from PyQt6.QtGui import QImage

    return QImage.Format.Format_RGBX8888


def differing(a, b, by=12):
    """Share of pixels that differ."""
    return float((np.abs(a - b).max(axis=-1) > by).mean())


def pick(box, text):
    """Open a list and click an entry that begins with a text."""
    box.setFocus()
    QTest.keyClick(box, Qt.Key.Key_F4)
    listed = box.view()
    wait(listed.isVisible, "the list", 5)
    at = next(n for n in range(box.count()) if box.itemText(n).startswith(text))
    index = box.model().index(at, 0)
    listed.scrollTo(index)
    usual = QApplication.doubleClickInterval()
    QApplication.setDoubleClickInterval(20)
    spin(0.03)  # a click within that time after it opened is taken for the end of the press that opened it
    QTest.mouseMove(listed.viewport(), listed.visualRect(index).center())
    QTest.mouseClick(listed.viewport(), LEFT, NONE, listed.visualRect(index).center())
    spin(0.02)
    QApplication.setDoubleClickInterval(usual)


def choose(menu, text):
    """Click an entry of an open menu."""
    action = next(a for a in menu.actions() if a.text().split("\t")[0] == text)
    QTest.mouseClick(menu, LEFT, NONE, menu.actionGeometry(action).center())
    spin(0.02)


def slide(slider, share, steps=6):
    """Drag a slider's handle to a share of its way."""
    option = QStyleOptionSlider()
    slider.initStyleOption(option)
    handle = slider.style().subControlRect(QStyle.ComplexControl.CC_Slider, option, QStyle.SubControl.SC_SliderHandle, slider)
    to = handle.width() / 2 + share * (slider.width() - handle.width())
    drag(slider, QPointF(handle.center()), QPointF(to, handle.center().y()), steps=steps)


def fill_in(dialog, path):
    """Type a name in a file dialog and press Enter."""
    edit = dialog.findChild(QLineEdit, "fileNameEdit")
    edit.setFocus()
    edit.selectAll()
    QTest.keyClicks(edit, str(path))
    QTest.keyClick(edit, Qt.Key.Key_Return)
    spin(0.05)
