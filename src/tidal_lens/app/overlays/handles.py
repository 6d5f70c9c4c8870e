"""Handles of the chosen card: the bead of a slice, and the beads of a seed line."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import halo_text, near
from tidal_lens.app.parts import number_text
from tidal_lens.study.beginnings import AXES, round_to
from tidal_lens.study.model import SliceLayer, StreamLayer
from tidal_lens.tracing.streamlines import Lines, seeds_on_line

if TYPE_CHECKING:
    from tidal_lens.app.view import FlowView

BEAD = 6.0
Vec = NDArray[np.float64]
_FINE = Qt.KeyboardModifier.ShiftModifier
_SNAP = Qt.KeyboardModifier.ControlModifier


class HandlesOverlay:
    """Magenta lines and beads of the chosen card."""

    def __init__(self, view: FlowView) -> None:
        self._view = view
        self._held = ""
        self._along = 0
        self._from = QPointF()
        self._start: Any = None
        self._labels: dict[str, QRectF] = {}

    def _project(self, points: Vec) -> list[QPointF | None]:
        camera = self._view.shown_camera
        if camera is None:
            return [None] * len(points)
        pixels, depth = camera.project(points, self._view.width(), self._view.height())
        return [QPointF(float(x), float(y)) if d > 0 else None for (x, y), d in zip(pixels, depth, strict=True)]

    def _layer(self) -> SliceLayer | StreamLayer | None:
        document = self._view.document
        layer = document.chosen_layer
        if document.flow is None or not isinstance(layer, SliceLayer | StreamLayer) or not document.study.is_drawn(layer) or (
                isinstance(layer, StreamLayer) and layer.shape.listed):
            return None
        return layer

    def beads(self) -> dict[str, Vec]:
        """Where the beads stand in space."""
        layer, flow = self._layer(), self._view.document.flow
        if layer is None or flow is None:
            return {}
        if isinstance(layer, SliceLayer):
            return {"slice": self._slice_bead(layer, *flow.bounds)}
        start, end = np.array(layer.shape.start), np.array(layer.shape.end)
        return {"start": start, "end": end, "middle": 0.5 * (start + end)}

    def _slice_bead(self, layer: SliceLayer, low: Vec, high: Vec) -> Vec:
        """On the middle line of the plane, as near to its upper rim as can be seen."""
        axis = layer.shape.axis
        up = 2 if axis != 2 else 1
        places = np.tile(0.5 * (low + high), (17, 1))
        places[:, up] = np.linspace(high[up], low[up], 17) if axis != 2 else np.linspace(low[up], high[up], 17)
        places[:, axis] = layer.shape.position
        if not self._held:  # while it is dragged it does not jump
            room = QRectF(self._view.rect()).adjusted(20, 40, -80, -20)
            seen = (n for n, q in enumerate(self._project(places)) if q is not None and room.contains(q))
            self._along = next(seen, 0)
        return np.asarray(places[self._along])

    def bead_at(self, name: str) -> QPointF:
        """Where a bead is in the view."""
        place = self._project(np.array([self.beads()[name]]))[0]
        if place is None:
            raise ValueError(f"the bead {name} is behind the eye")
        return place

    def paint(self, p: QPainter) -> None:
        layer = self._layer()
        self._labels = {}
        if isinstance(layer, SliceLayer):
            self._paint_slice(p, layer)
        elif isinstance(layer, StreamLayer):
            self._paint_seeds(p, layer)

    def _paint_slice(self, p: QPainter, layer: SliceLayer) -> None:
        flow = self._view.document.flow
        assert flow is not None
        low, high = flow.bounds
        axis = layer.shape.axis
        b, c = (a for a in range(3) if a != axis)
        rim = np.empty((4, 3))
        rim[:, axis] = layer.shape.position
        rim[:, b] = (low[b], high[b], high[b], low[b])
        rim[:, c] = (low[c], low[c], high[c], high[c])
        places = self._project(rim)
        p.setPen(QPen(theme.colour("magenta", 0.8), 1))
        p.setBrush(Qt.BrushStyle.NoBrush)
        if all(q is not None for q in places):
            p.drawPolygon(QPolygonF([q for q in places if q is not None]))
        bead = self.beads()["slice"]
        ends = np.array([bead, bead])
        reach = 0.09 * flow.size
        ends[:, axis] += (-reach, reach)
        a, z, middle = self._project(np.vstack([ends, bead]))
        if middle is None:  # a place far off may be behind the eye
            return
        if a is not None and z is not None:
            p.setPen(QPen(theme.colour("magenta"), 1.5))
            p.drawLine(a, z)
        self._bead(p, middle)
        text = f"{AXES[axis]} = {number_text(layer.shape.position, 5)}"
        self._labels["slice"] = halo_text(p, middle + QPointF(14, -14), text, "magenta", bold=True)

    def _paint_seeds(self, p: QPainter, layer: StreamLayer) -> None:
        shape = layer.shape
        seeds = seeds_on_line(shape.start, shape.end, min(shape.count, 200))
        result = self._view.document.results.get(layer.id)
        inside = np.ones(len(seeds), dtype=bool)
        if result is not None and isinstance(result.geometry, Lines) and result.geometry.n_seeds == len(seeds):
            inside = np.isin(np.arange(len(seeds)), result.geometry.seeds)
        beads = self.beads()
        a, b, middle = self._project(np.array([beads["start"], beads["end"], beads["middle"]]))
        if a is None or b is None or middle is None:
            return
        p.setPen(QPen(theme.colour("magenta"), 1.2))
        p.drawLine(a, b)
        for place, good in zip(self._project(seeds), inside, strict=True):
            if place is not None:
                p.setPen(QPen(theme.colour("magenta"), 1))
                p.setBrush(theme.colour("magenta") if good else theme.colour("panel"))
                p.drawEllipse(place, 2.4, 2.4)
        for bead in (a, b):
            self._bead(p, bead)
        self._bead(p, middle, 4.5)
        for name, place, point in (("start", a, shape.start), ("end", b, shape.end)):
            text = ", ".join(number_text(c) for c in point)
            away = QPointF(0, 20 if place.y() >= middle.y() else -20)
            self._labels[name] = halo_text(p, place + away, text, "magenta", align=Qt.AlignmentFlag.AlignHCenter)
        if result is not None and isinstance(result.geometry, Lines):
            told = f"{result.geometry.n_lines} of {result.geometry.n_seeds} seeds are inside"
            halo_text(p, middle + QPointF(14, 0), told, "magenta", 12)

    @staticmethod
    def _bead(p: QPainter, at: QPointF, radius: float = BEAD) -> None:
        p.setPen(QPen(theme.colour("panel"), 1.5))
        p.setBrush(theme.colour("magenta"))
        p.drawEllipse(at, radius, radius)

    def _find(self, at: QPointF) -> str:
        beads = self.beads()
        places = dict(zip(beads, self._project(np.array(list(beads.values()))), strict=True)) if beads else {}
        for name, place in places.items():
            if place is not None and near(at, place, BEAD + 5):
                return name
        return ""

    def grasp(self, at: QPointF) -> bool:
        name = self._find(at)
        layer = self._layer()
        if not name or layer is None:
            return False
        self._held, self._from, self._start = name, at, layer.shape
        self._view.document.dragging = True
        return True

    def drag(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        layer = self._layer()
        if not self._held or layer is None:
            return
        move = at - self._from
        if modifiers & _FINE:
            move *= 0.1
        grip = f"handle {layer.id} {self._held}"
        document = self._view.document
        if isinstance(layer, SliceLayer):
            position = self._slice_position(layer, move, bool(modifiers & _SNAP))
            document.edit_layer(layer.with_(shape=layer.shape.with_(position=position)), "Move slice", grip)
        else:
            changes = self._seed_places(move, bool(modifiers & _SNAP))
            document.edit_layer(layer.with_(shape=layer.shape.with_(**changes)), "Move seed line", grip)

    def _slice_position(self, layer: SliceLayer, move: QPointF, snap: bool) -> float:
        flow, camera = self._view.document.flow, self._view.shown_camera
        assert flow is not None
        assert camera is not None
        axis = layer.shape.axis
        low, high = (float(b[axis]) for b in flow.bounds)
        bead = self.beads()["slice"]
        bead[axis] = self._start.position
        ahead = bead.copy()
        ahead[axis] += 0.01 * (high - low)
        (a, b), _ = camera.project(np.array([bead, ahead]), self._view.width(), self._view.height())
        way = (b - a) / (0.01 * (high - low))
        pull = float(way @ way)
        if pull < 1e-12 * self._view.height() ** 2 / (high - low) ** 2:  # seen end on: up and down move it
            position = self._start.position - move.y() / self._view.height() * (high - low)
        else:
            position = self._start.position + float(way[0] * move.x() + way[1] * move.y()) / pull
        position = min(max(position, low), high)
        if snap:
            column = flow.points[:, axis]
            return float(column[np.abs(column - position).argmin()])
        return round_to(position, 0.0005 * (high - low))

    def _seed_places(self, move: QPointF, snap: bool) -> dict[str, tuple[float, float, float]]:
        flow, camera = self._view.document.flow, self._view.shown_camera
        assert flow is not None
        assert camera is not None
        width, height = self._view.width(), self._view.height()

        def moved(point: Vec, depth: float) -> tuple[float, float, float]:
            right, up, _ = camera.basis()
            scale = camera.pixel_size(depth, height)
            out = point + (move.x() * right - move.y() * up) * scale
            if snap:
                out = flow.points[((flow.points - out) ** 2).sum(axis=1).argmin()]
            x, y, z = (round_to(float(c), 0.0005 * flow.size) if not snap else float(c) for c in out)
            return x, y, z

        ends = {"start": np.array(self._start.start), "end": np.array(self._start.end)}
        held = 0.5 * (ends["start"] + ends["end"]) if self._held == "middle" else ends[self._held]
        depth = float(camera.project(held[None], width, height)[1][0])
        if self._held != "middle":
            return {self._held: moved(ends[self._held], depth)}
        shift = np.array(moved(held, depth)) - held
        out = {}
        for name, point in ends.items():
            x, y, z = (float(f"{c:.9g}") for c in point + shift)
            out[name] = (x, y, z)
        return out

    def let_go(self) -> None:
        if self._held:
            self._held = ""
            self._view.document.release()

    def double_click(self, at: QPointF) -> bool:
        layer = self._layer()
        for name, box in self._labels.items():
            if not (box.contains(at) or self._find(at) == name) or layer is None:
                continue
            place = QRectF(box.left(), box.top() - 2, 90 if isinstance(layer, SliceLayer) else 190, 26)
            if isinstance(layer, SliceLayer):
                self._view.ask_number(place, layer.shape.position, partial(self._type, layer, "position", "Move slice"))
            else:
                self._view.ask_point(place, getattr(layer.shape, name), partial(self._type, layer, name, "Move seed line"))
            return True
        return bool(self._find(at))

    def _type(self, layer: SliceLayer | StreamLayer, field: str, what: str, value: Any) -> None:
        self._view.document.edit_layer(layer.with_(shape=layer.shape.with_(**{field: value})), what)

    def menu(self, _at: QPointF) -> bool:
        return False

    def hint(self, at: QPointF) -> str:
        name = self._find(at)
        if name == "slice":
            return "Drag to move the slice; Shift finely, Ctrl snaps to nodes; double-click its number to type"
        if name:
            return "Drag to move the seed line; Shift finely, Ctrl snaps to nodes; double-click a coordinate to type"
        return "Double-click to type" if any(box.contains(at) for box in self._labels.values()) else ""
