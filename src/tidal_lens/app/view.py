"""The view: the rendered picture with overlays on it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QCloseEvent,
    QContextMenuEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.eye import Eye
from tidal_lens.app.jobs import Slot
from tidal_lens.app.overlays.base import Overlay
from tidal_lens.app.overlays.handles import HandlesOverlay
from tidal_lens.app.overlays.keys import KeysOverlay
from tidal_lens.app.overlays.pin import PinOverlay
from tidal_lens.app.overlays.rose import RoseOverlay
from tidal_lens.app.pointing import Pointing
from tidal_lens.app.typing_here import TypingHere
from tidal_lens.sampling.mesh import ready_mesh
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.renderer import Listener, Renderer
from tidal_lens.scene.scene import Frame, Item
from tidal_lens.scene.scenery import Scenery
from tidal_lens.study.words import number_text

_AT_REST = 160  # milliseconds without a move before the picture is drawn in full


class FlowView(QWidget):
    """Shows the study's layers.

    Signals
    -------
    pointed(str)
        Position and value under the pointer, in words.
    frame_shown
        A picture arrived.
    small_ready(str, ndarray)
        A card's small picture is there.
    failed(str)
        Drawing does not work.
    """

    pointed = pyqtSignal(str)
    frame_shown = pyqtSignal()
    small_ready = pyqtSignal(str, object)
    failed = pyqtSignal(str)
    _framed = pyqtSignal(object)
    _picked = pyqtSignal(int, object)
    _small = pyqtSignal(str, object, object)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("View of the flow")
        self.setMinimumSize(320, 240)
        self.scenery = Scenery()
        self.keys = KeysOverlay(self)
        self.rose = RoseOverlay(self)
        self.handles = HandlesOverlay(self)
        self.pin = PinOverlay(self)
        self.eye = Eye(self, document)
        self.typing = TypingHere(self, self.pointed.emit)
        self.pointing = Pointing(document, self._point_again)
        self._last: QPointF | None = None
        self._overlays: tuple[Overlay, ...] = (self.handles, self.keys, self.rose, self.pin)
        self._held: Overlay | None = None
        self._image: QImage | None = None
        self._frame: Frame | None = None
        self.shown_camera: Camera | None = None
        self._cameras: dict[int, Camera] = {}
        self._newest = 0
        self._newest_full = 0
        self._shown = 0
        self._small_asked: dict[str, Item] = {}
        self._small_due: set[str] = set()
        self._from = QPointF()
        self._mode = ""
        self._moved = False
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_AT_REST)
        self._rest.timeout.connect(lambda: self.redraw(draft=False))
        self._framed.connect(self._take_frame)
        self._picked.connect(self._take_pick)
        self._small.connect(self._take_small)
        self.renderer = Renderer(Listener(self._framed.emit, self._picked.emit, self._small.emit, self.failed.emit))
        document.case_changed.connect(self._new_case)
        document.study_changed.connect(self.redraw_soon)
        document.result_changed.connect(lambda _id: self.redraw_soon())
        document.quantity_known.connect(lambda _name: self.redraw_soon())
        document.chosen_changed.connect(self.update)
        document.visit.connect(self.eye.visit)
        theme.hub().changed.connect(self._new_theme)

    # -- drawing ---------------------------------------------------------------------------------------------

    def _new_theme(self) -> None:
        self._small_asked.clear()
        self.redraw_soon()

    def _new_case(self) -> None:
        self._small_asked.clear()
        self.scenery.clear()
        self.eye.pivot = self.pin.place = None
        if self.document.camera is None:
            self.eye.frame_all()
        else:
            self.redraw()

    def is_complete(self) -> bool:
        """Whether the picture shows everything that was asked for, in full."""
        return (self._newest > 0 and self._shown == self._newest and self._newest == self._newest_full
                and not self._rest.isActive() and not self._small_due)

    def redraw_soon(self) -> None:
        """The study changed: draw, quickly while something is dragged."""
        self.redraw(draft=self.document.dragging or bool(self._mode))
        self.update()

    def redraw(self, *, draft: bool = False) -> None:
        """Ask for a picture."""
        table, camera = self.document.asking.table(), self.document.camera
        if table is None or camera is None:
            return
        scene = self.scenery.scene(table, theme.current().ground, theme.current().soft)
        ratio = self.devicePixelRatioF()
        number = self.renderer.show(scene, camera, round(self.width() * ratio), round(self.height() * ratio), ratio, draft=draft)
        self._cameras[number] = camera
        self._newest = number
        if draft:
            self._rest.start()
        else:
            self._rest.stop()
            self._newest_full = number
            self._ask_small(scene.items, camera)

    def _ask_small(self, items: tuple[Item, ...], camera: Camera) -> None:
        for item in items:
            if item.id.startswith("·") or self._small_asked.get(item.id) is item:
                continue
            self._small_asked[item.id] = item
            self._small_due.add(item.id)
            self.renderer.small_picture(item, camera, theme.current().ground)

    def _take_small(self, name: str, item: Item, pixels: NDArray[np.uint8]) -> None:
        if self._small_asked.get(name) is item:
            self._small_due.discard(name)
        self._small_due &= set(self._small_asked)
        self.small_ready.emit(name, pixels)

    def _take_frame(self, frame: Frame) -> None:
        if frame.number < self._shown:
            return
        self._shown = frame.number
        height, width = frame.pixels.shape[:2]
        self._image = QImage(frame.pixels.tobytes(), width, height, 4 * width, QImage.Format.Format_RGBX8888).copy()
        self._frame = frame
        self.shown_camera = self._cameras.get(frame.number, self.shown_camera)
        self._cameras = {n: c for n, c in self._cameras.items() if n > frame.number}
        self.update()
        self.frame_shown.emit()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        with QPainter(self) as p:
            self._paint(p)

    def _paint(self, p: QPainter) -> None:
        p.fillRect(self.rect(), theme.colour("ground"))
        p.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        if self._image is not None and self.document.flow is not None:
            p.drawImage(QRectF(self.rect()), self._image)
            for overlay in reversed(self._overlays):  # what is grasped first is painted last
                overlay.paint(p)
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

    # -- camera ----------------------------------------------------------------------------------------------

    def point_at(self, at: QPointF) -> NDArray[np.float64] | None:
        """The point in space that is seen at a place, or None."""
        frame, camera = self._frame, self.shown_camera
        if frame is None or camera is None or not self.rect().contains(at.toPoint()):
            return None
        height, width = frame.depth.shape
        row = min(int(at.y() / self.height() * height), height - 1)
        column = min(int(at.x() / self.width() * width), width - 1)
        depth = float(frame.depth[row, column])
        if not np.isfinite(depth):
            return None
        return camera.at_depth(at.x(), at.y(), depth, self.width(), self.height())

    # -- mouse and keys --------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        at = event.position()
        self._from, self._moved = at, False
        if event.button() == Qt.MouseButton.LeftButton:
            self._held = next((o for o in self._overlays if o.grasp(at)), None)
            if self._held is None:
                self._mode = "pan" if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else "orbit"
        elif event.button() == Qt.MouseButton.MiddleButton:
            self._mode = "pan"

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        at = event.position()
        if self._held is not None:
            self._held.drag(at, event.modifiers())
            return
        if not self._mode:
            self._hover(at)
            return
        d = at - self._from
        if not self._moved and d.manhattanLength() < 3:
            return
        self._moved = True
        self._from = at
        camera = self.document.camera
        if camera is None:
            return
        if self._mode == "orbit":
            self.eye.orbit(d.x(), d.y())
        else:
            self.eye.move(camera.panned(d.x(), d.y(), self.height()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._held is not None:
            held, self._held = self._held, None
            held.let_go()
            self.document.release()
            self.redraw(draft=False)
            return
        mode, self._mode = self._mode, ""
        if mode and self._moved:
            self.redraw(draft=False)
        elif mode == "orbit":
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
            at = QPointF(event.pos())
            any(o.menu(at) for o in self._overlays)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        turn = {Qt.Key.Key_Left: (-12, 0), Qt.Key.Key_Right: (12, 0), Qt.Key.Key_Up: (0, -12), Qt.Key.Key_Down: (0, 12)}
        key = Qt.Key(event.key())
        if key in turn:
            self.eye.orbit(*turn[key])
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.eye.zoom(0.85)
        elif key == Qt.Key.Key_Minus:
            self.eye.zoom(1 / 0.85)
        else:
            super().keyPressEvent(event)

    def leaveEvent(self, event: QEvent | None) -> None:
        self._last = None
        self.pointed.emit("")
        super().leaveEvent(event)

    def _hover(self, at: QPointF) -> None:
        self._last = at
        hint = next((h for h in (o.hint(at) for o in self._overlays) if h), "")
        self.setToolTip(hint)
        self.setCursor(Qt.CursorShape.PointingHandCursor if hint else Qt.CursorShape.ArrowCursor)
        self.pointed.emit(hint or self._line_under(at) or self._value_under(at))

    def _line_under(self, at: QPointF) -> str:
        camera = self.shown_camera
        if camera is None:
            return ""

        def front() -> float:
            seen = self.point_at(at)
            return float(camera.project(seen[None], 1, 1)[1][0]) if seen is not None else np.inf

        return self.pointing.line_at(camera, (self.width(), self.height()), at, front)

    def _point_again(self) -> None:
        """What is under the pointer is known now."""
        if self._last is not None and not self._mode and self._held is None:
            self._hover(self._last)

    def _value_under(self, at: QPointF) -> str:
        point, flow, evaluator = self.point_at(at), self.document.flow, self.document.evaluator
        if point is None or flow is None or evaluator is None:
            return ""
        text = "   ".join(f"{axis} {number_text(float(c))}" for axis, c in zip("xyz", point, strict=True))
        mesh = ready_mesh(flow)
        names = [x.look.colour_by for x in (self.document.chosen_layer, *self.document.study.layers)
                 if x is not None and x.look.colour_by and self.document.study.is_drawn(x)]
        values = evaluator.store.kept(names[0]) if names and names[0] else None
        if mesh is None or values is None:
            return text
        stencil, inside = mesh.locate(point[None], slack=0.02)
        if not inside[0]:
            return text
        quantity = evaluator.store.describe(str(names[0]))
        value = float(stencil.apply(values)[0])
        return f"{text}   ·   {quantity.title} {number_text(value)}{' ' + quantity.unit if quantity.unit else ''}"

