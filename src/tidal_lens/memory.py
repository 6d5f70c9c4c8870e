"""One limit for the memory that is kept: steps, quantities, shapes, colours and pictures, the least recently used given up first.

What is kept here can always be worked out again. What is on the table now is held by whoever shows it, and counted here too.
"""

from __future__ import annotations

import contextlib
import ctypes
import itertools
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable, MutableMapping
from contextlib import AbstractContextManager
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import psutil

_ARENA_MAX = -8  # of malloc.h: M_ARENA_MAX
_PART = 3  # of the machine's memory, by default
_TRIMMED = 64_000_000  # bytes given up after which the allocator is asked to give them back
_PAUSE = 5.0  # seconds between two times that the allocator is asked in passing
_said: int | None = None
_asked = 0.0


def limit() -> int:
    """Bytes that may be kept: as said, else a third of the machine's memory."""
    return _said if _said is not None else _total() // _PART


@lru_cache(maxsize=1)
def _total() -> int:
    return int(psutil.virtual_memory().total)


def said_limit() -> int | None:
    """The limit if somebody chose one."""
    return _said


def say_limit(nbytes: int | None) -> None:
    """Choose the limit; None for the usual one."""
    global _said  # noqa: PLW0603  (one limit for the process)
    _said = nbytes
    KEEPER.trim()


@dataclass(eq=False)
class _Entry:
    nbytes: int
    drop: Callable[[], None]
    what: str
    fixed: bool


_groups = itertools.count(1)


def new_group() -> int:
    """A number under which somebody keeps things: the first part of their keys."""
    return next(_groups)


def popping(kept: MutableMapping[Any, Any], key: Hashable, lock: AbstractContextManager[Any]) -> Callable[[], None]:
    """How to drop one of the things that somebody keeps; it holds what is kept, not who keeps it."""
    def drop() -> None:
        with lock:
            kept.pop(key, None)

    return drop


class Keeper:
    """Counts what is kept by all, and asks that the least recently used be given up when it is too much.

    Entries are kept by those who made them; here stand their sizes and how to drop them.
    """

    def __init__(self) -> None:
        self._entries: OrderedDict[Hashable, _Entry] = OrderedDict()
        self._lock = threading.RLock()
        self._total = 0
        self._given_up = 0

    def note(self, key: Hashable, nbytes: int, drop: Callable[[], None], what: str, *,
             fixed: bool = False) -> None:
        """Something is kept from now on.

        Parameters
        ----------
        key : hashable
            Of it alone.
        nbytes : int
            How much it takes.
        drop : callable
            Gives it up; called without any lock of the keeper's held.
        what : str
            Kind, for the status line: ``steps``, ``quantities``, ``shapes``, ``colours``, ``pictures``.
        fixed : bool
            Whether it is in use and only counted.
        """
        with self._lock:
            old = self._entries.pop(key, None)
            self._total += nbytes - (old.nbytes if old is not None else 0)
            self._entries[key] = _Entry(nbytes, drop, what, fixed)
        self.trim(key)

    def use(self, key: Hashable) -> None:
        """It was used just now."""
        with self._lock:
            if key in self._entries:
                self._entries.move_to_end(key)

    def forget(self, key: Hashable) -> None:
        """It is no longer kept."""
        with self._lock:
            entry = self._entries.pop(key, None)
            self._total -= entry.nbytes if entry is not None else 0

    def trim(self, newest: Hashable = None) -> None:
        """Give up the least recently used until the rest is within the limit; the newest stays, whatever its size."""
        gone: list[_Entry] = []
        most = limit()
        with self._lock:
            while self._total > most:
                key = next((k for k, e in self._entries.items() if k != newest and not e.fixed), None)
                if key is None:
                    break
                entry = self._entries.pop(key)
                self._total -= entry.nbytes
                gone.append(entry)
            self._given_up += sum(e.nbytes for e in gone)
            give_back = self._given_up > _TRIMMED
            if give_back:
                self._given_up = 0
        for entry in gone:
            entry.drop()
        if give_back:
            give_memory_back()

    def forget_group(self, group: Hashable) -> None:
        """Nothing whose key is a tuple that begins with this is kept any more."""
        with self._lock:
            for key in [k for k in self._entries if isinstance(k, tuple) and k[0] == group]:
                self.forget(key)

    @property
    def total(self) -> int:
        """Bytes that are kept."""
        return self._total

    def by_kind(self) -> dict[str, int]:
        """Bytes of each kind."""
        out: dict[str, int] = {}
        with self._lock:
            for entry in self._entries.values():
                out[entry.what] = out.get(entry.what, 0) + entry.nbytes
        return out


KEEPER = Keeper()


def share_arenas() -> None:
    """Let threads share two pools of the C library: with one each, what is free in one is not used by the others, and all of them grow."""
    with contextlib.suppress(OSError, AttributeError):  # another C library
        ctypes.CDLL(None).mallopt(_ARENA_MAX, 2)


def give_memory_back() -> None:
    """Ask the C library to hand freed memory back to the system: it keeps it otherwise, and it looks as if it were still in use."""
    try:
        trim: Any = ctypes.CDLL(None).malloc_trim
    except (OSError, AttributeError):  # another C library
        return
    trim(0)


def tidy_memory() -> None:
    """The same in passing, when there is nothing else to do; not more often than every few seconds."""
    global _asked  # noqa: PLW0603  (one allocator for the process)
    now = time.monotonic()
    if now - _asked > _PAUSE:
        _asked = now
        give_memory_back()
