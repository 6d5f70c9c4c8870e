"""Where a bead goes that is dragged with Ctrl: to a point of a card, else to a card, else to a node of the grid, whichever is near."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF

from tidal_lens.app.stage import Stage

_NEAR = 12.0  # pixels
_ON = 0.02  # of the flow's size
Vec = NDArray[np.float64]


def snapped(view: Stage, at: QPointF, to: Vec, besides: str) -> Vec | None:
    """A place near where the pointer is; None where nothing is near.

    Parameters
    ----------
    view : Stage
        The view.
    at : QPointF
        Where the pointer is.
    to : ndarray, shape (3,)
        Where the bead would go without.
    besides : str
        The card whose bead it is: it is not caught by itself.
    """
    document = view.document
    flow, seen = view.case.flow, view.point_at(at)
    if flow is None:
        return None
    cards = [result.geometry for layer in document.study.layers
             if layer.id != besides and document.study.is_drawn(layer) and layer.shape.geometry != "none"
             and (result := view.case.asking.results.get(layer.id)) is not None and len(result.geometry.points)]
    # What is seen may be the card's own lines: a place counts as on another card if a point of it is not far.
    if seen is not None and any(_distance(card.points, seen) < _ON * flow.size for card in cards):
        caught = [found for card in cards if (found := _nearest(view, card.points, seen, at)) is not None]
        return min(caught, key=lambda place: float(np.linalg.norm(place - seen)), default=seen)
    return _nearest(view, flow.points, to, at)


def _distance(points: Vec, place: Vec) -> float:
    return float(np.sqrt(((points - place) ** 2).sum(axis=1).min()))


def _nearest(view: Stage, points: Vec, place: Vec, at: QPointF) -> Vec | None:
    """The nearest of some points to a place, if it is near the pointer in the view."""
    camera = view.shown_camera
    if camera is None or len(points) == 0:
        return None
    nearest = points[((points - place) ** 2).sum(axis=1).argmin()]
    (pixel,), (depth,) = camera.project(nearest[None], view.width(), view.height())
    off = float(np.hypot(pixel[0] - at.x(), pixel[1] - at.y()))
    return np.asarray(nearest, np.float64) if depth > 0.0 and off <= _NEAR else None
