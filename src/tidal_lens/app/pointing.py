"""Which line or particle is under the pointer: all points of all of them are laid out for a camera in the background, once."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF

from tidal_lens.app.asking import CaseHere
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.cutting.points import Points
from tidal_lens.scene.camera import Camera
from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token

_REACH = 5.0  # pixels


@dataclass(frozen=True, eq=False)
class _Laid:
    """Points of some lines or particles on the screen: a tree of their places, and the depth of each."""

    of: Lines | Points
    tree: Any
    depth: Any
    points: Any


class Pointing:
    """Finds lines and particles at places of the view.

    Parameters
    ----------
    document, case
        What is drawn of a case of a document is found.
    ready : callable
        Called when they have been laid out for the camera that was asked for.
    """

    def __init__(self, document: Document, case: CaseHere, ready: Callable[[], None]) -> None:
        self._document, self._case, self._ready = document, case, ready
        self._key: tuple[object, ...] = ()
        self._laid: tuple[_Laid, ...] = ()
        self._asked: tuple[object, ...] = ()

    def hit(self, camera: Camera, size: tuple[int, int], at: QPointF, front: Callable[[], float]) -> tuple[Lines | Points, int] | None:
        """The lines or particles at a place, and the point of theirs there; None where there are none or it is not known yet.

        Parameters
        ----------
        camera : Camera
            The picture's camera.
        size : tuple of int
            Width and height of the view.
        at : QPointF
            The place.
        front : callable
            Depth of what is seen there: lines behind it are not.
        """
        drawn = self._drawn()
        key = (id(camera), size, tuple(map(id, drawn)))
        if key != self._key:
            self._ask(key, camera, size, drawn)
            return None
        for laid in self._laid:
            near = laid.tree.query_ball_point((at.x(), at.y()), _REACH)
            if not near:
                continue
            gap = np.hypot(laid.tree.data[near, 0] - at.x(), laid.tree.data[near, 1] - at.y())
            best = near[int(gap.argmin())]
            if laid.depth[best] <= front() * 1.01:
                return laid.of, int(laid.points[best])
        return None

    def _drawn(self) -> list[Lines | Points]:
        study, results = self._document.study, self._case.asking.results
        found = [results[layer.id].geometry for layer in study.layers if layer.id in results and study.is_drawn(layer)]
        return [one for one in found if isinstance(one, Lines | Points) and len(one.points)]

    def _ask(self, key: tuple[object, ...], camera: Camera, size: tuple[int, int], drawn: list[Lines | Points]) -> None:
        if key == self._asked:
            return
        self._asked = key
        if not drawn:
            self._key, self._laid = key, ()
            return

        def work(token: Token) -> tuple[_Laid, ...]:
            from scipy.spatial import cKDTree

            out = []
            for one in drawn:
                token.check()
                pixels, depth = camera.project(one.points, *size)
                seen = np.flatnonzero((depth > 0) & (pixels >= -_REACH).all(axis=1) & (pixels <= np.array(size) + _REACH).all(axis=1))
                out.append(_Laid(one, cKDTree(pixels[seen]), depth[seen], seen))
            return tuple(out)

        def done(laid: tuple[_Laid, ...]) -> None:
            self._key, self._laid, self._camera = key, laid, camera  # the camera is held, so that its id stays its own
            self._ready()

        self._document.jobs.submit(Slot("pointing", str(self._case.case)), "Finding lines", work, done, lambda _error: None)
