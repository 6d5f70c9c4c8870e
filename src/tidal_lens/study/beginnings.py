"""What a case shows when it is opened."""

from __future__ import annotations

import numpy as np

from tidal_lens.flow.boundaries import PLANE
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.first_values import best_name
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.slice import new_slice
from tidal_lens.study.kinds.wall import WallShape, new_walls
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.model import Choices, FrameOfBlocks, Study


def _plane_study(study: Study, flow: Flow, store: QuantityStore) -> Study:
    """The plane itself: a slice where a coordinate is constant on it, else the layer's own side."""
    across = np.abs(np.array(flow.normal))
    if across.max() > 1.0 - 1e-9:
        return study.adding(study.layer_of(new_slice(store, int(across.argmax()))))
    sides = tuple(b.name for b in flow.boundaries if b.reason == PLANE)[:1]
    side = Begun("Plane", WallShape(boundaries=sides), SurfaceLook(colour_by=best_name(store)))
    return study.adding(study.layer_of(side))


def first_choices(flow: Flow) -> Choices:
    """How quantities are worked out at first: about the axis and at the rate that the file states."""
    turning = flow.turning
    if turning is None:
        return Choices()
    more = tuple(FrameOfBlocks(blocks=f.blocks, point=f.point, axis=f.axis, rate=f.rate) for f in turning.more)
    return Choices(axis_point=turning.point, axis=turning.axis, spin=turning.rate, turning=turning.blocks, frames=more)


def first_study(flow: Flow, store: QuantityStore) -> Study:
    """What opening a case shows: its walls, its outline and one mid-plane."""
    study = Study(case=str(flow.path))
    if any(b.solid for b in flow.boundaries):
        study = study.adding(study.layer_of(new_walls(store)))
    if flow.normal is not None:
        return _plane_study(study, flow, store)
    low, high = flow.bounds
    span = high - low
    wind = np.abs(np.array(store.reference.velocity))
    # The plane that holds the stream and, of the other two, the shorter way: a symmetry plane more often than not.
    along = int(np.argmax(wind)) if wind.any() else int(np.argmax(span))
    rest = [a for a in range(3) if a != along]
    normal = 1 if 1 in rest else max(rest, key=lambda a: float(span[a]))
    return study.adding(study.layer_of(new_slice(store, normal)))
