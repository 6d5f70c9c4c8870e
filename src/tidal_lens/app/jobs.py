"""Work outside the GUI thread: one slot a purpose, the newest wish of a slot wins.

Nothing holds the window: work that was cancelled and does not stop in time is let go of, its thread ends when it can.
"""

from __future__ import annotations

import itertools
import re
import threading
import time
import weakref
from collections.abc import Callable
from dataclasses import dataclass
from queue import SimpleQueue
from typing import Any, NamedTuple

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from tidal_lens.errors import CancelledError, TidalLensError
from tidal_lens.memory import tidy_memory
from tidal_lens.work import Token, give_way, working_for

_PATIENCE = 0.25  # seconds that a piece of work under way may take when a newer wish comes in
_PULSE = 0.08  # seconds between two reports of progress
_LET_GO = 450  # milliseconds after a cancel at which work that still goes on is let go of
_END = 2.0  # seconds that closing waits for threads
_WORKERS = 4
_ASIDE = frozenset({"warm"})  # purposes that nobody waits for
_numbers = itertools.count(1)


class Slot(NamedTuple):
    """What a piece of work is for: a purpose, and of what if there are several."""

    purpose: str
    key: str = ""


@dataclass(eq=False)
class Job:
    """A piece of work: what it is called, what it does, whom to tell."""

    slot: Slot
    title: str
    work: Callable[[Token], Any]
    done: Callable[[Any], None]
    failed: Callable[[TidalLensError], None]
    token: Token
    number: int
    fraction: float = 0.0
    begun: float = 0.0
    told: float = 0.0


def _short(error: Exception) -> str:
    """The first words of a foreign message: some are pages long, with codes for terminals in them."""
    text = re.sub(r"\x1b\[[0-9;]*m", "", str(error)).strip()
    return text.splitlines()[0][:200] if text else ""


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
    _retitled = pyqtSignal(object, str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._queue: SimpleQueue[Job | None] = SimpleQueue()
        self._threads: list[threading.Thread] = []
        self._running: dict[Slot, Job] = {}
        self._waiting: dict[Slot, Job] = {}
        self._let_go: set[Job] = set()
        self._answered.connect(self._take)
        self._progressed.connect(self._note)
        self._retitled.connect(self._take_title)
        self._closed = False

    def submit(self, slot: Slot, title: str, work: Callable[[Token], Any], done: Callable[[Any], None],
               failed: Callable[[TidalLensError], None]) -> None:
        """Do a piece of work.

        Parameters
        ----------
        slot : Slot
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
            self._stop(running)
        self._waiting[slot] = job

    def _teller(self, job: Job) -> Callable[[float], None]:
        here = weakref.ref(job)  # else the two would hold one another, and all that the job knows

        def tell(fraction: float) -> None:
            now, job = time.monotonic(), here()
            if job is not None and now - job.told > _PULSE and not self._closed:
                job.told = now
                self._progressed.emit(job, fraction)

        return tell

    def cancel(self, slot: Slot) -> None:
        """Give up what a slot is doing and was going to do."""
        self._waiting.pop(slot, None)
        if slot in self._running:
            self._stop(self._running[slot])

    def _stop(self, job: Job) -> None:
        if not job.token.cancelled:
            job.token.cancel()
            QTimer.singleShot(_LET_GO, lambda: self._leave(job))

    def _leave(self, job: Job) -> None:
        """Wait no longer for work that nobody wants: another thread takes the place of its own."""
        if self._closed or self._running.get(job.slot) is not job:
            return
        self._let_go.add(job)
        self._next(job)
        self.changed.emit()

    def cancel_all(self) -> None:
        """Give up everything."""
        for slot in list(self._running):
            self.cancel(slot)

    def is_busy(self, slot: Slot | None = None) -> bool:
        """Whether a slot has work under way; or any that somebody waits for."""
        return any(s.purpose not in _ASIDE for s in self._running) if slot is None else slot in self._running

    def running(self, purpose: str) -> list[Job]:
        """Jobs of a purpose that are under way."""
        return [job for slot, job in self._running.items() if slot.purpose == purpose]

    def foremost(self) -> Job | None:
        """The job that has run longest; before those that nobody waits for."""
        return min(self._running.values(), key=lambda j: (j.slot.purpose in _ASIDE, j.number), default=None)

    def aside(self) -> Job | None:
        """A job that nobody waits for, if there is one."""
        return next((j for s, j in self._running.items() if s.purpose in _ASIDE), None)

    def retitle(self, slot: Slot, title: str) -> None:
        """Call what a slot does otherwise, from any thread."""
        self._retitled.emit(slot, title)

    def _take_title(self, slot: Slot, title: str) -> None:
        if slot in self._running:
            self._running[slot].title = title
            self.progressed.emit()

    def close(self) -> bool:
        """Give up everything; whether all threads ended within two seconds."""
        self._closed = True
        self._waiting.clear()
        for job in self._running.values():
            job.token.cancel()
        for _ in self._threads:
            self._queue.put(None)
        end = time.monotonic() + _END
        for thread in self._threads:
            thread.join(max(0.0, end - time.monotonic()))
        return not any(thread.is_alive() for thread in self._threads)

    def _begin(self, job: Job) -> None:
        self._running[job.slot] = job
        job.begun = time.monotonic()
        self._threads = [t for t in self._threads if t.is_alive()]
        if len(self._threads) < _WORKERS + len(self._let_go):
            # Daemons: one that is lost in a library's code cannot keep the program from ending.
            self._threads.append(threading.Thread(target=self._serve, name=f"job {len(self._threads)}", daemon=True))
            self._threads[-1].start()
        self._queue.put(job)
        self.changed.emit()

    def _serve(self) -> None:
        give_way()
        while (job := self._queue.get()) is not None:
            self._run(job)
            if job in self._let_go:
                return  # another has taken this thread's place
            del job  # or what it worked on would be held until the next one comes
            if self._queue.empty():
                tidy_memory()

    def _run(self, job: Job) -> None:
        answer: Any
        try:
            with working_for(job.token):
                answer = job.work(job.token)
        except TidalLensError as exc:
            answer = exc
        except MemoryError:
            answer = TidalLensError("There is not enough memory for it.", job.title, "Hide or delete something first.")
        except Exception as exc:  # noqa: BLE001  (a fault in one job must not take the window down)
            answer = TidalLensError(f"Something went wrong inside Tidal Lens: {type(exc).__name__}: {_short(exc)}.", job.title,
                                    "Your study is safe. Undo the last change, or try other settings.")
        if not self._closed:
            self._answered.emit(job, answer)

    def _next(self, job: Job) -> None:
        """A job is over: the next wish for its slot begins."""
        del self._running[job.slot]
        following = self._waiting.pop(job.slot, None)
        if following is not None:
            self._begin(following)

    def _take(self, job: Job, answer: Any) -> None:
        if self._closed:
            return
        if self._running.get(job.slot) is not job:  # let go of before
            self._let_go.discard(job)
            return
        self._next(job)
        if not job.token.unwanted:
            if isinstance(answer, TidalLensError):
                if not isinstance(answer, CancelledError):
                    job.failed(answer)
            else:
                job.done(answer)
        self.changed.emit()

    def _note(self, job: Job, fraction: float) -> None:
        job.fraction = fraction
        self.progressed.emit()
