"""Pictures of a study without a window: its cards are worked out, drawn, and keys, labels and names laid over them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from pathlib import Path
from types import TracebackType

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import StudyError
from tidal_lens.features.finding import sounding_numbers
from tidal_lens.flow.case import Flow
from tidal_lens.formats.pictures import kept_picture
from tidal_lens.scene.camera import Camera, camera_from, first_camera
from tidal_lens.scene.canvas import Canvas
from tidal_lens.scene.finding_marks import SLACK, Box, Named, finding_marks, middle_of
from tidal_lens.scene.key_faces import key_faces
from tidal_lens.scene.label_marks import label_marks
from tidal_lens.scene.marks import Mark, Plate, Tint, Words, cut_short, moved
from tidal_lens.scene.marks import Path as Stroke
from tidal_lens.scene.note_marks import note_face
from tidal_lens.scene.scene import Scene
from tidal_lens.scene.scenery import Key, Scenery, Table
from tidal_lens.scene.themes import THEMES, Theme
from tidal_lens.study.evaluate import Evaluated, sifting_of
from tidal_lens.study.model import Layer, Study
from tidal_lens.study.noted import known_now
from tidal_lens.study.notes import filled
from tidal_lens.study.opened import Opened, Seen, seen
from tidal_lens.study.said import listing
from tidal_lens.study.session import key_of
from tidal_lens.study.shown import in_units
from tidal_lens.tell.lettering import measure
from tidal_lens.tell.printing import Pixels, document, lettered, over, png
from tidal_lens.work import Token

LARGEST = 12_000  # pixels a side
LEAST = 16
_TALL = 640.0  # height of the view that letters and lines are sized for
KINDS = ("png", "svg", "pdf")
_BLACK, _WHITE = "#000000", "#FFFFFF"
_GAP, _EDGE, _TITLE = 2.0, 16.0, 12.5  # between pictures of several cases; of their names, from the side, and their size


@dataclass(frozen=True)
class Look:
    """How pictures are made.

    Attributes
    ----------
    wide, tall : int
        Pixels.
    theme : str
        Of keys and letters, and of the ground where the study leaves it open: ``chart`` or ``night``.
    clear : bool
        Whether the ground is transparent.
    keys, notes : bool
        Whether keys and notes stand in it.
    scale : float
        Pixels to one unit of keys and letters, where it is a part of a larger picture; by its height for 0.
    """

    wide: int = 1920
    tall: int = 1200
    theme: str = "chart"
    clear: bool = False
    keys: bool = True
    notes: bool = True
    scale: float = 0.0

    @staticmethod
    def of(study: Study, theme: str) -> Look:
        """As a study asks for it."""
        return Look(study.picture.wide, study.picture.tall, theme, study.picture.clear)

    @property
    def ratio(self) -> float:
        """Pixels to one unit of keys and letters."""
        return self.scale or self.tall / _TALL

    @property
    def colours(self) -> Theme:
        """Colours by role."""
        return THEMES[self.theme]

    def check(self) -> None:
        """Refuse sizes that cannot be drawn.

        Raises
        ------
        StudyError
            With what may be chosen.
        """
        if not all(LEAST <= n <= LARGEST for n in (self.wide, self.tall)):
            raise StudyError(f"A picture of {self.wide} × {self.tall} pixels cannot be drawn.", "",
                             f"Choose {LEAST} to {LARGEST:,} each way.")


@dataclass(frozen=True, eq=False)
class Shot:
    """A picture that was made.

    Attributes
    ----------
    raster : ndarray, shape (h, w, 4), uint8
        What is drawn of the flow.
    marks : tuple of marks
        What is laid over it, in units of ``look``.
    look : Look
        How it was made.
    seen : Seen
        What the study came to.
    title : str
        What it shows.
    """

    raster: Pixels
    marks: tuple[Mark, ...]
    look: Look
    seen: Seen
    title: str

    @cached_property
    def pixels(self) -> Pixels:
        """All of it (h, w, 4)."""
        tall, wide = self.raster.shape[:2]
        return over(self.raster, _lettered(self.marks, wide, tall, self.look.ratio, self.look.colours)) if self.marks else self.raster

    def file(self, kind: str) -> bytes:
        """It as a file: png, svg or pdf."""
        if kind == "png":
            return png(self.pixels, self.title)
        return document(self.raster, self.marks, self.look.ratio, self.look.colours, kind, self.title)

    def save(self, path: Path) -> None:
        """Write it; the ending says as what.

        Raises
        ------
        StudyError
            The ending is another one, or it cannot be written there.
        """
        kind = path.suffix.lower().lstrip(".")
        if kind not in KINDS:
            raise StudyError(f"Pictures are not written as {path.suffix or 'files without an ending'}.", str(path),
                             f"Choose {', '.join(KINDS[:-1])} or {KINDS[-1]}.")
        try:
            path.write_bytes(self.file(kind))
        except OSError as why:
            raise StudyError(f"The picture cannot be written: {why.strerror or why}.", str(path),
                             "Choose another folder, or make room.") from why


_lettered = lru_cache(maxsize=4)(lettered)  # keys of one film are those of the picture before


class Studio:
    """Makes pictures; of one thread, that which began it and closes it.

    Parameters
    ----------
    opened : Opened
        The case.
    """

    def __init__(self, opened: Opened) -> None:
        self.opened = opened
        self._sceneries: dict[int, Scenery] = {}
        self._canvas: Canvas | None = None

    def __enter__(self) -> Studio:
        return self

    def __exit__(self, _kind: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Let go of what is drawn with."""
        if self._canvas is not None:
            self._canvas.close()
            self._canvas = None

    def shot(self, study: Study, look: Look, token: Token | None = None, *, camera: Camera | None = None,
             phase: float = 0.0) -> Shot:
        """A picture of what a study shows.

        Parameters
        ----------
        study : Study
            What is on the table.
        look : Look
            Its size and so on.
        token : Token, optional
            Progress and cancel.
        camera : Camera, optional
            Where it is seen from, in the place of the study's own camera.
        phase : float
            Of streaks and marks that run, from 0 to 1.

        Raises
        ------
        TidalLensError
            It cannot be made; what a single card cannot do is told in ``seen.troubles``.
        CancelledError
            The token was cancelled.
        """
        look.check()
        wanted = token or Token()
        beside = range(1, 1 + min({"first": 0, "wipe": 1}.get(study.beside, len(study.others)), len(study.others)))
        others = [n for n in beside if n in self.opened.others]
        parts = _parts(study.beside, look, 1 + len(others))
        share = 1.0 / len(parts)
        first = self._drawn(seen(self.opened, study, wanted.part(0.0, 0.7 * share)), parts[0].look, wanted.part(0.7 * share, share), camera,
                            phase)
        lost = {study.case_titles[n]: "It could not be opened." for n in beside if n not in others}
        first = replace(first, seen=replace(first.seen, troubles={**first.seen.troubles, **lost}))
        if len(parts) == 1:
            return first
        shots = [first]
        for n, (number, part) in enumerate(zip(others, parts[1:], strict=True), 1):
            one, own = self.opened.beside(number, first.seen.study, first.seen.evaluator.flow)
            came = seen(one, own, wanted.part(n * share, (n + 0.7) * share), case=number)
            shots.append(self._drawn(came, part.look, wanted.part((n + 0.7) * share, (n + 1) * share), camera, phase, number, first.seen))
        return _laid(shots, parts, study, look, [study.case_titles[n] for n in (0, *others)])

    def _drawn(self, came: Seen, look: Look, token: Token, camera: Camera | None, phase: float, case: int = 0,
               first: Seen | None = None) -> Shot:
        """A picture of what was worked out of a case; ``first`` gives the colours of another one's."""
        study, flow = came.study, came.evaluator.flow
        eye = camera or camera_of(study, (first or came).evaluator.flow, look)
        raster, depths = self._draw(self.scene_of(came, look, case, first, phase), eye, look, token)
        size = round(look.wide / look.ratio), round(look.tall / look.ratio)
        marks = tuple(_marks(came, eye, size, depths, keys=look.keys, notes=look.notes))
        token.check()
        return Shot(raster, marks, look, came, flow.title)

    def scene_of(self, came: Seen, look: Look, case: int = 0, first: Seen | None = None, phase: float = 0.0) -> Scene:
        """All that is drawn of what was worked out."""
        scenery = self._sceneries.setdefault(case, Scenery())
        scenery.phase = phase
        return scenery.scene(self._table(came, first or came), look.colours.ground, look.colours.soft)

    def _table(self, came: Seen, first: Seen) -> Table:
        study, evaluator = came.study, came.evaluator

        def key(name: str) -> Key | None:
            known = key_of(study, first.evaluator, name)
            return None if known is None else Key.of(study, evaluator.store.describe(name).scale, name, *known[1:])

        return Table(evaluator.flow, study, came.results, key, evaluator.outline() if study.outline else None)

    def _draw(self, scene: Scene, eye: Camera, look: Look, token: Token) -> tuple[Pixels, NDArray[np.float32]]:
        if self._canvas is None:
            self._canvas = Canvas()
        canvas = self._canvas

        def draw(one: Scene, part: Token) -> tuple[Pixels, NDArray[np.float32]]:
            return canvas.draw_large(one, eye, look.wide, look.tall, look.ratio, part)

        if not look.clear:
            return draw(scene, token)
        dark, depths = draw(replace(scene, background=_BLACK), token.part(0.0, 0.5))
        dark = dark.copy()
        light, _ = draw(replace(scene, background=_WHITE), token.part(0.5, 1.0))
        return without_ground(dark, light), depths


@dataclass(frozen=True)
class _Part:
    """A part of a picture: its left upper corner [pixels], and how it is made."""

    left: int
    top: int
    look: Look


def _parts(how: str, look: Look, count: int) -> list[_Part]:
    """Where pictures of so many cases stand, as the views of the window do: side by side, or one upon the other for a divider."""
    if count == 1:
        return [_Part(0, 0, look)]
    if how == "wipe":
        return [_Part(0, 0, look), _Part(0, 0, replace(look, keys=False, notes=False))]
    gap, rows = max(round(_GAP * look.ratio), 1), (count + 1) // 2
    wide, tall = max((look.wide - gap) // 2, LEAST), max((look.tall - gap * (rows - 1)) // rows, LEAST)
    out = []
    for n in range(count):
        own = replace(look, wide=wide, tall=tall, scale=look.ratio, keys=look.keys and n == 0, notes=look.notes and n == 0)
        out.append(_Part((n % 2) * (wide + gap), (n // 2) * (tall + gap), own))
    return out


def _laid(shots: Sequence[Shot], parts: Sequence[_Part], study: Study, look: Look, titles: Sequence[str]) -> Shot:
    """Pictures of several cases as one, each with its name."""
    ratio = look.ratio
    marks: list[Mark] = []
    if study.beside == "wipe":
        at = round(study.divider * look.wide)
        raster = shots[0].raster.copy()
        raster[:, at:] = shots[1].raster[:, at:]
        edge = at / ratio
        marks += [*shots[0].marks, Stroke(((edge, 0.0), (edge, look.tall / ratio)), None, Tint("magenta"), 1.6)]
        ends = [(0.0, edge, 0.0), (edge, look.wide / ratio, 0.0)]
    else:
        ground = np.array([*bytes.fromhex(look.colours.line[1:]), 0 if look.clear else 255], np.uint8)
        raster = np.broadcast_to(ground, (look.tall, look.wide, 4)).copy()
        ends = []
        if len(shots) == 3:  # nothing stands in the fourth place
            raster[parts[2].top:, parts[1].left:, :3] = [*bytes.fromhex(look.colours.ground[1:])]
        for shot, part in zip(shots, parts, strict=True):
            tall, wide = shot.raster.shape[:2]
            raster[part.top:part.top + tall, part.left:part.left + wide] = shot.raster[:look.tall - part.top, :look.wide - part.left]
            marks += [moved(mark, part.left / ratio, part.top / ratio) for mark in shot.marks]
            ends.append((part.left / ratio, (part.left + wide) / ratio, part.top / ratio))
    for text, (left, right, top) in zip(titles, ends, strict=True):
        name = cut_short(text, right - left - 2.0 * _EDGE, _TITLE, True, measure)
        long = measure(name, _TITLE, True)
        if right - left > 40.0:
            marks += [Plate((right - _EDGE - long - 6.0, top + 5.0, long + 12.0, 20.0), Tint("panel", 0.8), None, 3.0),
                      Words((right - _EDGE - long, top + 19.0), name, _TITLE, Tint("ink"), True)]
    names = study.card_names()
    troubles = {f"{titles[n]}: {names.get(one, one)}" if n else one: why
                for n, shot in enumerate(shots) for one, why in shot.seen.troubles.items()}
    return Shot(raster, tuple(marks), look, replace(shots[0].seen, troubles=troubles), " and ".join(s.title for s in shots))


def without_ground(dark: Pixels, light: Pixels) -> Pixels:
    """A picture (h, w, 4) with its solidity, from the same drawn on black and on white.

    What a pixel gains from black to white is how much of the ground is seen through it (difference matting; Smith and Blinn 1996,
    Blue screen matting, SIGGRAPH 96, from memory).
    """
    a = 255.0 - (light[..., :3].astype(np.float32) - dark[..., :3]).mean(axis=2, keepdims=True)
    solid = np.clip(a, 0.0, 255.0)
    colour = np.clip(dark[..., :3] * (255.0 / np.maximum(solid, 1.0)), 0.0, 255.0)
    return np.concatenate([np.rint(np.where(solid > 0.0, colour, 0.0)), np.rint(solid)], axis=2).astype(np.uint8)


def camera_of(study: Study, flow: Flow, look: Look) -> Camera:
    """Where a study is seen from; where it does not say, one that frames the flow."""
    if study.camera is not None:
        return camera_from(study.camera)
    return first_camera(*flow.stage, look.wide / look.tall, flow.normal)


def _marks(came: Seen, eye: Camera, size: tuple[int, int], depths: NDArray[np.float32], *, keys: bool, notes: bool) -> Sequence[Mark]:
    """Labels of contour lines, names of findings, notes, keys."""
    study = came.study
    taken: list[Box] = []
    out: list[Mark] = []
    units = in_units(study.units, came.store)
    for layer in study.layers:
        result = came.results.get(layer.id)
        for dressed in result.dressed if result is not None and study.is_drawn(layer) else ():
            out += label_marks(dressed.places, units.texts(dressed.of, dressed.numbers), eye, size, depths, measure, taken)
        if result is not None and study.is_drawn(layer) and result.unmasked.findings:
            out += _names(came, layer, result, eye, size, depths, taken)
    known = known_now(study, came.evaluator, came.results)
    unit = "m" if came.evaluator.flow.si_units else ""
    for note in study.notes if notes else ():
        if note.shown:
            out += note_face(note, filled(note.text, known), eye, size, measure, kept_picture, unit).marks
    if keys:
        faces = key_faces(study, came.evaluator, lambda name: key_of(study, came.evaluator, name), size, measure)
        out += [mark for face in faces for mark in face.marks()]
    return out


def _names(came: Seen, layer: Layer, result: Evaluated, eye: Camera, size: tuple[int, int], depths: NDArray[np.float32],
           taken: list[Box]) -> Sequence[Mark]:
    """Names of the findings of a card that are shown."""
    found = result.unmasked.findings
    slack = SLACK * came.evaluator.flow.size
    out: list[Mark] = []
    for one in listing(found, sifting_of(layer, came.study), sounding_numbers(found)):
        if one.shown:
            is_place = not len(one.finding.line) and one.finding.size == 0.0
            named = Named(middle_of(one.finding), one.name, is_place, False, layer.id, one.number)
            out += finding_marks(named, eye, size, depths, measure, taken, slack)[0]
    return out
