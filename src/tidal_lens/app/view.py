"""The view: the rendered picture with overlays on it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
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
from tidal_lens.app.asking import CaseHere
from tidal_lens.app.document import Document
from tidal_lens.app.eye import Eye
from tidal_lens.app.findings import Findings
from tidal_lens.app.hand import Hand
from tidal_lens.app.jobs import Slot
from tidal_lens.app.line_picks import LinePicks
from tidal_lens.app.overlays.base import Overlay
from tidal_lens.app.overlays.clicks import ClicksOverlay
from tidal_lens.app.overlays.findings import FindingsOverlay
from tidal_lens.app.overlays.handles import HandlesOverlay
from tidal_lens.app.overlays.keys import KeysOverlay
from tidal_lens.app.overlays.labels import LabelsOverlay
from tidal_lens.app.overlays.notes import NotesOverlay
from tidal_lens.app.overlays.pin import PinOverlay
from tidal_lens.app.overlays.rose import RoseOverlay
from tidal_lens.app.overlays.spot import SpotOverlay
from tidal_lens.app.overlays.titles import TitlesOverlay
from tidal_lens.app.pictures import Pictures
from tidal_lens.app.stage import Stage
from tidal_lens.app.under_pointer import UnderPointer
from tidal_lens.app.wipe import Wipe
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.passages import is_elsewhere
from tidal_lens.scene.scene import Frame
from tidal_lens.study.words import number_text

_TROUBLES = 4  # told in a view of another case


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

    def __init__(self, document: Document, case: CaseHere | None = None) -> None:
        super().__init__(document, case or document)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("View of the flow")
        self.setMinimumSize(200, 160)
        self.clicks = ClicksOverlay(self)
        self.keys = KeysOverlay(self)
        self.handles = HandlesOverlay(self)
        self.pin = PinOverlay(self)
        self.eye = Eye(self, self.pin)
        self.spot = SpotOverlay(self)
        self.rose = RoseOverlay(self, self.eye.look_from, self.eye.toggle_projection)
        self.hand = Hand(self, self.eye)
        self.under = UnderPointer(self)
        self.picks = LinePicks(document, self.case, self)
        self.findings = Findings(document, self.case, self.picks, self.eye)
        self.names = FindingsOverlay(self, self.findings.cards, self.findings.choose, lambda: self.picks.of)
        self.wipe = Wipe(self, document.beside) if self.case.case == 0 else None  # keys and the divider stand in the first's view
        first: tuple[Overlay, ...] = (self.keys, self.rose) if self.wipe is not None else ()
        last: tuple[Overlay, ...] = (self.wipe,) if self.wipe is not None else ()
        notes: tuple[Overlay, ...] = (NotesOverlay(self),) if self.wipe is not None else ()
        titles = TitlesOverlay(self, self._titles, self.troubles)
        self._overlays: tuple[Overlay, ...] = (self.clicks, *notes, self.handles, *first, self.pin, self.spot, self.names,
                                               LabelsOverlay(self), titles, *last)
        self.pictures = Pictures(document, self.case, self, lambda: document.dragging or bool(self.hand.mode), self.picks.items, self)
        self.scenery, self.lights, self.renderer = self.pictures.scenery, self.pictures.lights, self.pictures.renderer
        self.picks.changed.connect(self.redraw)
        self.pictures.shown.connect(self._take_frame)
        self.pictures.picked.connect(self._take_pick)
        self.pictures.small_ready.connect(self.small_ready.emit)
        self.pictures.failed.connect(self.failed.emit)
        self._held: Overlay | None = None
        self._framed: set[str] = set()  # cards beside the flow that were brought into the picture
        if self.case.case == 0:
            document.case_changed.connect(self._new_case)
        document.study_changed.connect(self.redraw_soon)
        document.result_changed.connect(self._came)  # no lambdas: they would outlive a view of another case
        document.study_changed.connect(self.lights.refresh)
        document.result_changed.connect(self._relight)
        if self.case.case == 0:
            document.result_changed.connect(self._frame_first)
        document.quantity_known.connect(self._came)
        document.chosen_changed.connect(self.update)
        document.clicks.changed.connect(self._clicks_changed)
        document.camera_changed.connect(self._camera_moved)
        if self.case.case == 0:
            document.visit.connect(self.eye.visit)
            document.fill_view.connect(self.eye.fill)
        theme.hub().changed.connect(self.redraw_soon)

    # -- drawing ---------------------------------------------------------------------------------------------

    def _new_case(self) -> None:
        self.pictures.new_case()
        self._framed.clear()
        self.eye.pivot = self.pin.place = None
        if self.document.camera is None:
            self.eye.frame_all()
        else:
            self.redraw()

    def is_complete(self) -> bool:
        """Whether what is shown is everything that was asked for, in full."""
        return self.pictures.are_complete() and (self.wipe is None or self.wipe.is_complete)

    def _titles(self) -> list[tuple[str, float, float]]:
        """Names of the cases that are shown, where there are several."""
        study = self.document.study
        if self.wipe is not None and self.wipe.is_on:
            return self.wipe.titles()
        many = study.beside == "split" and len(study.case_titles) > self.case.case and bool(study.others)
        return [(study.case_titles[self.case.case], 0.0, 1.0)] if many else []

    def troubles(self) -> list[str]:
        """What of another case cannot be shown, and why; of the first its cards tell."""
        if self.case.case == 0:
            return []
        names = self.document.study.card_names()
        return [f"{names[one]}: {why}" for one, why in self.case.asking.failures.items() if one in names][:_TROUBLES]

    def _camera_moved(self) -> None:
        """By this view or another: all look from the same place."""
        if self._others_look:
            self.redraw(draft=True)

    @property
    def _others_look(self) -> bool:
        return bool(self.document.beside.cases)

    def redraw_soon(self) -> None:
        """The study changed: draw, quickly while something is dragged."""
        self.pictures.redraw_soon()
        if self.wipe is not None:
            self.wipe.refresh(draft=self.document.dragging)
        if self.document.dragging:
            self.update_with_picture()
        else:
            self.update()

    def _clicks_changed(self) -> None:
        self.clicks.changed()

    def _frame_first(self, layer_id: str) -> None:
        """What lies beside the flow, unrolled, is brought into the picture when it first comes."""
        result = self.case.asking.results.get(layer_id)
        if result is not None and is_elsewhere(result.geometry) and not result.unmasked.whole and layer_id not in self._framed:
            self._framed.add(layer_id)
            self.redraw()  # what is drawn now, with it
            self.eye.frame_all()

    def _relight(self, _layer_id: str) -> None:
        self.lights.refresh()

    def _came(self, name: str) -> None:
        """Something is known now: overlays are painted anew with the picture that shows it, or at once where it shows nothing new."""
        if self.wipe is not None:
            self.wipe.refresh(draft=self.document.dragging)
        if self.pictures.redraw_soon(name):
            return
        if self.document.dragging:
            self.update_with_picture()
        else:
            self.update()

    def redraw(self, *, draft: bool = False) -> None:
        """Ask for a picture."""
        self.pictures.redraw(draft=draft)
        if self.wipe is not None:
            self.wipe.refresh(draft=draft)

    @property
    def box(self) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
        return self.pictures.box or super().box

    def light(self, name: str, value: float) -> None:
        self.lights.light(name, value, theme.current().magenta)

    def pin_at(self, place: tuple[float, float, float]) -> None:
        self.pin.place = place
        self.update()

    def _take_frame(self, frame: Frame, camera: Camera | None) -> None:
        self.show_frame(frame, camera)
        self.frame_shown.emit()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        with QPainter(self) as p:
            self._paint(p)
        self.renderer.prepare()

    def _paint(self, p: QPainter) -> None:
        p.fillRect(self.rect(), theme.colour("ground"))
        p.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        if self.image is not None and self.case.flow is not None:
            p.drawImage(QRectF(self.rect()), self.image)
            for overlay in reversed(self._overlays):  # what is grasped first is painted last
                overlay.paint(p)
            if self.hand.frame is not None:
                p.setPen(QPen(theme.colour("magenta"), 1.2))
                p.setBrush(theme.colour("magenta", 0.08))
                p.drawRect(QRectF(*self.hand.frame).normalized())
        elif self.case.flow is None:
            p.setPen(theme.colour("soft"))
            p.setFont(theme.font(15))
            text = "Opening…" if self.document.jobs.is_busy(Slot("case")) else "Drop a result here, or press Ctrl+O to open one."
            if self.case.case:
                text = self.document.beside.trouble_of(self.case.case) or "Opening…"
            p.drawText(self.rect().adjusted(20, 20, -20, -20), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, text)

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        self.redraw(draft=False)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self.close_renderer()
        super().closeEvent(event)

    def close_renderer(self) -> None:
        """Stop drawing for good."""
        self.pictures.close()
        if self.wipe is not None:
            self.wipe.close()

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
        elif self.hand.release() and not self._pick_line(event.position()):
            self.pictures.pick(event.position().x() / self.width(), event.position().y() / self.height())

    def _pick_line(self, at: QPointF) -> bool:
        """Choose the line at a place; whether there is one."""
        found = self.under.line_at(at)
        if found is None:
            self.picks.drop()
            return False
        self.picks.pick(*found)
        return True

    def _take_pick(self, name: object) -> None:
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
        self.seen.emit(None)
        super().leaveEvent(event)

    def _hover(self, at: QPointF) -> None:
        hint = next((h for h in (o.hint(at) for o in self._overlays) if h), "")
        self.setToolTip(hint)
        self.setCursor(Qt.CursorShape.PointingHandCursor if hint else Qt.CursorShape.ArrowCursor)
        self.under.last = None
        if hint:
            self.pointed.emit(hint)
        elif self.wipe is not None and self.wipe.covers(at):
            self.pointed.emit(self.document.study.case_titles[1])  # values are told of the first
        else:
            self.under.tell(at)
