"""Controls of a slice."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtWidgets import QPushButton

from tidal_lens.app.card_chooser import CardChooser
from tidal_lens.app.clicks import Wish
from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, PointField, Slider, row
from tidal_lens.app.play_button import PlayButton
from tidal_lens.cutting.planes import reach, unit
from tidal_lens.errors import StudyError, TidalLensError
from tidal_lens.flow.boundaries import nearest_wall
from tidal_lens.study.kinds.first_values import AXES, round_to, rounded
from tidal_lens.study.kinds.slice import SliceShape

Vec = NDArray[np.float64]
_LIMITS = [("whole", "Whole", "The whole plane"), ("disc", "Disc", "Only a disc about its middle"),
           ("rectangle", "Rectangle", "Only a rectangle about its middle")]


class SliceControls(SurfaceLookControls[SliceShape]):
    """Where the plane stands, how it got there, and how it is shown."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.of = OfBlocks(document, lambda blocks: self.reshape("Blocks", blocks=blocks))
        self.axis = Choice([(str(n), axis, f"Normal to {axis}") for n, axis in enumerate(AXES)])
        self.axis.picked.connect(lambda a: self._turn(int(a)))
        self.position = NumberField("Position", "Where the plane cuts its direction, from the origin")
        self.position.edited.connect(lambda v: self.reshape("Move slice", position=v))
        self.sweep = Slider("Sweep", "Sweep the plane through the flow", 0.0, 1.0)
        self.sweep.moved.connect(self._swept)
        self.sweep.sliderPressed.connect(self._held)
        self.sweep.sliderReleased.connect(self.document.release)
        self.direction = PointField("Direction", "What the plane is normal to: three numbers of any length")
        self.direction.pointed.connect(self._direct)
        self.point = PointField("Through", "A place that the plane goes through, in its middle")
        self.point.pointed.connect(lambda p: self._put("Move slice", np.array(p)))
        for field in (self.direction, self.point):
            field.refused.connect(lambda why: document.tell(TidalLensError(why, "", "Type three numbers with blanks between them.")))
        self.three = _button("Three clicks", "Lay the plane through three places that you click", self._ask_three)
        self.facing = _button("Facing me", "Turn the plane to face you", self._face)
        self.at_wall = _button("Across a wall", "Stand the plane on a wall where you click it, across the free stream", self._ask_wall)
        self.limit = Choice(_LIMITS)
        self.limit.picked.connect(self._limited)
        self.wide = NumberField("Width", "How wide it is", low=1e-12)
        self.wide.edited.connect(lambda v: self.reshape("Size of the slice", width=v))
        self.tall = NumberField("Height", "How high it is", low=1e-12)
        self.tall.edited.connect(lambda v: self.reshape("Size of the slice", height=v))
        self.card = CardChooser("Across", "A card of lines that the plane stands across", "no line")
        self.card.picked.connect(self._cross)
        self.along = NumberField("Distance", "How far along the line it stands", low=0.0)
        self.along.edited.connect(lambda v: self.reshape("Move slice", along=v))
        self.line = NumberField("Line", "Which line of the card, from 1", 1, 1, 10_000_000)
        self.line.whole = True
        self.line.edited.connect(lambda v: self.reshape("Line of the slice", line=int(v) - 1))
        rows = (row("Normal to", self.axis, stretch=1), row("Position", self.position, stretch=1),
                row("", self.sweep, PlayButton(document), stretch=1),
                row("Direction", self.direction, stretch=1), row("Through", self.point, stretch=1),
                row("Place it", self.three, self.facing, stretch=1), row("", self.at_wall, stretch=1),
                row("Across", self.card, stretch=1), row("Line, at", self.line, self.along, stretch=1),
                row("Show", self.limit, stretch=1), row("Size", self.wide, self.tall, stretch=1))
        for n, one in enumerate(rows):
            self.body.insertLayout(n, one)
        self.body.insertWidget(0, self.of)

    def _held(self) -> None:
        self.document.dragging = True

    def _turn(self, axis: int) -> None:
        flow = self.document.flow
        if flow is None:
            return
        low, high = flow.bounds
        middle = round_to(0.5 * float(low[axis] + high[axis]), 0.01 * float(high[axis] - low[axis]))
        layer, old = self.layer(), self.shape()
        if layer is not None and old is not None:
            name = f"Slice {AXES[axis]}" if layer.name.startswith("Slice ") else layer.name
            shape = old.with_(direction=tuple(float(n == axis) for n in range(3)), position=middle, across="", centre=None)
            self.document.edit_layer(layer.with_(shape=shape, name=name), "Turn slice")

    def _direct(self, direction: tuple[float, float, float]) -> None:
        flow = self.document.flow
        if flow is None:
            return
        if not np.linalg.norm(direction) > 0.0:
            self.document.tell(StudyError("A direction needs a length.", "", "Type three numbers that are not all zero."))
            return
        shape = self.shape()
        if shape is not None:
            self._put("Turn slice", shape.middle(flow), np.array(direction))

    def _put(self, what: str, point: Vec, direction: Vec | None = None) -> None:
        """Lay the plane through a place; the name tells an axis only as long as it is normal to it."""
        layer, shape = self.layer(), self.shape()
        if layer is None or shape is None:
            return
        new = shape.through(point, direction)
        name = "Slice" if layer.name in [f"Slice {a}" for a in AXES] and new.axis is None else layer.name
        self.document.edit_layer(layer.with_(shape=new, name=name), what)

    def _ask_three(self) -> None:
        def take(places: Vec) -> None:
            normal = np.cross(places[1] - places[0], places[2] - places[0])
            longest = max(float(np.linalg.norm(places[a] - places[b])) for a, b in ((0, 1), (0, 2), (1, 2)))
            if float(np.linalg.norm(normal)) < 1e-6 * longest**2:
                self.document.tell(StudyError("The three places lie on a line.", "", "Click three that do not."))
                return
            self._put("Slice through three places", places.mean(axis=0), np.array(rounded(unit(normal), 1e-4)))

        self.document.clicks.ask(Wish(3, "Click three places that the plane goes through.", take))

    def _face(self) -> None:
        camera, flow, shape = self.document.camera, self.document.flow, self.shape()
        if camera is not None and flow is not None and shape is not None:
            self._put("Slice facing you", shape.middle(flow), np.array(rounded(unit(camera.eye - camera.focus), 1e-4)))

    def _ask_wall(self) -> None:
        def take(places: Vec) -> None:
            flow, evaluator = self.document.flow, self.document.evaluator
            if flow is None or evaluator is None:
                return
            wall = nearest_wall(flow.boundaries, places[0])
            if wall is None:
                self.document.tell(StudyError("This result has no walls.", "", "Say what its boundaries are in the Case station."))
                return
            wind = np.array(evaluator.store.reference.velocity)
            way = wind if wind.any() else np.eye(3)[int(np.argmax(flow.bounds[1] - flow.bounds[0]))]
            way = way - (way @ wall) * wall
            if float(np.linalg.norm(way)) < 1e-6 * float(np.linalg.norm(wind) or 1.0):  # the wind blows right onto the wall
                way = np.cross(wall, np.eye(3)[int(np.argmin(np.abs(wall)))])
            self._put("Slice across a wall", places[0], np.array(rounded(unit(way), 1e-4)))

        self.document.clicks.ask(Wish(1, "Click a wall: the plane will stand on it, across the free stream.", take))

    def _limited(self, limit: str) -> None:
        flow, shape = self.document.flow, self.shape()
        if flow is not None and shape is not None:
            self.reshape("Limits of the slice", limit=limit)

    def _cross(self, card: str) -> None:
        flow, shape = self.document.flow, self.shape()
        if flow is None or shape is None:
            return
        changes: dict[str, Any] = {"across": card}
        if card and shape.along == 0.0:
            changes["along"] = round_to(0.2 * flow.size, 0.05 * flow.size)
        self.reshape("Slice across a line", **changes)

    def _swept(self, share: float) -> None:
        flow, shape = self.document.flow, self.shape()
        if flow is not None and shape is not None:
            low, high = reach(flow.bounds, shape.normal)
            self.reshape("Move slice", "sweep", position=round_to(low + share * (high - low), 0.002 * (high - low)))

    def refresh(self) -> None:
        shape, flow, layer = self.shape(), self.document.flow, self.layer()
        if shape is None or flow is None or layer is None:
            return
        low, high = reach(flow.bounds, shape.normal)
        self.axis.show_value(str(shape.axis))
        self.position.step = self.along.step = float(f"{max(high - low, 1e-300) / 100:.0e}")
        self.position.show_value(shape.position)
        self.sweep.show_value((shape.position - low) / max(high - low, 1e-300))
        self.direction.show_values(shape.direction)
        self.point.show_values(tuple(shape.middle(flow)))
        self.limit.show_value(shape.limit)
        self.wide.step = self.tall.step = float(f"{0.01 * flow.size:.0e}")
        self.wide.show_value(shape.width)
        self.tall.show_value(shape.height)
        self.card.offer(self.document.study.subjects_for(layer, ("lines",)), shape.across)
        self.line.show_value(shape.line + 1)
        self.along.show_value(shape.along)
        for field in (self.axis, self.position, self.sweep, self.direction, self.point):
            field.setEnabled(not shape.across)
        for field in (self.line, self.along):
            field.setEnabled(bool(shape.across))
        self.wide.setEnabled(shape.limit != "whole")
        self.tall.setEnabled(shape.limit == "rectangle")
        self.of.show_value(shape.blocks)
        super().refresh()


def _button(text: str, tip: str, act: Any) -> QPushButton:
    button = QPushButton(text)
    button.setToolTip(tip)
    button.clicked.connect(lambda _checked=False: act())
    return button
