"""What is found: one feature with its numbers, how clear it is, and how far it can be trusted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Vec = NDArray[np.float64]
Sort = Literal["vortex", "separation line", "attachment line", "node", "focus", "saddle", "shock", "sonic surface", "recirculation"]
LETTERS: dict[str, str] = {"vortex": "V", "separation line": "S", "attachment line": "A", "node": "P", "focus": "P", "saddle": "P",
                           "shock": "K", "sonic surface": "M", "recirculation": "R"}
OFF_WALLS = "Z"  # of critical points of the velocity
USUAL = 0.5  # the strictness that has every threshold where it was found to be right


@dataclass(frozen=True)
class Number:
    """One number of a finding: what it is called, its value, and its unit (``""`` without one)."""

    name: str
    value: float
    unit: str = ""


@dataclass(frozen=True)
class Reason:
    """Why a finding is trusted or not: from 0 (not) to 1 (fully), in words."""

    share: float
    words: str


@dataclass(frozen=True, eq=False)
class Finding:
    """One feature of a flow.

    Attributes
    ----------
    sort : str
        What it is.
    place : ndarray, shape (3,)
        Where it is strongest, or begins.
    reach : float
        Its own size: another that is no further off is the same [length].
    score : float
        The strictness, from 0 to 1, up to which it passes; 0.5 where a measure of it is just at its threshold.
    size : float
        Its extent [length].
    strength : float
        What the strongest comes first by.
    numbers : tuple of Number
        What is known of it, the most important first.
    curves : mapping
        Numbers along its line, shape (n,), by name and unit: ``circulation [m²/s]``.
    line : ndarray, shape (n, 3)
        Its line; empty where it is a place, a surface or a region.
    reasons : tuple of Reason
        What its trust rests on.
    told : tuple of str
        Sentences on it: why it ended, what it was taken for.
    letter : str
        What its sounding number begins with, where that is not its sort's.
    """

    sort: Sort
    place: Vec
    reach: float
    score: float
    size: float
    strength: float
    numbers: tuple[Number, ...]
    curves: Mapping[str, Vec] = field(default_factory=dict)
    line: Vec = field(default_factory=lambda: np.empty((0, 3)))
    reasons: tuple[Reason, ...] = ()
    told: tuple[str, ...] = ()
    letter: str = ""

    @property
    def trust(self) -> float:
        """From 0 to 1: the geometric mean of what it rests on, so that one poor reason weighs."""
        shares = [max(r.share, 0.01) for r in self.reasons]
        return float(np.exp(np.mean(np.log(shares)))) if shares else 1.0

    def number(self, name: str) -> float:
        """The number of that name; not a number where there is none."""
        return next((n.value for n in self.numbers if n.name == name), float("nan"))


def over(value: float, threshold: float) -> float:
    """How clearly a value passes a least one, from 0 to 1: 0.5 at it."""
    value = max(value, 0.0) if np.isfinite(value) else 0.0
    return value / (value + threshold) if value > 0.0 else 0.0


def under(value: float, threshold: float) -> float:
    """How clearly a value passes a greatest one, from 0 to 1: 0.5 at it."""
    value = max(value, 0.0) if np.isfinite(value) else np.inf
    return float(threshold / (value + threshold))


def between(value: float, poor: float, good: float) -> float:
    """From 0 at a poor value to 1 at a good one, whichever is the greater."""
    return float(np.clip((value - poor) / (good - poor), 0.0, 1.0)) if np.isfinite(value) else 0.0


def sounding_numbers(findings: Sequence[Finding]) -> tuple[str, ...]:
    """Names of findings in their order: V1, V2, S1 and so on."""
    counts: dict[str, int] = {}
    out = []
    for finding in findings:
        letter = finding.letter or LETTERS[finding.sort]
        counts[letter] = counts.get(letter, 0) + 1
        out.append(f"{letter}{counts[letter]}")
    return tuple(out)


def ranked(findings: Sequence[Finding]) -> list[int]:
    """Numbers of findings, those that pass the usual strictness first, each by strength: so names stay as strictness changes."""
    return sorted(range(len(findings)), key=lambda n: (findings[n].score < USUAL, -findings[n].strength, *findings[n].place.tolist()))
