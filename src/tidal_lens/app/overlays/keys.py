"""Colour keys: one a quantity in use, with its distribution, grips for the range and beads for isosurfaces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QMenu

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import near
from tidal_lens.app.stage import Stage
from tidal_lens.quantities.catalogue import BY_NAME
from tidal_lens.quantities.store import Distribution, Quantity
from tidal_lens.scene.palettes import palette
from tidal_lens.study.model import KeySetting
from tidal_lens.study.words import number_text

LEFT, TOP, WIDTH, HEIGHT, BAR, SPREAD, LINE = 12.0, 12.0, 124.0, 236.0, 13.0, 30.0, 13.0


@dataclass(frozen=True, eq=False)
class _Key:
    quantity: Quantity
    spread: Distribution
    low: float
    high: float
    box: QRectF
    axis: tuple[float, float]
    beads: tuple[tuple[str, float], ...]
    told: tuple[str, ...]

    @property
    def bar(self) -> QRectF:
        head = 42 + LINE * (len(self.told) - 1)
        return QRectF(self.box.left() + 8 + SPREAD, self.box.top() + head, BAR, self.box.height() - head - 12)

    def y_of(self, value: float) -> float:
        a, b = self.axis
        share = (value - a) / (b - a) if b > a else 0.5
        return self.bar.bottom() - min(max(share, 0.0), 1.0) * self.bar.height()

    def value_at(self, y: float) -> float:
        a, b = self.axis
        share = min(max((self.bar.bottom() - y) / self.bar.height(), 0.0), 1.0)
        return a + share * (b - a)


class KeysOverlay:
    """All colour keys of the view."""

    def __init__(self, view: Stage) -> None:
        self._view = view
        self._held: tuple[str, str] | None = None
        self._axis: tuple[float, float] | None = None
        self._offset = 0.0

    def keys(self) -> list[_Key]:
        """The keys in use, from the left, as many as fit."""
        document = self._view.document
        if document.evaluator is None:
            return []
        names: dict[str, list[tuple[str, float]]] = {}
        for layer in document.study.layers:
            if not document.study.is_drawn(layer):
                continue
            if layer.look.colour_by:
                names.setdefault(layer.look.colour_by, [])
            for name, value in layer.shape.levels():
                names.setdefault(name, []).append((layer.id, value))
        found: list[_Key] = []
        for name, beads in names.items():
            known = document.key(name)
            box = QRectF(LEFT + len(found) * (WIDTH + 6), TOP, WIDTH, min(HEIGHT, self._view.height() - 40))
            if known is None or box.right() > self._view.width() - 8:
                continue
            spread, low, high = known
            axis = (min(spread.span[0], low, *(v for _, v in beads)), max(spread.span[1], high, *(v for _, v in beads)))
            if self._held is not None and self._held[0] == name and self._axis is not None:
                axis = self._axis
            if axis[0] == axis[1]:
                axis = (low, high)
            quantity = document.evaluator.store.describe(name)
            found.append(_Key(quantity, spread, low, high, box, axis, tuple(beads), self._told(quantity, first_look=spread.coarse)))
        return found

    def _told(self, quantity: Quantity, *, first_look: bool) -> tuple[str, ...]:
        """Unit, and how the values came about, in as many lines as that takes."""
        plain = quantity.name in BY_NAME and not BY_NAME[quantity.name].unit
        unit = quantity.unit or ("" if self._si() or plain else "file units")
        text = " · ".join(t for t in (unit, "first look…" if first_look else quantity.made) if t)
        measure = QFontMetricsF(theme.font(11))
        lines: list[str] = []
        for word in text.split(" "):
            longer = f"{lines[-1]} {word}" if lines else word
            if lines and measure.horizontalAdvance(longer) <= WIDTH - 12:
                lines[-1] = longer
            else:
                lines.append(word)
        return tuple(measure.elidedText(line, Qt.TextElideMode.ElideRight, WIDTH - 12) for line in lines)

    def paint(self, p: QPainter) -> None:
        for key in self.keys():
            self._paint_key(p, key)

    def _paint_key(self, p: QPainter, key: _Key) -> None:
        p.setPen(QPen(theme.colour("line"), 1))
        p.setBrush(theme.colour("panel", 0.88))
        p.drawRoundedRect(key.box, 6, 6)
        p.setPen(theme.colour("ink"))
        p.setFont(theme.font(12.5, bold=True))
        title = p.fontMetrics().elidedText(key.quantity.title, Qt.TextElideMode.ElideRight, round(WIDTH) - 12)
        p.drawText(QPointF(key.box.left() + 8, key.box.top() + 17), title)
        p.setFont(theme.font(11))
        p.setPen(theme.colour("soft"))
        for n, line in enumerate(key.told):
            p.drawText(QPointF(key.box.left() + 8, key.box.top() + 31 + LINE * n), line)
        self._paint_silhouette(p, key)
        self._paint_bar(p, key)
        self._paint_marks(p, key)

    def _si(self) -> bool:
        flow = self._view.document.flow
        return flow is not None and flow.si_units

    def _paint_silhouette(self, p: QPainter, key: _Key) -> None:
        counts, (a, b) = key.spread.counts, key.spread.span
        if counts.max() == 0 or not b > a:
            return
        edge = key.bar.left() - 4
        shape = [QPointF(edge, key.y_of(a))]
        for n, share in enumerate(np.sqrt(counts / counts.max())):
            y0, y1 = (key.y_of(a + (b - a) * (n + m) / len(counts)) for m in (0, 1))
            x = edge - float(share) * (SPREAD - 4)
            shape += [QPointF(x, y0), QPointF(x, y1)]
        shape.append(QPointF(edge, key.y_of(b)))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("soft", 0.45))
        p.drawPolygon(QPolygonF(shape))

    def _paint_bar(self, p: QPainter, key: _Key) -> None:
        table = palette(key.quantity.scale, key.low, key.high)
        bar = key.bar
        rows = int(bar.height())
        p.setPen(Qt.PenStyle.NoPen)
        for n in range(rows):
            value = key.value_at(bar.top() + n + 0.5)
            share = (value - key.low) / (key.high - key.low)
            r, g, b, _ = (int(c) for c in table[int(min(max(share, 0.0), 0.9999) * len(table))])
            tint = QColor(r, g, b)
            inside = key.low <= value <= key.high
            tint.setAlphaF(1.0 if inside else 0.35)
            p.setBrush(tint)
            p.drawRect(QRectF(bar.left(), bar.top() + n, bar.width(), 1.2))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(theme.colour("soft"), 1))
        p.drawRect(bar)

    def _paint_marks(self, p: QPainter, key: _Key) -> None:
        right = key.bar.right()
        free: list[float] = []
        for value in (key.high, key.low):
            y = key.y_of(value)
            p.setPen(QPen(theme.colour("ink"), 1))
            p.setBrush(theme.colour("panel"))
            p.drawPolygon(QPolygonF([QPointF(right + 1, y), QPointF(right + 9, y - 5), QPointF(right + 9, y + 5)]))
            p.setFont(theme.font(12))
            p.drawText(QPointF(right + 13, y + 4), number_text(value))
            free.append(y)
        middle = {"signed": 0.0, "mach": 1.0}.get(key.quantity.scale)
        if middle is not None and key.low < middle < key.high and all(abs(key.y_of(middle) - y) > 16 for y in free):
            y = key.y_of(middle)
            p.drawLine(QPointF(right, y), QPointF(right + 5, y))
            p.setPen(theme.colour("soft"))
            p.drawText(QPointF(right + 13, y + 4), number_text(middle))
            free.append(y)
        for _layer, value in key.beads:
            y = key.y_of(value)
            p.setPen(QPen(theme.colour("magenta"), 1.5))
            p.drawLine(QPointF(key.bar.left() - 6, y), QPointF(right + 4, y))
            p.setBrush(theme.colour("magenta"))
            p.drawEllipse(QPointF(key.bar.left() - 6, y), 5, 5)
            label_y = y if all(abs(y - other) > 15 for other in free) else next(
                (y + d for d in (16, -16, 32, -32) if all(abs(y + d - o) > 14 for o in free)), y)
            p.setFont(theme.font(12, bold=True))
            p.setPen(theme.colour("magenta"))
            p.drawText(QPointF(right + 13, label_y + 4), number_text(value))
            free.append(label_y)

    def grip_at(self, name: str, what: str) -> QPointF:
        """Where a grip (``low``, ``high`` or a layer's id) is."""
        key = next(k for k in self.keys() if k.quantity.name == name)
        if what in ("low", "high"):
            return QPointF(key.bar.right() + 5, key.y_of(key.low if what == "low" else key.high))
        return QPointF(key.bar.left() - 6, key.y_of(dict(key.beads)[what]))

    def _find(self, at: QPointF) -> tuple[_Key, str] | None:
        for key in self.keys():
            if not key.box.contains(at):
                continue
            for layer_id, value in key.beads:
                if near(at, QPointF(key.bar.left() - 6, key.y_of(value)), 9):
                    return key, layer_id
            ends = sorted((abs(at.y() - key.y_of(v)), what) for what, v in (("high", key.high), ("low", key.low)))
            if at.x() > key.bar.right() - 2 and ends[0][0] < 10:
                return key, ends[0][1]
            return key, ""
        return None

    def grasp(self, at: QPointF) -> bool:
        found = self._find(at)
        if found is None:
            return False
        key, what = found
        if what:
            self._held, self._axis = (key.quantity.name, what), key.axis
            start = key.high if what == "high" else key.low if what == "low" else dict(key.beads)[what]
            self._offset = key.y_of(start) - at.y()
            if what not in ("low", "high"):
                self._view.document.choose(what)
        return True

    def drag(self, at: QPointF, _modifiers: Qt.KeyboardModifier) -> None:
        if self._held is None:
            return
        name, what = self._held
        key = next((k for k in self.keys() if k.quantity.name == name), None)
        if key is None:
            return
        value = float(f"{key.value_at(at.y() + self._offset):.4g}")
        self._set(key, what, value, grip=f"key {name} {what}")

    def _set(self, key: _Key, what: str, value: float, grip: str = "") -> None:
        document, name = self._view.document, key.quantity.name
        if what in ("low", "high"):
            gap = 1e-3 * (key.axis[1] - key.axis[0])
            old = document.study.keys.get(name, KeySetting())
            if old.symmetric:
                reach = max(abs(value), gap)
                setting = KeySetting(low=-reach, high=reach, symmetric=True)
            elif what == "low":
                setting = KeySetting(low=min(value, key.high - gap), high=key.high)
            else:
                setting = KeySetting(low=key.low, high=max(value, key.low + gap))
            document.edit(document.study.with_key(name, setting), "Key range", grip)
        else:
            layer = document.study.layer(what)
            if layer is not None:
                document.edit_layer(layer.with_(shape=layer.shape.at_level(0, value)), f"Value of the {layer.kind}", grip)

    def let_go(self) -> None:
        self._held = self._axis = None

    def double_click(self, at: QPointF) -> bool:
        found = self._find(at)
        if found is None:
            return False
        key, what = found
        if not what:
            return True
        value = key.high if what == "high" else key.low if what == "low" else dict(key.beads)[what]
        place = QRectF(key.bar.right() + 10, key.y_of(value) - 13, 74, 26)
        self._view.typing.ask_number(place, value, lambda v: self._set(key, what, v))
        return True

    def menu(self, at: QPointF) -> bool:
        found = self._find(at)
        if found is None:
            return False
        name = found[0].quantity.name
        document = self._view.document
        setting = document.study.keys.get(name, KeySetting())
        menu = QMenu(self._view)
        mirror = menu.addAction("Symmetric about zero")
        reset = menu.addAction("Reset the range")
        if mirror is not None and reset is not None:
            mirror.setCheckable(True)
            mirror.setChecked(setting.symmetric)
            mirror.toggled.connect(lambda on: document.edit(
                document.study.with_key(name, setting.with_(symmetric=on)), "Symmetric key"))
            reset.setEnabled(setting != KeySetting())
            reset.triggered.connect(lambda: document.edit(document.study.with_key(name, KeySetting()), "Reset the key"))
        menu.popup(self._view.mapToGlobal(at.toPoint()))
        return True

    def hint(self, at: QPointF) -> str:
        found = self._find(at)
        if found is None:
            return ""
        key, what = found
        if what in ("low", "high"):
            return "Drag to change the range; double-click to type it"
        if what:
            return "Drag to change the value; double-click to type it"
        return f"{key.quantity.label}: {key.quantity.about}; {key.quantity.made}. Right-click: symmetric, reset"


