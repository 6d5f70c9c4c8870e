"""What flows in and out through the boundaries."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.boundaries import owners
from tidal_lens.flow.case import Flow


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
    faces, area = flow.outside.faces, flow.outside.areas
    weights = np.where((faces[:, 2] == faces[:, 3])[:, None], [1 / 3, 1 / 3, 1 / 6, 1 / 6], 0.25)
    through = np.zeros(len(faces))
    for c in range(4):
        node = faces[:, c]
        through += weights[:, c] * density[node] * (velocity[node] * area).sum(axis=1)
    owner = owners(faces, flow.boundaries, labels)
    names = [*(b.name for b in flow.boundaries), "elsewhere"]
    shares = []
    for n, name in enumerate(names):
        own = owner == n
        if own.any():
            shares.append(Share(name, float(np.linalg.norm(area[own], axis=1).sum()), float(-np.minimum(through[own], 0.0).sum()),
                                float(np.maximum(through[own], 0.0).sum())))
    return Balance(tuple(shares))
