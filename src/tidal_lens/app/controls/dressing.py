"""What the controls of all dressings share: a row with a tick, and what unfolds below it."""

from __future__ import annotations

from typing import Any, Generic, Protocol, TypeVar

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, ColourButton, column
from tidal_lens.study.dressings import Dressing

D = TypeVar("D", bound=Dressing)


class Relook(Protocol):
    """Edits the look of the chosen layer."""

    def __call__(self, what: str, grip: str = "", **changes: Any) -> None:
        """Do it; edits of one grip are one step of undo."""


class DressingControls(QWidget, Generic[D]):
    """Whether a dressing is on, and its settings.

    Parameters
    ----------
    document : Document
        Whose chosen card is edited.
    relook : callable
        Edits its look.
    field : str
        Of the look.
    title, tip : str
        Of the tick.
    """

    def __init__(self, document: Document, relook: Relook, field: str, title: str, tip: str) -> None:
        super().__init__()
        self.document, self._relook, self._field, self._title = document, relook, field, title
        self.value: D | None = None
        self.on = Check(title, tip, self._switch)
        self.chip = ColourButton(f"Colour: {title.lower()}")
        self.chip.picked.connect(lambda c: self.set(f"Colour of {title.lower()}", colour=c))
        self.more = QWidget()
        column(self, self.on, self.more, spacing=6)

    def begin(self) -> D | None:
        """First values from the data; None where it cannot be had, which is told."""
        raise NotImplementedError

    def show_settings(self, value: D) -> None:
        """Show what the look holds now."""
        raise NotImplementedError

    def _switch(self, on: bool) -> None:
        if self.document.chosen_layer is None or self.document.evaluator is None:
            return
        value = self.begin() if on else None
        if on and value is None:
            self.on.setChecked(False)
            return
        self._relook(self._title, "", **{self._field: value})

    def set(self, what: str, grip: str = "", **changes: Any) -> None:
        """Edit the dressing."""
        if self.value is not None:
            self._relook(what, grip, **{self._field: self.value.with_(**changes)})

    def show_value(self, value: D | None) -> None:
        """Show what the look holds now."""
        self.value = value
        self.on.setChecked(value is not None)
        self.more.setVisible(value is not None)
        if value is not None and self.document.evaluator is not None:
            self.chip.show_value(value.colour)
            self.show_settings(value)
