"""The chosen card at several steps of a series, side by side: before it is animated, or instead."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import IconButton, telling_digits
from tidal_lens.app.pixels import image_of
from tidal_lens.app.thumb import Thumb
from tidal_lens.app.view import FlowView
from tidal_lens.errors import TidalLensError
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.renderer import Box
from tidal_lens.scene.scene import Item
from tidal_lens.scene.scenery import Key, Scenery, Table
from tidal_lens.study.model import Layer
from tidal_lens.study.words import number_text
from tidal_lens.work import Token

_MOST = 6  # pictures
_PAUSE = 250  # milliseconds without a change before they are drawn anew
_TAIL = "·over time "
_SLOT = Slot("over time")


def chosen_steps(count: int) -> list[int]:
    """At most a handful of steps, evenly from the first to the last."""
    return sorted({round(n) for n in np.linspace(0, count - 1, min(count, _MOST))})


class Moment(Thumb):
    """One step: its picture and its time; a click goes there."""

    def __init__(self, document: Document, step: int, words: str) -> None:
        super().__init__(116)
        self._document, self.step, self._words = document, step, words
        self.image: QImage | None = None
        self.trouble = ""
        self.setAccessibleName(f"Step {step + 1}, {words}")
        self.setToolTip(f"Go to step {step + 1}")

    def show_picture(self, pixels: Any) -> None:
        """Show what it looked like, shape (h, w, 4)."""
        self.image, self.trouble = image_of(pixels), ""
        self.update()

    def show_trouble(self, text: str) -> None:
        """Show that it cannot be had."""
        self.trouble = text
        self.setToolTip(text)
        self.update()

    def go(self) -> None:
        """Show this step."""
        self._document.go_to_step(self.step)

    def is_here(self) -> bool:
        return self._document.study.step == self.step

    def picture(self) -> QImage | None:
        return self.image

    def words(self) -> tuple[str, bool]:
        return ("not to be had", True) if self.trouble else (self._words, False)


class OverTime(QWidget):
    """A strip of moments below the view; nothing of it is an edit but going to one.

    Parameters
    ----------
    document : Document
        Its chosen card is shown.
    view : FlowView
        From where it is seen; its renderer draws.
    """

    def __init__(self, document: Document, view: FlowView) -> None:
        super().__init__()
        self._document, self._view = document, view
        self.moments: list[Moment] = []
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(8, 6, 8, 4)
        self._row.setSpacing(6)
        self._row.addWidget(IconButton("x", "Close the strip", "Close the strip of moments", self.hide, size=14))
        self._asked: tuple[object, ...] = ()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_PAUSE)
        self._timer.timeout.connect(self._ask)
        for signal in (document.study_changed, document.chosen_changed, document.camera_changed, document.case_changed,
                       document.step_changed):
            signal.connect(self._later)
        document.quantity_known.connect(lambda _name: self._later())
        view.small_ready.connect(self._take)
        theme.hub().changed.connect(self._later)
        self.hide()

    def toggle(self) -> None:
        """Show or hide it."""
        self.setVisible(not self.isVisible())
        if self.isVisible():
            self._asked = ()
            self._ask()

    def hideEvent(self, event: Any) -> None:
        self._document.jobs.cancel(_SLOT)
        super().hideEvent(event)

    def _later(self) -> None:
        if self.isVisible():
            for moment in self.moments:
                moment.update()
            self._timer.start()

    def _ask(self) -> None:
        """Have all moments drawn of which anything changed."""
        document, layer, times = self._document, self._document.chosen_layer, self._document.clock.times
        table, camera = document.asking.table(), document.camera
        if not self.isVisible():
            return
        if table is None or camera is None or layer is None or layer.shape.geometry == "none":
            self._lay([])
            return
        name, study = layer.look.colour_by, document.study
        key = table.key(name) if name is not None else None
        asked = (layer, study.masks(), key, study.formulas, study.reference, study.choices, times, camera, theme.current().ground)
        if asked != self._asked:
            self._asked = asked
            self._lay(chosen_steps(len(times)))
            self._draw(layer, key, camera, table.flow.bounds)

    def _draw(self, layer: Layer, key: Key | None, camera: Camera, box: Box) -> None:
        """One moment after another, until something else is wanted."""
        document, asked, read = self._document, self._asked, self._document.clock.reader()
        study, ground = document.study, theme.current().ground
        alone, waiting = study.model_copy(update={"alone": layer.id, "outline": False}), [m.step for m in self.moments]

        def one(step: int, token: Token) -> Item | None:
            assert read is not None
            evaluator = read(step, token)
            own = Table(evaluator.flow, alone, {layer.id: evaluator.evaluate(layer, token, study)}, lambda _name: key, None)
            items = [i for i in Scenery().scene(own, ground, ground).items if i.id == layer.id]
            return replace(items[0], id=f"{_TAIL}{step}") if items else None

        def go_on() -> None:
            if self._asked is not asked or not waiting or read is None:
                return
            step = waiting.pop(0)

            def done(item: Item | None) -> None:
                if self._asked is asked and item is not None:
                    self._view.renderer.small_picture(item, camera, ground, box)
                go_on()

            def failed(error: TidalLensError) -> None:
                for moment in self.moments if self._asked is asked else ():
                    if moment.step == step:
                        moment.show_trouble(str(error))
                go_on()

            document.jobs.submit(_SLOT, f"{layer.name} at step {step + 1}", lambda token: one(step, token), done, failed)

        go_on()

    def _lay(self, steps: list[int]) -> None:
        """A moment a step; those that are there stay."""
        times = self._document.clock.times
        if [m.step for m in self.moments] == steps:
            return
        for moment in self.moments:
            self._row.removeWidget(moment)
            moment.deleteLater()
        self.moments = [Moment(self._document, n, number_text(times[n], telling_digits(times, n))) for n in steps]
        for moment in self.moments:
            self._row.addWidget(moment, 1)

    def _take(self, name: str, pixels: Any) -> None:
        for moment in self.moments:
            if name == f"{_TAIL}{moment.step}":
                moment.show_picture(pixels)
