"""Copies of what is drawn of a periodic passage: turned about the axis of the machine, or shifted where it lies unrolled."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import Surface
from tidal_lens.flow.annulus import passages_of
from tidal_lens.flow.case import Flow
from tidal_lens.flow.periodic import turn_about
from tidal_lens.sampling.mesh import TurnedStencil
from tidal_lens.study.evaluate import Evaluated
from tidal_lens.study.geometry import Geometry
from tidal_lens.study.model import Study

Move = NDArray[np.float64]  # (4, 4)


def pitches(flow: Flow, study: Study) -> tuple[float, ...]:
    """Angles [rad] by which what is drawn is copied: none of it where a passage is shown once."""
    if study.passages_shown < 2:
        return ()
    number = study.passages or passages_of(flow, study.choices.axis_point, study.choices.axis)
    return tuple(2.0 * np.pi * n / number for n in range(1, min(study.passages_shown, number)))


def moves_of(study: Study, angles: tuple[float, ...], result: Evaluated | None = None) -> tuple[Move, ...]:
    """How the copies of a card stand to what it came to; of the flow itself without one."""
    if result is not None and is_elsewhere(result.geometry):
        frame = result.unmasked.frame
        return tuple(shifted(a * frame[1]) for a in angles) if frame is not None else ()
    return tuple(turn_about(study.choices.axis_point, study.choices.axis, a) for a in angles)


def is_elsewhere(geometry: Geometry) -> bool:
    """Whether it lies beside the flow, unrolled."""
    return isinstance(geometry, Surface) and isinstance(geometry.stencil, TurnedStencil)  # of lines a stencil may not be there yet


def shifted(by: NDArray[np.float64]) -> Move:
    """By a way (3,)."""
    out = np.eye(4)
    out[:3, 3] = by
    return out


def box_of(low: NDArray[np.float64], high: NDArray[np.float64], moves: tuple[Move, ...]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The box about a box and its copies."""
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    every = np.concatenate([corners, *(corners @ m[:3, :3].T + m[:3, 3] for m in moves)])
    return every.min(axis=0), every.max(axis=0)
