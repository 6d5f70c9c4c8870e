"""The stations that lay things into the flow: tiles of the kinds that belong to each."""

from __future__ import annotations

from functools import partial
from itertools import groupby

from PyQt6.QtWidgets import QGridLayout, QLayout, QWidget

from tidal_lens.app import parts
from tidal_lens.app.document import Document
from tidal_lens.app.parts import column, label
from tidal_lens.app.stations.station import Act, Station
from tidal_lens.study.kinds import KINDS

_ACROSS = 3  # tiles in a row
# Captions, in their order.
GROUPS = ("", "Surfaces", "Volume", "From a file", "Hide", "Features", "Seeds in space", "Seeds over things", "Other lines", "Here",
          "On walls", "Over", "Turning")
_LONG = ("Turning",)  # whose names are long


class LayerStation(QWidget):
    """Tiles that add layers.

    Parameters
    ----------
    name : str
        The station, as kinds name it.
    document : Document
        Of the flow that they are laid into.
    act : callable
        Carries out a command by its id.
    hint : str
        What to do with them, if it is not plain.
    """

    def __init__(self, name: str, document: Document, act: Act, hint: str = "") -> None:
        super().__init__()
        self._document = document
        self.tiles: dict[str, parts.Tile] = {}
        grids: list[QLayout] = []
        grid, group = QGridLayout(), ""
        row = at = 0
        tiles = [(tile.group or kind.group, kind, tile) for kind in KINDS if kind.station == name for tile in kind.tiles]
        for (caption, kind), own in groupby(sorted(tiles, key=lambda t: GROUPS.index(t[0])), key=lambda t: t[:2]):
            together = [tile for *_, tile in own]
            across = 2 if caption in _LONG else _ACROSS
            if caption != group or not grids:  # a grid for each: long names of one do not widen the others
                grid, group, row, at = QGridLayout(), caption, 0, 0
                grid.setContentsMargins(0, 0, 0, 0)
                grid.setSpacing(6)
                grids.append(grid)
                for n in range(across):
                    grid.setColumnStretch(n, 1)
                if caption:
                    grid.addWidget(label(group, "soft"), 0, 0, 1, across)
                    row = 1
            if at and at + len(together) > across:  # tiles of one kind stand together
                row, at = row + 1, 0
            for tile in together:
                if at == across:
                    row, at = row + 1, 0
                self.tiles[tile.id] = parts.Tile(tile.icon or kind.icon, tile.name, tile.help, partial(act, tile.id))
                grid.addWidget(self.tiles[tile.id], row, at)
                at += 1
        self.inside = column(self, *grids, *([label(hint, "soft")] if hint else []), spacing=6)
        document.case_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Grey what cannot be done with the open flow, and say why."""
        flow = self._document.flow
        for kind in KINDS:
            lacks = kind.lacks(flow) if flow is not None else ""
            for tile in kind.tiles:
                if tile.id in self.tiles:
                    button = self.tiles[tile.id]
                    button.setEnabled(not lacks)
                    button.setToolTip(f"{tile.help} It needs {lacks}, which this result does not have." if lacks else tile.help)


STATION = Station("look", "Look", "Walls, slices and isosurfaces", lambda document, act: LayerStation("look", document, act), cards=True)
