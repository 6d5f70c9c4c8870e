"""What flows in and out through the boundaries."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.faces import outer_faces, unshared_mask
from tidal_lens.flow.grid import Grid, StructuredGrid


@dataclass(frozen=True)
class Share:
    """One boundary: its name, its area, and the mass that flows in and out through it a second."""

    name: str
    area: float
    inward: float
    outward: float

    @property
    def net(self) -> float:
        """What comes in and does not go out again through it."""
        return self.inward - self.outward


@dataclass(frozen=True)
class Balance:
    """All boundaries together."""

    shares: tuple[Share, ...]

    @property
    def net(self) -> float:
        """What comes in and goes out nowhere; 0 in steady flow."""
        return sum(s.net for s in self.shares)

    @property
    def gross(self) -> float:
        """What comes in, or goes out if that is more."""
        return max(sum(s.inward for s in self.shares), sum(s.outward for s in self.shares))

    @property
    def verdict(self) -> str:
        """In words. Net flow should be orders of magnitude below what comes in: common practice, no source."""
        if self.gross <= 0.0:
            return "Nothing flows through the boundaries."
        part = abs(self.net) / self.gross
        judged = ("mass is kept" if part < 1e-3 else "nearly kept; node values are averages" if part < 1e-2
                  else "not kept: is the flow converged, and is every boundary there?")
        return f"Net {part:.2g} of what flows through: {judged}."


def mass_balance(flow: Flow, density: NDArray[np.float64], velocity: NDArray[np.float64]) -> Balance:
    """Mass through each boundary.

    Parameters
    ----------
    flow : Flow
        The flow.
    density : ndarray, shape (nodes,)
        Density at the nodes.
    velocity : ndarray, shape (nodes, 3)
        Velocity at the nodes.

    Returns
    -------
    Balance
        One share for each named boundary that lies on the outside, and one for the rest of the outside.

    Notes
    -----
    The mean of the corners' mass flux times each face's area: second order on smooth meshes, but walls must be still at their nodes.
    """
    labels = flow.seams.labels(flow.n_points)
    parts = [(b.first_point, *_oriented(b.grid, flow.points[b.points])) for b in flow.blocks]
    faces = np.concatenate([first + own for first, own, _ in parts])
    area = np.concatenate([vectors for _, _, vectors in parts])
    outside = unshared_mask(faces, labels)
    faces, area = faces[outside], area[outside]
    weights = np.where((faces[:, 2] == faces[:, 3])[:, None], [1 / 3, 1 / 3, 1 / 6, 1 / 6], 0.25)
    through = np.zeros(len(faces))
    for c in range(4):
        node = faces[:, c]
        through += weights[:, c] * density[node] * (velocity[node] * area).sum(axis=1)
    owner = _owners(flow, labels, faces)
    names = [*(b.name for b in flow.boundaries), "elsewhere"]
    shares = []
    for n, name in enumerate(names):
        own = owner == n
        if own.any():
            shares.append(Share(name, float(np.linalg.norm(area[own], axis=1).sum()), float(-np.minimum(through[own], 0.0).sum()),
                                float(np.maximum(through[own], 0.0).sum())))
    return Balance(tuple(shares))


def _oriented(grid: Grid, points: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Outer faces of a block and their area vectors, outward."""
    faces = outer_faces(grid)
    corners = points[faces]
    area = 0.5 * np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1])
    if isinstance(grid, StructuredGrid):
        i, j, k = (d - 1 for d in grid.dims)
        counts = (j * k, j * k, i * k, i * k, i * j, i * j)
        area *= np.repeat([-1.0, 1.0, 1.0, -1.0, -1.0, 1.0], counts)[:, None]
    middle = corners.mean(axis=1) - points[0]
    return faces, area if (middle * area).sum() >= 0.0 else -area


def _owners(flow: Flow, labels: NDArray[np.int64], faces: NDArray[np.int64]) -> NDArray[np.int64]:
    """Boundary of each face, one more than there are where it has none."""
    keys = [np.sort(labels[faces], axis=1)]
    whose = [np.full(len(faces), -1)]
    for n, boundary in enumerate(flow.boundaries):
        if boundary.nodes is not None and len(boundary.faces):
            keys.append(np.sort(labels[boundary.nodes[boundary.faces]], axis=1))
            whose.append(np.full(len(boundary.faces), n))
    _, group = np.unique(np.concatenate(keys), axis=0, return_inverse=True)
    found = np.full(int(group.max(initial=0)) + 1, len(flow.boundaries))
    tags = np.concatenate(whose)
    found[group[tags >= 0]] = tags[tags >= 0]
    return np.asarray(found[group[: len(faces)]])
