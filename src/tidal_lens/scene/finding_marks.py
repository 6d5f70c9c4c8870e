"""Names of findings as marks: those that do not lie over one another, the chosen one in full."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features.finding import Finding
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.marks import Dot, Mark, Measure, Plate, Tint, Words

Box = tuple[float, float, float, float]
_SIZE, _ROOM, _OFF = 11.5, 4.0, 12.0
_APART = 3.0  # pixels
SLACK = 0.015  # of the flow's size that lines on walls are drawn before them
_TURNS = ((1.0, -1.0), (-1.0, -1.0), (1.0, 1.0), (-1.0, 1.0))  # to which sides of its place a name may stand


@dataclass(frozen=True, eq=False)
class Named:
    """A finding's name and where it belongs.

    Attributes
    ----------
    place : ndarray, shape (3,)
        Where.
    text : str
        Its name.
    ring : bool
        Whether it is a place, to be marked by a ring.
    chosen : bool
        Whether it is the chosen one.
    card, number
        Which it is.
    """

    place: NDArray[np.float64]
    text: str
    ring: bool
    chosen: bool
    card: str
    number: int


def middle_of(finding: Finding) -> NDArray[np.float64]:
    """Where a finding's name belongs."""
    return finding.line[len(finding.line) // 2] if len(finding.line) else finding.place


def finding_marks(
        named: Named, camera: Camera, size: tuple[int, int], depths: NDArray[np.floating[Any]] | None, measure: Measure,
                  taken: list[Box], slack: float) -> tuple[list[Mark], Box | None]:
    """Marks of a name, beside its place, which may lie ``slack`` behind what is seen there.

    There are none where it would lie over what is ``taken``, which grows, or where the place is hidden.

    Returns
    -------
    list of marks, and left, top, right and bottom of the name; None where there is none.
    """
    width, height = size
    pixels, depth = camera.project(named.place[None], width, height)
    (x, y), away = (float(c) for c in pixels[0]), float(depth[0])
    if away <= 0 or not (0 <= x <= width and 0 <= y <= height):
        return [], None
    hidden = False
    if depths is not None:
        rows, columns = depths.shape
        front = float(depths[min(int(y / height * rows), rows - 1), min(int(x / width * columns), columns - 1)])
        hidden = bool(np.isfinite(front) and away > front + slack)
    if hidden and named.ring and not named.chosen:
        return [], None
    wide = measure(named.text, _SIZE, True) + 2 * _ROOM
    high = _SIZE + 2 * _ROOM
    tint = Tint("magenta", 0.5 if hidden and not named.chosen else 1.0)
    out: list[Mark] = [Dot((x, y), 4.5 if named.ring else 2.5, Tint("panel", 0.9) if named.ring else tint, tint, 1.6)]
    for right, down in _TURNS:
        left = x + (_OFF if right > 0 else -_OFF - wide)
        top = y + (_OFF * 0.4 if down > 0 else -_OFF * 0.4 - high)
        box = (left, top, left + wide, top + high)
        if box[0] < 0 or box[1] < 0 or box[2] > width or box[3] > height:
            continue
        if any(box[0] < b[2] + _APART and box[2] > b[0] - _APART and box[1] < b[3] + _APART and box[3] > b[1] - _APART for b in taken):
            continue
        taken.append(box)
        fill, ink = (Tint("magenta"), Tint("panel")) if named.chosen else (Tint("panel", 0.88), tint)
        out += [Plate((box[0], box[1], wide, high), fill, tint, 4.0),
                Words((box[0] + _ROOM, top + _ROOM + 0.84 * _SIZE), named.text, _SIZE, ink, bold=True)]
        return out, box
    return (out if named.ring else []), None
