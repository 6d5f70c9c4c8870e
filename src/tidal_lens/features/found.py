"""What finders give: findings in their order, and what is drawn of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.surface import OwnSurface, Surface
from tidal_lens.distinct import distinct
from tidal_lens.features.finding import Finding
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.tracing.streamlines import Lines

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class FoundLines(Lines):
    """Lines of findings: the seed of each is the number of its finding."""

    names: tuple[str, ...] = ()  # of all findings

    def describe(self, line: int) -> str:
        """Which finding it is."""
        return f"{self.names[int(self.seeds[line])]}: click to choose it"


@dataclass(frozen=True, eq=False)
class FoundSurface(OwnSurface):
    """Surfaces of findings.

    Attributes
    ----------
    owners : ndarray, shape (faces,), int
        Number of the finding of each face.
    """

    owners: Ints = field(default_factory=lambda: np.empty(0, np.int64))


def lines_of(findings: Sequence[Finding], names: Sequence[str], stencil: Stencil) -> FoundLines:
    """The lines of findings that have one; ``stencil`` is at all their points, one after another."""
    having = [n for n, f in enumerate(findings) if len(f.line)]
    sizes = np.array([len(findings[n].line) for n in having], np.int64)
    points = np.concatenate([np.empty((0, 3)), *(findings[n].line for n in having)])
    curves = sorted({name for n in having for name in findings[n].curves})
    more = {name: np.concatenate([findings[n].curves.get(name, np.full(len(findings[n].line), np.nan)) for n in having])
            for name in curves}
    along = [np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(findings[n].line, axis=0), axis=1))]) for n in having]
    offsets, ends = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64), np.zeros((len(having), 2), np.int64)
    return FoundLines(points, offsets, np.concatenate([np.empty(0), *along]), lambda: stencil, np.array(having, np.int64), ends,
                      np.zeros(len(having)), len(having), more, names=tuple(names))


def surface_of(sheets: Sequence[tuple[int, Surface, Mapping[str, Vec]]]) -> FoundSurface:
    """One surface of those of several findings, each with the number of its finding and values of its own."""
    sheets = [s for s in sheets if len(s[1].faces)]
    if not sheets:
        return FoundSurface(np.empty((0, 3)), np.empty((0, 4), np.int64), Stencil(np.empty((0, 1), np.int64), np.empty((0, 1))))
    starts = np.cumsum([0] + [len(s.points) for _, s, _ in sheets])
    stencil = sheets[0][1].stencil
    for _, sheet, _ in sheets[1:]:
        stencil = stencil.extended(sheet.stencil)
    names = sorted({name for *_, own in sheets for name in own})
    own = {name: np.concatenate([o.get(name, np.full(len(s.points), np.nan)) for _, s, o in sheets]) for name in names}
    return FoundSurface(np.concatenate([s.points for _, s, _ in sheets]),
                        np.concatenate([s.faces + start for (_, s, _), start in zip(sheets, starts, strict=False)]), stencil,
                        own, np.concatenate([np.full(len(s.faces), n, np.int64) for n, s, _ in sheets]))


def lines_kept(lines: FoundLines, shown: NDArray[np.bool_]) -> FoundLines:
    """Lines of some of the findings only."""
    chosen = np.flatnonzero(shown[lines.seeds])
    sizes = np.diff(lines.offsets)[chosen]
    rows = np.concatenate([np.empty(0, np.int64), *(np.arange(lines.offsets[n], lines.offsets[n + 1]) for n in chosen)])
    offsets = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    return replace(lines, points=lines.points[rows], offsets=offsets, time=lines.time[rows], places=lambda: lines.stencil.take(rows),
                   seeds=lines.seeds[chosen], ends=lines.ends[chosen], error=lines.error[chosen],
                   more={name: values[rows] for name, values in lines.more.items()})


def surface_kept(surface: FoundSurface, shown: NDArray[np.bool_]) -> FoundSurface:
    """The surface of some of the findings only."""
    on = shown[surface.owners] if len(surface.owners) else np.zeros(0, bool)
    faces = surface.faces[on]
    used = distinct(faces)
    number = np.full(len(surface.points), -1, np.int64)
    number[used] = np.arange(len(used))
    return FoundSurface(surface.points[used], number[faces], surface.stencil.take(used),
                        {name: values[used] for name, values in surface.own.items()}, surface.owners[on])
