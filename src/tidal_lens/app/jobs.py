"""Work outside the GUI thread: one slot a purpose, the newest wish of a slot wins."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tidal_lens.errors import CancelledError, TidalLensError
from tidal_lens.work import Token, give_way

_PATIENCE = 0.25  # seconds that a piece of work under way may take when a newer wish comes in
_PULSE = 0.08  # seconds between two reports of progress
_numbers = itertools.count(1)


@dataclass(eq=False)
class Job:
    """A piece of work: what it is called, what it does, whom to tell."""

    slot: str
    title: str
    work: Callable[[Token], Any]
    done: Callable[[Any], None]
    failed: Callable[[TidalLensError], None]
    token: Token
    number: int
    fraction: float = 0.0
    begun: float = 0.0
    told: float = 0.0


class Jobs(QObject):
    """Runs jobs on threads and brings their answers to the GUI thread.

    Signals
    -------
    changed
        A job began or ended.
    progressed
        A job went on; not more than a dozen times a second.
    """

    changed = pyqtSignal()
    progressed = pyqtSignal()
    _answered = pyqtSignal(object, object)
    _progressed = pyqtSignal(object, float)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(4, thread_name_prefix="job", initializer=give_way)
        self._running: dict[str, Job] = {}
        self._waiting: dict[str, Job] = {}
        self._answered.connect(self._take)
        self._progressed.connect(self._note)
        self._closed = False

    def submit(self, slot: str, title: str, work: Callable[[Token], Any], done: Callable[[Any], None],
               failed: Callable[[TidalLensError], None]) -> None:
        """Do a piece of work.

        Parameters
        ----------
        slot : str
            Purpose; of several wishes for one slot only the newest is sure to be carried out.
        title : str
            What the user sees while it runs.
        work : callable
            Runs on another thread with a token.
        done, failed : callable
            Called on the GUI thread with the answer or the error; neither after a cancel.
        """
        if self._closed:
            return
        token = Token()
        job = Job(slot, title, work, done, failed, token, next(_numbers))
        token.on_progress(self._teller(job))
        running = self._running.get(slot)
        if running is None:
            self._begin(job)
            return
        if time.monotonic() - running.begun > _PATIENCE:
            running.token.cancel()
        self._waiting[slot] = job

    def _teller(self, job: Job) -> Callable[[float], None]:
        def tell(fraction: float) -> None:
            now = time.monotonic()
            if now - job.told > _PULSE and not self._closed:
                job.told = now
                self._progressed.emit(job, fraction)

        return tell

    def cancel(self, slot: str) -> None:
        """Give up what a slot is doing and was going to do."""
        self._waiting.pop(slot, None)
        if slot in self._running:
            self._running[slot].token.cancel()

    def cancel_all(self) -> None:
        """Give up everything."""
        for slot in list(self._running):
            self.cancel(slot)

    def is_busy(self, slot: str | None = None) -> bool:
        """Whether a slot, or any slot, has work under way."""
        return bool(self._running) if slot is None else slot in self._running

    def foremost(self) -> Job | None:
        """The job that has run longest."""
        return min(self._running.values(), key=lambda j: j.number, default=None)

    def close(self) -> None:
        """Give up everything and wait for the threads."""
        self._closed = True
        self.cancel_all()
        self._pool.shutdown(wait=True, cancel_futures=True)

    def _begin(self, job: Job) -> None:
        self._running[job.slot] = job
        job.begun = time.monotonic()
        self._pool.submit(self._run, job)
        self.changed.emit()

    def _run(self, job: Job) -> None:
        answer: Any
        try:
            answer = job.work(job.token)
        except TidalLensError as exc:
            answer = exc
        except MemoryError:
            answer = TidalLensError("There is not enough memory for it.", job.title, "Hide or delete something first.")
        except Exception as exc:  # noqa: BLE001  (a fault in one job must not take the window down)
            answer = TidalLensError(f"Something went wrong inside Tidal Lens: {type(exc).__name__}: {exc}.", job.title,
                                    "Your study is safe. Undo the last change, or try other settings.")
        if not self._closed:
            self._answered.emit(job, answer)

    def _take(self, job: Job, answer: Any) -> None:
        if self._closed:
            return
        if self._running.get(job.slot) is job:
            del self._running[job.slot]
        following = self._waiting.pop(job.slot, None)
        if following is not None:
            self._begin(following)
        if not job.token.cancelled:
            if isinstance(answer, TidalLensError):
                if not isinstance(answer, CancelledError):
                    job.failed(answer)
            else:
                job.done(answer)
        self.changed.emit()

    def _note(self, job: Job, fraction: float) -> None:
        job.fraction = fraction
        self.progressed.emit()
