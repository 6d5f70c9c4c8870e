"""Colour keys: one a quantity in use, with its distribution, grips for the range and beads for isosurfaces."""

from __future__ import annotations

from collections.abc import Hashable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPixmap
from PyQt6.QtWidgets import QMenu

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import near
from tidal_lens.app.overlays.painting import measure, paint_marks
from tidal_lens.app.parts import pop_up
from tidal_lens.app.stage import Stage
from tidal_lens.quantities.shown_units import ABSOLUTE, choices
from tidal_lens.scene.key_faces import BEAD, KeyFace, key_faces
from tidal_lens.scene.palettes import CHOICES
from tidal_lens.study.model import KeySetting

BANDS = 10  # to begin with


def _content(k: KeyFace) -> tuple[Hashable, ...]:
    """All that it is painted by."""
    return (k.quantity, id(k.spread), k.low, k.high, k.left, k.top, k.height, k.axis, k.beads, k.title, k.told, k.setting, k.slim,
            k.units.setting)


class KeysOverlay:
    """All colour keys of the view."""

    def __init__(self, view: Stage) -> None:
        self._view = view
        self._held: tuple[str, str] | None = None
        self._axis: tuple[float, float] | None = None
        self._offset = 0.0
        self._grab = QPointF()
        self._pointed = ""
        self._painted: tuple[Hashable, QPixmap] | None = None

    def _full(self) -> set[str]:
        """Quantities whose keys do not give way: those of the chosen card, the one that is held, the one that is pointed at."""
        layer = self._view.document.chosen_layer
        names = {self._held[0] if self._held is not None else "", self._pointed}
        if layer is not None:
            names |= {layer.look.colour_by or "", *(name for name, _ in layer.shape.levels())}
        return names

    def keys(self) -> list[KeyFace]:
        """The keys in use, from the left, as many as fit."""
        document = self._view.document
        if document.evaluator is None:
            return []
        held = {self._held[0]: self._axis} if self._held is not None and self._axis is not None else None
        return key_faces(document.study, document.evaluator, document.key, (self._view.width(), self._view.height()), measure, held,
                         self._full())

    def paint(self, p: QPainter) -> None:
        faces = self.keys()
        ratio = self._view.devicePixelRatioF()
        basis = (ratio, self._view.width(), self._view.height(), theme.current().name, *map(_content, faces))
        if self._painted is None or self._painted[0] != basis:
            pixmap = QPixmap(self._view.size() * ratio)
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(Qt.GlobalColor.transparent)
            with QPainter(pixmap) as own:
                own.setRenderHints(p.renderHints())
                for key in faces:
                    paint_marks(own, key.marks())
            self._painted = basis, pixmap
        p.drawPixmap(0, 0, self._painted[1])

    def grip_at(self, name: str, what: str) -> QPointF:
        """Where a grip (``low``, ``high``, ``least``, ``greatest``, ``head`` or a layer's id) is."""
        key = next(k for k in self.keys() if k.quantity.name == name)
        if what == "head":
            return QPointF(key.left + 0.5 * key.width, key.top + 14)
        if what in ("least", "greatest"):
            return QPointF(key.bar_left - 4, key.y_of(dict(key.extremes())[what]))
        if what in ("low", "high"):
            return QPointF(key.bar_right + 5, key.y_of(key.low if what == "low" else key.high))
        return QPointF(key.bar_left + BEAD, key.y_of(dict(key.beads)[what]))

    def _find(self, at: QPointF) -> tuple[KeyFace, str] | None:
        for key in self.keys():
            if not key.holds(at.x(), at.y()):
                continue
            for layer_id, value in key.beads:
                if near(at, QPointF(key.bar_left + BEAD, key.y_of(value)), 9):
                    return key, layer_id
            ends = sorted((abs(at.y() - key.y_of(v)), what) for what, v in (("high", key.high), ("low", key.low)))
            if at.x() > key.bar_right - 2 and ends[0][0] < 10:
                return key, ends[0][1]
            for what, value in () if key.slim else key.extremes():
                if near(at, QPointF(key.bar_left - 4, key.y_of(value)), 6):
                    return key, what
            if at.y() < key.bar_top - 10:
                return key, "head"
            return key, "bar" if key.bar_left - 2 <= at.x() <= key.bar_right + 2 else ""
        return None

    def grasp(self, at: QPointF) -> bool:
        found = self._find(at)
        if found is None:
            return False
        key, what = found
        if what == "bar":
            self._view.light(key.quantity.name, key.value_at(at.y()))
        elif what in ("least", "greatest"):
            self._pin(key.quantity.name, what)
        elif what == "head":
            self._held, self._axis, self._grab = (key.quantity.name, what), key.axis, at - QPointF(key.left, key.top)
        elif what:
            self._held, self._axis = (key.quantity.name, what), key.axis
            self._view.document.dragging = True
            start = key.high if what == "high" else key.low if what == "low" else dict(key.beads)[what]
            self._offset = key.y_of(start) - at.y()
            if what not in ("low", "high"):
                self._view.document.choose(what.partition("#")[0])
        return True

    def drag(self, at: QPointF, _modifiers: Qt.KeyboardModifier) -> None:
        if self._held is None:
            return
        name, what = self._held
        key = next((k for k in self.keys() if k.quantity.name == name), None)
        if key is None:
            return
        if what == "head":
            self._move(key, at - self._grab)
            return
        value = key.rounded(key.value_at(at.y() + self._offset))
        self._set(key, what, value, grip=f"key {name} {what}")

    def _move(self, key: KeyFace, to: QPointF) -> None:
        """Its left upper corner to a place of the view."""
        document, name = self._view.document, key.quantity.name
        room = max(self._view.width() - key.width, 1.0), max(self._view.height() - key.height, 1.0)
        place = tuple(round(min(max(c / size, 0.0), 1.0), 4) for c, size in zip((to.x(), to.y()), room, strict=True))
        setting = document.study.keys.get(name, KeySetting()).with_(place=place)
        document.edit(document.study.with_key(name, setting), "Move the key", f"key {name} head")

    def _pin(self, name: str, what: str) -> None:
        """Pin the place of the least or greatest value."""
        evaluator, flow = self._view.case.evaluator, self._view.case.flow
        values = evaluator.store.kept(name) if evaluator is not None else None
        if values is None or flow is None or not np.isfinite(values).any():
            return
        at = int(np.nanargmin(values) if what == "least" else np.nanargmax(values))
        x, y, z = (float(c) for c in flow.points[at])
        self._view.pin_at((x, y, z))

    def _set(self, key: KeyFace, what: str, value: float, grip: str = "") -> None:
        document, name = self._view.document, key.quantity.name
        if what in ("low", "high"):
            gap = 1e-3 * (key.axis[1] - key.axis[0])
            old = document.study.keys.get(name, KeySetting())
            if old.symmetric:
                reach = max(abs(value), gap)
                setting = old.with_(low=-reach, high=reach)
            elif what == "low":
                setting = old.with_(low=min(value, key.high - gap), high=key.high)
            else:
                setting = old.with_(low=key.low, high=max(value, key.low + gap))
            document.edit(document.study.with_key(name, setting), "Key range", grip)
        else:
            layer_id, _, number = what.partition("#")
            layer = document.study.layer(layer_id)
            if layer is not None:
                document.edit_layer(layer.with_(shape=layer.shape.at_level(int(number or 0), value)), f"Value of the {layer.kind}", grip)

    def let_go(self) -> None:
        self._held = self._axis = None

    def double_click(self, at: QPointF) -> bool:
        found = self._find(at)
        if found is None:
            return False
        key, what = found
        if what in ("", "bar", "head", "least", "greatest"):
            return True
        value = key.high if what == "high" else key.low if what == "low" else dict(key.beads)[what]
        place = QRectF(key.bar_right + 10, key.y_of(value) - 13, 74, 26)
        self._view.typing.ask_number(place, key.shown.of(value), lambda v: self._set(key, what, key.shown.back(v)))
        return True

    def menu(self, at: QPointF) -> bool:
        found = self._find(at)
        if found is None:
            return False
        name = found[0].quantity.name
        document = self._view.document
        setting = document.study.keys.get(name, KeySetting())
        menu = QMenu(self._view)
        mirror, bands = menu.addAction("Symmetric about zero"), menu.addAction("In bands")
        reset = menu.addAction("Reset the range")
        if mirror is not None and reset is not None and bands is not None:
            bands.setCheckable(True)
            bands.setChecked(bool(setting.bands))
            bands.toggled.connect(lambda on: document.edit(
                document.study.with_key(name, setting.with_(bands=BANDS if on else 0)), "Bands of the key"))
            mirror.setCheckable(True)
            mirror.setChecked(setting.symmetric)
            mirror.toggled.connect(lambda on: document.edit(
                document.study.with_key(name, setting.with_(symmetric=on)), "Symmetric key"))
            colours = menu.addMenu("Palette")
            for palette, title in CHOICES.items() if colours is not None else ():
                one = colours.addAction(title) if colours is not None else None
                if one is not None:
                    one.setCheckable(True)
                    one.setChecked(setting.palette == palette)
                    one.triggered.connect(lambda _on, p=palette: document.edit(
                        document.study.with_key(name, setting.with_(palette=p)), "Palette"))
            unit = menu.addMenu("Unit")
            for shown in choices(found[0].quantity.unit, absolute=name in ABSOLUTE) if unit is not None else ():
                one = unit.addAction(shown.text) if unit is not None else None
                if one is not None:
                    one.setCheckable(True)
                    one.setChecked(shown.text == found[0].shown.text)
                    one.triggered.connect(lambda _on, text=shown.text: document.edit(
                        document.study.with_(units=document.study.units.with_quantity(name, text)), "Unit"))
            if unit is not None:
                unit.setEnabled(len(unit.actions()) > 1)
            hide = menu.addAction("Hide this key")
            home = menu.addAction("Back into the row")
            if hide is not None and home is not None:
                hide.triggered.connect(lambda: document.edit(document.study.with_key(name, setting.with_(hidden=True)), "Hide a key"))
                home.setEnabled(setting.place is not None)
                home.triggered.connect(lambda: document.edit(document.study.with_key(name, setting.with_(place=None)), "Move the key"))
            reset.setEnabled((setting.low, setting.high, setting.symmetric) != (None, None, False))
            plain = setting.with_(low=None, high=None, symmetric=False)
            reset.triggered.connect(lambda: document.edit(document.study.with_key(name, plain), "Reset the key"))
        pop_up(menu, self._view.mapToGlobal(at.toPoint()))
        return True

    def hint(self, at: QPointF) -> str:
        found = self._find(at)
        pointed = found[0].quantity.name if found is not None else ""
        if pointed != self._pointed:
            self._pointed = pointed
            self._view.update()
            found = self._find(at)
        if found is None:
            return ""
        key, what = found
        if what in ("least", "greatest"):
            return f"The {what} value, {key.text_of(dict(key.extremes())[what])}; click to pin its place"
        if what == "head":
            return f"{key.units.label(key.quantity)}: {key.quantity.about}; {key.quantity.made}. Drag to move the key; right-click for more"
        if what == "bar":
            return f"Click: show where it is {key.text_of(key.value_at(at.y()))}, until Esc"
        if what in ("low", "high"):
            return "Drag to change the range; double-click to type it"
        if what:
            return "Drag to change the value; double-click to type it"
        return f"{key.units.label(key.quantity)}: {key.quantity.about}; {key.quantity.made}. Right-click: symmetric, reset"


