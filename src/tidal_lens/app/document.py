"""The document: the present study and its history, what is chosen, and signals of what changed."""

from __future__ import annotations

import itertools
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tidal_lens.app.asking import Asking
from tidal_lens.app.clock import Clock
from tidal_lens.app.jobs import Jobs, Slot
from tidal_lens.app.notices import Notice
from tidal_lens.app.openings import Openings
from tidal_lens.errors import StudyError, TidalLensError
from tidal_lens.flow.case import Flow
from tidal_lens.scene.camera import Camera
from tidal_lens.study.evaluate import Evaluator, methods_of, reference_of
from tidal_lens.study.files import SUFFIX, save_study
from tidal_lens.study.history import History
from tidal_lens.study.kinds.first_values import is_at_hand
from tidal_lens.study.kinds.kind import Begun, Kind
from tidal_lens.study.model import CameraSetting, Layer, SeenRange, Study
from tidal_lens.study.session import Session

_SEEN = 30  # ranges kept of one quantity: under what the user says, and said before


class Document(QObject):
    """Holds the value; widgets read it, send edits, and listen.

    Signals
    -------
    study_changed
        The study has another value (not for camera moves).
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
    """

    study_changed = pyqtSignal()
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
    asked_for = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.jobs = Jobs(self)
        self.flow: Flow | None = None
        self.evaluator: Evaluator | None = None
        self.chosen: str | None = None
        self.file: Path | None = None
        self.camera: Camera | None = None
        self.dragging = False
        self._history = History(Study())
        self._saved = Study()
        self._begun = itertools.count(1)
        self.asking = Asking(self)
        self.clock = Clock(self)
        self.openings = Openings(self)
        self.open_path = self.openings.open_path
        self.go_to_step = self.clock.go_to_step
        self.key = self.asking.key

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
        if self._history.push(study, what, grip):
            self._after_change()

    def edit_layer(self, layer: Layer, what: str, grip: str = "") -> None:
        """Replace the layer of the same id; one that cannot be so is told of."""
        try:
            study = self.study.replacing(layer)
        except StudyError as error:
            self.tell(error)
            return
        self.edit(study, what, grip)

    def add(self, begun: Begun) -> None:
        """Put a layer of first values on the table, and choose it."""
        layer = self.study.layer_of(begun)
        self.edit(self.study.adding(layer), f"Add {layer.name}")
        self.choose(layer.id)

    def begin(self, kind: Kind, argument: str = "") -> None:
        """Begin a layer of a kind where the flow is interesting; if that takes long, beside the window, each wish on its own."""
        evaluator, begin = self.evaluator, kind.begin
        if evaluator is None or begin is None:
            return
        store = evaluator.store
        if not kind.slow and is_at_hand(store):
            self.add(begin(store, argument))
            return

        def done(begun: Begun) -> None:
            if self.flow is not None and self.flow.path == store.flow.path:  # another case may be open by now
                self.add(begun)

        slot = Slot("begin", str(next(self._begun)))
        self.jobs.submit(slot, kind.tiles[0].name, lambda _token: begin(store, argument), done, self.tell)

    def release(self) -> None:
        """A drag ended: what comes next is another step, and drafts are done properly."""
        self.dragging = False
        self._history.close_grip()
        self.asking.refresh()

    def undo(self) -> None:
        """Take the last edit back."""
        if self._history.undo():
            self._after_change()

    def redo(self) -> None:
        """Bring an edit back that was undone."""
        if self._history.redo():
            self._after_change()

    def choose(self, layer_id: str | None) -> None:
        """Choose a card, or none."""
        if layer_id != self.chosen:
            self.chosen = layer_id
            self.chosen_changed.emit()

    @property
    def chosen_layer(self) -> Layer | None:
        """The chosen card's layer."""
        return self.study.layer(self.chosen) if self.chosen else None

    def move_camera(self, camera: Camera) -> None:
        """Look from elsewhere: kept in the study, but not an edit."""
        self.camera = camera

        def triple(v: Any) -> tuple[float, float, float]:
            return float(v[0]), float(v[1]), float(v[2])

        setting = CameraSetting(eye=triple(camera.eye), focus=triple(camera.focus), up=triple(camera.up), angle=camera.angle)
        self.amend(camera=setting)
        self.camera_changed.emit()

    def amend(self, **changes: Any) -> None:
        """Change the present value without an edit."""
        self._history.amend(self.study.model_copy(update=changes))

    def note_range(self, name: str, seen: SeenRange) -> None:
        """The range of a quantity of a series that was seen first: part of the study, but no edit."""
        old = self.study.ranges.get(name, ())
        if seen not in old:
            self.amend(ranges={**self.study.ranges, name: (*old[-_SEEN:], seen)})

    def _after_change(self) -> None:
        if self.chosen is not None and self.study.layer(self.chosen) is None:
            self.choose(self.study.layers[-1].id if self.study.layers else None)
        if self.evaluator is not None and self.flow is not None:
            wanted = reference_of(self.flow, self.study), methods_of(self.study)
            if wanted != (self.evaluator.store.reference, self.evaluator.store.methods):
                self.evaluator = self.evaluator.with_context(*wanted)
            self.clock.want()
        self.asking.refresh()
        self.study_changed.emit()

    # -- cases and files -------------------------------------------------------------------------------------

    def adopt(self, session: Session, file: Path | None) -> None:
        """Another case is open."""
        self.asking.clear()
        self.clock.adopt(session)
        self.flow, self.evaluator = session.flow, session.evaluator
        self._history = History(session.study)
        self._saved = session.study
        self.file = file
        self.chosen = None
        self.camera = camera_from(session.study.camera) if session.study.camera is not None else None
        self.case_opened.emit()
        self.case_changed.emit()
        self.asking.refresh()
        self.study_changed.emit()
        self.file_changed.emit()
        self.choose(session.study.layers[-1].id if session.study.layers else None)

    def save(self, path: Path) -> bool:
        """Save the study; whether it could be."""
        target = path if path.suffix.lower() == SUFFIX else path.with_name(path.name + SUFFIX)
        try:
            save_study(self.study, target)
        except TidalLensError as error:
            self.tell(error)
            return False
        self._saved = self.study
        self.file = target
        self.file_changed.emit()
        return True

    def close(self) -> bool:
        """Give up all work; whether all of it ended in time."""
        return self.jobs.close()

    def tell(self, error: TidalLensError) -> None:
        """Tell an error in a strip."""
        self.noticed.emit(Notice("bad", str(error)))


def camera_from(setting: CameraSetting) -> Camera:
    """The camera that a study holds."""
    return Camera(np.array(setting.eye), np.array(setting.focus), np.array(setting.up), setting.angle)
