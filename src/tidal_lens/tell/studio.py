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
from tidal_lens.scene.marks import Mark
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
    """

    wide: int = 1920
    tall: int = 1200
    theme: str = "chart"
    clear: bool = False
    keys: bool = True
    notes: bool = True

    @staticmethod
    def of(study: Study, theme: str) -> Look:
        """As a study asks for it."""
        return Look(study.picture.wide, study.picture.tall, theme, study.picture.clear)

    @property
    def ratio(self) -> float:
        """Pixels to one unit of keys and letters."""
        return self.tall / _TALL

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
        self._scenery = Scenery()
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
        came = seen(self.opened, study, wanted.part(0.0, 0.7))
        return self.drawn(came, look, wanted.part(0.7, 1.0), camera=camera, phase=phase)

    def drawn(self, came: Seen, look: Look, token: Token, *, camera: Camera | None = None, phase: float = 0.0) -> Shot:
        """A picture of what was worked out."""
        study, flow = came.study, came.evaluator.flow
        eye = camera or camera_of(study, flow, look)
        self._scenery.phase = phase
        raster, depths = self._draw(self.scene_of(came, look), eye, look, token)
        size = round(look.wide / look.ratio), round(_TALL)
        marks = tuple(_marks(came, eye, size, depths, keys=look.keys, notes=look.notes))
        token.check()
        return Shot(raster, marks, look, came, flow.title)

    def scene_of(self, came: Seen, look: Look) -> Scene:
        """All that is drawn of what was worked out."""
        return self._scenery.scene(self._table(came), look.colours.ground, look.colours.soft)

    def _table(self, came: Seen) -> Table:
        study, evaluator = came.study, came.evaluator

        def key(name: str) -> Key | None:
            known = key_of(study, evaluator, name)
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
