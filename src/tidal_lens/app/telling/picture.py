"""How pictures are made: their size, and whether their ground is transparent."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, NumberField, Picker, column, label, row

SIZES = ((1920, 1200), (1920, 1080), (3840, 2160), (1280, 800), (2480, 1748), (1600, 1600))
_OTHER = "Another size"


def size_fields() -> tuple[NumberField, NumberField]:
    """Two fields for pixels across and up."""
    fields = (NumberField("Width", "Width of the picture in pixels", 10.0, 16.0, 12_000.0),
              NumberField("Height", "Height of the picture in pixels", 10.0, 16.0, 12_000.0))
    for field in fields:
        field.whole = True
    return fields


class PictureSection(QWidget):
    """Size and ground."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self.wide, self.tall = size_fields()
        self.wide.edited.connect(lambda v: self._take(wide=int(v)))
        self.tall.edited.connect(lambda v: self._take(tall=int(v)))
        self.sizes = Picker("Sizes", "Sizes that are often wanted")
        self.sizes.activated.connect(self._pick)
        self.clear = Check("Transparent ground", "Leave out the ground, so that the picture can be laid over anything",
                           lambda on: self._take(clear=on))
        column(self, row("Size", self.wide, self.tall), row("", self.sizes, stretch=1), row("", self.clear),
               label("A picture shows what the view shows, with keys and names, without handles. PNG, or SVG and PDF, in which keys and "
                     "labels are shapes and letters over the picture of the flow.", "soft"))

    def _take(self, **changes: object) -> None:
        study = self._document.study
        self._document.edit(study.with_(picture=study.picture.with_(**changes)), "Pictures")

    def _pick(self, at: int) -> None:
        if at < len(SIZES):
            self._take(wide=SIZES[at][0], tall=SIZES[at][1])

    def refresh(self) -> None:
        """Show what the study says."""
        said = self._document.study.picture
        self.wide.show_value(said.wide)
        self.tall.show_value(said.tall)
        self.clear.setChecked(said.clear)
        size = (said.wide, said.tall)
        self.sizes.offer([*(f"{w} × {t}" for w, t in SIZES), _OTHER], SIZES.index(size) if size in SIZES else len(SIZES))
