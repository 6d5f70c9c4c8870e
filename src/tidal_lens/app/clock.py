"""The steps of the open case, and the case as the user says it is: read when wanted, the newest wish wins."""

from __future__ import annotations

from collections.abc import Callable

from tidal_lens.app.holder import Holder
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.errors import TidalLensError
from tidal_lens.flow.case import Flow
from tidal_lens.study.evaluate import Evaluator, methods_of, reference_of
from tidal_lens.study.model import Study
from tidal_lens.study.series import Series
from tidal_lens.study.session import Session, said_otherwise
from tidal_lens.work import Token


class Clock:
    """Which step is shown, and which could not be read. On the window's thread."""

    def __init__(self, document: Holder) -> None:
        self._document = document
        self._series: Series | None = None
        self._raw: Flow | None = None
        self._shown = Study()
        self._broken: set[int] = set()

    def adopt(self, session: Session) -> None:
        """Another case."""
        self._raw, self._shown, self._series = session.raw, session.study, session.series()
        self._broken = set()

    @property
    def times(self) -> tuple[float, ...]:
        """Times of the steps of the open series; empty for steady flow."""
        return self._series.times if self._series is not None else ()

    @property
    def series(self) -> Series | None:
        """All steps; None for steady flow."""
        return self._series

    @property
    def broken_steps(self) -> frozenset[int]:
        """Steps that could not be read."""
        return frozenset(self._broken)

    def want(self) -> None:
        """The study changed: bring the flow that it looks at."""
        if self._said(self._document.study) == self._said(self._shown):
            self._want_step()
        else:
            self._want_correction()

    @property
    def is_right(self) -> bool:
        """Whether the flow that is open is the one that the study looks at: nothing of it is on its way."""
        flow, study = self._document.flow, self._document.study
        return flow is not None and flow.step == study.step and self._said(study) == self._said(self._shown)

    @staticmethod
    def _said(study: Study) -> tuple[object, ...]:
        return study.roles, study.kinds, study.reading, study.turned

    def _want_correction(self) -> None:
        """The user says otherwise than what was recognised: the flow is made anew from what was read."""
        document, raw, study, shown = self._document, self._raw, self._document.study, self._shown
        if raw is None:
            return
        answers = document.evaluator.answers if document.evaluator is not None else None

        def wanted() -> bool:
            return self._raw is raw and self._said(document.study) == self._said(study)

        def done(session: Session) -> None:
            if not wanted():
                return
            broken = self._broken
            self.adopt(session)
            self._broken = broken
            document.flow, document.evaluator = session.flow, session.evaluator
            document.case_changed.emit()
            document.refresh()
            self._want_step()

        def failed(error: TidalLensError) -> None:
            if wanted():
                # The study says again what is shown, or every later edit would try once more.
                said = {n: getattr(shown, n) for n in ("roles", "kinds", "reading", "turned")}
                if document.flow is not None and document.study.reading.steps != shown.reading.steps:
                    said["step"] = document.flow.step
                document.amend(**said)
                document.study_changed.emit()
                document.case_changed.emit()
            document.tell(error)

        document.jobs.submit(Slot("step"), "Taking the flow as you say",
                             lambda token: said_otherwise(raw, shown, study, answers, token), done, failed)

    def take_steps(self, times: tuple[float, ...]) -> None:
        """A run that is still writing has more steps now; who looks at the last one goes on to the newest."""
        document, series = self._document, self._series
        if series is None or len(times) <= len(series.times):
            return
        was_last = document.study.step >= len(series.times) - 1
        series.times = times
        self._broken.clear()  # what was written by half before may be whole now
        if was_last:
            document.amend(step=len(times) - 1)
            self._want_step()
            document.study_changed.emit()
        document.step_changed.emit()

    def go_to_step(self, step: int, *, relative: bool = False, grip: str = "") -> None:
        """Show another step; steps that could not be read are passed over, and after the last comes the first."""
        count, study = len(self.times), self._document.study
        if count < 2:
            return
        way = 1 if step >= 0 else -1
        wanted = (study.step + step) % count if relative else min(max(step, 0), count - 1)
        for _ in range(count):
            if wanted not in self._broken:
                break
            wanted = (wanted + way) % count
        self._document.edit(study.model_copy(update={"step": wanted}), "Time", grip)

    def reader(self) -> Callable[[int, Token], Evaluator] | None:
        """Gives any step of the series as the study has it, on the thread of a job; None for steady flow."""
        document, series = self._document, self._series
        if series is None or document.flow is None:
            return None
        reference, methods = reference_of(document.flow, document.study), methods_of(document.study)
        return lambda step, token: series.evaluator(step, reference, token, methods)

    def _want_step(self) -> None:
        document, series = self._document, self._series
        flow, step = document.flow, document.study.step
        if series is None or flow is None or flow.step == step or document.study.reading.steps != self._shown.reading.steps:
            return
        context = reference_of(flow, document.study), methods_of(document.study)

        def read(number: int, token: Token | None = None) -> Evaluator:
            return series.evaluator(number, context[0], token, context[1])

        def done(evaluator: Evaluator) -> None:
            if self._series is not series or document.study.step != step:
                return
            document.flow, document.evaluator = evaluator.flow, evaluator
            document.step_changed.emit()
            document.refresh()
            ahead = (step + 1) % len(series.times)
            if not series.has(ahead) and ahead not in self._broken:
                document.jobs.submit(Slot("ahead"), f"Reading step {ahead + 1} ahead", lambda token: read(ahead, token),
                                     lambda _answer: None, lambda _error: None)

        def failed(error: TidalLensError) -> None:
            if self._series is not series or document.flow is None:
                return
            self._broken.add(step)
            document.noticed.emit(Notice("warn", f"Step {step + 1} is passed over. {error}"))
            document.amend(step=document.flow.step)
            document.step_changed.emit()

        if series.has(step):
            done(read(step))
        else:
            document.jobs.submit(Slot("step"), f"Reading step {step + 1}", lambda token: read(step, token), done, failed)
