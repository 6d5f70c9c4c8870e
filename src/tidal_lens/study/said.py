"""What the user says of findings, and which of them are shown: by a strictness, a least size, and that."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.features.finding import USUAL, Finding, sounding_numbers
from tidal_lens.study.tables import Table
from tidal_lens.study.value import Name, Value, Vector

Verdict = Literal["", "keep", "dismiss"]


class Sieve(Value):
    """Which findings of a card are shown: those that pass a strictness and are no smaller than a least extent [length]."""

    strictness: Annotated[float, Field(ge=0.0, le=1.0)] = USUAL
    least: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0


class Said(Value):
    """What the user said of a finding, remembered by sort and place: so it holds for other steps, meshes and strictnesses.

    Attributes
    ----------
    sort : str
        Of the finding.
    place, reach
        Where it was, and its own size.
    verdict : str
        ``keep`` whatever the strictness, ``dismiss``, or nothing.
    name : str
        In the place of its sounding number.
    """

    sort: Name
    place: Vector
    reach: Annotated[float, Field(ge=0.0, le=1e12)]
    verdict: Verdict = ""
    name: Annotated[str, Field(max_length=60)] = ""


class Sifting(Value):
    """All that decides which findings are shown."""

    sieve: Sieve
    said: tuple[Said, ...] = ()


@dataclass(frozen=True, eq=False)
class Listed:
    """A finding as it is listed.

    Attributes
    ----------
    number : int
        Its place among all candidates.
    finding : Finding
        The finding.
    name : str
        Its sounding number, or what the user calls it.
    verdict : str
        What was said of it.
    shown : bool
        Whether it is drawn.
    """

    number: int
    finding: Finding
    name: str
    verdict: Verdict
    shown: bool


def _nearest(findings: Sequence[Finding], said: Sequence[Said]) -> dict[int, Said]:
    """What was said of each finding: each saying counts for the nearest of its sort, no further off than their size."""
    out: dict[int, Said] = {}
    far: dict[int, float] = {}
    for one in said:
        own = [n for n, f in enumerate(findings) if f.sort == one.sort]
        if not own:
            continue
        gaps = [float(np.linalg.norm(_to(findings[n], one.place))) for n in own]
        k = int(np.argmin(gaps))
        n, gap = own[k], gaps[k]
        if gap <= max(one.reach, findings[n].reach) and gap < far.get(n, np.inf):
            out[n], far[n] = one, gap
    return out


def _to(finding: Finding, place: Vector) -> NDArray[np.float64]:
    """The way from a place to the nearest of a finding's."""
    there = np.vstack([finding.place, finding.line]) - np.array(place)
    return np.asarray(there[int((there**2).sum(axis=1).argmin())])


def listing(findings: Sequence[Finding], sifting: Sifting, names: Sequence[str] = ()) -> tuple[Listed, ...]:
    """All candidates as they are listed, those that are shown and others, in the order of their numbers; ``names`` are theirs if given."""
    said = _nearest(findings, sifting.said)
    sieve = sifting.sieve
    out = []
    for n, (finding, name) in enumerate(zip(findings, names or sounding_numbers(findings), strict=True)):
        own = said.get(n)
        verdict: Verdict = own.verdict if own is not None else ""
        passes = finding.score >= sieve.strictness and (finding.size >= sieve.least or finding.size == 0.0)
        out.append(Listed(n, finding, own.name if own is not None and own.name else name, verdict,
                          verdict == "keep" or (passes and verdict != "dismiss")))
    return tuple(out)


def saying(said: Sequence[Said], finding: Finding, findings: Sequence[Finding], *, verdict: Verdict | None = None,
           name: str | None = None) -> tuple[Said, ...]:
    """What was said, with something more said of one of some findings; what says nothing any more is left out."""
    number = next(n for n, f in enumerate(findings) if f is finding)
    old = _nearest(findings, said).get(number)
    place = (float(finding.place[0]), float(finding.place[1]), float(finding.place[2]))
    new = Said(sort=finding.sort, place=place, reach=finding.reach, verdict=(old.verdict if old else "") if verdict is None else verdict,
               name=(old.name if old else "") if name is None else name[:60])
    rest = tuple(s for s in said if s is not old)
    return (*rest, new) if new.verdict or new.name else rest


def findings_table(listed: Sequence[Listed], title: str) -> Table:
    """Those that are shown, a row each: name, sort, numbers, trust."""
    rows = [x for x in listed if x.shown]
    heads = list(dict.fromkeys((n.name, n.unit) for x in rows for n in x.finding.numbers))

    def cell(x: Listed, name: str) -> float | str:
        found = [n.value for n in x.finding.numbers if n.name == name]
        return found[0] if found else ""

    return Table(title, ("name", "sort", "x", "y", "z", *(f"{name} [{unit}]" if unit else name for name, unit in heads), "trust", "clear"),
                 tuple((x.name, x.finding.sort, *(float(c) for c in x.finding.place), *(cell(x, name) for name, _ in heads),
                        round(x.finding.trust, 3), round(x.finding.score, 3)) for x in rows))
