"""A small triangle beside a number that lets it run."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QMenu

from tidal_lens.app.document import Document
from tidal_lens.app.parts import IconButton, pop_up
from tidal_lens.app.player import PACES, WAYS


class PlayButton(IconButton):
    """A small triangle beside the number of the chosen card that runs: lets it run, and stops it; its menu says how."""

    def __init__(self, document: Document) -> None:
        super().__init__("play", "Let it run", "Let this number run between its limits; again: stop. Right-click: how and how fast",
                         self._toggle, size=14)
        self._document = document
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(lambda at: pop_up(self.ways(), self.mapToGlobal(at)))

    def _toggle(self) -> None:
        player, layer, evaluator = self._document.player, self._document.chosen_layer, self._document.evaluator
        if layer is None or evaluator is None or layer.shape.swept(0.0, evaluator.store) is None:
            return
        if player.runs(layer.id, self):
            player.stop()
        else:
            player.start(layer.id, self, evaluator.store, lambda: self.set_icon("play"))
            self.set_icon("pause")

    def ways(self) -> QMenu:
        """How it runs, and how fast."""
        player, menu = self._document.player, QMenu(self)
        for way, title in WAYS.items():
            action = menu.addAction(title)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(player.way == way)
                action.triggered.connect(partial(setattr, player, "way", way))
        menu.addSeparator()
        for pace, title in PACES.items():
            action = menu.addAction(title)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(player.pace == pace)
                action.triggered.connect(partial(setattr, player, "pace", pace))
        menu.addSeparator()
        film = menu.addAction("Save as an animation…")
        if film is not None:
            film.triggered.connect(self._document.film_wanted.emit)
        return menu
