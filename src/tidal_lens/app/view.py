"""The view: the rendered picture with overlays on it."""

from __future__ import annotations

import time
from dataclasses import replace

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QCloseEvent,
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.eye import Eye
from tidal_lens.app.hand import Hand
from tidal_lens.app.jobs import Slot
from tidal_lens.app.lights import Lights
from tidal_lens.app.overlays.base import Overlay
from tidal_lens.app.overlays.clicks import ClicksOverlay
from tidal_lens.app.overlays.handles import HandlesOverlay
from tidal_lens.app.overlays.keys import KeysOverlay
from tidal_lens.app.overlays.labels import LabelsOverlay
from tidal_lens.app.overlays.pin import PinOverlay
from tidal_lens.app.overlays.rose import RoseOverlay
from tidal_lens.app.small_pictures import SmallPictures
from tidal_lens.app.stage import Stage
from tidal_lens.app.under_pointer import UnderPointer
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.renderer import Listener, Renderer
from tidal_lens.scene.scene import Frame
from tidal_lens.scene.scenery import Scenery
from tidal_lens.study.evaluate import Evaluated
from tidal_lens.study.words import number_text

_PACE, _ROUND = 50, 900  # milliseconds between pictures of running streaks, and in which they come round
_AT_REST = 160  # milliseconds without a move before the picture is drawn in full


class FlowView(Stage):
    """Shows the study's layers.

    Signals
    -------
    frame_shown
        A picture arrived.
    small_ready(str, ndarray)
        A card's small picture is there.
    failed(str)
        Drawing does not work.
    """

    frame_shown = pyqtSignal()
    small_ready = pyqtSignal(str, object)
    failed = pyqtSignal(str)
    _framed = pyqtSignal(object)
    _picked = pyqtSignal(int, object)
    _small = pyqtSignal(str, object, object)

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("View of the flow")
        self.setMinimumSize(320, 240)
        self.scenery = Scenery()
        self.keys = KeysOverlay(self)
        self.handles = HandlesOverlay(self)
        self.pin = PinOverlay(self)
        self.eye = Eye(self, self.pin)
        self.rose = RoseOverlay(self, self.eye.look_from, self.eye.toggle_projection)
        self.hand = Hand(self, self.eye)
        self.under = UnderPointer(self)
        self.small = SmallPictures(self.small_ready.emit)
        self._overlays: tuple[Overlay, ...] = (ClicksOverlay(self), self.handles, self.keys, self.rose, self.pin, LabelsOverlay(self))
        self.lights = Lights(document.jobs, self._drawn, self)
        self.lights.changed.connect(self.redraw)
        self._held: Overlay | None = None
        self._cameras: dict[int, Camera] = {}
        self._newest = 0
        self._newest_full = 0
        self._asked: tuple[object, ...] = ()
        self._asked_items: tuple[object, ...] = ()
        self._shown = 0
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_AT_REST)
        self._rest.timeout.connect(lambda: self.redraw(draft=False))
        self._run = QTimer(self)  # of running streaks
        self._run.setInterval(_PACE // 4)
        self._ran = 0.0  # when the last of their pictures was asked for
        self._run.timeout.connect(self._run_on)
        self._framed.connect(self._take_frame)
        self._picked.connect(self._take_pick)
        self._small.connect(self.small.take)
        self.renderer = Renderer(Listener(self._framed.emit, self._picked.emit, self._small.emit, self.failed.emit))
        document.case_changed.connect(self._new_case)
        document.study_changed.connect(self.redraw_soon)
        document.result_changed.connect(lambda _id: self._came())
        document.study_changed.connect(self.lights.refresh)
        document.result_changed.connect(lambda _id: self.lights.refresh())
        document.quantity_known.connect(lambda _name: self._came())
        document.chosen_changed.connect(self.update)
        document.visit.connect(self.eye.visit)
        theme.hub().changed.connect(self._new_theme)

    # -- drawing ---------------------------------------------------------------------------------------------

    def _new_theme(self) -> None:
        self.small.clear()
        self.redraw_soon()

    def _new_case(self) -> None:
        self.small.clear()
        self.scenery.clear()
        self.eye.pivot = self.pin.place = None
        self.lights.put_out()
        if self.document.camera is None:
            self.eye.frame_all()
        else:
            self.redraw()

    def is_complete(self) -> bool:
        """Whether the picture shows everything that was asked for, in full."""
        return (self._newest > 0 and self._shown == self._newest and self._newest == self._newest_full
                and not self._rest.isActive() and self.small.are_there)

    def redraw_soon(self) -> None:
        """The study changed: draw, quickly while something is dragged."""
        self.redraw(draft=self.document.dragging or bool(self.hand.mode))
        self.update()

    def _came(self) -> None:
        """Something is known now: overlays are painted anew with the picture that shows it, or at once where it shows nothing new."""
        before = self._newest
        self.redraw(draft=self.document.dragging or bool(self.hand.mode))
        if self._newest == before:
            self.update()

    def redraw(self, *, draft: bool = False) -> None:
        """Ask for a picture."""
        table, camera = self.document.asking.table(), self.document.camera
        if table is None or camera is None:
            return
        scene = self.scenery.scene(table, theme.current().ground, theme.current().soft)
        if self.lights.items:
            scene = replace(scene, items=(*scene.items, *self.lights.items))
        ratio = self.devicePixelRatioF()
        asked = (*map(id, scene.items), id(camera), scene.background, scene.lamp, self.size(), ratio)
        if asked == self._asked and (draft or self._newest == self._newest_full):
            return  # that picture is there or on its way, and nothing that is worked out meanwhile shall wait for it again
        self._asked, self._asked_items = asked, (scene.items, camera)  # held, so that ids stay their own
        number = self.renderer.show(scene, camera, round(self.width() * ratio), round(self.height() * ratio), ratio, draft=draft)
        self._cameras[number] = camera
        self._newest = number
        if draft:
            self._rest.start()
        else:
            self._rest.stop()
            self._newest_full = number
            self.small.ask(self.renderer, scene.items, camera)

    def _run_on(self) -> None:
        """The next picture of running streaks, once the last is there."""
        if not self._runs():
            self._run.stop()
        elif self._shown == self._newest and self.isVisible() and (passed := 1e3 * (time.monotonic() - self._ran)) >= _PACE:
            self._ran = time.monotonic()
            self.scenery.phase = (self.scenery.phase + min(passed, 3 * _PACE) / _ROUND) % 1.0
            self._asked = ()
            self.redraw(draft=self._newest != self._newest_full)

    def _runs(self) -> bool:
        looks = [layer.look for layer in self.document.study.layers if self.document.study.is_drawn(layer)]
        return any(look.on == "surface" and look.texture is not None and look.texture.running for look in looks)

    def _drawn(self) -> list[Evaluated]:
        study, results = self.document.study, self.document.asking.results
        return [results[layer.id] for layer in study.layers if layer.id in results and study.is_drawn(layer)]

    def light(self, name: str, value: float) -> None:
        self.lights.light(name, value, theme.current().magenta)

    def pin_at(self, place: tuple[float, float, float]) -> None:
        self.pin.place = place
        self.update()

    def _take_frame(self, frame: Frame) -> None:
        if frame.number < self._shown:
            return
        self._shown = frame.number
        if not self._run.isActive() and self._runs():
            self._run.start()
        self.show_frame(frame, self._cameras.get(frame.number))
        self._cameras = {n: c for n, c in self._cameras.items() if n > frame.number}
        self.frame_shown.emit()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        with QPainter(self) as p:
            self._paint(p)

    def _paint(self, p: QPainter) -> None:
        p.fillRect(self.rect(), theme.colour("ground"))
        p.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        if self.image is not None and self.document.flow is not None:
            p.drawImage(QRectF(self.rect()), self.image)
            for overlay in reversed(self._overlays):  # what is grasped first is painted last
                overlay.paint(p)
            if self.hand.frame is not None:
                p.setPen(QPen(theme.colour("magenta"), 1.2))
                p.setBrush(theme.colour("magenta", 0.08))
                p.drawRect(QRectF(*self.hand.frame).normalized())
        elif self.document.flow is None:
            p.setPen(theme.colour("soft"))
            p.setFont(theme.font(15))
            text = "Opening…" if self.document.jobs.is_busy(Slot("case")) else "Drop a result here, or press Ctrl+O to open one."
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text)

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        self.redraw(draft=False)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self.close_renderer()
        super().closeEvent(event)

    def close_renderer(self) -> None:
        """Stop drawing for good."""
        self._rest.stop()
        self.renderer.close()

    # -- mouse and keys --------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() not in (Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton):
            return
        at, left = event.position(), event.button() == Qt.MouseButton.LeftButton
        if left and not self.hand.framing:
            self._held = next((o for o in self._overlays if o.grasp(at)), None)
        if self._held is None:
            self.hand.press(at, pan=not left or bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        at = event.position()
        self.under.waits = self._held is not None or bool(self.hand.mode)
        if self._held is not None:
            self._held.drag(at, event.modifiers())
        elif self.hand.mode:
            self.hand.move(at)
        else:
            self._hover(at)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._held is not None:
            held, self._held = self._held, None
            held.let_go()
            self.document.release()
            self.redraw(draft=False)
        elif self.hand.release():
            self.renderer.pick(self._shown, event.position().x() / self.width(), event.position().y() / self.height())

    def _take_pick(self, _ticket: int, name: object) -> None:
        if isinstance(name, str) and self.document.study.layer(name) is not None:
            self.document.choose(name)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if any(o.double_click(event.position()) for o in self._overlays):
            return
        hit = self.point_at(event.position())
        if hit is not None:
            self.eye.pivot = hit
            self.pointed.emit("The view now turns about " + ", ".join(number_text(float(c)) for c in hit))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            self.eye.zoom(0.85 ** (event.angleDelta().y() / 120), event.position())

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None:
            any(o.menu(QPointF(event.pos())) for o in self._overlays)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        if event.key() == Qt.Key.Key_M:
            self._frame_with(on=True)
        elif not self.hand.key(Qt.Key(event.key())):
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_M and not event.isAutoRepeat():
            self._frame_with(on=False)
        super().keyReleaseEvent(event)

    def _frame_with(self, *, on: bool) -> None:
        self.hand.framing = on
        self.setCursor(Qt.CursorShape.CrossCursor if on else Qt.CursorShape.ArrowCursor)
        if on:
            self.pointed.emit("Drag a rectangle to magnify what is in it")

    def leaveEvent(self, event: QEvent | None) -> None:
        self.under.last = None
        self.pointed.emit("")
        super().leaveEvent(event)

    def _hover(self, at: QPointF) -> None:
        hint = next((h for h in (o.hint(at) for o in self._overlays) if h), "")
        self.setToolTip(hint)
        self.setCursor(Qt.CursorShape.PointingHandCursor if hint else Qt.CursorShape.ArrowCursor)
        self.under.last = None
        if hint:
            self.pointed.emit(hint)
        else:
            self.under.tell(at)
