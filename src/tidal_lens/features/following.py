"""Findings from one step, mesh or strictness to another: which is the same."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from tidal_lens.features.finding import LETTERS, Finding, sounding_numbers


def gap_between(one: Finding, two: Finding) -> float:
    """How far apart two findings are, infinite for different sorts; of lines the median distance of the shorter from the longer."""
    if one.sort != two.sort or one.letter != two.letter:
        return float("inf")
    if len(one.line) > 2 and len(two.line) > 2:
        short, long = (one.line, two.line) if one.size <= two.size else (two.line, one.line)
        off = np.linalg.norm(short[::max(1, len(short) // 12), None] - long[None, ::max(1, len(long) // 60)], axis=2).min(axis=1)
        return float(np.median(off))
    return float(np.linalg.norm(one.place - two.place))


def matched(old: Sequence[Finding], new: Sequence[Finding], reach: float = 2.0) -> dict[int, int]:
    """For each of some new findings that is one of some old ones, which: the nearest pairs first, no further apart than their reach."""
    pairs = []
    for n, two in enumerate(new):
        for k, one in enumerate(old):
            gap = gap_between(one, two)
            if gap <= reach * max(one.reach, two.reach):
                pairs.append((gap, k, n))
    out: dict[int, int] = {}
    taken: set[int] = set()
    for _, k, n in sorted(pairs):
        if n not in out and k not in taken:
            out[n] = k
            taken.add(k)
    return out


def names_kept(old: Sequence[Finding], names: Sequence[str], new: Sequence[Finding]) -> tuple[str, ...]:
    """Names of new findings: those that were there keep theirs, others get numbers that nobody has."""
    same = matched(old, new)
    used = {names[k] for k in same.values()}
    out = []
    for n, (finding, fresh) in enumerate(zip(new, sounding_numbers(new), strict=True)):
        name = names[same[n]] if n in same else fresh
        if n not in same and name in used:
            letter = finding.letter or LETTERS[finding.sort]
            count = 1
            while f"{letter}{count}" in used:
                count += 1
            name = f"{letter}{count}"
        used.add(name)
        out.append(name)
    return tuple(out)
