"""Pictures of the view: which was asked for, which is shown, and when the next is due."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, QSize, QTimer, pyqtSignal

from tidal_lens.app import theme
from tidal_lens.app.asking import CaseHere
from tidal_lens.app.document import Document
from tidal_lens.app.lights import Lights
from tidal_lens.app.small_pictures import SmallPictures
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.renderer import Listener, Renderer
from tidal_lens.scene.scene import Frame, Item
from tidal_lens.scene.scenery import Scenery
from tidal_lens.study.evaluate import Evaluated

_PACE, _ROUND = 50, 900  # milliseconds between pictures of running streaks, and in which they come round
_TOGETHER = 12  # milliseconds that a draft waits at most for what else was begun by the same move
_JUST_BEGUN = 0.03  # seconds since that
_AT_REST = 160  # milliseconds without a move before the picture is drawn in full


class Ground(Protocol):
    """What pictures are shown on: a widget."""

    def size(self) -> QSize:
        """Its size."""

    def devicePixelRatioF(self) -> float:
        """Device pixels to one of its own."""

    def isVisible(self) -> bool:
        """Whether it is seen."""


class Pictures(QObject):
    """Asks for pictures and takes them in; drafts are followed by the whole when nothing moves any more. On the window's thread.

    Signals
    -------
    shown(Frame, Camera)
        A picture is there, and what it was seen by.
    picked(str or None)
        What was asked for by :meth:`pick`.
    small_ready(str, ndarray)
        A small picture is there.
    failed(str)
        Drawing does not work.
    """

    shown = pyqtSignal(object, object)
    picked = pyqtSignal(object)
    small_ready = pyqtSignal(str, object)
    failed = pyqtSignal(str)
    _framed = pyqtSignal(object)
    _picked = pyqtSignal(int, object)
    _small = pyqtSignal(str, object, object)

    def __init__(self, document: Document, case: CaseHere, ground: Ground, quick: Callable[[], bool], more: Callable[[], tuple[Item, ...]],
                 parent: QObject) -> None:
        super().__init__(parent)
        self._more = more
        self._document, self._case, self._ground, self._quick = document, case, ground, quick
        self.scenery = Scenery()
        self.small = SmallPictures(self.small_ready.emit)
        self.lights = Lights(document.jobs, self._drawn, self, case.case)
        self._cameras: dict[int, Camera] = {}
        self.box: tuple[NDArray[np.float64], NDArray[np.float64]] | None = None  # of what is drawn
        self._newest = self._newest_full = self._shown = 0
        self._asked: tuple[object, ...] = ()
        self._asked_items: tuple[object, ...] = ()
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_AT_REST)
        self._rest.timeout.connect(self._come_to_rest)
        self._together = QTimer(self)
        self._together.setSingleShot(True)
        self._together.setInterval(_TOGETHER)
        self._together.timeout.connect(lambda: self.redraw(draft=self._quick()))
        self._came: set[str] = set()  # what was worked out since the last picture was asked for
        self._run = QTimer(self)  # of running streaks
        self._run.setInterval(_PACE // 4)
        self._ran = 0.0  # when the last of their pictures was asked for
        self._run.timeout.connect(self._run_on)
        self._framed.connect(self._take_frame)
        self._picked.connect(lambda _ticket, name: self.picked.emit(name))
        self._small.connect(self.small.take)
        self.renderer = Renderer(Listener(self._framed.emit, self._picked.emit, self._small.emit, self.failed.emit))
        self.lights.changed.connect(self.redraw)

    def new_case(self) -> None:
        """Nothing of what was drawn is wanted any more."""
        self.box = None
        self.small.clear()
        self.scenery.clear()
        self.lights.put_out()

    def are_complete(self) -> bool:
        """Whether what is shown is everything that was asked for, in full."""
        return self.is_full and self.small.are_there

    @property
    def is_full(self) -> bool:
        """Whether the picture is what was asked for, in full; small ones may still be on their way."""
        return (self._newest > 0 and self._shown == self._newest and self._newest == self._newest_full and not self._rest.isActive()
                and not self._together.isActive())

    def redraw_soon(self, came: str = "") -> bool:
        """Draw what changed, or the card that came, quickly while something is dragged; whether a picture is on its way."""
        if came and self._document.dragging:
            self._came.add(came)
            if self._case.asking.under_way(time.monotonic() - _JUST_BEGUN) - self._came:
                if not self._together.isActive():
                    self._together.start()
                return True
        before = self._newest
        self.redraw(draft=self._quick())
        return self._newest != before

    def redraw(self, *, draft: bool = False) -> None:
        """Ask for a picture."""
        self._came.clear()
        self._together.stop()
        table, camera = self._case.asking.table(), self._document.camera
        if table is None or camera is None:
            return
        scene = self.scenery.scene(table, theme.current().ground, theme.current().soft)
        self.box = scene.low, scene.high
        if more := (*self.lights.items, *self._more()):
            scene = replace(scene, items=(*scene.items, *more))
        ratio, size = self._ground.devicePixelRatioF(), self._ground.size()
        asked = (*map(id, scene.items), id(camera), scene.background, scene.lamp, size, ratio)
        if asked == self._asked and (draft or self._newest == self._newest_full):
            return  # that picture is there or on its way, and nothing that is worked out meanwhile shall wait for it again
        self._asked, self._asked_items = asked, (scene.items, camera)  # held, so that ids stay their own
        number = self.renderer.show(scene, camera, round(size.width() * ratio), round(size.height() * ratio), ratio, draft=draft)
        self._cameras[number] = camera
        self._newest = number
        if draft:
            self._rest.start()
        else:
            self._rest.stop()
            self._newest_full = number
            self.small.ask(self.renderer, scene.items, camera)

    def _come_to_rest(self) -> None:
        """In full, unless more is on its way in a drag: where one draft takes long the next would wait for a picture that nobody wants."""
        on_its_way = self._shown != self._newest or (self._document.dragging and self._document.jobs.running("card"))
        if self._quick() and on_its_way:
            self._rest.start()
        else:
            self.redraw(draft=False)

    def pick(self, x: float, y: float) -> None:
        """Ask which item is at a place of what is shown (0..1 from the top left)."""
        self.renderer.pick(self._shown, x, y)

    def close(self) -> None:
        """Stop drawing for good."""
        self._rest.stop()
        self._together.stop()
        self.renderer.close()

    def _run_on(self) -> None:
        """The next picture of running streaks, once the last is there."""
        if not self._runs():
            self._run.stop()
        elif self._shown == self._newest and self._ground.isVisible() and (passed := 1e3 * (time.monotonic() - self._ran)) >= _PACE:
            self._ran = time.monotonic()
            self.scenery.phase = (self.scenery.phase + min(passed, 3 * _PACE) / _ROUND) % 1.0
            self._asked = ()
            self.redraw(draft=self._newest != self._newest_full)

    def _runs(self) -> bool:
        looks = [layer.look for layer in self._document.study.layers if self._document.study.is_drawn(layer)]
        return any((look.on == "surface" and look.texture is not None and look.texture.running)
                   or (look.on == "lines" and look.marks is not None and look.marks.running) for look in looks)

    def _drawn(self) -> list[Evaluated]:
        study, results = self._document.study, self._case.asking.results
        return [results[layer.id] for layer in study.layers if layer.id in results and study.is_drawn(layer)]

    def _take_frame(self, frame: Frame) -> None:
        if frame.number < self._shown:
            return
        self._shown = frame.number
        if self._rest.isActive():
            self._rest.start()  # from when it is seen
        if not self._run.isActive() and self._runs():
            self._run.start()
        camera = self._cameras.get(frame.number)
        self._cameras = {n: c for n, c in self._cameras.items() if n > frame.number}
        self.shown.emit(frame, camera)
