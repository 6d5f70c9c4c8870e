"""Labels of what lies on surfaces, as marks: those that can be seen, and do not lie over one another."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.scene.camera import Camera
from tidal_lens.scene.marks import Mark, Measure, Plate, Tint, Words

_SIZE, _ROOM = 10.5, 3.0
_BEHIND = 0.01  # of its depth that a place may lie behind what is seen there: it lies on it
_APART = 4.0  # pixels


def label_marks(places: NDArray[np.float64], texts: Sequence[str], camera: Camera, size: tuple[int, int],
                depths: NDArray[np.floating[Any]] | None, measure: Measure, taken: list[tuple[float, float, float, float]]) -> list[Mark]:
    """Marks of labels at places (n, 3), the first before the others.

    Parameters
    ----------
    places, texts
        Where they belong, and what they say.
    camera, size : Camera, tuple of int
        What the picture is seen by, and its width and height.
    depths : ndarray, or None
        Of what is seen, of any resolution; not finite where nothing is. Without them all are taken to be seen.
    measure : callable
        Widths of texts.
    taken : list
        Left, top, right and bottom of what stands there already; grows.
    """
    width, height = size
    pixels, depth = camera.project(places, width, height)
    out: list[Mark] = []
    for (x, y), away, text in zip(pixels, depth, texts, strict=True):
        wide = measure(text, _SIZE, False) + 2 * _ROOM
        box = (float(x) - 0.5 * wide, float(y) - 0.5 * _SIZE - _ROOM, float(x) + 0.5 * wide, float(y) + 0.5 * _SIZE + _ROOM)
        if away <= 0 or box[0] < 0 or box[1] < 0 or box[2] > width or box[3] > height:
            continue
        if depths is not None:
            rows, columns = depths.shape
            front = float(depths[min(int(y / height * rows), rows - 1), min(int(x / width * columns), columns - 1)])
            if np.isfinite(front) and away > front * (1.0 + _BEHIND):
                continue
        if any(box[0] < b[2] + _APART and box[2] > b[0] - _APART and box[1] < b[3] + _APART and box[3] > b[1] - _APART for b in taken):
            continue
        taken.append(box)
        out += [Plate((box[0], box[1], wide, box[3] - box[1]), Tint("panel", 0.8), None, 3.0),
                Words((box[0] + _ROOM, float(y) + 0.36 * _SIZE), text, _SIZE, Tint("ink"))]
    return out
