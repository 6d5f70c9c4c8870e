"""Cases beside the first: opened, kept at the step that goes with the first's, and seen by its quantities."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from tidal_lens.app.asking import Asking, Keys
from tidal_lens.app.holder import Holder
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.errors import TidalLensError, UnitsError
from tidal_lens.flow.case import Flow
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.evaluate import Evaluator, methods_of, reference_of
from tidal_lens.study.model import OtherCase, Study
from tidal_lens.study.opened import Opened
from tidal_lens.study.others import Ways, carried, open_other
from tidal_lens.study.series import Series
from tidal_lens.study.session import Session
from tidal_lens.study.steps_beside import step_beside
from tidal_lens.work import Token


class Companion:
    """One of the other cases: see :class:`tidal_lens.app.asking.CaseHere`. On the window's thread.

    Attributes
    ----------
    asked : tuple
        What the study says of it, as it was opened, or is being opened.
    trouble : str
        Why it is not there, if it could not be opened.
    """

    def __init__(self, document: Holder, case: int, asked: tuple[object, ...], keys: Keys) -> None:
        self.case, self.asked, self.trouble = case, asked, ""
        self.flow: Flow | None = None
        self.evaluator: Evaluator | None = None
        self.series: Series | None = None
        self.ways = Ways()
        self.wanted_step: int | None = None  # that is on its way
        self.asking = Asking(document, self, keys)

    @property
    def is_right(self) -> bool:
        """Whether the flow is the one that the study looks at."""
        return self.flow is not None and self.wanted_step is None


class Companions(QObject):
    """The other cases of a document. On the window's thread.

    Signals
    -------
    changed
        There are others now, or one came, or moved to another step.

    Attributes
    ----------
    cases : dict
        By their numbers, the first of them 1.
    """

    changed = pyqtSignal()

    def __init__(self, document: Holder, keys: Keys) -> None:
        super().__init__(document)
        self._document, self._keys = document, keys
        self.cases: dict[int, Companion] = {}

    def clear(self) -> None:
        """Another first case: nothing of the others is wanted."""
        for number in list(self.cases):
            self._drop(number)
        self.changed.emit()

    def want(self) -> None:
        """The study changed: bring the cases that it names, as it has them."""
        study, evaluator = self._document.study, self._document.evaluator
        if evaluator is None:
            return
        wanted = {n: _asked(study, other) for n, other in enumerate(study.others, 1)}
        gone = [n for n, one in self.cases.items() if wanted.get(n) != one.asked]
        for number in gone:
            self._drop(number)
        new = [n for n in wanted if n not in self.cases]
        for number in new:
            self.cases[number] = Companion(self._document, number, wanted[number], self._keys)
            self._open(number)
        for number, one in self.cases.items():
            if one.flow is None or one.evaluator is None:
                continue
            context = reference_of(one.flow, study), methods_of(study)
            if context != (one.evaluator.store.reference, one.evaluator.store.methods):
                one.evaluator = one.evaluator.with_context(*context)
            self._want_step(number)
        self.join(evaluator)
        if gone or new:
            self.changed.emit()

    def opened(self) -> dict[int, Opened]:
        """Those that are there, for who works with them apart from the window."""
        return {n: Opened(one.evaluator.apart(), one.series) for n, one in self.cases.items() if one.evaluator is not None}

    def trouble_of(self, number: int) -> str:
        """Why a case is not there, if it could not be opened."""
        return self.cases[number].trouble if number in self.cases else ""

    def refresh(self) -> None:
        """Ask for whatever is to be seen of them and is not there yet."""
        for one in self.cases.values():
            one.asking.refresh()

    def compute_again(self) -> None:
        """Ask anew for what failed or was cancelled."""
        for one in self.cases.values():
            one.asking.compute_again()

    def join(self, evaluator: Evaluator) -> None:
        """Let the first's quantities see the others."""
        evaluator.store.others = tuple(None if one.evaluator is None else carried(one.evaluator, evaluator.flow, one.ways)
                                       for _, one in sorted(self.cases.items()))

    def _drop(self, number: int) -> None:
        for purpose in ("beside", "bring"):
            self._document.jobs.cancel(Slot(purpose, str(number)))
        self.cases.pop(number).asking.clear()

    def _open(self, number: int) -> None:
        document, study, one = self._document, self._document.study, self.cases[number]
        here = document.flow
        assert here is not None

        def work(token: Token) -> Session:
            session = open_other(study, number, here, token)
            mesh_of(session.flow, token)
            return session

        def done(session: Session) -> None:
            if self.cases.get(number) is not one:
                return
            one.flow, one.evaluator, one.series = session.flow, session.evaluator, session.series()
            document.jobs.submit(Slot("bring", str(number)), "Preparing differences",
                                 lambda token: one.ways.between(session.flow, here, token), lambda _way: None, lambda _error: None)
            for text in session.flow.notices:
                document.noticed.emit(Notice("warn", f"{session.flow.path.name}: {text}"))
            self._came()

        def failed(error: TidalLensError) -> None:
            if self.cases.get(number) is not one:
                return
            one.trouble = str(error)
            if isinstance(error, UnitsError):
                document.noticed.emit(Notice("bad", str(error), (("Its units are the same", lambda: self._take(number)),)))
            else:
                document.tell(error)
            self.changed.emit()

        document.jobs.submit(Slot("beside", str(number)), f"Opening {study.others[number - 1].title}", work, done, failed)

    def _take(self, number: int) -> None:
        """The user says that its units are those of the first."""
        study = self._document.study
        if number <= len(study.others):
            others = tuple(o.with_(anyway=True) if n == number else o for n, o in enumerate(study.others, 1))
            self._document.edit(study.with_(others=others), "Its units are the same")

    def _want_step(self, number: int) -> None:
        document, one, here = self._document, self.cases[number], self._document.flow
        if one.series is None or one.flow is None or one.evaluator is None or here is None:
            return
        series, step = one.series, step_beside(document.study.others[number - 1], here, one.series.times)
        if step == (one.flow.step if one.wanted_step is None else one.wanted_step):
            return
        one.wanted_step = step
        context = one.evaluator.store.reference, one.evaluator.store.methods

        def done(evaluator: Evaluator) -> None:
            if self.cases.get(number) is one and one.wanted_step == step:
                one.flow, one.evaluator, one.wanted_step = evaluator.flow, evaluator, None
                self._came()

        def failed(error: TidalLensError) -> None:
            if one.wanted_step == step:
                one.wanted_step = None
            document.tell(error)

        document.jobs.submit(Slot("beside", str(number)), f"Reading step {step + 1} beside",
                             lambda token: series.evaluator(step, context[0], token, context[1]), done, failed)

    def step_came(self) -> None:
        """The first shows another step."""
        for number in self.cases:
            self._want_step(number)

    def _came(self) -> None:
        """One of them is there, or at another step: cards of all cases may rest on it."""
        if self._document.evaluator is not None:
            self.join(self._document.evaluator)
        self.changed.emit()
        self._document.refresh()
        self._document.study_changed.emit()


def _asked(study: Study, other: OtherCase) -> tuple[object, ...]:
    return other.path, other.reading, other.numbered, other.anyway, study.case, study.roles, study.kinds, study.turned
