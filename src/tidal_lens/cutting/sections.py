"""Where a plane cuts a surface: lines along it, in order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.level_lines import level_lines
from tidal_lens.cutting.surface import Surface
from tidal_lens.sampling.mesh import Stencil

Vec = NDArray[np.float64]
Ints = NDArray[np.int64]
_HAIR = 1e-9  # of the surface's size: no vertex stands on the plane itself


@dataclass(frozen=True, eq=False)
class Section:
    """Lines on a surface.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        One line after another.
    offsets : ndarray, shape (lines + 1,), int
        Where each begins.
    stencil : Stencil
        Interpolation of node values to the points.
    """

    points: Vec
    offsets: Ints
    stencil: Stencil

    @property
    def arc(self) -> Vec:
        """How far along its line each point is, shape (n,)."""
        steps = np.concatenate([[0.0], np.linalg.norm(np.diff(self.points, axis=0), axis=1)])
        steps[self.offsets[:-1][self.offsets[:-1] < len(steps)]] = 0.0
        total = np.cumsum(steps)
        return total - np.repeat(total[self.offsets[:-1]], np.diff(self.offsets)) if len(self.points) else total

    @property
    def line(self) -> Ints:
        """Number of the line of each point, shape (n,)."""
        return np.repeat(np.arange(len(self.offsets) - 1), np.diff(self.offsets))


def section_of(surface: Surface, normal: Vec, position: float) -> Section:
    """A surface cut by the plane normal · x = position; the longest line first, closed ones with their first point again at the end."""
    return level_section(surface, surface.points @ normal - position)


def level_section(surface: Surface, off: Vec) -> Section:
    """The same where values (n,) at the vertices, about as large as distances, are zero."""
    size = float(np.linalg.norm(np.ptp(surface.points, axis=0))) if len(surface.points) else 0.0
    off = np.where(np.abs(off) < _HAIR * size, _HAIR * size, off)
    # Vertices at one place are one, so that lines go on over the seams of blocks.
    low = surface.points.min(axis=0) if len(surface.points) else 0.0
    lattice = np.round((surface.points - low) / max(1e2 * _HAIR * size, 1e-300)).astype(np.int64)
    _, first, place = np.unique(lattice, axis=0, return_index=True, return_inverse=True)
    whole = Surface(surface.points, first[place.ravel()][surface.faces], surface.stencil)
    _, edges, _ = level_lines(whole, off, [0.0])
    if not len(edges):
        return Section(np.empty((0, 3)), np.zeros(1, np.int64), surface.stencil.take(np.empty(0, np.int64)))
    keys, ends = np.unique(edges, return_inverse=True)
    chains = _chains(ends.reshape(-1, 2), len(keys))
    a, b = keys // len(surface.points), keys % len(surface.points)
    share = -off[a] / (off[b] - off[a])
    places = surface.points[a] + share[:, None] * (surface.points[b] - surface.points[a])
    lengths = [float(np.linalg.norm(np.diff(places[c], axis=0), axis=1).sum()) for c in chains]
    chains = [chains[n] for n in np.argsort(-np.array(lengths), kind="stable")]
    order = np.concatenate(chains)
    offsets = np.concatenate([[0], np.cumsum([len(c) for c in chains])]).astype(np.int64)
    return Section(places[order], offsets, surface.stencil.mixed(a[order], b[order], share[order]))


def _chains(strokes: Ints, count: int) -> list[Ints]:
    """Strokes (k, 2) between numbered ends, as chains from end to end; closed ones end where they begin."""
    strokes = strokes[strokes[:, 0] != strokes[:, 1]]
    order = np.argsort(strokes.ravel(), kind="stable")
    first = np.searchsorted(strokes.ravel()[order], np.arange(count + 1))
    degree = np.diff(first)
    used = np.zeros(len(strokes), bool)
    out = []
    for start in np.concatenate([np.flatnonzero(degree == 1), np.flatnonzero(degree > 1)]):
        while True:
            chain, at = [int(start)], int(start)
            while True:
                here = [int(s) for s in order[first[at]:first[at + 1]] // 2 if not used[s]]
                if not here:
                    break
                used[here[0]] = True
                one, two = strokes[here[0]]
                at = int(two if one == at else one)
                chain.append(at)
            if len(chain) < 2:
                break
            out.append(np.array(chain, np.int64))
    return out
