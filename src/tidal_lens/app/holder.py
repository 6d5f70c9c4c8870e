"""What lies on the table: the present study and its history, the flow that it looks at, and signals of what changed."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tidal_lens.app.clicks import Clicks
from tidal_lens.app.jobs import Jobs
from tidal_lens.app.notices import Notice
from tidal_lens.errors import StudyError, TidalLensError
from tidal_lens.flow.case import Flow
from tidal_lens.scene.camera import Camera
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.history import History
from tidal_lens.study.model import Layer, SeenRange, Study
from tidal_lens.study.session import Session, with_range
from tidal_lens.study.shown import InUnits, in_units

PLAYING = "playing"  # the grip of steps that follow one another by themselves


class Holder(QObject):
    """Holds the value; widgets read it, send edits, and listen.

    Signals
    -------
    study_changed
        The study has another value (not for camera moves).
    settings_changed
        What it says beside its cards is another.
    coming
        Another case is about to be there.
    case_changed
        Another flow is open.
    case_opened
        A file was opened: what was told of an earlier one is over.
    step_changed
        Another step of the series is shown, or could not be.
    result_changed(str)
        A layer came to something, failed, or began to be worked on.
    quantity_known(str)
        The distribution of a quantity is there.
    chosen_changed
        Another card is chosen.
    camera_changed
        The camera moved, by whatever.
    noticed(Notice)
        There is something to tell.
    offered(Path)
        A file that is no result but may be laid onto one: a table or a body.
    asked_for(str)
        A quantity is to be shown.
    visit(tuple)
        A place (x, y, z) is to be looked at.
    noted_changed(bool)
        Another note is chosen, or is to be typed.
    film_wanted
        The chosen card's number that runs is to be saved as an animation.
    fill_view
        The chosen card's picture is to be seen over the whole view.
    """

    study_changed = pyqtSignal()
    settings_changed = pyqtSignal()
    coming = pyqtSignal()
    case_changed = pyqtSignal()
    case_opened = pyqtSignal()
    step_changed = pyqtSignal()
    result_changed = pyqtSignal(str)
    quantity_known = pyqtSignal(str)
    chosen_changed = pyqtSignal()
    camera_changed = pyqtSignal()
    file_changed = pyqtSignal()
    noticed = pyqtSignal(object)
    offered = pyqtSignal(object)
    visit = pyqtSignal(object)
    fill_view = pyqtSignal()
    film_wanted = pyqtSignal()
    noted_changed = pyqtSignal(bool)
    asked_for = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.jobs = Jobs(self)
        self.flow: Flow | None = None
        self._evaluator: Evaluator | None = None
        self.file: Path | None = None
        self.camera: Camera | None = None
        self.dragging = False
        self.clicks = Clicks(self)
        self._units: tuple[object, object, InUnits] = (None, None, InUnits())
        self._history = History(Study())
        self._saved = Study()

    @property
    def evaluator(self) -> Evaluator | None:
        """Of the flow, with the study's reference state and methods."""
        return self._evaluator

    @evaluator.setter
    def evaluator(self, evaluator: Evaluator | None) -> None:
        self._evaluator = evaluator
        if evaluator is not None:
            self._join(evaluator)

    def _join(self, evaluator: Evaluator) -> None:
        """There is another evaluator: let it know what stands beside."""

    @property
    def units(self) -> InUnits:
        """What shows numbers of the flow as the user wants them."""
        store = self._evaluator.store if self._evaluator is not None else None
        setting, of, known = self._units
        if setting is not self.study.units or of is not store:
            known = in_units(self.study.units, store)
            self._units = self.study.units, store, known
        return known

    # -- the value -------------------------------------------------------------------------------------------

    @property
    def study(self) -> Study:
        """The present study."""
        return self._history.study

    @property
    def undo_what(self) -> str:
        """What undo would take back."""
        return self._history.undo_what

    @property
    def redo_what(self) -> str:
        """What redo would bring back."""
        return self._history.redo_what

    @property
    def is_changed(self) -> bool:
        """Whether there is anything that was not saved."""
        return self._content(self.study) != self._content(self._saved)

    @staticmethod
    def _content(study: Study) -> Study:
        return study.model_copy(update={"camera": None, "ranges": {}, "counter": 0})

    def edit(self, study: Study, what: str, grip: str = "") -> None:
        """Put another study in the place of the present one; ``grip`` joins the steps of one drag."""
        if self._history.push(study, what, grip, held=self.dragging or grip == PLAYING):
            self._after_change()

    def edit_layer(self, layer: Layer, what: str, grip: str = "") -> None:
        """Replace the layer of the same id; one that cannot be so is told of."""
        try:
            study = self.study.replacing(layer)
        except StudyError as error:
            self.tell(error)
            return
        self.edit(study, what, grip)

    def edit_layers(self, layers: Sequence[Layer], what: str, grip: str = "") -> None:
        """Replace several layers in one step."""
        try:
            study = self.study
            for layer in layers:
                study = study.replacing(layer)
        except StudyError as error:
            self.tell(error)
            return
        self.edit(study, what, grip)

    def amend(self, **changes: Any) -> None:
        """Change the present value without an edit."""
        self._history.amend(self.study.model_copy(update=changes))

    def note_range(self, name: str, seen: SeenRange) -> None:
        """The range of a quantity of a series that was seen first: part of the study, but no edit."""
        if (new := with_range(self.study, name, seen)) is not self.study:
            self._history.amend(new)

    def tell(self, error: TidalLensError) -> None:
        """Tell an error in a strip."""
        self.noticed.emit(Notice("bad", str(error)))

    def show_instead(self, layer: Layer) -> None:
        """Show a layer in the place of that of the same id, without an edit."""
        self._history.amend(self.study.replacing(layer))
        self._after_change()

    def release(self) -> None:
        """A drag ended."""
        raise NotImplementedError

    # -- what its rooms are told by -----------------------------------------------------------------------------

    def adopt(self, session: Session, file: Path | None) -> None:
        """Another case is open."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Ask for whatever is to be seen and is not there yet."""
        raise NotImplementedError

    @property
    def is_right(self) -> bool:
        """Whether the flow is the one that the study looks at: nothing of it is on its way."""
        raise NotImplementedError

    def _after_change(self) -> None:
        """The study has another value."""
        raise NotImplementedError
