"""The Look and Trace stations: tiles that add layers."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from tidal_lens.app.parts import Tile, column, label


class LookStation(QWidget):
    """Adds walls, slices and isosurfaces."""

    def __init__(self, act: Any) -> None:
        super().__init__()
        first, second = QHBoxLayout(), QHBoxLayout()
        for line in (first, second):
            line.setSpacing(6)
        first.addWidget(Tile("wall", "Walls", "Add walls and other boundaries", lambda: act("add-walls")))
        first.addWidget(Tile("isosurface", "Isosurface", "Add an isosurface", lambda: act("add-isosurface")))
        for axis in "xyz":
            second.addWidget(Tile("slice", f"Slice {axis}", f"Add a slice normal to {axis}", partial(act, f"add-slice-{axis}")))
        column(self, first, second, spacing=6)


class TraceStation(QWidget):
    """Adds seed lines."""

    def __init__(self, act: Any) -> None:
        super().__init__()
        tiles = QHBoxLayout()
        tiles.addWidget(Tile("seedline", "Seed line", "Add streamlines from a line of seeds", lambda: act("add-streamlines")))
        hint = label("Drag the beads of the seed line in the view: the lines follow.", "soft")
        column(self, tiles, hint, spacing=6)
