"""Where the view looks from: framed, turned, shifted, brought nearer."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF

from tidal_lens.app.overlays.pin import PinOverlay
from tidal_lens.app.stage import Stage
from tidal_lens.scene.camera import Camera, first_camera


class Eye:
    """Moves the camera of a document.

    Attributes
    ----------
    pivot : ndarray, shape (3,), or None
        What the view turns about; what it looks at where nothing was said.
    """

    def __init__(self, view: Stage, pin: PinOverlay) -> None:
        self._view, self._pin, self._document, self._case = view, pin, view.document, view.case
        self.pivot: NDArray[np.float64] | None = None

    def move(self, camera: Camera, *, rest: bool = False) -> None:
        """Look from elsewhere; at rest the picture is drawn in full."""
        self._document.move_camera(camera)
        self._view.redraw(draft=not rest)

    def frame_all(self) -> None:
        """Bring the whole flow into the picture."""
        flow = self._case.flow
        if flow is None:
            return
        aspect = self._view.width() / max(self._view.height(), 1)
        camera = self._document.camera
        first = first_camera(*flow.stage, aspect, flow.normal)
        box = self._view.box or flow.bounds
        self.move(first if camera is None else camera.framing(*box, aspect), rest=True)

    def frame_chosen(self) -> None:
        """Bring the chosen card's geometry into the picture."""
        result = self._case.asking.results.get(self._document.chosen or "")
        camera = self._document.camera
        if result is None or camera is None or len(result.geometry.points) == 0:
            return
        points = result.geometry.points
        self.frame_box(points.min(axis=0), points.max(axis=0))

    def frame_box(self, low: NDArray[np.float64], high: NDArray[np.float64]) -> None:
        """Bring a box into the picture; the view then turns about its middle."""
        camera = self._document.camera
        if camera is not None:
            self.pivot = 0.5 * (low + high)
            self.move(camera.framing(low, high, self._view.width() / max(self._view.height(), 1)), rest=True)

    def fill(self) -> None:
        """Look straight at the chosen card's plane, with parallel rays, and show it alone; again: all are shown."""
        document, camera = self._document, self._document.camera
        layer, result = document.chosen_layer, self._case.asking.results.get(document.chosen or "")
        if layer is None or camera is None or result is None or result.unmasked.frame is None:
            return
        alone = document.study.alone == layer.id
        document.edit(document.study.with_(alone=None if alone else layer.id), "Show all" if alone else "Fill the view")
        if not alone:
            points, way = result.unmasked.geometry.points, result.unmasked.frame[1]
            turned = camera.along(way)
            self.move(turned if turned.span else turned.toggled(), rest=False)
            self.frame_box(points.min(axis=0), points.max(axis=0))

    def toggle_projection(self) -> None:
        """Perspective or parallel rays."""
        camera = self._document.camera
        if camera is not None:
            self.move(camera.toggled(), rest=True)

    def magnify(self, a: QPointF, b: QPointF) -> None:
        """Let what is seen in a rectangle between two places fill the view."""
        camera, width, height = self._document.camera, self._view.width(), self._view.height()
        share = max(abs(b.x() - a.x()) / width, abs(b.y() - a.y()) / height)
        if camera is None or share < 0.01:
            return
        middle = 0.5 * (a + b)
        hit = self._view.point_at(middle)
        depth = camera.distance if hit is None else float(camera.project(hit[None], width, height)[1][0])
        there = camera.at_depth(middle.x(), middle.y(), depth, width, height)
        shift = there - camera.at_depth(width / 2, height / 2, depth, width, height)
        moved = replace(camera, eye=camera.eye + shift, focus=camera.focus + shift)
        self.move(moved.zoomed(share, there), rest=True)

    def look_from(self, axis: int, sign: int) -> None:
        """Look along an axis, from its positive or negative side, at the whole flow."""
        camera, flow = self._document.camera, self._case.flow
        if camera is None or flow is None:
            return
        if flow.normal is not None and abs(flow.normal[axis]) < 0.9:
            self._view.pointed.emit("A plane flow is looked at from its front or its back.")
            return
        low, high = flow.bounds
        turned = camera.along(-sign * np.eye(3)[axis])
        self.move(turned.framing(low, high, self._view.width() / max(self._view.height(), 1)), rest=True)

    def visit(self, place: tuple[float, float, float]) -> None:
        """Bring a place to the middle of the picture and pin it; the view then turns about it."""
        camera = self._document.camera
        if camera is None:
            return
        target = np.array(place)
        self._pin.place, self.pivot = place, target
        self.move(replace(camera, eye=camera.eye + target - camera.focus, focus=target), rest=True)

    def orbit(self, dx: float, dy: float) -> None:
        """Turn about the pivot by pixels of drag; a plane flow is shifted instead."""
        camera, flow = self._document.camera, self._case.flow
        if camera is not None and flow is not None and flow.normal is not None:
            self.move(camera.panned(dx, dy, self._view.height()))
        elif camera is not None:
            pivot = camera.focus if self.pivot is None else self.pivot
            self.move(camera.orbited(dx * 0.008, dy * 0.008, pivot))

    def zoom(self, factor: float, at: QPointF | None = None) -> None:
        """Come nearer (factor below 1) to what is at a place."""
        camera = self._document.camera
        if camera is None:
            return
        place = QPointF(self._view.width() / 2, self._view.height() / 2) if at is None else at
        hit = self._view.point_at(place)
        target = camera.at_depth(place.x(), place.y(), camera.distance, self._view.width(), self._view.height()) if hit is None else hit
        self.move(camera.zoomed(factor, target))
