"""Animations as values: which study each picture shows, and from where it is seen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np

from tidal_lens.errors import StudyError
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.scene.camera import Camera, camera_from
from tidal_lens.study.model import Plate, Study
from tidal_lens.study.plates import at_plate
from tidal_lens.tell.studio import Look

What = Literal["turn", "steps", "sweep", "running", "plates"]
Way = Literal["once", "fro"]
MOST = 20_000  # pictures of one film
TITLES: dict[What, str] = {"turn": "Turn-table", "steps": "Time steps", "sweep": "Sweep", "running": "Running marks", "plates": "Plates"}
_ROUND = 0.9  # seconds in which running marks and streaks come round, about
_REST = 0.4  # share of a plate's time that nothing moves


@dataclass(frozen=True)
class Film:
    """What moves, how long, and what the pictures are like.

    Attributes
    ----------
    what : str
        ``turn``: once round what is looked at; ``steps``: through a series; ``sweep``: the number of a card that runs when played, of a
        slice its place, of an isosurface its value; ``running``: marks and streaks only; ``plates``: from one to the next.
    seconds, rate : float
        How long it is, and pictures a second.
    look : Look
        Size and so on of each picture.
    card : str
        Which card sweeps, by its id.
    way : str
        Of a sweep: there, or there and back.
    first, last : int
        Of steps: the first and the last one; -1 for the last of all.
    """

    what: What = "turn"
    seconds: float = 6.0
    rate: float = 20.0
    look: Look = field(default_factory=lambda: Look(1280, 720))
    card: str = ""
    way: Way = "once"
    first: int = 0
    last: int = -1

    @property
    def count(self) -> int:
        """How many pictures it has."""
        return max(1, round(self.seconds * self.rate))

    def check(self) -> None:
        """Refuse what cannot be made.

        Raises
        ------
        StudyError
            With what may be chosen.
        """
        self.look.check()
        if not (0.1 <= self.rate <= 120.0 and self.seconds > 0.0 and self.count <= MOST):
            raise StudyError(f"An animation of {self.seconds:g} s at {self.rate:g} pictures a second cannot be made.", "",
                             f"Choose 0.1 to 120 pictures a second, and {MOST:,} pictures at most.")


@dataclass(frozen=True, eq=False)
class Moment:
    """What one picture shows: a study, the camera, and how far marks and streaks have run (0 to 1)."""

    study: Study
    camera: Camera | None
    phase: float


def film_of(study: Study, theme: str) -> Film:
    """The film that a study asks for."""
    said = study.film
    return Film(said.what, said.seconds, said.rate, Look(said.wide, said.tall, theme), said.card, said.way, said.first, said.last)


def check_film(film: Film, study: Study, store: QuantityStore, steps: int) -> None:
    """Refuse a film that a study does not have.

    Raises
    ------
    StudyError
        With what to do.
    """
    film.check()
    if film.what == "steps" and steps < 2:
        raise StudyError("This result has no time steps.", "", "Choose another kind of animation.")
    if film.what == "plates" and len(study.plates) < 2:
        raise StudyError("A way through plates needs two plates at least.", "",
                         "Keep what is seen as a plate, look elsewhere, keep another.")
    if film.what == "sweep":
        layer = study.layer(film.card)
        if layer is None or layer.shape.swept(0.0, store) is None:
            raise StudyError("The chosen card has no number that runs.", layer.name if layer is not None else "",
                             "Choose a slice, an isosurface or a grid surface.")
    if film.what == "running" and not _runs(study):
        raise StudyError("Nothing runs.", "", "Let marks along lines or a flow texture run first, in their card's controls.")


def _runs(study: Study) -> bool:
    looks = [layer.look for layer in study.layers if study.is_drawn(layer)]
    return any((look.on == "surface" and look.texture is not None and look.texture.running)
               or (look.on == "lines" and look.marks is not None and look.marks.running) for look in looks)


def moment(film: Film, study: Study, number: int, store: QuantityStore, steps: int) -> Moment:
    """What a picture of a film shows, the first being 0.

    Parameters
    ----------
    film, study : Film, Study
        What moves, of what.
    number : int
        Which picture.
    store : QuantityStore
        Of the step that is open; it knows where a sweep goes.
    steps : int
        How many steps the case has.
    """
    share = number / film.count  # the last is one before the first of the next round
    phase = (share * max(1, round(film.seconds / _ROUND))) % 1.0
    camera = camera_from(study.camera) if study.camera is not None else None
    if film.what == "turn" and camera is not None:
        return Moment(study, camera.orbited(2.0 * np.pi * share, 0.0, camera.focus), phase)
    if film.what == "steps":
        last = steps - 1 if film.last < 0 else min(film.last, steps - 1)
        first = min(film.first, last)
        step = first + min(int(share * (last - first + 1)), last - first)
        return Moment(study.model_copy(update={"step": step}), camera, phase)
    if film.what == "sweep":
        layer = study.layer(film.card)
        along = number / max(film.count - 1, 1) if film.way == "once" else 1.0 - abs(1.0 - 2.0 * share)
        shape = layer.shape.swept(along, store) if layer is not None else None
        return Moment(study if layer is None or shape is None else study.replacing(layer.with_(shape=shape)), camera, phase)
    if film.what == "plates" and study.plates:
        return _between(study, study.plates, number / max(film.count - 1, 1), steps, phase)
    return Moment(study, camera, phase)


def _between(study: Study, plates: Sequence[Plate], share: float, steps: int, phase: float) -> Moment:
    """At a plate, or on the way to the next: the camera goes smoothly, the rest changes half way."""
    at = share * (len(plates) - 1)
    n = min(int(at), len(plates) - 2) if len(plates) > 1 else 0
    t = float(np.clip(((at - n) - 0.5 * _REST) / (1.0 - _REST), 0.0, 1.0))
    t = t * t * (3.0 - 2.0 * t)
    a, b = plates[n], plates[min(n + 1, len(plates) - 1)]
    shown = at_plate(study, a if t < 0.5 else b, steps)
    if a.camera is None or b.camera is None:
        return Moment(shown, camera_from(shown.camera) if shown.camera is not None else None, phase)
    return Moment(shown, mixed(camera_from(a.camera), camera_from(b.camera), t), phase)


def mixed(a: Camera, b: Camera, t: float) -> Camera:
    """Between two cameras: the focus goes straight, the eye round it, nearer or further by equal shares."""
    if t <= 0.0 or t >= 1.0:
        return a if t <= 0.0 else b
    focus = a.focus + t * (b.focus - a.focus)
    far = a.distance ** (1.0 - t) * b.distance ** t
    way = _turned((a.eye - a.focus) / max(a.distance, 1e-300), (b.eye - b.focus) / max(b.distance, 1e-300), t)
    up = _turned(a.up / np.linalg.norm(a.up), b.up / np.linalg.norm(b.up), t)
    span = a.span ** (1.0 - t) * b.span ** t if a.span and b.span else (a.span if t < 0.5 else b.span)
    return replace(a, eye=focus + far * way, focus=focus, up=up, angle=a.angle + t * (b.angle - a.angle), span=span)


def _turned(a: np.ndarray[tuple[int, ...], np.dtype[np.float64]], b: np.ndarray[tuple[int, ...], np.dtype[np.float64]],
            t: float) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    """Between two directions along the great circle (Shoemake 1985, SIGGRAPH 85, from memory)."""
    cosine = float(np.clip(a @ b, -1.0, 1.0))
    angle = float(np.arccos(cosine))
    if angle < 1e-6:
        return b
    if angle > np.pi - 1e-3:  # straight opposite: by way of any direction across
        other = np.array([0.0, 0.0, 1.0]) if abs(a[2]) < 0.9 else np.array([0.0, 1.0, 0.0])
        middle = np.cross(a, other)
        middle /= np.linalg.norm(middle)
        return _turned(a, middle, 2.0 * t) if t < 0.5 else _turned(middle, b, 2.0 * t - 1.0)
    return np.asarray((np.sin((1.0 - t) * angle) * a + np.sin(t * angle) * b) / np.sin(angle))
