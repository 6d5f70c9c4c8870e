"""The strip of plates below the view: a click goes to one; they are played as a show."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.thumb import WIDE, Thumb
from tidal_lens.app.view import FlowView
from tidal_lens.study.model import Plate
from tidal_lens.study.plates import seen_now

_TALL = 104
_PACE = 2500  # milliseconds that a plate is shown for


class PlateThumb(Thumb):
    """One plate: what it looked like when it was last seen, and its name."""

    def __init__(self, strip: PlatesStrip, plate: Plate) -> None:
        super().__init__(_TALL)
        self._strip, self.plate = strip, plate
        self.setFixedWidth(WIDE)
        self.setAccessibleName(f"Plate {plate.name}")
        self.setToolTip(plate.notes or f"Go to {plate.name}")

    def go(self) -> None:
        """Show this plate."""
        self._strip.go(self.plate.id)

    def is_here(self) -> bool:
        return self._strip.here == self.plate.id

    def picture(self) -> QImage | None:
        return self._strip.images.get(self.plate.id)

    def words(self) -> tuple[str, bool]:
        return self.plate.name, False


class PlatesStrip(QWidget):
    """All plates, in their order.

    Attributes
    ----------
    here : str
        The plate that was gone to last, as long as nothing was changed since; else nothing.
    images : dict
        What plates looked like when they were last seen, by their ids.
    """

    def __init__(self, document: Document, view: FlowView) -> None:
        super().__init__()
        self._document, self._view = document, view
        self.here = ""
        self._last = ""  # that was gone to last, whatever was changed since
        self.images: dict[str, QImage] = {}
        self.thumbs: list[PlateThumb] = []
        self._wanted = False
        row = QWidget()
        row.setObjectName("deckrow")  # of the same ground
        self._row = QHBoxLayout(row)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(6)
        self._row.addStretch(1)
        row.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        scroller = QScrollArea()
        scroller.setObjectName("deckscroll")
        scroller.setWidgetResizable(True)
        scroller.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroller.setFixedHeight(_TALL + 14)
        scroller.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroller.setWidget(row)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(8, 6, 8, 2)
        whole.addWidget(scroller)
        self.show_timer = QTimer(self)
        self.show_timer.setInterval(_PACE)
        self.show_timer.timeout.connect(self.next)
        document.study_changed.connect(self.refresh)
        document.case_opened.connect(self._forget)
        view.frame_shown.connect(self._picture)
        theme.hub().changed.connect(self.update)
        self.refresh()

    def look(self, *, at_station: bool) -> None:
        """It is shown while the station is gone to that plates belong to."""
        self._wanted = at_station
        self.refresh()

    def _forget(self) -> None:
        self.images.clear()
        self.here = ""
        self.refresh()

    def made(self) -> None:
        """The last plate was made of what is seen."""
        plates = self._document.study.plates
        self.here = plates[-1].id if plates else ""
        self._picture()

    def go(self, plate_id: str) -> None:
        """Show a plate."""
        plate = next((p for p in self._document.study.plates if p.id == plate_id), None)
        if plate is not None:
            self._last = plate_id
            self._document.go_to_plate(plate)
            self.here = plate_id
            self.refresh()

    def next(self) -> None:
        """Show the next plate; after the last comes the first."""
        ids = [p.id for p in self._document.study.plates]
        if not ids:
            self.show_timer.stop()
            return
        self._last = ids[(ids.index(self._last) + 1) % len(ids)] if self._last in ids else ids[0]
        self.go(self._last)

    def play(self) -> None:
        """Play all as a show, or stop."""
        if self.show_timer.isActive():
            self.show_timer.stop()
        elif self._document.study.plates:
            self.next()
            self.show_timer.start()

    def _picture(self) -> None:
        """A picture is there: that of the plate that is shown."""
        self._see_where()
        image, of = self._view.image, next((t for t in self.thumbs if t.plate.id == self.here), None)
        if of is not None and image is not None and self._view.pictures.is_full:
            smaller = image.scaledToHeight(2 * _TALL, Qt.TransformationMode.SmoothTransformation)
            self.images[self.here] = smaller.copy()  # one that was of that size is over the view's own pixels
            of.update()

    def _see_where(self) -> None:
        """A plate is shown as long as all is as it has it."""
        study = self._document.study
        plate = next((p for p in study.plates if p.id == self.here), None)
        if plate is None or seen_now(study, plate) != plate:
            self.here = ""

    def refresh(self) -> None:
        """Show those that there are."""
        plates = self._document.study.plates
        self._see_where()
        self.setVisible(self._wanted and bool(plates))
        if [t.plate for t in self.thumbs] == list(plates):
            for thumb in self.thumbs:
                thumb.update()
            return
        before = {t.plate.id: t.plate for t in self.thumbs}
        for plate in plates:
            if plate.id in before and _as_named(before[plate.id], plate) != plate:  # another view under this id
                self.images.pop(plate.id, None)
                if seen_now(self._document.study, plate) == plate:
                    self.here = plate.id
        for thumb in self.thumbs:
            self._row.removeWidget(thumb)
            thumb.deleteLater()
        self.thumbs = [PlateThumb(self, plate) for plate in plates]
        for n, thumb in enumerate(self.thumbs):
            self._row.insertWidget(n, thumb)
        self._picture()


def _as_named(plate: Plate, other: Plate) -> Plate:
    """A plate with the name and notes of another."""
    return plate.model_copy(update={"name": other.name, "notes": other.notes})
