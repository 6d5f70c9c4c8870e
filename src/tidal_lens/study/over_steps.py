"""A finding through the steps of a series: its numbers as curves over time."""

from __future__ import annotations

from collections.abc import Sequence

from tidal_lens.features.finding import Finding
from tidal_lens.features.following import matched
from tidal_lens.study.kinds.finds import FindShape
from tidal_lens.study.kinds.kind import See
from tidal_lens.study.tables import Cell, Table


def followed(shape: FindShape, finding: Finding, see: See, steps: int, start: int) -> dict[int, Finding]:
    """The same finding at other steps, by their numbers: from the present one forward, then back, as long as it is there.

    Parameters
    ----------
    shape : FindShape
        What found it.
    finding : Finding
        As it is at the step ``start``.
    see : See
        What the shape sees there; progress and cancel are its token's.
    steps, start : int
        How many steps there are, and which the present one is.
    """
    out = {start: finding}
    for way in (range(start + 1, steps), range(start - 1, -1, -1)):
        last = finding
        for step in way:
            see.token.check()
            there = shape.make(see.at_step(step)).findings
            at = matched([last], there)
            if not at:
                break
            last = out[step] = there[next(iter(at))]
            see.token.report(len(out) / steps)
    return out


def over_time(found: dict[int, Finding], times: Sequence[float], name: str) -> Table:
    """A row for each step at which it was found: step, time, place, and all numbers."""
    steps = sorted(found)
    heads = list(dict.fromkeys((n.name, n.unit) for s in steps for n in found[s].numbers))

    def cell(finding: Finding, head: str) -> Cell:
        own = [n.value for n in finding.numbers if n.name == head]
        return own[0] if own else ""

    rows = []
    for s in steps:
        place = (float(c) for c in found[s].place)
        rows.append((float(s + 1), float(times[s]), *place, *(cell(found[s], h) for h, _ in heads), found[s].trust))
    return Table(name, ("step", "time", "x", "y", "z", *(h for h, _ in heads), "trust"), tuple(rows))
