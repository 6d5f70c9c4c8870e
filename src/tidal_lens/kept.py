"""What has been worked out, kept by what it rests on: least recently used goes first, within the one limit of memory."""

from __future__ import annotations

import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

from tidal_lens.memory import KEEPER, new_group, popping
from tidal_lens.work import at_gate

_K = TypeVar("_K", bound=Hashable)
_V = TypeVar("_V")


class Kept(Generic[_K, _V]):
    """Answers by key. Several threads may ask: of one key, one works it out and the others wait.

    Parameters
    ----------
    what : str
        What they are, for the status line: see :meth:`tidal_lens.memory.Keeper.note`.
    size : callable
        Bytes of an answer.
    """

    def __init__(self, what: str, size: Callable[[_V], int]) -> None:
        self._what, self._size = what, size
        self._group = new_group()
        self._answers: OrderedDict[_K, _V] = OrderedDict()
        self._gates: dict[Hashable, tuple[threading.Lock, int]] = {}
        self._lock = threading.Lock()
        weakref.finalize(self, KEEPER.forget_group, self._group)

    def ready(self, key: _K) -> _V | None:
        """The answer if it is at hand; it was used just now."""
        with self._lock:
            found = self._answers.get(key)
        if found is not None:
            KEEPER.use((self._group, key))
        return found

    def obtain(self, key: _K, make: Callable[[], _V], gate: Hashable = None) -> _V:
        """The answer, worked out if need be.

        Parameters
        ----------
        key : hashable
            All that it rests on.
        make : callable
            Works it out. It may ask for other answers, but not, by any way, for its own.
        gate : hashable, optional
            Those of one gate are worked out one after another: each may bring the others along.

        Raises
        ------
        CancelledError
            The work under way was asked to stop, in ``make`` or while another made it.
        """
        found = self.ready(key)
        if found is not None:
            return found
        name = key if gate is None else gate
        with self._lock:
            lock, waiting = self._gates.get(name, (threading.Lock(), 0))
            self._gates[name] = lock, waiting + 1
        try:
            with at_gate(lock):
                found = self.ready(key)
                if found is None:
                    found = make()
                    self.put(key, found)
        finally:
            with self._lock:
                lock, waiting = self._gates.pop(name)
                if waiting > 1:
                    self._gates[name] = lock, waiting - 1
        return found

    def put(self, key: _K, answer: _V) -> None:
        """Keep an answer that came along."""
        with self._lock:
            self._answers[key] = answer
        KEEPER.note((self._group, key), self._size(answer), popping(self._answers, key, self._lock), self._what)

    def items(self) -> list[tuple[_K, _V]]:
        """All that is kept now."""
        with self._lock:
            return list(self._answers.items())

    def forget(self, unwanted: Callable[[_K], bool]) -> None:
        """Give up what nobody will ask for again."""
        with self._lock:
            gone = [key for key in self._answers if unwanted(key)]
            for key in gone:
                del self._answers[key]
        for key in gone:
            KEEPER.forget((self._group, key))
