"""Marks laid over a picture, as values: whoever paints them needs to know nothing else. Places and sizes are in pixels of the view."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

Place = tuple[float, float]
Measure = Callable[[str, float, bool], float]  # width of a text, of a size, bold or not


@dataclass(frozen=True)
class Tint:
    """A colour of the theme by its role (``ink``, ``soft``, ``magenta``, ...), or one of its own (``#RRGGBB``), and how solid it is."""

    role: str
    alpha: float = 1.0


@dataclass(frozen=True)
class Words:
    """A text whose first letter stands at a place, on its base line."""

    at: Place
    text: str
    size: float
    tint: Tint
    bold: bool = False


@dataclass(frozen=True)
class Plate:
    """A rectangle: left, top, width, height; with round corners if a radius is given."""

    box: tuple[float, float, float, float]
    fill: Tint | None = None
    edge: Tint | None = None
    radius: float = 0.0


@dataclass(frozen=True)
class Path:
    """A line through places, or the area within them."""

    places: tuple[Place, ...]
    fill: Tint | None = None
    edge: Tint | None = None
    width: float = 1.0


@dataclass(frozen=True)
class Dot:
    """A round bead."""

    at: Place
    radius: float
    fill: Tint
    edge: Tint | None = None
    width: float = 1.0


@dataclass(frozen=True, eq=False)
class Picture:
    """A picture (h, w, 4) laid into a rectangle: left, top, width, height."""

    box: tuple[float, float, float, float]
    pixels: NDArray[np.uint8]


Mark = Words | Plate | Path | Dot | Picture


def moved(mark: Mark, x: float, y: float) -> Mark:
    """A mark shifted to the right and down."""
    if isinstance(mark, Words | Dot):
        return replace(mark, at=(mark.at[0] + x, mark.at[1] + y))
    if isinstance(mark, Path):
        return replace(mark, places=tuple((a + x, b + y) for a, b in mark.places))
    left, top, wide, tall = mark.box
    return replace(mark, box=(left + x, top + y, wide, tall))


def rough_measure(text: str, size: float, bold: bool) -> float:
    """Width of a text where no font is at hand: letters of humanist faces are about half as wide as high."""
    return len(text) * size * (0.56 if bold else 0.52)


def cut_short(text: str, room: float, size: float, bold: bool, measure: Measure) -> str:
    """The text, or as much of its beginning as there is room for, and an ellipsis."""
    if measure(text, size, bold) <= room:
        return text
    end = next((n for n in range(len(text) - 1, 0, -1) if measure(f"{text[:n]}…", size, bold) <= room), 0)
    return f"{text[:end]}…"
