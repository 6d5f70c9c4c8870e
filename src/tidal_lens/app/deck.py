"""The deck: one live card a layer."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from PyQt6.QtCore import QPoint, QPointF, QRect, QRectF, Qt, QTimer
from PyQt6.QtGui import QColor, QContextMenuEvent, QFontMetrics, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QMenu, QScrollArea, QVBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import pop_up
from tidal_lens.app.pixels import image_of
from tidal_lens.scene.palettes import palette
from tidal_lens.study.model import KeySetting, Layer
from tidal_lens.study.words import Words

WIDTH, HEIGHT, PICTURE = 152, 108, 58
_DOUBLE = 0.6  # seconds between the first press on the lamp and the double click that it was part of


class Card(QWidget):
    """A card: small picture, name, what it is made from, colour chip, lamp, and a ring while it computes."""

    def __init__(self, document: Document, layer_id: str, act: Any) -> None:
        super().__init__()
        self.document = document
        self.layer_id = layer_id
        self._act = act
        self._picture: QImage | None = None
        self._press: QPoint | None = None
        self._lamp_pressed = -_DOUBLE
        self._before: tuple[bool, str | None] = (True, None)
        self._turn, self._turns = 0, False
        self._looks: tuple[object, ...] = ()
        self._rests_on: tuple[object, ...] = ()
        self._told = ""
        self._editor: QLineEdit | None = None
        self.setFixedSize(WIDTH, HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self._timer = QTimer(self)
        self._timer.setInterval(90)
        self._timer.timeout.connect(self._spin)

    @property
    def layer(self) -> Layer | None:
        """The layer of the card."""
        return self.document.study.layer(self.layer_id)

    def lamp_rect(self) -> QRect:
        """Where the lamp is."""
        return QRect(WIDTH - 24, PICTURE + 11, 18, 18)

    def set_picture(self, pixels: np.ndarray[Any, Any]) -> None:
        """Show another small picture, shape (h, w, 4)."""
        self._picture = image_of(pixels)
        self.update()

    @property
    def has_picture(self) -> bool:
        """Whether there is a small picture."""
        return self._picture is not None

    def refresh(self) -> None:
        """Show what the layer is now."""
        layer = self.layer
        if layer is None:
            return
        self.refresh_ring()
        document = self.document
        trouble, drawn = document.asking.failures.get(self.layer_id), document.study.is_drawn(layer)
        name = layer.look.colour_by
        looks = (layer.name, layer.kind, layer.look, trouble, drawn, document.study.alone, self.layer_id == document.chosen,
                 self.layer_id in document.also, theme.current().name, document.key(name) if name else None,
                 document.study.keys.get(name or ""))
        rests_on = (layer, document.asking.results.get(self.layer_id), document.evaluator, document.units, document.study.card_names())
        if looks == self._looks and rests_on == self._rests_on:
            return
        self._rests_on = rests_on
        source = self._source(layer)
        if looks == self._looks and source == self._told:
            return
        self.setAccessibleName(f"{layer.name}, {layer.kind}, {'shown' if drawn else 'hidden'}")
        self.setToolTip(trouble or f"{layer.name}: {source}.\nLamp: show or hide; double-click it to show this "
                        "card alone.\nF2 renames, Del removes, Ctrl+D duplicates, drag reorders.")
        if looks == self._looks:
            self.update(0, PICTURE + 28, WIDTH, HEIGHT - PICTURE - 28)  # while it is dragged nothing but its words changes
        else:
            self.update()
        self._looks, self._told = looks, source

    def refresh_ring(self) -> None:
        """Turn the ring while it computes; what is soon done shows none."""
        busy = self.document.jobs.is_busy(Slot("card", self.layer_id))
        if busy and not self._timer.isActive():
            self._timer.start()
        elif not busy and self._timer.isActive():
            self._timer.stop()
            if self._turns:
                self._turns = False
                self.update(self._ring_rect())

    def _spin(self) -> None:
        self._turns = True
        self._turn = (self._turn + 30) % 360
        self.update(self._ring_rect())

    def _ring_rect(self) -> QRect:
        return self.lamp_rect().adjusted(-3, -3, 3, 3)

    def _source(self, layer: Layer) -> str:
        evaluator = self.document.evaluator
        units = self.document.units
        told = layer.tell(Words(evaluator.store if evaluator is not None else None, self.document.study.card_names(), units.values))
        result = self.document.asking.results.get(layer.id)
        came_to = result.unmasked.told_in(units) if result is not None else ""
        return f"{came_to} · {told}" if came_to else told

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        layer = self.layer
        if layer is None:
            return
        with QPainter(self) as p:
            self._paint(p, layer)

    def _paint(self, p: QPainter, layer: Layer) -> None:
        p.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        chosen = self.layer_id in (self.document.chosen, *self.document.also)
        drawn = self.document.study.is_drawn(layer)
        frame = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        p.setPen(QPen(theme.colour("sea" if chosen else "line"), 2 if chosen else 1))
        p.setBrush(theme.colour("panel"))
        p.drawRoundedRect(frame, 6, 6)
        place = QRectF(4, 4, WIDTH - 8, PICTURE)
        if self._picture is not None:
            p.setOpacity(1.0 if drawn else 0.35)
            p.drawImage(place, self._picture)
            p.setOpacity(1.0)
        else:
            p.fillRect(place, theme.colour("ground"))
            if layer.shape.geometry == "none":  # it has no picture of its own
                theme.icon(layer.kind, "magenta", 32).paint(p, place.toRect().adjusted(0, 12, 0, -12))
        if self.hasFocus():
            p.setPen(QPen(theme.colour("sea"), 1, Qt.PenStyle.DotLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRoundedRect(frame.adjusted(2, 2, -2, -2), 5, 5)
        self._paint_text(p, layer, drawn)
        self._paint_chip(p, layer)
        self._paint_lamp(p, drawn)

    def _paint_text(self, p: QPainter, layer: Layer, drawn: bool) -> None:
        bold, small = theme.font(13, bold=True), theme.font(11.5)
        p.setFont(bold)
        p.setPen(theme.colour("ink" if drawn else "soft"))
        name = QFontMetrics(bold).elidedText(layer.name, Qt.TextElideMode.ElideRight, WIDTH - 36)
        p.drawText(QPointF(8, PICTURE + 25), name)
        p.setFont(small)
        trouble = self.layer_id in self.document.asking.failures
        p.setPen(theme.colour("red" if trouble else "soft"))
        text = self.document.asking.failures.get(self.layer_id) or self._source(layer)
        p.drawText(QPointF(8, PICTURE + 42), QFontMetrics(small).elidedText(text, Qt.TextElideMode.ElideRight, WIDTH - 16))

    def _paint_chip(self, p: QPainter, layer: Layer) -> None:
        chip = QRectF(4, PICTURE + 3, WIDTH - 8, 5)
        p.setPen(Qt.PenStyle.NoPen)
        name = layer.look.colour_by
        known = self.document.key(name) if name else None
        if known is None or name is None or self.document.evaluator is None:
            p.setBrush(QColor(layer.look.colour))
            p.drawRect(chip)
            return
        setting = self.document.study.keys.get(name, KeySetting())
        scale = setting.palette or self.document.evaluator.store.describe(name).scale
        table = palette(scale, known[1], known[2], setting.bands, flipped=setting.flipped)
        pieces = 28
        for n in range(pieces):
            r, g, b, _ = (int(c) for c in table[(2 * n + 1) * len(table) // (2 * pieces)])
            p.setBrush(QColor(r, g, b))
            p.drawRect(QRectF(chip.left() + chip.width() * n / pieces, chip.top(), chip.width() / pieces + 0.4, chip.height()))

    def _paint_lamp(self, p: QPainter, drawn: bool) -> None:
        lamp = QRectF(self.lamp_rect()).adjusted(4, 4, -4, -4)
        p.setPen(QPen(theme.colour("amber" if drawn else "soft"), 1.5))
        p.setBrush(theme.colour("amber", 0.85) if drawn else Qt.BrushStyle.NoBrush)
        p.drawEllipse(lamp)
        if self.document.study.alone == self.layer_id:
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawEllipse(lamp.adjusted(-3, -3, 3, 3))
        if self._turns:
            p.setPen(QPen(theme.colour("sea"), 2))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawArc(lamp.adjusted(-4, -4, 4, 4), -self._turn * 16, 110 * 16)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.document.choose_too(self.layer_id)
            return
        if event.button() != Qt.MouseButton.LeftButton or self.layer_id not in self.document.also or not self._on_lamp(event):
            self.document.choose(self.layer_id)
        if event.button() == Qt.MouseButton.LeftButton:
            if self.lamp_rect().contains(event.position().toPoint()):
                now, layer = time.monotonic(), self.layer
                if layer is not None and now - self._lamp_pressed > _DOUBLE:
                    self._before = (layer.shown, self.document.study.alone)
                self._lamp_pressed = now
                self._act("toggle-lamp", self.layer_id)
            else:
                self._press = event.position().toPoint()

    def _on_lamp(self, event: QMouseEvent) -> bool:
        return self.lamp_rect().contains(event.position().toPoint())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._press is None or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        if abs(event.position().x() - self._press.x()) > 12:
            deck = self.parentWidget()
            if deck is not None:
                at = int(self.mapTo(deck, event.position().toPoint()).x() / (WIDTH + 8))
                ids = [x.id for x in self.document.study.layers]
                if self.layer_id in ids and at != ids.index(self.layer_id):
                    self.document.edit(self.document.study.moved(self.layer_id, at), "Reorder", f"reorder {self.layer_id}")

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        self._press = None

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self.lamp_rect().contains(event.position().toPoint()):
            self._show_alone()
        elif event.position().y() > PICTURE:
            self.rename()

    def _show_alone(self) -> None:
        """Show this card alone, or all again; the first click of a double click is taken back in the same step."""
        layer, study = self.layer, self.document.study
        if layer is None:
            return
        recent = time.monotonic() - self._lamp_pressed < _DOUBLE
        shown, alone = self._before if recent else (layer.shown, study.alone)
        back = None if alone == self.layer_id else self.layer_id
        wanted = study.replacing(layer.with_(shown=shown)).with_(alone=back)
        self.document.edit(wanted, "Show alone" if back else "Show all", f"lamp {self.layer_id}")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        ids = [x.id for x in self.document.study.layers]
        here = ids.index(self.layer_id) if self.layer_id in ids else 0
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if step and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self.document.edit(self.document.study.moved(self.layer_id, here + step), "Reorder")
        elif step and 0 <= here + step < len(ids):
            self.document.choose(ids[here + step])
            self._act("focus-card", ids[here + step])
        elif event.key() == Qt.Key.Key_Space:
            self._act("toggle-lamp", self.layer_id)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.document.choose(self.layer_id)
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is None:
            return
        if self.layer_id not in (self.document.chosen, *self.document.also):
            self.document.choose(self.layer_id)
        menu = QMenu(self)
        for text, key, action in (("Show or hide", "Space", "toggle-lamp"), ("Show alone", "", "show-alone"), ("Rename", "F2", "rename"),
                                  ("Duplicate", "Ctrl+D", "duplicate"), ("Remove", "Del", "remove")):
            item = menu.addAction(f"{text}\t{key}" if key else text)
            if item is not None:
                item.triggered.connect(lambda _checked=False, a=action: self._act(a, self.layer_id))
        together = menu.addAction("Stack the chosen cards\tCtrl+G")
        if together is not None:
            together.setEnabled(len(self.document.chosen_layers) > 1)
            together.triggered.connect(lambda: self._act("stack"))
        apart = menu.addAction("Take the stack apart")
        if apart is not None:
            apart.setEnabled(any(x.stack for x in self.document.chosen_layers))
            apart.triggered.connect(lambda: self._act("unstack"))
        pop_up(menu, event.globalPos())

    def rename(self) -> None:
        """Type another name on the card."""
        layer = self.layer
        if layer is None or self._editor is not None:
            return
        editor = QLineEdit(layer.name, self)
        editor.setGeometry(4, PICTURE + 10, WIDTH - 32, 24)
        editor.selectAll()
        editor.show()
        editor.setFocus()
        self._editor = editor
        editor.editingFinished.connect(self._renamed)

    def _renamed(self) -> None:
        editor, self._editor = self._editor, None
        layer = self.layer
        if editor is None:
            return
        text = editor.text().strip()[:200]
        editor.deleteLater()
        if layer is not None and text and text != layer.name:
            self.document.edit_layer(layer.with_(name=text), "Rename")
        self.setFocus()


class StackHead(QWidget):
    """Stands before the cards of a stack: a click chooses them all, its lamp shows or hides them all."""

    def __init__(self, document: Document, stack: str) -> None:
        super().__init__()
        self.document, self.stack = document, stack
        self.setFixedSize(30, HEIGHT)
        self.setAccessibleName("Stack of cards")
        self.setToolTip("A stack: click to choose all of its cards, click its lamp to show or hide them all")

    def layers(self) -> list[Layer]:
        """The layers of the stack."""
        return [x for x in self.document.study.layers if x.stack == self.stack]

    def lamp_rect(self) -> QRect:
        """Where its lamp is."""
        return QRect(6, HEIGHT - 28, 18, 18)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        with QPainter(self) as p:
            p.setRenderHint(QPainter.RenderHint.Antialiasing)
            p.setPen(QPen(theme.colour("line"), 1))
            p.setBrush(theme.colour("shoal"))
            p.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)
            p.setPen(theme.colour("ink"))
            p.setFont(theme.font(11.5, bold=True))
            p.save()
            p.translate(20, HEIGHT - 38)
            p.rotate(-90)
            p.drawText(0, 0, f"{len(self.layers())} cards")
            p.restore()
            lit = any(self.document.study.is_drawn(x) for x in self.layers())
            p.setPen(QPen(theme.colour("amber" if lit else "soft"), 1.5))
            p.setBrush(theme.colour("amber", 0.85) if lit else Qt.BrushStyle.NoBrush)
            p.drawEllipse(QRectF(self.lamp_rect()).adjusted(4, 4, -4, -4))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        layers = self.layers()
        if event is None or not layers:
            return
        if self.lamp_rect().contains(event.position().toPoint()):
            on = not any(self.document.study.is_drawn(x) for x in layers)
            self.document.edit_layers([x.with_(shown=on) for x in layers], "Show" if on else "Hide", f"lamp {self.stack}")
            return
        self.document.choose(layers[0].id)
        for layer in layers[1:]:
            self.document.choose_too(layer.id)


class Deck(QWidget):
    """All cards in a row."""

    def __init__(self, document: Document, act: Any) -> None:
        super().__init__()
        self.setObjectName("deck")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(HEIGHT + 26)
        self.document = document
        self._act = act
        self.cards: dict[str, Card] = {}
        self.heads: dict[str, StackHead] = {}
        self.row = QWidget()
        self.row.setObjectName("deckrow")
        self._layout = QHBoxLayout(self.row)
        self._layout.setContentsMargins(8, 6, 8, 4)
        self._layout.setSpacing(8)
        self._layout.addStretch(1)
        self.scroller = QScrollArea()
        self.scroller.setObjectName("deckscroll")
        self.scroller.setWidgetResizable(True)
        self.scroller.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroller.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.scroller.setWidget(self.row)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 1, 0, 0)
        outer.addWidget(self.scroller)
        document.study_changed.connect(self.refresh)
        document.chosen_changed.connect(self.refresh)
        document.result_changed.connect(self._refresh_one)
        document.quantity_known.connect(lambda _name: self.refresh())
        document.jobs.changed.connect(self._refresh_rings)
        theme.hub().changed.connect(self.refresh)

    def _refresh_one(self, layer_id: str) -> None:
        if layer_id in self.cards:
            self.cards[layer_id].refresh()

    def _refresh_rings(self) -> None:
        for card in self.cards.values():
            card.refresh_ring()

    def _in_row(self) -> list[Card | StackHead]:
        """Cards in the study's order, and before the first of each stack its head."""
        row: list[Card | StackHead] = []
        seen: set[str] = set()
        for layer in self.document.study.layers:
            if layer.stack and layer.stack not in seen:
                seen.add(layer.stack)
                if layer.stack not in self.heads:
                    self.heads[layer.stack] = StackHead(self.document, layer.stack)
                row.append(self.heads[layer.stack])
            if layer.id not in self.cards:
                self.cards[layer.id] = Card(self.document, layer.id, self._act)
            row.append(self.cards[layer.id])
        return row

    def refresh(self) -> None:
        """One card for each layer, in the study's order."""
        ids = [layer.id for layer in self.document.study.layers]
        for gone in set(self.cards) - set(ids):
            card = self.cards.pop(gone)
            self._layout.removeWidget(card)
            card.hide()
            card.deleteLater()
        for old in set(self.heads) - {layer.stack for layer in self.document.study.layers}:
            head = self.heads.pop(old)
            self._layout.removeWidget(head)
            head.hide()
            head.deleteLater()
        for at, widget in enumerate(self._in_row()):
            if self._layout.indexOf(widget) != at:
                self._layout.removeWidget(widget)
                self._layout.insertWidget(at, widget)
            if isinstance(widget, Card):
                widget.refresh()
            else:
                widget.update()
        if self.document.chosen in self.cards:
            self.scroller.ensureWidgetVisible(self.cards[self.document.chosen], 8, 0)
