"""Handles of the chosen card: its shape says which; here they are drawn and dragged."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import halo_text, near
from tidal_lens.app.overlays.snapping import snapped
from tidal_lens.app.stage import Stage
from tidal_lens.study.kinds.kind import Handle, Handles
from tidal_lens.study.model import Layer

BEAD, SMALL = 6.0, 4.5
_ARM = 0.09  # of the flow's size
_FEW = 60  # dots that are drawn in full
Vec = NDArray[np.float64]
_FINE = Qt.KeyboardModifier.ShiftModifier
_SNAP = Qt.KeyboardModifier.ControlModifier


class HandlesOverlay:
    """Magenta lines and beads of the chosen card, whatever its kind."""

    def __init__(self, view: Stage) -> None:
        self._view = view
        self._held = ""
        self._on_track: dict[str, int] = {}
        self._from = QPointF()
        self._start: Layer | None = None  # whose bead is held, as it was when it was taken
        self._began: tuple[Any, Handles | None] | None = None  # in which flow, and all its handles then
        self._labels: dict[str, QRectF] = {}
        self._of: tuple[Any, Any, Any] = (None, None, None)  # flow, card and what it came to, and its handles
        self._now: Handles | None = None

    def _project(self, points: Vec) -> list[QPointF | None]:
        camera = self._view.shown_camera
        if camera is None:
            return [None] * len(points)
        pixels, depth = camera.project(points, self._view.width(), self._view.height())
        return [QPointF(float(x), float(y)) if d > 0 else None for (x, y), d in zip(pixels, depth, strict=True)]

    def _layer(self) -> Layer | None:
        document = self._view.document
        layer = document.chosen_layer
        return layer if self._view.case.flow is not None and layer is not None and document.study.is_drawn(layer) else None

    def _handles(self, layer: Layer | None) -> Handles | None:
        flow = self._view.case.flow
        if layer is None or flow is None:
            self._of, self._now = (None, None, None), None
            return None
        result = self._view.case.asking.results.get(layer.id)
        of = flow, layer, result.unmasked if result is not None else None
        if any(a is not b for a, b in zip(of, self._of, strict=True)):
            self._of, self._now = of, layer.shape.handles(flow, of[2])
        return self._now

    def beads(self) -> dict[str, Vec]:
        """Where the beads stand in space."""
        handles = self._handles(self._layer())
        return {h.id: self._place(h) for h in handles.beads} if handles is not None else {}

    def _place(self, handle: Handle) -> Vec:
        """Where a bead stands: on its track, at the first place that can be seen."""
        if handle.track is None:
            return handle.place
        if not self._held:  # while it is dragged it does not jump
            room = QRectF(self._view.rect()).adjusted(20, 40, -80, -20)
            seen = (n for n, q in enumerate(self._project(handle.track)) if q is not None and room.contains(q))
            self._on_track[handle.id] = next(seen, 0)
        return np.asarray(handle.track[self._on_track.get(handle.id, 0)])

    def bead_at(self, name: str) -> QPointF:
        """Where a bead is in the view."""
        place = self._project(np.array([self.beads()[name]]))[0]
        if place is None:
            raise ValueError(f"the bead {name} is behind the eye")
        return place

    def paint(self, p: QPainter) -> None:
        self._labels = {}
        handles = self._handles(self._layer())
        if handles is None:
            return
        for line, closed in handles.lines:
            self._paint_line(p, line, closed=closed)
        full, hollow = theme.colour("magenta"), theme.colour("panel")
        p.setPen(QPen(full, 1))
        dot = 2.4 if len(handles.dots) <= _FEW else 1.4  # many would hide what begins at them
        for place, good in zip(self._project(handles.dots), handles.good, strict=True):
            if place is not None:
                p.setBrush(full if good else hollow)
                p.drawEllipse(place, dot, dot)
        places = {h.id: q for h in handles.beads if (q := self._project(self._place(h)[None])[0]) is not None}  # some are behind the eye
        for handle in handles.beads:
            if handle.id in places:
                self._paint_bead(p, handle, places)
        told = next((places[h.id] for h in handles.beads if h.small and h.id in places), None)
        if handles.told and told is not None:
            halo_text(p, told + QPointF(14, 0), handles.told, "magenta", 12)

    def _paint_line(self, p: QPainter, line: Vec, *, closed: bool) -> None:
        places = [q for q in self._project(line) if q is not None]
        if len(places) < len(line):
            return
        p.setBrush(Qt.BrushStyle.NoBrush)
        if closed:
            p.setPen(QPen(theme.colour("magenta", 0.8), 1))
            p.drawPolygon(QPolygonF(places))
        else:
            p.setPen(QPen(theme.colour("magenta"), 1.2))
            p.drawPolyline(QPolygonF(places))

    def _paint_bead(self, p: QPainter, handle: Handle, places: dict[str, QPointF]) -> None:
        at = places[handle.id]
        flow = self._view.case.flow
        if handle.rail is not None and flow is not None and not handle.turns:
            arm = _ARM * flow.size * handle.rail
            a, z = self._project(self._place(handle) + np.array([-arm, arm]))
            if a is not None and z is not None:
                p.setPen(QPen(theme.colour("magenta"), 1.5))
                p.drawLine(a, z)
        p.setPen(QPen(theme.colour("panel"), 1.5))
        p.setBrush(theme.colour("magenta"))
        radius = SMALL if handle.small else BEAD
        p.drawEllipse(at, radius, radius)
        if not handle.label:
            return
        if handle.rail is not None:
            self._labels[handle.id] = halo_text(p, at + QPointF(14, -14), handle.label, "magenta", bold=True)
        else:  # away from the others
            middle = sum(q.y() for q in places.values()) / len(places)
            away = QPointF(0, 20 if at.y() >= middle else -20)
            self._labels[handle.id] = halo_text(p, at + away, handle.label, "magenta", align=Qt.AlignmentFlag.AlignHCenter)

    def _find(self, at: QPointF) -> str:
        return next((name for name, place in self.beads().items()
                     if (q := self._project(place[None])[0]) is not None and near(at, q, BEAD + 5)), "")

    def grasp(self, at: QPointF) -> bool:
        name = self._find(at)
        layer = self._layer()
        if not name or layer is None:
            return False
        self._held, self._from, self._start, self._began = name, at, layer, None
        self._view.document.dragging = True
        return True

    def drag(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        document, start = self._view.document, self._start
        flow = self._view.case.flow
        if start is None or flow is None:
            return
        layer = document.study.layer(start.id)  # another card may be chosen by now
        if self._began is None or self._began[0] is not flow:  # while one bead is dragged they all stay where they were
            self._began = flow, start.shape.handles(flow, None)
        began = self._began[1]
        handle = next((h for h in began.beads if h.id == self._held), None) if began is not None else None
        if layer is None or layer.kind != start.kind or began is None or handle is None:
            return
        move = at - self._from
        if modifiers & _FINE:
            move *= 0.1
        to = self._place(handle) + (self._free(handle, move) if handle.rail is None else self._along(handle, handle.rail, move))
        snap = bool(modifiers & _SNAP)
        caught = snapped(self._view, at, to, start.id) if snap and isinstance(handle.value, tuple) else None
        shape = (start.shape.typed(handle.id, tuple(float(c) for c in caught)) if caught is not None
                 else start.shape.moved(handle.id, to, flow, snap=snap))
        document.edit_layer(layer.with_(shape=shape), f"Move {began.what}", f"handle {layer.id} {self._held}")

    def _free(self, handle: Handle, move: QPointF) -> Vec:
        """What a drag is in space, in the plane that faces the viewer."""
        camera, height = self._view.shown_camera, self._view.height()
        assert camera is not None
        depth = float(camera.project(self._place(handle)[None], self._view.width(), height)[1][0])
        right, up, _ = camera.basis()
        return np.asarray((move.x() * right - move.y() * up) * camera.pixel_size(depth, height))

    def _along(self, handle: Handle, rail: Vec, move: QPointF) -> Vec:
        """The same along a rail."""
        camera, flow = self._view.shown_camera, self._view.case.flow
        assert camera is not None
        assert flow is not None
        reach = float(np.abs(rail) @ (flow.bounds[1] - flow.bounds[0]))
        bead = self._place(handle)
        (a, b), _ = camera.project(np.array([bead, bead + 0.01 * reach * rail]), self._view.width(), self._view.height())
        way = (b - a) / (0.01 * reach)
        pull = float(way @ way)
        if pull < 1e-12 * self._view.height() ** 2 / reach**2:  # seen end on: up and down move it
            return -move.y() / self._view.height() * reach * rail
        return float(way[0] * move.x() + way[1] * move.y()) / pull * rail

    def let_go(self) -> None:
        if self._held:
            self._held, self._start, self._began = "", None, None
            self._view.document.release()

    def double_click(self, at: QPointF) -> bool:
        layer = self._layer()
        handles = self._handles(layer)
        if layer is None or handles is None:
            return False
        for handle in handles.beads:
            box = self._labels.get(handle.id)
            if box is None or not (box.contains(at) or self._find(at) == handle.id):
                continue
            take = partial(self._type, layer, handles.what, handle.id)
            if isinstance(handle.value, tuple):
                self._view.typing.ask_point(QRectF(box.left(), box.top() - 2, 190, 26), handle.value, take)
            elif handle.value is not None:
                self._view.typing.ask_number(QRectF(box.left(), box.top() - 2, 90, 26), handle.value, take)
            return True
        return bool(self._find(at))

    def _type(self, layer: Layer, what: str, handle: str, value: Any) -> None:
        self._view.document.edit_layer(layer.with_(shape=layer.shape.typed(handle, value)), f"Move {what}")

    def menu(self, _at: QPointF) -> bool:
        return False

    def hint(self, at: QPointF) -> str:
        handles = self._handles(self._layer())
        if handles is not None and self._find(at):
            return f"Drag to move the {handles.what}; Shift finely, Ctrl snaps to points, cards and nodes; double-click its number to type"
        return "Double-click to type" if any(box.contains(at) for box in self._labels.values()) else ""
