"""Undo and redo: the values that a study had."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

from tidal_lens.study.model import Study

_MOST = 500
_TOGETHER = 1.5  # seconds


@dataclass(frozen=True)
class _Step:
    study: Study
    what: str
    grip: str
    when: float


class History:
    """Values of a study, and which of them is the present one.

    Parameters
    ----------
    study : Study
        The first value.
    clock : callable, optional
        Seconds; for tests.
    """

    def __init__(self, study: Study, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._steps = [_Step(study, "", "", clock())]
        self._at = 0

    @property
    def study(self) -> Study:
        """The present value."""
        return self._steps[self._at].study

    @property
    def undo_what(self) -> str:
        """What undo would take back, or nothing."""
        return self._steps[self._at].what if self._at > 0 else ""

    @property
    def redo_what(self) -> str:
        """What redo would bring back, or nothing."""
        return self._steps[self._at + 1].what if self._at + 1 < len(self._steps) else ""

    def push(self, study: Study, what: str, grip: str = "", *, held: bool = False) -> bool:
        """Make a value the present one.

        Parameters
        ----------
        study : Study
            The new value.
        what : str
            The edit in words.
        grip : str
            What was held; edits with the same grip shortly after one another, such as those of a drag, are one step.
        held : bool
            Whether it still is: then they are one step however long each takes.

        Returns
        -------
        bool
            Whether anything changed.
        """
        if study == self.study:
            return False
        now = self._clock()
        present = self._steps[self._at]
        if grip and present.grip == grip and (held or now - present.when < _TOGETHER) and self._at == len(self._steps) - 1:
            self._steps[self._at] = replace(present, study=study, what=what, when=now)
            return True
        del self._steps[self._at + 1:]
        self._steps.append(_Step(study, what, grip, now))
        if len(self._steps) > _MOST:
            del self._steps[0]
        self._at = len(self._steps) - 1
        return True

    def close_grip(self) -> None:
        """Let go: the next edit is a step of its own."""
        self._steps[self._at] = replace(self._steps[self._at], grip="")

    def amend(self, study: Study) -> None:
        """Change the present value without a step (the camera)."""
        self._steps[self._at] = replace(self._steps[self._at], study=study)

    def peek(self, by: int) -> Study | None:
        """The value so many steps on, as it was left; None where there is none."""
        return self._steps[self._at + by].study if 0 <= self._at + by < len(self._steps) else None

    def undo(self) -> bool:
        """Go one step back; what is no edit stays: see :func:`carried`."""
        return self._go(-1)

    def redo(self) -> bool:
        """Go one step forward; what is no edit stays."""
        return self._go(1)

    def _go(self, by: int) -> bool:
        if not 0 <= self._at + by < len(self._steps):
            return False
        now = self.study
        self._at += by
        present = self._steps[self._at]
        self._steps[self._at] = replace(present, study=carried(now, present.study), grip="")
        return True


def carried(now: Study, other: Study) -> Study:
    """Another value of the study with what is no edit as it is now: the camera, ranges that were seen, ids that were given."""
    return other.model_copy(update={"camera": now.camera, "ranges": now.ranges, "counter": max(now.counter, other.counter)})
