"""How animations are made: what moves, how long, how fast, how large; and a few pictures of what comes."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import QGridLayout, QLabel, QPushButton, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.makers import FEW, Makers
from tidal_lens.app.parts import Choice, NumberField, Picker, column, label, row
from tidal_lens.app.telling.picture import size_fields

_WHAT = (("turn", "Turn-table", "Once round what is looked at"), ("steps", "Time steps", "Through the steps of the series"),
         ("sweep", "Sweep", "The number of a card runs: the place of a slice, the value of an isosurface"),
         ("running", "Running marks", "Marks along lines and flow textures run, nothing else moves"),
         ("plates", "Plates", "From plate to plate, the camera on its way between them"))
_WAYS = (("once", "There", "From one end to the other"), ("fro", "There and back", "To the other end, and back"))
_ACROSS = 3


class FilmSection(QWidget):
    """What moves, and a strip of small pictures."""

    def __init__(self, document: Document, makers: Makers) -> None:
        super().__init__()
        self._document, self._makers = document, makers
        self.what = Picker("What moves", "What moves in the animation")
        self.what.activated.connect(lambda at: self._take(what=_WHAT[at][0]))
        self.card = Picker("Card", "The card whose number runs")
        self.card.activated.connect(lambda at: self._take(card=self._cards[at]))
        self._cards: list[str] = []
        self.way = Choice(_WAYS)
        self.way.picked.connect(lambda way: self._take(way=way))
        self.seconds = NumberField("Length", "Length of the animation in seconds", 1.0, 0.05, 3600.0)
        self.seconds.edited.connect(lambda v: self._take(seconds=v))
        self.rate = NumberField("Pace", "Pictures a second", 1.0, 0.1, 120.0)
        self.rate.edited.connect(lambda v: self._take(rate=v))
        self.wide, self.tall = size_fields()
        self.wide.edited.connect(lambda v: self._take(wide=int(v)))
        self.tall.edited.connect(lambda v: self._take(tall=int(v)))
        self.note = label("", "soft")
        self.look = QPushButton("Look through")
        self.look.setToolTip("Show a few pictures of what the animation will show")
        self.look.clicked.connect(self._look_through)
        self.strip = [QLabel() for _ in range(FEW)]
        grid = QGridLayout()
        grid.setSpacing(4)
        for n, one in enumerate(self.strip):
            one.setFixedSize(84, 53)
            one.setAlignment(Qt.AlignmentFlag.AlignCenter)
            one.setAccessibleName(f"Picture {n + 1} of the animation")
            grid.addWidget(one, n // _ACROSS, n % _ACROSS)
        self.of_sweep = QWidget()
        column(self.of_sweep, row("Card", self.card, stretch=1), row("Way", self.way, stretch=1))
        column(self, row("Moves", self.what, stretch=1), self.of_sweep, row("Length, s", self.seconds, "a second", self.rate),
               row("Size", self.wide, self.tall), self.note, self.look, grid)
        makers.drawn.connect(self._show)

    def _take(self, **changes: object) -> None:
        study = self._document.study
        film = study.film.with_(**changes)
        if film.what == "sweep" and not film.card:
            chosen = self._document.chosen or ""
            sweeping = self._sweeping()
            film = film.with_(card=chosen if chosen in sweeping else next(iter(sweeping), ""))
        self._document.edit(study.with_(film=film), "Animation")

    def _sweeping(self) -> dict[str, str]:
        """Names of cards that have a number that runs, by their ids."""
        evaluator = self._document.evaluator
        if evaluator is None:
            return {}
        return {x.id: x.name for x in self._document.study.layers if x.shape.swept(0.0, evaluator.store) is not None}

    def _look_through(self) -> None:
        for one in self.strip:
            one.clear()
        self._makers.preview()

    def _show(self, number: int, pixels: np.ndarray[tuple[int, ...], np.dtype[np.uint8]], count: int) -> None:
        """A picture is there, of so many."""
        tall, wide = pixels.shape[:2]
        image = QImage(pixels.tobytes(), wide, tall, 4 * wide, QImage.Format.Format_RGBA8888)
        place = self.strip[min(number * FEW // max(count, 1), FEW - 1)]
        ratio = self.devicePixelRatioF()
        small = image.scaled(round(place.width() * ratio), round(place.height() * ratio), Qt.AspectRatioMode.KeepAspectRatio,
                             Qt.TransformationMode.SmoothTransformation)
        small.setDevicePixelRatio(ratio)
        place.setPixmap(QPixmap.fromImage(small))

    def refresh(self) -> None:
        """Show what the study says."""
        said = self._document.study.film
        names = [w[0] for w in _WHAT]
        self.what.offer([w[1] for w in _WHAT], names.index(said.what))
        self.what.setToolTip(_WHAT[names.index(said.what)][2])
        sweeping = self._sweeping()
        self._cards = list(sweeping)
        self.card.offer(list(sweeping.values()), self._cards.index(said.card) if said.card in sweeping else -1)
        self.of_sweep.setVisible(said.what == "sweep")
        self.way.show_value(said.way)
        self.seconds.show_value(said.seconds)
        self.rate.show_value(said.rate)
        self.wide.show_value(said.wide)
        self.tall.show_value(said.tall)
        self.note.setText(f"{max(1, round(said.seconds * said.rate))} pictures. Broken off, it goes on where it was.")
