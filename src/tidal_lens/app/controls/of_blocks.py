"""Of which blocks a card is: a button that opens their list."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QMenu, QPushButton, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import column, row

_SHOWN = 400  # blocks in the list


class OfBlocks(QWidget):
    """Says "of: whole flow", and lets blocks be ticked; not shown where there is one block only.

    Parameters
    ----------
    document : Document
        Of the flow.
    take : callable
        Given the names of the blocks; none for all.
    none : str
        What none ticked means.
    lead : str
        Beside it.
    """

    def __init__(self, document: Document, take: Callable[[tuple[str, ...]], object], none: str = "whole flow",
                 lead: str = "Of") -> None:
        super().__init__()
        self._document, self._take, self._none = document, take, none
        self._chosen: tuple[str, ...] = ()
        self.button = QPushButton(none)
        self.button.setAccessibleName("Of which blocks")
        self.button.setToolTip("Of which blocks it is made: all, or those that are ticked")
        self.list = QMenu(self.button)
        self.list.aboutToShow.connect(self._fill)
        self.button.setMenu(self.list)
        column(self, row(lead, self.button, stretch=1))

    def _fill(self) -> None:
        self.list.clear()
        flow = self._document.flow
        every = self.list.addAction(self._none.capitalize())
        if every is not None:
            every.setCheckable(True)
            every.setChecked(not self._chosen)
            every.triggered.connect(lambda: self._take(()))
        for block in flow.blocks[:_SHOWN] if flow is not None else ():
            action = self.list.addAction(block.name)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(block.name in self._chosen)
                action.toggled.connect(partial(self._tick, block.name))

    def _tick(self, name: str, on: bool) -> None:
        self._take((*(b for b in self._chosen if b != name), *((name,) if on else ())))

    def show_value(self, blocks: tuple[str, ...]) -> None:
        """Show the blocks of a shape."""
        flow = self._document.flow
        self._chosen = blocks
        self.setVisible(bool(blocks) or (flow is not None and len(flow.blocks) > 1))
        self.button.setText(", ".join(blocks[:2]) + (f" and {len(blocks) - 2} more" if len(blocks) > 2 else "") or self._none)
