"""From where pictures are seen, and in what light."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.scene.camera import Camera
from tidal_lens.scene.scene import Item, Scene

Part = tuple[float, float, float, float]  # left, top, width and height, as shares of the whole picture
WHOLE: Part = (0.0, 0.0, 1.0, 1.0)
Lamps = tuple[tuple[tuple[float, float, float], float], ...]  # where from, seen from the eye (right, up, back), and how strong
LAMP = 124.0  # degrees


@dataclass(frozen=True, eq=False)
class Sight:
    """A picture of a camera, or a part of it: width and height [pixels], and depths between which all lies."""

    camera: Camera
    size: tuple[int, int]
    between: tuple[float, float]
    part: Part = WHOLE


@dataclass(frozen=True, eq=False)
class Shown:
    """What a picture shows, and how."""

    items: tuple[Item, ...]
    scene: Scene
    sight: Sight
    draft: bool
    fine: bool


def lamps(angle: float) -> Lamps:
    """The main light falls from a side of the picture [degrees], a weaker one always from the same."""
    turn = np.radians(angle)
    return ((0.72 * float(np.cos(turn)), 0.72 * float(np.sin(turn)), 1.0), 0.85), ((0.8, -0.3, 0.6), 0.25)


def reach(camera: Camera, low: NDArray[np.float64], high: NDArray[np.float64]) -> tuple[float, float]:
    """Depths between which a box lies; the least is before the eye in perspective."""
    middle, radius = 0.5 * (low + high), 0.51 * float(np.linalg.norm(high - low)) + 1e-9
    depth = float((middle - camera.eye) @ camera.basis()[2])
    if camera.span:
        return depth - radius, depth + radius
    far = max(depth + radius, 1e-6)
    return max(depth - radius, 1e-3 * far), far
