"""The views of all cases: side by side with one camera, or the first alone."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.view import FlowView


class Views(QWidget):
    """The first case's view, and one for each other.

    Signals
    -------
    pointed(str)
        Position and value under the pointer, in words, in whichever view it is.

    Parameters
    ----------
    document : Document
        Whose cases.
    first : FlowView
        The view of the first.
    """

    pointed = pyqtSignal(str)

    def __init__(self, document: Document, first: FlowView) -> None:
        super().__init__()
        self._document, self.first = document, first
        self.others: dict[int, FlowView] = {}
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setSpacing(2)
        self._grid.addWidget(first, 0, 0)
        first.pointed.connect(self.pointed.emit)
        self._as_saved = False  # the camera of a study that was opened is that of all its views
        document.case_opened.connect(self._opened)
        document.beside.changed.connect(self.refresh)
        document.study_changed.connect(self.refresh)

    @property
    def are_complete(self) -> bool:
        """Whether all that is shown is everything that was asked for."""
        return self.first.is_complete() and all(view.is_complete() for view in self.others.values() if view.case.flow is not None)

    def _opened(self) -> None:
        self._as_saved = bool(self._document.study.others)

    def refresh(self) -> None:
        """Show those that there are."""
        cases = self._document.beside.cases if self._document.study.beside == "split" else {}
        before = set(self.others)
        narrow = self._aspect
        for number in before - cases.keys():
            self._take_away(number)
        for number, case in cases.items():
            if number in self.others and self.others[number].case is not case:
                self._take_away(number)
            if number not in self.others:
                view = self.others[number] = FlowView(self._document, case)
                view.pointed.connect(self.pointed.emit)
                self._grid.addWidget(view, number // 2, number % 2)
        if before != self.others.keys():
            camera, narrower = self._document.camera, narrow / self._aspect
            if camera is not None and narrower != 1.0 and not self._as_saved:  # what was seen before is seen now too
                self._document.move_camera(camera.zoomed(narrower, camera.focus))
            self._as_saved = False
            self.first.redraw_soon()

    @property
    def _aspect(self) -> float:
        """How wide one view is for its height, the whole being 1."""
        return 0.5 if len(self.others) == 1 else 1.0

    def _take_away(self, number: int) -> None:
        view = self.others.pop(number)
        self._grid.removeWidget(view)
        view.close_renderer()
        view.hide()
        view.deleteLater()

    def close_renderers(self) -> None:
        """Stop drawing for good."""
        for view in (self.first, *self.others.values()):
            view.close_renderer()
