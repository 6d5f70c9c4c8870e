"""Rows of the table, and tasks timed in turn."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np


@dataclass
class Row:
    """One line of the table."""

    what: str
    state: str
    ours: float
    theirs: float
    ratio: float
    our_error: float
    their_error: float
    wanted: str


@dataclass
class Timed:
    """Times of a task in each turn, and its last answer."""

    times: list[float]
    answer: Any

    @property
    def best(self) -> float:
        """Least time."""
        return min(self.times)

    def ratio(self, other: Timed) -> float:
        """How many times longer the other takes: the median over the turns."""
        return float(np.median(np.array(other.times) / np.array(self.times)))


def in_turn(tasks: dict[str, Callable[[], Any]], rounds: int) -> dict[str, Timed]:
    """Time tasks in turn."""
    found = {name: Timed([], None) for name in tasks}
    for _ in range(rounds):
        for name, task in tasks.items():
            found[name].answer = None  # both sides start with their last answer's memory free again
            began = time.perf_counter()
            answer = task()
            found[name].times.append(time.perf_counter() - began)
            found[name].answer = answer
    return found
