"""Cancel tokens, progress and the pool on which kernels run chunk by chunk."""

from __future__ import annotations

import contextlib
import contextvars
import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor, wait
from typing import Any, TypeVar

from numpy.typing import NDArray

from tidal_lens.errors import CancelledError, TidalLensError

_T = TypeVar("_T")
Progress = Callable[[float], None]
THREADS = "TIDAL_LENS_THREADS"  # how many threads work at a time, where the environment says
_threads = os.environ.get(THREADS, "")
WORKERS = int(_threads) if _threads.isdecimal() and 0 < int(_threads) <= 256 else max(1, min(16, os.cpu_count() or 1))
_pool_lock = threading.Lock()
_pool: ThreadPoolExecutor | None = None


class Token:
    """Says whether the answer of a piece of work is still wanted, and hears how far it got."""

    def __init__(self, progress: Progress | None = None) -> None:
        self._gone = threading.Event()
        self._error: TidalLensError = CancelledError()
        self._progress = progress

    def on_progress(self, progress: Progress) -> None:
        """Tell the progress to somebody."""
        self._progress = progress

    def cancel(self) -> None:
        """Ask the work to stop at its next check."""
        self._gone.set()

    def refuse(self, error: TidalLensError) -> None:
        """Ask the work to stop at its next check with an error, not as something that nobody wants any more."""
        if not self._gone.is_set():
            self._error = error
            self._gone.set()

    @property
    def cancelled(self) -> bool:
        """Whether the work was asked to stop."""
        return self._gone.is_set()

    @property
    def unwanted(self) -> bool:
        """Whether it was asked to stop because nobody wants its answer."""
        return self._gone.is_set() and isinstance(self._error, CancelledError)

    def check(self) -> None:
        """Raise :class:`CancelledError`, or the error it was refused with, if the work was asked to stop."""
        if self._gone.is_set():
            raise self._error

    def part(self, low: float, high: float) -> Token:
        """The same for a part of the work: its progress from 0 to 1 is from ``low`` to ``high`` of the whole."""
        return _Part(self, low, high)

    def report(self, fraction: float) -> None:
        """Tell how much is done, from 0 to 1."""
        if self._progress is not None:
            self._progress(fraction)


class _Part(Token):
    """Of another token: cancelled and refused with it."""

    def __init__(self, whole: Token, low: float, high: float) -> None:
        super().__init__()
        self._whole, self._low, self._high, self._so_far = whole, low, high, 0.0
        self._gone = whole._gone

    def report(self, fraction: float) -> None:
        self._so_far = max(self._so_far, fraction)  # what is done of one task after another never seems less
        self._whole.report(self._low + self._so_far * (self._high - self._low))

    def cancel(self) -> None:
        self._whole.cancel()

    def refuse(self, error: TidalLensError) -> None:
        self._whole.refuse(error)

    @property
    def unwanted(self) -> bool:
        return self._whole.unwanted

    def check(self) -> None:
        self._whole.check()


def stage(token: Token | None, low: float, high: float) -> Token | None:
    """A part of a token, if there is one: see :meth:`Token.part`."""
    return None if token is None else token.part(low, high)


_token: contextvars.ContextVar[Token | None] = contextvars.ContextVar("token", default=None)


@contextlib.contextmanager
def working_for(token: Token) -> Iterator[None]:
    """While this lasts, chunks and checkpoints of the present thread watch a token."""
    mark = _token.set(token)
    try:
        yield
    finally:
        _token.reset(mark)


def checkpoint() -> None:
    """Stop here if the work under way was asked to: loops that last call it, wherever they are.

    Raises
    ------
    CancelledError
        Or what the token was refused with.
    """
    token = _token.get()
    if token is not None:
        token.check()


@contextlib.contextmanager
def at_gate(gate: threading.Lock) -> Iterator[None]:
    """Hold a lock; whoever waits for it can be cancelled meanwhile.

    Raises
    ------
    CancelledError
        The work under way was asked to stop while it waited.
    """
    while not gate.acquire(timeout=0.05):
        checkpoint()
    try:
        yield
    finally:
        gate.release()


def read_only(values: NDArray[Any]) -> NDArray[Any]:
    """A view that cannot be written: kernels are compiled anew for each mixture of what can be and what cannot."""
    view = values.view()
    view.flags.writeable = False
    return view


def give_way() -> None:
    """Let the present thread stand back: whoever answers the user goes first."""
    with contextlib.suppress(OSError, AttributeError):  # not every system can do it for a single thread
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 5)


def _shared_pool() -> ThreadPoolExecutor:
    global _pool  # noqa: PLW0603  (one pool per process, made when first needed)
    with _pool_lock:
        if _pool is None:
            _pool = ThreadPoolExecutor(max(WORKERS - 1, 1), thread_name_prefix="chunk", initializer=give_way)
        return _pool


def run_chunks(task: Callable[[int, int], None], count: int, chunk: int, token: Token | None = None) -> None:
    """Run ``task(begin, end)`` over 0..count in chunks on all cores, the calling thread among them: to wait costs as much as a small chunk.

    Parameters
    ----------
    task : callable
        Called with half-open ranges; must release the interpreter lock to be of use.
    count, chunk : int
        Number of items, and items in a chunk.
    token : Token, optional
        Checked before each chunk and told the progress; without one, that of :func:`working_for` is checked.

    Raises
    ------
    CancelledError
        When the token was cancelled; chunks under way are finished first.
    """
    starts = range(0, count, max(1, chunk))
    turns, done, failed = iter(starts), 0, False  # the next of a range is taken by one thread only
    lock = threading.Lock()
    watched = token or _token.get()

    def work() -> None:
        nonlocal done, failed
        for begin in turns:
            if failed or (watched is not None and watched.cancelled):
                return
            try:
                task(begin, min(begin + chunk, count))
            except BaseException:
                failed = True
                raise
            if token is not None:
                with lock:
                    done += 1
                    token.report(done / len(starts))

    helpers = [_shared_pool().submit(work) for _ in range(min(WORKERS, len(starts)) - 1)]
    try:
        work()
    finally:
        begun = [helper for helper in helpers if not helper.cancel()]  # the others of the pool have other work still
        wait(begun)
    for helper in begun:
        helper.result()
    if watched is not None:
        watched.check()


def in_turn(task: Callable[[int], _T], count: int) -> Iterator[_T]:
    """Answers of ``task(number)`` for 0..count, in order, worked out by a few threads of their own."""
    if count < 2:
        yield from (task(number) for number in range(count))
        return
    with ThreadPoolExecutor(WORKERS, thread_name_prefix="turn", initializer=give_way) as pool:
        waiting = [pool.submit(contextvars.copy_context().run, task, number) for number in range(count)]
        try:
            for one in waiting:
                yield one.result()
        finally:
            for one in waiting:
                one.cancel()
