"""The document: the present study and its history, what is chosen, and signals of what changed."""

from __future__ import annotations

import itertools
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject

from tidal_lens.app.asking import Asking
from tidal_lens.app.clock import Clock
from tidal_lens.app.companions import Companions
from tidal_lens.app.holder import Holder
from tidal_lens.app.jobs import Slot
from tidal_lens.app.makers import Makers
from tidal_lens.app.openings import Openings
from tidal_lens.app.player import Player
from tidal_lens.errors import StudyError, TidalLensError
from tidal_lens.scene.camera import Camera, camera_from, setting_of
from tidal_lens.study.differences import with_difference
from tidal_lens.study.evaluate import Evaluator, methods_of, reference_of
from tidal_lens.study.files import SUFFIX, save_study
from tidal_lens.study.history import History
from tidal_lens.study.kinds.first_values import is_at_hand
from tidal_lens.study.kinds.kind import Begun, Kind
from tidal_lens.study.model import MOST_CASES, Layer, OtherCase, Plate, Study
from tidal_lens.study.noted import with_note
from tidal_lens.study.notes import Note
from tidal_lens.study.plates import at_plate
from tidal_lens.study.session import Session

_TO_PLATE = "Go to plate "


class Document(Holder):
    """Holds the value; widgets read it, send edits, and listen. What it came to, its time and its files are rooms beside it."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.chosen: str | None = None
        self.also: tuple[str, ...] = ()  # cards that are chosen besides
        self.noted = ""  # the note that is chosen
        self._begun = itertools.count(1)
        self._besides: dict[str, Any] = {}  # what the study said beside its cards
        self.player = Player(self)
        self.asking = Asking(self, self)
        self.clock = Clock(self)
        self.openings = Openings(self)
        self.beside = Companions(self, self.asking.key)
        self.makers = Makers(self, self, lambda: self.clock.series, self.beside.opened)
        self.step_changed.connect(self.beside.step_came)
        self.open_path = self.openings.open_path
        self.go_to_step = self.clock.go_to_step
        self.key = self.asking.key

    @property
    def case(self) -> int:
        """The first of the cases on the table."""
        return 0

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
        if argument == "card":
            argument = self.on_a_card()
        if not kind.takes_long(store.flow) and is_at_hand(store):
            self.add(begin(store, argument))
            return

        def done(begun: Begun) -> None:
            if self.flow is not None and self.flow.path == store.flow.path:  # another case may be open by now
                self.add(begun)

        slot = Slot("begin", str(next(self._begun)))
        self.jobs.submit(slot, kind.tiles[0].name, lambda _token: begin(store, argument), done, self.tell)

    def open_beside(self, path: Path) -> None:
        """Open another case beside the first: all cards are worked out for it too."""
        study = self.study
        if len(study.others) >= MOST_CASES - 1:
            self.tell(StudyError(f"There are {MOST_CASES} cases already.", path.name, "Take one away first, in the Measure station."))
            return
        self.edit(study.with_(others=(*study.others, OtherCase(path=str(path.resolve())))), f"{path.stem} beside")

    def difference(self, quantity: str = "", case: int = 1) -> None:
        """Take the difference of a quantity, that of the chosen card where none is named, and colour the card by it."""
        layer = self.chosen_layer
        name = quantity or (layer.look.colour_by if layer is not None else None)
        if name is None:
            self.tell(StudyError("No quantity is chosen.", "", "Colour a card by one, then take the difference."))
            return
        try:
            study, found = with_difference(self.study, name, case)
            if layer is not None and not layer.shape.measures:
                study = study.replacing(layer.with_(look=layer.look.with_(colour_by=found)))
        except TidalLensError as error:
            self.tell(error)
            return
        self.edit(study, "Difference")

    def on_a_card(self) -> str:
        """Which card something is laid on: the chosen one if it is a surface, else the last surface of the deck."""
        chosen = self.chosen_layer
        surfaces = [x for x in (*self.study.layers, chosen) if x is not None and x.shape.geometry == "surface"]
        return f"card {surfaces[-1].id}{' walls' if surfaces[-1].shape.on_walls else ''}" if surfaces else "card"

    def release(self) -> None:
        """A drag ended: what comes next is another step, and drafts are done properly."""
        self.dragging = False
        self._history.close_grip()
        self.refresh()

    def edit(self, study: Study, what: str, grip: str = "") -> None:
        """Put another study in the place of the present one; a number that runs stops, and is back where it was."""
        super().edit(self.player.settled(study), what, grip)

    def undo(self) -> None:
        """Take the last edit back."""
        self.player.stop()
        what, other = self.undo_what, self._history.peek(-1)
        if self._history.undo():
            self._look_as_said(what, other)
            self._after_change()

    def redo(self) -> None:
        """Bring an edit back that was undone."""
        self.player.stop()
        what, other = self.redo_what, self._history.peek(1)
        if self._history.redo():
            self._look_as_said(what, other)
            self._after_change()

    def go_to_plate(self, plate: Plate) -> None:
        """Show what a plate shows, from where it was seen: one step of undo."""
        what = f"{_TO_PLATE}{plate.name}"
        self.edit(at_plate(self.study, plate, len(self.clock.times)), what)
        self._look_as_said(what, self.study)
        self._tell_study()

    def _look_as_said(self, what: str, study: Study | None) -> None:
        """Of edits that go to a plate the place of the camera is a part."""
        setting = study.camera if study is not None else None
        if what.startswith(_TO_PLATE) and setting is not None:
            self.amend(camera=setting)
            self.camera = camera_from(setting)
            self.camera_changed.emit()

    def note(self, note_id: str, *, typing: bool = False) -> None:
        """Choose a note; with ``typing`` its text is to be changed."""
        self.noted = note_id
        self.noted_changed.emit(typing)

    def add_note(self, **said: Any) -> None:
        """Lay a note over the view, and choose it."""
        study = self.study
        taken = sum(1 for n in study.notes if not n.hangs)
        place = said.pop("place", (0.35, min(0.12 + 0.09 * taken, 0.85)))
        note = Note(id=study.new_id("note"), place=place, **said)
        self.edit(with_note(study, note), "Add a note")
        self.note(note.id, typing=note.sort == "text" and not note.text)

    def film_of_chosen(self) -> None:
        """Let the study's animation be the run of the chosen card's number, as it is played."""
        layer, study = self.chosen_layer, self.study
        if layer is not None:
            there = "fro" if self.player.way == "fro" else "once"
            seconds = self.player.pace * (2.0 if there == "fro" else 1.0)
            film = study.film.with_(what="sweep", card=layer.id, way=there, seconds=seconds)
            if film != study.film:
                self.edit(study.with_(film=film), "Animation")

    def choose(self, layer_id: str | None) -> None:
        """Choose a card, or none, and no other with it."""
        if layer_id != self.chosen or self.also:
            self.chosen, self.also = layer_id, ()
            self.chosen_changed.emit()

    def choose_too(self, layer_id: str) -> None:
        """Choose another card besides, or let it go again; what is set then is set on all of them."""
        if self.chosen is None:
            self.choose(layer_id)
        elif layer_id == self.chosen:
            if self.also:
                self.chosen, self.also = self.also[0], self.also[1:]
                self.chosen_changed.emit()
        else:
            self.also = tuple(x for x in self.also if x != layer_id) if layer_id in self.also else (*self.also, layer_id)
            self.chosen_changed.emit()

    @property
    def chosen_layers(self) -> tuple[Layer, ...]:
        """The layers of all chosen cards, that whose controls are shown first."""
        found = (self.study.layer(name) for name in (self.chosen, *self.also) if name)
        return tuple(layer for layer in found if layer is not None)

    @property
    def chosen_layer(self) -> Layer | None:
        """The chosen card's layer."""
        return self.study.layer(self.chosen) if self.chosen else None

    def move_camera(self, camera: Camera) -> None:
        """Look from elsewhere: kept in the study, but not an edit."""
        self.camera = camera
        self.amend(camera=setting_of(camera))
        self.camera_changed.emit()

    def refresh(self) -> None:
        """Ask for whatever is to be seen and is not there yet, of all cases."""
        self.asking.refresh()
        self.beside.refresh()

    def _join(self, evaluator: Evaluator) -> None:
        self.beside.join(evaluator)

    def compute_again(self) -> None:
        """Ask anew, for all cases, for what failed or was cancelled."""
        self.asking.compute_again()
        self.beside.compute_again()

    @property
    def is_right(self) -> bool:
        """Whether the flow is the one that the study looks at: nothing of it is on its way."""
        return self.clock.is_right

    def _after_change(self) -> None:
        if self.chosen is not None and self.study.layer(self.chosen) is None:
            self.choose(self.study.layers[-1].id if self.study.layers else None)
        if self.evaluator is not None and self.flow is not None:
            wanted = reference_of(self.flow, self.study), methods_of(self.study)
            if wanted != (self.evaluator.store.reference, self.evaluator.store.methods):
                self.evaluator = self.evaluator.with_context(*wanted)
            self.clock.want()
            self.beside.want()
        self.refresh()
        self._tell_study()

    def _tell_study(self) -> None:
        """The study has another value; those who show nothing of its cards need not hear of each move of a drag."""
        self.study_changed.emit()
        besides = {name: value for name, value in vars(self.study).items() if name not in ("layers", "counter")}
        if besides != self._besides:
            self._besides = besides
            self.settings_changed.emit()

    # -- cases and files -------------------------------------------------------------------------------------

    def adopt(self, session: Session, file: Path | None) -> None:
        """Another case is open."""
        self.coming.emit()
        self.asking.clear()
        self.beside.clear()
        self.clock.adopt(session)
        self.flow, self.evaluator = session.flow, session.evaluator
        self._history = History(session.study)
        self._saved = session.study
        self.file = file
        self.chosen, self.also = None, ()
        self.camera = camera_from(session.study.camera) if session.study.camera is not None else None
        self.case_opened.emit()
        self.case_changed.emit()
        self.beside.want()
        self.refresh()
        self._tell_study()
        self.file_changed.emit()
        self.choose(session.study.layers[-1].id if session.study.layers else None)

    def save(self, path: Path) -> bool:
        """Save the study; whether it could be."""
        self.player.stop()
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
