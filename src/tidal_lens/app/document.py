"""The document: the present study, the flow it looks at, and what its layers came to."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tidal_lens.app.jobs import Jobs, Slot
from tidal_lens.errors import DoubtfulFlowError, TidalLensError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.roles import without_a_role
from tidal_lens.formats.beside import results_of
from tidal_lens.formats.bodies import SUFFIXES
from tidal_lens.formats.numbered import siblings
from tidal_lens.formats.reading import TooLargeError
from tidal_lens.quantities.gradients import prepare_gradients
from tidal_lens.quantities.store import LARGE, Distribution
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.scene.camera import Camera
from tidal_lens.study.basis import said_of
from tidal_lens.study.beginnings import first_study
from tidal_lens.study.corrections import corrected
from tidal_lens.study.evaluate import Evaluated, Evaluator, Wish, key_range, methods_of, quantities_on_keys, reference_of
from tidal_lens.study.files import SUFFIX, load_study, save_study
from tidal_lens.study.history import History
from tidal_lens.study.kinds.first_values import is_at_hand
from tidal_lens.study.kinds.kind import Begun, Kind
from tidal_lens.study.model import CameraSetting, KeySetting, Layer, ReadingSetting, SeenRange, Study
from tidal_lens.study.partly import open_as
from tidal_lens.study.series import Series, share_mesh
from tidal_lens.work import Token

_WHOLE = ReadingSetting()
TABLES = (".csv", ".dat", ".txt")


@dataclass(frozen=True)
class Notice:
    """Something to tell the user in a strip: a grade (``bad``, ``warn``, ``note``), text, and what can be done.

    A ``lasting`` one is of no single file: it stays when another is opened.
    """

    grade: str
    text: str
    actions: tuple[tuple[str, Callable[[], None]], ...] = ()
    lasting: bool = False


@dataclass(frozen=True, eq=False)
class _Opened:
    raw: Flow
    flow: Flow
    evaluator: Evaluator
    study: Study
    belongs: list[Path]


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

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.jobs = Jobs(self)
        self.flow: Flow | None = None
        self.evaluator: Evaluator | None = None
        self.results: dict[str, Evaluated] = {}
        self.failures: dict[str, str] = {}
        self.chosen: str | None = None
        self.file: Path | None = None
        self.camera: Camera | None = None
        self.dragging = False
        self._history = History(Study())
        self._saved = Study()
        self._shown = Study()
        self._asked: dict[str, Wish] = {}
        self._begun = itertools.count(1)
        self._series: Series | None = None
        self._raw: Flow | None = None
        self._broken: set[int] = set()

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
        """Replace the layer of the same id."""
        self.edit(self.study.replacing(layer), what, grip)

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
        slot = Slot("begin", str(next(self._begun)))
        self.jobs.submit(slot, kind.tiles[0].name, lambda _token: begin(store, argument), self.add, self.tell)

    def release(self) -> None:
        """A drag ended: what comes next is another step, and drafts are done properly."""
        self.dragging = False
        self._history.close_grip()
        self.refresh()

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
        self._history.amend(self.study.model_copy(update={"camera": setting}))
        self.camera_changed.emit()

    def _after_change(self) -> None:
        if self.chosen is not None and self.study.layer(self.chosen) is None:
            self.choose(self.study.layers[-1].id if self.study.layers else None)
        if self.evaluator is not None and self.flow is not None:
            wanted = reference_of(self.flow, self.study), methods_of(self.study)
            if wanted != (self.evaluator.store.reference, self.evaluator.store.methods):
                self.evaluator = self.evaluator.with_context(*wanted)
            if self._said(self.study) == self._said(self._shown):
                self._want_step()
            else:
                self._want_correction()
        self.refresh()
        self.study_changed.emit()

    @staticmethod
    def _said(study: Study) -> tuple[object, object, object]:
        return study.roles, study.kinds, study.reading

    def _want_correction(self) -> None:
        """The user says otherwise than what was recognised: the flow is made anew from what was read."""
        raw, study = self._raw, self.study
        if raw is None:
            return

        shown, answers = self._shown, self.evaluator.answers if self.evaluator is not None else None

        def work(token: Token) -> tuple[Flow, Flow, Evaluator]:
            read = raw
            if raw.step != study.step or study.reading != shown.reading:
                read = open_as(raw.path, study.reading, token, step=study.step, numbered=study.numbered)
                share_mesh(raw, read)
            flow = corrected(read, study)
            return read, flow, Evaluator(flow, reference_of(flow, study), methods_of(study), answers)

        def done(answer: tuple[Flow, Flow, Evaluator]) -> None:
            if self._raw is not raw or self._said(self.study) != self._said(study):
                return
            self._raw, self.flow, self.evaluator = answer
            self._shown = study
            self._series = self._new_series(self.evaluator, study)
            self.case_changed.emit()
            self.refresh()
            self._want_step()

        def failed(error: TidalLensError) -> None:
            if self._raw is raw and self._said(self.study) == self._said(study):
                # The study says again what is shown, or every later edit would try once more.
                said = {n: getattr(shown, n) for n in ("roles", "kinds", "reading")}
                if self.flow is not None and self.study.reading.steps != shown.reading.steps:
                    said["step"] = self.flow.step
                self._history.amend(self.study.model_copy(update=said))
                self.study_changed.emit()
                self.case_changed.emit()
            self.tell(error)

        self.jobs.submit(Slot("step"), "Taking the flow as you say", work, done, failed)

    @staticmethod
    def _new_series(evaluator: Evaluator, study: Study) -> Series | None:
        flow = evaluator.flow
        if len(flow.times) < 2:
            return None
        return Series(flow.path, evaluator, numbered=study.numbered, reading=study.reading, correct=lambda read: corrected(read, study))

    # -- time ------------------------------------------------------------------------------------------------

    @property
    def times(self) -> tuple[float, ...]:
        """Times of the steps of the open series; empty for steady flow."""
        return self._series.times if self._series is not None else ()

    @property
    def broken_steps(self) -> frozenset[int]:
        """Steps that could not be read."""
        return frozenset(self._broken)

    def take_steps(self, times: tuple[float, ...]) -> None:
        """A run that is still writing has more steps now; who looks at the last one goes on to the newest."""
        series = self._series
        if series is None or len(times) <= len(series.times):
            return
        was_last = self.study.step >= len(series.times) - 1
        series.times = times
        self._broken.clear()  # what was written by half before may be whole now
        if was_last:
            self._history.amend(self.study.model_copy(update={"step": len(times) - 1}))
            self._want_step()
            self.study_changed.emit()
        self.step_changed.emit()

    def open_again(self, path: Path) -> None:
        """Open a result in the place of the present one; what is on the table stays."""
        keep = self.study if self.flow is not None else None
        study = None if keep is None else keep.model_copy(update={"numbered": True, "step": max(len(siblings(path)) - 1, 0)})
        self._open(path, True, study, self.file, numbered=True)

    def go_to_step(self, step: int, *, relative: bool = False, grip: str = "") -> None:
        """Show another step; steps that could not be read are passed over, and after the last comes the first."""
        count = len(self.times)
        if count < 2:
            return
        way = 1 if step >= 0 else -1
        wanted = (self.study.step + step) % count if relative else min(max(step, 0), count - 1)
        for _ in range(count):
            if wanted not in self._broken:
                break
            wanted = (wanted + way) % count
        self.edit(self.study.model_copy(update={"step": wanted}), "Time", grip)

    def _want_step(self) -> None:
        series, flow, step = self._series, self.flow, self.study.step
        if series is None or flow is None or flow.step == step or self.study.reading.steps != self._shown.reading.steps:
            return
        context = reference_of(flow, self.study), methods_of(self.study)

        def read(number: int, token: Token | None = None) -> Evaluator:
            return series.evaluator(number, context[0], token, context[1])

        def done(evaluator: Evaluator) -> None:
            if self._series is not series or self.study.step != step:
                return
            self.flow, self.evaluator = evaluator.flow, evaluator
            self.step_changed.emit()
            self.refresh()
            ahead = (step + 1) % len(series.times)
            if not series.has(ahead) and ahead not in self._broken:
                self.jobs.submit(Slot("ahead"), f"Reading step {ahead + 1} ahead", lambda token: read(ahead, token),
                                 lambda _answer: None, lambda _error: None)

        def failed(error: TidalLensError) -> None:
            if self._series is not series or self.flow is None:
                return
            self._broken.add(step)
            self.noticed.emit(Notice("warn", f"Step {step + 1} is passed over. {error}"))
            self._history.amend(self.study.model_copy(update={"step": self.flow.step}))
            self.step_changed.emit()

        if series.has(step):
            done(read(step))
        else:
            self.jobs.submit(Slot("step"), f"Reading step {step + 1}", lambda token: read(step, token), done, failed)

    # -- evaluation ------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Ask for whatever is to be seen and is not there yet."""
        ids = {layer.id for layer in self.study.layers}
        for gone in (set(self.results) | set(self._asked)) - ids:
            self.jobs.cancel(Slot("card", gone))
            self.results.pop(gone, None)
            self.failures.pop(gone, None)
            self._asked.pop(gone, None)
        for layer in self.study.layers:
            if self.study.is_drawn(layer):
                self._ask(layer)

    def compute_again(self) -> None:
        """Ask anew for what failed or was cancelled."""
        self._asked.clear()
        self.failures.clear()
        self.refresh()

    def cancel_work(self) -> None:
        """Give up the job that has run longest."""
        job = self.jobs.foremost()
        if job is None:
            return
        self.jobs.cancel(job.slot)
        if job.slot.purpose == "card" and self.study.layer(job.slot.key) is not None:
            self.failures[job.slot.key] = "Cancelled. F5 computes it."
            self.result_changed.emit(job.slot.key)

    def _ask(self, layer: Layer) -> None:
        evaluator = self.evaluator
        if evaluator is None:
            return
        draft = self.dragging
        wish = evaluator.wish(layer, draft=draft)
        if self._asked.get(layer.id) == wish:
            evaluator.use(wish)
            return
        self._asked[layer.id] = wish
        self.failures.pop(layer.id, None)

        def done(result: Evaluated) -> None:
            # While something is dragged, pictures of where it was a moment ago are better than none.
            wanted = self._asked.get(layer.id) == wish or (self.dragging and evaluator is self.evaluator)
            if not wanted or self.study.layer(layer.id) is None:
                return
            self.results[layer.id] = result
            self.result_changed.emit(layer.id)
            for name in quantities_on_keys(result.layer):
                self.quantity_known.emit(name)

        def failed(error: TidalLensError) -> None:
            if self._asked.get(layer.id) != wish:
                return
            self.failures[layer.id] = str(error)
            self.results.pop(layer.id, None)
            self.result_changed.emit(layer.id)

        for name in quantities_on_keys(layer):
            self._first_look(evaluator, name)
        self.jobs.submit(Slot("card", layer.id), layer.name, lambda token: evaluator.evaluate(layer, token, draft=draft), done, failed)
        self.result_changed.emit(layer.id)

    def _first_look(self, evaluator: Evaluator, name: str) -> None:
        """Of a large flow, show a quantity's range from a sample while the whole is worked out."""
        if evaluator.flow.n_points < LARGE or evaluator.store.known_distribution(name) is not None:
            return

        def known(spread: Distribution | None) -> None:
            if spread is not None and evaluator is self.evaluator:
                self.quantity_known.emit(name)

        self.jobs.submit(Slot("first look", name), "A first look", lambda token: evaluator.store.preview(name, token), known,
                         lambda _error: None)

    def ask_quantity(self, name: str) -> None:
        """Work out a quantity and its distribution."""
        evaluator = self.evaluator
        spread = evaluator.store.known_distribution(name) if evaluator is not None else None
        if evaluator is None or (spread is not None and not spread.coarse):
            return
        title = evaluator.store.describe(name).title
        self._first_look(evaluator, name)
        self.jobs.submit(Slot("quantity", name), title, lambda token: evaluator.store.distribution(name, token),
                         lambda _answer: self.quantity_known.emit(name), self.tell)

    def key(self, name: str) -> tuple[Distribution, float, float] | None:
        """Distribution and range of a quantity's key, if known."""
        if self.evaluator is None:
            return None
        spread = self.evaluator.store.known_distribution(name)
        if spread is None:
            return None
        scale = self.evaluator.store.describe(name).scale
        low, high = key_range(scale, self._seen(name, spread), self.study.keys.get(name, KeySetting()))
        return spread, low, high

    def _seen(self, name: str, spread: Distribution) -> Distribution:
        """The distribution with the usual range of where the quantity was first seen: all steps of a series are coloured alike."""
        if len(self.times) < 2 or self.evaluator is None or spread.coarse:
            return spread
        of = said_of(self.study, [name, *self.evaluator.store.below(name)])
        seen = self.study.ranges.get(name)
        if seen is None or seen.of != of:
            low, high = spread.usual
            seen = SeenRange(low=low, high=high, least=spread.low, greatest=spread.high, of=of)
            self._history.amend(self.study.model_copy(update={"ranges": {**self.study.ranges, name: seen}}))
        return replace(spread, usual=(seen.low, seen.high), low=seen.least, high=seen.greatest)

    # -- cases and files -------------------------------------------------------------------------------------

    def open_path(self, path: Path, *, anyway: bool = False, numbered: bool = False, reading: ReadingSetting = _WHOLE) -> None:
        """Open a result or a study; what is open stays until the new one is there.

        With ``reading`` only a part of it is read; with ``numbered``, files that differ from it in a number only are the steps of one
        series.
        """
        if path.suffix.lower() == SUFFIX:
            self._open_study(path)
        elif path.suffix.lower() in (*TABLES, *SUFFIXES):
            self.offered.emit(path)
        else:
            self._open(path, anyway, None, None, numbered=numbered, reading=reading)


    def _open_study(self, path: Path) -> None:
        self.take_up(path, path)

    def take_up(self, path: Path, file: Path | None) -> None:
        """Open the study in a file; it will be saved to another file, or to none yet."""
        try:
            study = load_study(path)
        except TidalLensError as error:
            self.tell(error)
            return
        if not study.case:
            self.tell(TidalLensError("The study names no case.", str(path), "Open a result instead."))
            return
        self._open(Path(study.case), True, study, file)

    def _open(self, path: Path, anyway: bool, study: Study | None, file: Path | None, *, numbered: bool = False,
              reading: ReadingSetting = _WHOLE) -> None:
        many = study.numbered if study is not None else numbered
        # A history that lies beside the result is that of its run.
        history = self.study.history if study is None and self.study.history else ""
        history = history if history and Path(history).parent == path.resolve().parent else ""

        def work(token: Token) -> _Opened:
            part = study.reading if study is not None else reading
            raw = open_as(path, part, token, anyway=anyway, step=study.step if study is not None else None, numbered=many)
            flow = raw if study is None else corrected(raw, study)
            wanted = reference_of(flow, study) if study is not None else flow.reference
            evaluator = Evaluator(flow, wanted, methods_of(study) if study is not None else None)
            begin = study if study is not None else first_study(flow, evaluator.store)
            belongs = results_of(path) if study is None and not raw.times else []
            facts = {"case": str(path.resolve()), "step": flow.step, "numbered": many, "reading": part,
                     **({"history": history} if history else {})}
            return _Opened(raw, flow, evaluator, begin.model_copy(update=facts), belongs)

        def failed(error: TidalLensError) -> None:
            actions: tuple[tuple[str, Callable[[], None]], ...] = ()
            if isinstance(error, DoubtfulFlowError):
                actions = (("Open it anyway", lambda: self.open_path(path, anyway=True, numbered=many, reading=reading)),)
            if isinstance(error, TooLargeError):
                actions = self._ways_to_less(path, error, reading, numbered=many)

            def tell(belongs: list[Path]) -> None:
                self.noticed.emit(Notice("bad", str(error), (*actions, *self._ways_to_whole(belongs))))

            self.jobs.submit(Slot("beside"), "Looking beside it", lambda _token: results_of(path), tell, lambda _error: tell([]))

        self.jobs.submit(Slot("case"), f"Opening {path.name}", work, lambda opened: self._adopt(opened, file), failed)

    def _ways_to_whole(self, belongs: list[Path]) -> tuple[tuple[str, Callable[[], None]], ...]:
        """Results that a file is only a part of, to be opened instead."""
        return tuple((f"Open {index.name}", partial(self.open_path, index, anyway=True)) for index in belongs[:2])

    def _ways_to_less(self, path: Path, error: TooLargeError, reading: ReadingSetting, *,
                      numbered: bool) -> tuple[tuple[str, Callable[[], None]], ...]:
        """What can be done about a result that does not fit into memory."""
        ways: list[tuple[str, ReadingSetting]] = []
        spare = tuple(n for n in without_a_role(error.quantities) if n not in reading.without_quantities)
        if spare:
            ways.append((f"Read it without {len(spare)} arrays that play no role",
                         reading.with_(without_quantities=(*reading.without_quantities, *spare))))
        if error.structured:
            every = 2 * reading.every
            ways.append((f"Read every {every}{'nd' if every == 2 else 'th'} point", reading.with_(every=every)))
        return tuple((title, partial(self.open_path, path, anyway=True, numbered=numbered, reading=less)) for title, less in ways)

    def _adopt(self, opened: _Opened, file: Path | None) -> None:
        for layer in self.study.layers:
            self.jobs.cancel(Slot("card", layer.id))
        self._raw, self.flow, self.evaluator = opened.raw, opened.flow, opened.evaluator
        self._shown = opened.study
        self.results, self.failures, self._asked = {}, {}, {}
        self._broken = set()
        self._series = self._new_series(opened.evaluator, opened.study)
        self._history = History(opened.study)
        self._saved = opened.study
        self.file = file
        self.chosen = None
        self.camera = None
        if opened.study.camera is not None:
            c = opened.study.camera
            self.camera = camera_from(c)
        self.case_opened.emit()
        self.case_changed.emit()
        self.refresh()
        self.study_changed.emit()
        self.file_changed.emit()
        self.choose(opened.study.layers[-1].id if opened.study.layers else None)
        # Lines and the value under the pointer need it; the first picture does not.
        def prepare(token: Token) -> None:
            mesh_of(opened.flow, token)
            prepare_gradients(opened.flow, token)

        self.jobs.submit(Slot("prepare"), "Preparing searches and gradients", prepare, lambda _answer: None,
                         lambda _error: None)
        for text in opened.flow.notices:
            self.noticed.emit(Notice("warn", f"{opened.flow.path.name}: {text}"))
        if opened.belongs:
            self.noticed.emit(Notice("note", f"{opened.flow.path.name} is a part of {opened.belongs[0].name}.",
                                     self._ways_to_whole(opened.belongs)))
        self._offer_series(opened.flow)
        if opened.flow.layer_found:
            study = opened.study
            action = ("Take it as three-dimensional", lambda: self.edit(
                self.study.with_(reading=study.reading.with_(in_space=True)), "What is read"))
            self.noticed.emit(Notice("note", f"{opened.flow.path.name} is one layer of cells: it is taken for a plane flow.", (action,)))

    def _offer_series(self, flow: Flow) -> None:
        others = siblings(flow.path) if not flow.times else []
        if len(others) > 1:
            text = f"{others[0][1].name} to {others[-1][1].name}: {len(others)} files that differ in their number only."
            action = ("Open them as a time series", lambda: self.open_path(flow.path, anyway=True, numbered=True))
            self.noticed.emit(Notice("note", text, (action,)))

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
    import numpy as np

    return Camera(np.array(setting.eye), np.array(setting.focus), np.array(setting.up), setting.angle)
