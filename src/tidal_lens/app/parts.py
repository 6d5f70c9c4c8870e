"""Small widgets that the controls are built from."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QPoint, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QColorDialog,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QMenu,
    QSizePolicy,
    QSlider,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from tidal_lens.app import theme
from tidal_lens.quantities.shown_units import Shown
from tidal_lens.quantities.store import Quantity
from tidal_lens.study.words import number_text


def telling_digits(values: Sequence[float], at: int, least: int = 4, most: int = 15) -> int:
    """How many digits a value needs to be told from its neighbours in a list."""
    near = [values[n] for n in (at - 1, at + 1) if 0 <= n < len(values) and values[n] != values[at]]
    return next((d for d in range(least, most) if all(number_text(v, d) != number_text(values[at], d) for v in near)), most)


def parse_number(text: str, length: float | None = None) -> float:
    """The number in a text; accepts a decimal comma and the true minus sign.

    Parameters
    ----------
    text : str
        What was typed.
    length : float, optional
        What ``L`` stands for after a number: -8 L.

    Raises
    ------
    ValueError
        It is no finite number.
    """
    plain = text.strip().replace("−", "-").replace(",", ".").replace(" ", "")
    lengths = length is not None and plain.upper().endswith("L")
    value = float(plain[:-1] if lengths else plain) * (length if lengths and length is not None else 1.0)
    if not math.isfinite(value):
        raise ValueError(text)
    return value


def keep_escape(event: QEvent | None) -> None:
    """Keep Escape for the field that is being typed in: the window's own use of it waits."""
    if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and event.key() == Qt.Key.Key_Escape:
        event.accept()


def _mark_bad(field: QWidget, bad: bool) -> None:
    """Draw a field as one whose text is not taken, or as any other."""
    if field.property("bad") != bad:
        field.setProperty("bad", bad)
        style = field.style()
        if style is not None:
            style.unpolish(field)
            style.polish(field)


class NumberField(QLineEdit):
    """A number that acts when Return is pressed or the field is left; arrow keys step it, with Shift finely."""

    edited = pyqtSignal(float)

    def __init__(self, name: str, tip: str, step: float = 0.1, low: float = -math.inf, high: float = math.inf) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setToolTip(f"{tip} (↑ ↓ step, Shift finely)")
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setMinimumWidth(44)
        self.step, self.low, self.high = step, low, high
        self.whole = False
        self.length: Callable[[], float | None] = lambda: None  # what L stands for after a number
        self._tip = self._plain_tip = self.toolTip()
        self._value = 0.0
        self._shown = Shown("")
        self.editingFinished.connect(self._finish)
        self.textEdited.connect(lambda _text: self._mark(True))

    def value(self) -> float:
        """The last good number."""
        return self._value

    def show_in(self, shown: Shown) -> None:
        """Show and take numbers in a unit; values stay what they are."""
        if shown != self._shown:
            self._shown = shown
            self._tip = f"{self._plain_tip} [{shown.text}]" if shown.text else self._plain_tip
            self.setToolTip(self._tip)
            if not (self.hasFocus() and self.isModified()):
                self._rewrite()

    def show_value(self, value: float) -> None:
        """Show a number, unless the user is typing another."""
        self._value = value
        if not (self.hasFocus() and self.isModified()):
            self._rewrite()

    def _rewrite(self) -> None:
        text = f"{round(self._value)}" if self.whole else number_text(self._shown.of(self._value), 6)
        if self.text() != text:
            self.setText(text)
            self.setCursorPosition(0)  # of a long number the front is what counts
        self.setModified(False)
        self._mark(True)

    def _mark(self, good: bool) -> None:
        if self.property("bad") == (not good):
            return
        _mark_bad(self, not good)
        self.setToolTip(self._tip if good else self._why())

    def _why(self) -> str:
        if math.isinf(self.low) and math.isinf(self.high):
            return "This is not a number."
        return f"A number from {number_text(self._shown.of(self.low))} to {number_text(self._shown.of(self.high))} is needed here."

    def _finish(self) -> None:
        if not self.isModified():
            return
        try:
            value = self._shown.back(parse_number(self.text(), self.length()))
        except ValueError:
            self._mark(False)
            return
        if not self.low <= value <= self.high:
            self._mark(False)
            return
        self._send(value)

    def _send(self, value: float) -> None:
        self._value = round(value) if self.whole else value
        self._rewrite()
        self.edited.emit(self._value)

    def event(self, event: QEvent | None) -> bool:
        keep_escape(event)
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and not self.whole else 1.0
            by = self.step * fine * (1 if event.key() == Qt.Key.Key_Up else -1)
            value = float(f"{self._value + by:.10g}")
            self._send(min(max(value, self.low), self.high))
            return
        if event is not None and event.key() == Qt.Key.Key_Escape and self.isModified():
            self._rewrite()
            return
        super().keyPressEvent(event)


class NumbersField(QLineEdit):
    """Several numbers with blanks or semicolons between them; acts when Return is pressed or the field is left."""

    edited = pyqtSignal(tuple)
    refused = pyqtSignal(str)

    def __init__(self, name: str, tip: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self._tip = self._plain_tip = f"{tip}, with blanks or semicolons between them"
        self.setToolTip(self._tip)
        self.editingFinished.connect(self._finish)
        self.textEdited.connect(lambda _text: self._mark(""))
        self._shown = Shown("")

    def _mark(self, why: str) -> None:
        """Show that what stands here was refused, and why; or that nothing is wrong."""
        _mark_bad(self, bool(why))
        self.setToolTip(why or self._tip)

    def refuse(self, why: str) -> None:
        """What was typed is not taken."""
        self._mark(why)
        self.refused.emit(why)

    def show_in(self, shown: Shown) -> None:
        """Show and take numbers in a unit; values stay what they are. To be said before they are shown."""
        if shown != self._shown:
            self._shown = shown
            self._tip = f"{self._plain_tip} [{shown.text}]" if shown.text else self._plain_tip
            self._mark("")

    def show_values(self, values: Sequence[float]) -> None:
        """Show numbers, unless the user is typing others."""
        if not (self.hasFocus() and self.isModified()):
            self.setText("; ".join(number_text(self._shown.of(v), 6) for v in values))
            self._mark("")

    def _finish(self) -> None:
        if not self.isModified():
            return
        try:
            values = tuple(self._shown.back(parse_number(t)) for t in self.text().replace(";", " ").split())
        except ValueError:
            self.refuse(f"“{self.text()[:60]}” are no numbers.")
            return
        self.setModified(False)
        self.edited.emit(values)


class PointField(NumbersField):
    """Three coordinates."""

    pointed = pyqtSignal(tuple)

    def __init__(self, name: str, tip: str) -> None:
        super().__init__(name, tip)
        self.edited.connect(self._check)

    def _check(self, values: tuple[float, ...]) -> None:
        if len(values) == 3:
            self.pointed.emit(values)
        else:
            self.refuse(f"Three numbers are needed here, not {len(values)}.")


class IconButton(QToolButton):
    """A button with one of our icons, redrawn when the theme changes."""

    def __init__(self, icon: str, name: str, tip: str, act: Callable[[], object] | None = None, *, size: int = 18,
                 role: str = "ink") -> None:
        super().__init__()
        self._icon, self._role = icon, role
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self.setIconSize(QSize(size, size))
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        if act is not None:
            self.clicked.connect(lambda _checked=False: act())
        theme.hub().changed.connect(self.redraw)
        self.redraw()

    def set_icon(self, icon: str) -> None:
        """Show another icon."""
        self._icon = icon
        self.redraw()

    def redraw(self) -> None:
        """Take the theme's colours."""
        self.setIcon(theme.icon(self._icon, self._role, self.iconSize().width()))


class Tile(IconButton):
    """A large button of the bench that adds something."""

    def __init__(self, icon: str, text: str, tip: str, act: Callable[[], object]) -> None:
        super().__init__(icon, text, tip, act, size=24, role="sea")
        self.setText(text)
        self.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        self.setProperty("role", "tile")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(58)


class Choice(QWidget):
    """A few exclusive words side by side; with ``across``, so many in a row."""

    picked = pyqtSignal(str)

    def __init__(self, options: Sequence[tuple[str, str, str]], across: int = 0) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        self._group = QButtonGroup(self)
        self._buttons: dict[str, QToolButton] = {}
        for value, text, tip in options:
            button = QToolButton()
            button.setText(text)
            button.setToolTip(tip)
            button.setAccessibleName(text)
            button.setCheckable(True)
            button.setProperty("role", "pick")
            button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            button.clicked.connect(lambda _checked=False, v=value: self.picked.emit(v))
            self._group.addButton(button)
            self._buttons[value] = button
            at = len(self._buttons) - 1
            grid.addWidget(button, at // (across or len(options)), at % (across or len(options)))

    def show_value(self, value: str) -> None:
        """Mark an option; none where there is no such."""
        if value in self._buttons:
            self._buttons[value].setChecked(True)
            return
        self._group.setExclusive(False)
        for button in self._buttons.values():
            button.setChecked(False)
        self._group.setExclusive(True)

    def button(self, value: str) -> QToolButton:
        """The button of an option."""
        return self._buttons[value]


class Slider(QSlider):
    """A horizontal slider over a range of real numbers; tells when it is let go."""

    moved = pyqtSignal(float)

    def __init__(self, name: str, tip: str, low: float, high: float) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self.setRange(0, 100)
        self.setPageStep(10)
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self._low, self._high = low, high
        self._silent = False
        self.valueChanged.connect(self._changed)

    def _changed(self, at: int) -> None:
        if not self._silent:
            self.moved.emit(round(self._low + (self._high - self._low) * at / 100, 4))

    def show_value(self, value: float) -> None:
        """Show a number without telling anyone."""
        self._silent = True
        self.setValue(round(100 * min(max((value - self._low) / (self._high - self._low), 0.0), 1.0)))
        self._silent = False


class ColourButton(QToolButton):
    """A square of colour that opens a chooser."""

    picked = pyqtSignal(str)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setToolTip("Choose the plain colour")
        self.setFixedSize(40, 26)
        self._colour = "#000000"
        self.clicked.connect(self._ask)

    def show_value(self, colour: str) -> None:
        """Show a colour."""
        self._colour = colour
        self.update()

    def _ask(self) -> None:
        dialog = QColorDialog(QColor(self._colour), self.window())
        dialog.setOption(QColorDialog.ColorDialogOption.DontUseNativeDialog)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.colorSelected.connect(lambda c: self.picked.emit(c.name()))
        dialog.open()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(theme.colour("sea" if self.hasFocus() else "line"))
            painter.setBrush(QColor(self._colour))
            painter.drawRoundedRect(self.rect().adjusted(1, 1, -2, -2), 5, 5)


class Box(QComboBox):
    """A list that is as wide as its place, not as its longest entry."""

    def __init__(self, name: str, tip: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMinimumContentsLength(8)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMaxVisibleItems(20)


class Picker(Box):
    """A list of choices in words."""

    def offer(self, texts: Sequence[str], chosen: int) -> None:
        """List choices and mark one."""
        if list(texts) != [self.itemText(n) for n in range(self.count())]:
            self.clear()
            self.addItems(list(texts))
        self.setCurrentIndex(chosen)


def told_apart(quantities: Sequence[Quantity]) -> list[str]:
    """Titles of quantities; with units, in which their numbers need not be shown, only where that tells apart what is called alike."""
    titles = Counter(q.title.lower() for q in quantities)
    return [q.label if titles[q.title.lower()] > 1 else q.title for q in quantities]


class QuantityChooser(Box):
    """Chooses a scalar or a vector quantity, or plain colour; what cannot be had says what is missing."""

    picked = pyqtSignal(object)

    def __init__(self, name: str, tip: str, *, plain: bool, none: str = "Plain colour") -> None:
        super().__init__(name, tip)
        self._plain, self._none = plain, none
        self._names: list[str | None] = []
        self.activated.connect(lambda at: self.picked.emit(self._names[at]))

    def offer(self, quantities: Sequence[Quantity], chosen: str | None, *, walls: bool = False, components: int = 1) -> None:
        """List the quantities that can be had and mark the chosen one; those known on walls only if they are asked for."""
        offered = [q for q in quantities if q.components == components and (q.place != "wall" or walls)
                   and (not q.missing or q.name == chosen)]
        names: list[str | None] = ([None] if self._plain else []) + [q.name for q in offered]
        if names != self._names or self.count() != len(names):
            self._names = names
            self.clear()
            if self._plain:
                self.addItem(self._none)
            for q, name in zip(offered, told_apart(offered), strict=True):
                self.addItem(name if not q.missing else f"{q.title} (needs {q.missing})")
                item = self.model()
                if q.missing and item is not None:
                    index = item.index(self.count() - 1, 0)
                    item.setData(index, 0, Qt.ItemDataRole.UserRole - 1)
                self.setItemData(self.count() - 1, q.about, Qt.ItemDataRole.ToolTipRole)
        # What is gone or not to be had is no entry of the list; then none is marked.
        self.setCurrentIndex(self._names.index(chosen) if chosen in self._names else -1)


class Check(QCheckBox):
    """A check box that tells only what the user did; a long text is cut short, and whole in the tooltip."""

    def __init__(self, text: str, tip: str, act: Callable[[bool], object]) -> None:
        super().__init__(text)
        self._whole, self._tip = text, tip
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(text)
        self.setToolTip(tip)
        self.clicked.connect(lambda on: act(bool(on)))

    def _box(self) -> int:
        """Width of all but the text."""
        return super().sizeHint().width() - self.fontMetrics().horizontalAdvance(self.text())

    def sizeHint(self) -> QSize:
        """As if nothing were cut."""
        return QSize(self._box() + self.fontMetrics().horizontalAdvance(self._whole) + 1, super().sizeHint().height())

    def minimumSizeHint(self) -> QSize:
        return QSize(min(self.sizeHint().width(), _LEAST), super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        shown = self.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideMiddle, max(self.width() - self._box(), 20))
        if shown != self.text():
            self.setText(shown)
            self.setToolTip(self._tip if shown == self._whole else f"{self._whole}: {self._tip}")


class Words(QLabel):
    """A label that never asks for more room than there is: what is too long is cut short, and whole in the tooltip."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self._whole = text
        self._tip = ""
        self._fitted: tuple[object, ...] = ()
        self.setText(text)

    def setText(self, text: str | None) -> None:
        self._whole = text or ""
        self._fit()

    def text(self) -> str:
        return self._whole

    def setToolTip(self, tip: str | None) -> None:
        self._tip = tip or ""
        self._fit()

    def minimumSizeHint(self) -> QSize:
        size = super().minimumSizeHint()
        return QSize(min(size.width(), _LEAST), size.height())

    def sizeHint(self) -> QSize:
        """As if nothing were cut."""
        size = super().sizeHint()
        if self.wordWrap() or super().text() == self._whole:
            return size
        lines = self._whole.split("\n")
        return QSize(max(self.fontMetrics().horizontalAdvance(line) for line in lines) + 2, size.height())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        width, seen = self.width(), self.isVisible()
        basis = (self._whole, self._tip, width, seen, self.wordWrap(), self.font().key())
        if basis == self._fitted:
            return
        self._fitted = basis
        metrics, shown = self.fontMetrics(), self._whole
        if self.testAttribute(Qt.WidgetAttribute.WA_WState_Created) and seen and self.textFormat() != Qt.TextFormat.RichText:
            parts = re.split(r"([ \n])" if self.wordWrap() else r"(\n)", self._whole)
            shown = "".join(metrics.elidedText(part, Qt.TextElideMode.ElideMiddle, max(width, 20)) for part in parts)
        if shown != super().text():
            super().setText(shown)
        super().setToolTip(self._tip if shown == self._whole else f"{self._whole}\n{self._tip}".strip())


_LEAST = 120  # pixels that words may ask for at least


def label(text: str, role: str = "") -> QLabel:
    """A label in one of the style sheet's roles."""
    out = Words(text)
    if role:
        out.setProperty("role", role)
    out.setWordWrap(role in ("soft", "warn", "bad"))
    return out


def rule() -> QFrame:
    """A thin line across."""
    out = QFrame()
    out.setObjectName("rule")
    return out


def pop_up(menu: QMenu, at: QPoint) -> None:
    """Show a menu at a place of the screen; it goes when it is closed."""
    menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    menu.popup(at)


def row(*widgets: QWidget | str, stretch: int | None = None, lead: int = 60) -> QHBoxLayout:
    """Widgets side by side; a text becomes a soft label, the first of an even width (``lead``)."""
    out = QHBoxLayout()
    out.setSpacing(6)
    for at, widget in enumerate(widgets):
        if isinstance(widget, str):
            one = label(widget, "soft")
            one.setWordWrap(False)
            if at == 0:
                one.setFixedWidth(lead)
            out.addWidget(one)
        else:
            out.addWidget(widget, 1 if stretch == at else 0)
    return out


def column(parent: QWidget, *items: QWidget | QLayout, margin: int = 0, spacing: int = 8) -> QVBoxLayout:
    """Widgets and layouts one below another."""
    out = QVBoxLayout(parent)
    out.setContentsMargins(margin, margin, margin, margin)
    out.setSpacing(spacing)
    for item in items:
        if isinstance(item, QWidget):
            out.addWidget(item)
        else:
            out.addLayout(item)
    return out
