"""Notes as marks: where each stands in a view, and what it is drawn by."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.scene.camera import Camera
from tidal_lens.scene.marks import Mark, Measure, Path, Picture, Place, Plate, Tint, Words
from tidal_lens.study.notes import Note
from tidal_lens.study.words import number_text

Box = tuple[float, float, float, float]
_ROOM, _LINE = 7.0, 1.3  # around the text; between base lines, of the size of its letters
_HEAD, _BAR = 9.0, 7.0  # of arrows; height of a bar of length
_USUAL, _SHARE = 0.18, 0.25  # width of a picture, and about that of a bar, as shares of the view
_TALL = 640.0  # of the view that offsets are meant for
Pictures = Callable[[str], "NDArray[np.uint8] | None"]


@dataclass(frozen=True, eq=False)
class NoteFace:
    """A note in a view.

    Attributes
    ----------
    note : Note
        Which.
    box : tuple of float
        Left, top, width and height.
    tip : tuple of float or None
        Where its arrow ends, if it has one that can be seen.
    marks : tuple of marks
        What it is drawn by.
    """

    note: Note
    box: Box
    tip: Place | None
    marks: tuple[Mark, ...]

    def holds(self, x: float, y: float) -> bool:
        """Whether a place is on it."""
        left, top, wide, high = self.box
        return left <= x <= left + wide and top <= y <= top + high


def note_face(note: Note, text: str, camera: Camera, size: tuple[float, float], measure: Measure, picture: Pictures,
              unit: str = "") -> NoteFace:
    """A note as it stands in a view.

    Parameters
    ----------
    note, text : Note, str
        Which, and its text with all numbers put in.
    camera, size : Camera, tuple of float
        What the view is seen by, its width and height.
    measure : callable
        Widths of texts.
    picture : callable
        Pixels (h, w, 4) of a file; None where it cannot be read.
    unit : str
        Of lengths.
    """
    width, height = size
    tip: Place | None = None
    if note.at is not None:
        where, depth = camera.project(np.array([note.at]), width, height)
        tip = (float(where[0, 0]), float(where[0, 1])) if depth[0] > 0.0 else None
    inner, own = _inner(note, text, camera, size, measure, picture, unit)
    room = _ROOM if note.frame else 0.0
    wide, high = inner[0] + 2 * room, inner[1] + 2 * room
    if note.hangs and tip is not None:
        left, top = tip[0] + note.off[0] * height / _TALL, tip[1] + note.off[1] * height / _TALL
    else:
        left, top = note.place[0] * width, note.place[1] * height
    marks: list[Mark] = []
    if tip is not None:
        marks += _arrow((left, top, wide, high), tip)
    if note.frame:
        marks.append(Plate((left, top, wide, high), Tint("panel", 0.9), Tint("line"), 6.0))
    marks += own(left + room, top + room)
    return NoteFace(note, (left, top, wide, high), tip, tuple(marks))


def _inner(note: Note, text: str, camera: Camera, size: tuple[float, float], measure: Measure, picture: Pictures,
           unit: str) -> tuple[tuple[float, float], Callable[[float, float], list[Mark]]]:
    """Width and height of what is in a note, and its marks for where its left upper corner is."""
    if note.sort == "bar":
        return _bar(note, text, camera, size, measure, unit)
    pixels = picture(note.path) if note.sort == "picture" else None
    if pixels is not None:
        wide = (note.wide or _USUAL) * size[0]
        high = wide * pixels.shape[0] / pixels.shape[1]
        return (wide, high), lambda x, y: [Picture((x, y, wide, high), pixels)]
    lines = (text or ("no picture" if note.sort == "picture" else " ")).split("\n")
    step = _LINE * note.size

    def marks(x: float, y: float) -> list[Mark]:
        return [Words((x, y + 0.95 * note.size + n * step), line, note.size, Tint("ink"), note.bold)
                for n, line in enumerate(lines) if line]

    return (max(measure(line, note.size, note.bold) for line in lines), step * (len(lines) - 1) + 1.2 * note.size), marks


def _bar(note: Note, text: str, camera: Camera, size: tuple[float, float], measure: Measure,
         unit: str) -> tuple[tuple[float, float], Callable[[float, float], list[Mark]]]:
    """A bar as long as a length at what is looked at, with the length beside it."""
    depth = camera.distance
    if note.at is not None:
        depth = max(float((np.array(note.at) - camera.eye) @ camera.basis()[2]), 1e-9 * camera.distance)
    pixel = camera.pixel_size(depth, size[1])
    length = note.wide or round_length(_SHARE * size[0] * pixel)
    wide = min(length / pixel, 4.0 * size[0])
    told = " ".join(t for t in (f"{number_text(length)}{' ' + unit if unit else ''}", text) if t)
    letters = measure(told, note.size, note.bold)

    def marks(x: float, y: float) -> list[Mark]:
        base = y + 1.25 * note.size
        return [Words((x + 0.5 * max(wide - letters, 0.0), y + 0.95 * note.size), told, note.size, Tint("ink"), note.bold),
                *(Plate((x + 0.25 * n * wide, base, 0.25 * wide, _BAR), Tint("ink" if n % 2 == 0 else "panel"), Tint("ink"))
                  for n in range(4))]

    return (max(wide, letters), 1.25 * note.size + _BAR), marks


def round_length(length: float) -> float:
    """The greatest of 1, 2 and 5 times a power of ten that is no longer."""
    if not length > 0.0 or not math.isfinite(length):
        return 1.0
    power = 10.0 ** math.floor(math.log10(length))
    return float(f"{next(f for f in (5.0, 2.0, 1.0) if f * power <= length * (1.0 + 1e-9)) * power:.12g}")


def _arrow(box: Box, tip: Place) -> list[Mark]:
    """From the nearest side of a box to a place; nothing where that is within it."""
    left, top, wide, high = box
    x, y = min(max(tip[0], left), left + wide), min(max(tip[1], top), top + high)
    dx, dy = tip[0] - x, tip[1] - y
    far = math.hypot(dx, dy)
    if far < 2.0:
        return []
    if left <= tip[0] <= left + wide:  # straight up or down, from the middle rather than from a corner
        x = min(max(tip[0], left + 0.15 * wide), left + 0.85 * wide)
    ux, uy = (tip[0] - x) / max(far, 1e-9), (tip[1] - y) / max(far, 1e-9)
    long = math.hypot(ux, uy) or 1.0
    ux, uy = ux / long, uy / long
    head = min(_HEAD, 0.6 * far)
    a = (tip[0] - head * ux - 0.4 * head * uy, tip[1] - head * uy + 0.4 * head * ux)
    b = (tip[0] - head * ux + 0.4 * head * uy, tip[1] - head * uy - 0.4 * head * ux)
    back = (tip[0] - 0.7 * head * ux, tip[1] - 0.7 * head * uy)
    return [Path(((x, y), back), None, Tint("ink"), 1.4), Path((tip, a, b, tip), Tint("ink"), Tint("ink"), 0.5)]
