"""The stations that lay things into the flow: tiles of the kinds that belong to each."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QGridLayout, QWidget

from tidal_lens.app import parts
from tidal_lens.app.parts import column, label
from tidal_lens.study.kinds import KINDS

_ACROSS = 3  # tiles in a row


class LayerStation(QWidget):
    """Tiles that add layers.

    Parameters
    ----------
    name : str
        The station, as kinds name it.
    act : callable
        Carries out a command by its id.
    hint : str
        What to do with them, if it is not plain.
    """

    def __init__(self, name: str, act: Any, hint: str = "") -> None:
        super().__init__()
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(6)
        row = at = 0
        for kind in (k for k in KINDS if k.station == name):
            if at + len(kind.tiles) > _ACROSS:  # tiles of one kind stand together
                row, at = row + 1, 0
            for tile in kind.tiles:
                grid.addWidget(parts.Tile(kind.icon, tile.name, tile.help, partial(act, tile.id)), row, at)
                at += 1
        column(self, grid, *([label(hint, "soft")] if hint else []), spacing=6)
