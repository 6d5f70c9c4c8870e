"""What is told of the place under the pointer: a line's story, else the place and the value of what colours it."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF

from tidal_lens.app.pointing import Pointing
from tidal_lens.app.stage import Stage
from tidal_lens.cutting.points import Points
from tidal_lens.sampling.mesh import ready_mesh
from tidal_lens.study.words import number_text
from tidal_lens.tracing.streamlines import Lines


class UnderPointer:
    """Words for a place of the view.

    Parameters
    ----------
    view : Stage
        The view.

    Attributes
    ----------
    last : QPointF or None
        The place that was told of; None where the pointer is elsewhere.
    waits : bool
        Whether nothing is to be told: something is held.
    """

    def __init__(self, view: Stage) -> None:
        self._view, self._document = view, view.document
        self.last: QPointF | None = None
        self._pointing = Pointing(view.document, view.case, self._again)
        self.waits = False

    def tell(self, at: QPointF) -> None:
        """Tell what is at a place."""
        self.last = at
        self._view.seen.emit(self._view.point_at(at))
        self._view.pointed.emit(self._line(at) or self._value(at))

    def _again(self) -> None:
        """What is under the pointer is known now."""
        if self.last is not None and not self.waits:
            self.tell(self.last)

    def _line(self, at: QPointF) -> str:
        found = self._hit(at)
        return found[0].told_at(found[1]) if found is not None else ""

    def line_at(self, at: QPointF) -> tuple[str, int] | None:
        """The card and the seed of the line at a place."""
        found = self._hit(at)
        lines, point = found or (None, 0)
        if not isinstance(lines, Lines):
            return None
        seed = int(lines.seeds[int(np.searchsorted(lines.offsets, point, side="right")) - 1])
        owner = next((layer for layer, r in self._view.case.asking.results.items() if r.geometry is lines), None)
        return (owner, seed) if owner is not None else None

    def _hit(self, at: QPointF) -> tuple[Lines | Points, int] | None:
        camera = self._view.shown_camera
        if camera is None:
            return None

        def front() -> float:
            seen = self._view.point_at(at)
            return float(camera.project(seen[None], 1, 1)[1][0]) if seen is not None else np.inf

        return self._pointing.hit(camera, (self._view.width(), self._view.height()), at, front)

    def _value(self, at: QPointF) -> str:
        point, flow, evaluator = self._view.point_at(at), self._view.case.flow, self._view.case.evaluator
        if point is None or flow is None or evaluator is None:
            return ""
        text = "   ".join(f"{axis} {number_text(float(c))}" for axis, c in zip("xyz", point, strict=True))
        mesh = ready_mesh(flow)
        names = [x.look.colour_by for x in (self._document.chosen_layer, *self._document.study.layers)
                 if x is not None and x.look.colour_by and self._document.study.is_drawn(x)]
        values = evaluator.store.kept(names[0]) if names and names[0] else None
        if mesh is None or values is None:
            return text
        stencil, inside = mesh.locate(point[None], slack=0.02)
        if not inside[0]:
            return text
        quantity = evaluator.store.describe(str(names[0]))
        value = float(stencil.apply(values)[0])
        return f"{text}   ·   {quantity.title} {self._document.units.value(quantity, value)}"
