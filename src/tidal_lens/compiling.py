"""All kernels compiled once, in processes beside this one: nobody waits for what he does not need."""

from __future__ import annotations

import gc
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path

from tidal_lens.jit import cache_folder, wait_while
from tidal_lens.light_compiling import compile_lightly
from tidal_lens.warm import LISTS, PARTS, load_kernels
from tidal_lens.work import Token, checkpoint

_PULSE = 0.1  # seconds
Tell = Callable[[int, int], object]


def all_compiled() -> bool:
    """Whether the cache holds all kernels as they are now."""
    return _mark().exists()


def prepare_kernels(token: Token, tell: Tell) -> None:
    """Load all kernels; where they were never compiled, compile them in processes of their own first.

    Who needs one meanwhile waits for it: see :func:`tidal_lens.jit.wait_while`.

    Parameters
    ----------
    token : Token
        Cancel: what is not compiled then is compiled when it is needed.
    tell : callable
        Hears how many of how many parts are compiled.

    Raises
    ------
    CancelledError
        The token was cancelled.
    """
    if not all_compiled():
        _Others(tell).run(token)
    load_kernels(token)


def serve() -> None:
    """What a process beside does: compiles the parts whose names come in, a line each, and answers each."""
    gc.set_threshold(300_000)  # compiling makes millions of small things that stay: looking for rings of them took a seventh of its time
    compile_lightly()
    named = dict(PARTS)
    for line in sys.stdin:
        part = named.get(line.strip())
        if part is not None:
            part()
        sys.stdout.write(line)
        sys.stdout.flush()


class _Others:
    """Processes that compile, and how far they are."""

    def __init__(self, tell: Tell) -> None:
        self._tell = tell
        self._waiting = [deque(name for name, _ in one) for one in LISTS]
        self._lock = threading.Lock()
        self._done = 0
        self._over = threading.Event()
        self._processes: list[subprocess.Popen[str]] = []

    def run(self, token: Token) -> None:
        threads = [threading.Thread(target=self._feed, args=(own,), name="chunk compiling", daemon=True) for own in self._waiting]
        wait_while(self._still)
        try:
            for thread in threads:
                thread.start()
            while any(thread.is_alive() for thread in threads):
                token.check()
                self._tell(self._done, len(PARTS))
                time.sleep(_PULSE)
        finally:
            self._over.set()
            wait_while(None)
            for process in self._processes:
                process.kill()
                process.communicate()
        if self._done == len(PARTS):
            _mark().touch()

    def _still(self) -> bool:
        """Whether who needs a kernel does well to wait; whoever answers the user does not."""
        if self._over.is_set() or threading.current_thread() is threading.main_thread():
            return False
        checkpoint()
        time.sleep(_PULSE)
        return True

    def _next(self, own: deque[str]) -> str | None:
        """The next part of a list; when it is empty, the last of another."""
        with self._lock:
            if own:
                return own.popleft()
            return next((other.pop() for other in self._waiting if other), None)

    def _feed(self, own: deque[str]) -> None:
        """Give one process part after part, until none is left or it ends."""
        try:
            process = subprocess.Popen([sys.executable, "-m", "tidal_lens", "--compile"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                                       stderr=subprocess.DEVNULL, text=True)
        except OSError:  # then they are compiled when they are needed
            return
        self._processes.append(process)
        while not self._over.is_set() and (name := self._next(own)) is not None:
            if not self._ask(process, name):
                return
            with self._lock:
                self._done += 1

    @staticmethod
    def _ask(process: subprocess.Popen[str], name: str) -> bool:
        assert process.stdin is not None
        assert process.stdout is not None
        try:
            process.stdin.write(f"{name}\n")
            process.stdin.flush()
        except OSError:
            return False
        return bool(process.stdout.readline())


def _mark() -> Path:
    return cache_folder() / "complete"
