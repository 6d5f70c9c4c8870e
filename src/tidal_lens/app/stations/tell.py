"""The Tell station: plates to come back to, pictures and animations of what is seen, reports."""

from __future__ import annotations

from functools import partial

from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QGridLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, Tile, column
from tidal_lens.app.stations.station import Act, Station
from tidal_lens.app.telling.film import FilmSection
from tidal_lens.app.telling.notes import NotesSection
from tidal_lens.app.telling.picture import PictureSection
from tidal_lens.app.telling.plates import PlatesSection
from tidal_lens.app.telling.report import ReportSection
from tidal_lens.app.telling.run import RunSection

_TILES = (("plate-add", "Plate", "plate", "Keep what is seen now, to come back to it: camera, lit cards, keys, time."),
          ("plates-play", "Show", "play", "Play all plates one after another; again: stop."),
          ("note-add", "Note", "note", "Write something over the view: it can point to a place of the flow, and hold numbers."),
          ("save-picture", "Picture…", "picture", "Save a picture of what is seen, as set below."),
          ("save-film", "Animation…", "film", "Save an animation, as set below."),
          ("save-report", "Report…", "report", "Write a report, as set below: one HTML file, or a DOCX document."),
          ("run", "Run…", "run", "Run the study over cases and steps, as set below: pictures, tables and reports into a folder."),
          ("save-script", "Script…", "script", "Write the study as Python, that makes the same pictures and tables without a window."))
_SECTIONS = (("plates", "Plates", "The plates that there are"), ("notes", "Notes", "What is written over the view"),
             ("picture", "Picture", "How pictures are made"),
             ("film", "Film", "How animations are made"), ("report", "Report", "What stands in a report"),
             ("run", "Run", "Over which cases and steps the study is run"))
_ACROSS = 3


class TellStation(QWidget):
    """Tiles, and below them what is chosen for each sort of thing that is made."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        grid = QGridLayout()
        grid.setSpacing(6)
        self.tiles: dict[str, Tile] = {}
        for at, (command, name, icon, tip) in enumerate(_TILES):
            self.tiles[command] = Tile(icon, name, tip, partial(act, command))
            grid.addWidget(self.tiles[command], at // _ACROSS, at % _ACROSS)
        self.plates, self.picture = PlatesSection(document, act), PictureSection(document)
        self.film, self.report = FilmSection(document, document.makers), ReportSection(document)
        self.run, self.notes = RunSection(document, act), NotesSection(document, act)
        self.sections: dict[str, PlatesSection | NotesSection | PictureSection | FilmSection | ReportSection | RunSection] = {
            "plates": self.plates, "notes": self.notes, "picture": self.picture, "film": self.film, "report": self.report, "run": self.run}
        self.shown = Choice(_SECTIONS, _ACROSS)
        self.shown.picked.connect(self.show_section)
        column(self, grid, self.shown, *self.sections.values())
        document.study_changed.connect(self.refresh)
        document.chosen_changed.connect(self.film.refresh)
        document.case_changed.connect(self.refresh)
        self.show_section("plates")
        self.refresh()

    def show_section(self, name: str) -> None:
        """Show what is chosen for one sort of thing."""
        self.shown.show_value(name)
        for own, section in self.sections.items():
            section.setVisible(own == name)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """Show what the study says; what is not seen waits until it is."""
        if not self.isVisible():
            return
        for section in self.sections.values():
            section.refresh()


STATION = Station("tell", "Tell", "Plates, pictures and animations", TellStation)
