"""What flows in and out through the boundaries."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.boundaries import owners
from tidal_lens.flow.case import Flow


@dataclass(frozen=True)
class Share:
    """One boundary: its name, kind and area, and what flows in and out through it a second."""

    name: str
    kind: str
    area: float
    inward: float
    outward: float

    @property
    def net(self) -> float:
        """What comes in and does not go out again through it."""
        return self.inward - self.outward


@dataclass(frozen=True)
class Balance:
    """All boundaries together; ``what`` is what is balanced, ``unit`` that of its flow in SI units."""

    what: str
    unit: str
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
            return f"No {self.what} flows through the boundaries."
        part = abs(self.net) / self.gross
        judged = (f"{self.what} is kept" if part < 1e-3 else "nearly kept; node values are averages" if part < 1e-2
                  else "not kept: is the flow converged, and is every boundary there?")
        return f"{self.what.capitalize()}: net {part:.2g} of what flows through, {judged}."


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
    """
    return flux_balance(flow, density[:, None] * velocity, "mass", "kg/s")


def energy_balance(flow: Flow, pressure: NDArray[np.float64], density: NDArray[np.float64], velocity: NDArray[np.float64],
                   gamma: float) -> Balance:
    """Energy carried through each boundary: the flow of total enthalpy of a perfect gas; heat conducted through walls is not in it.

    Parameters
    ----------
    flow : Flow
        The flow.
    pressure, density : ndarray, shape (nodes,)
        At the nodes.
    velocity : ndarray, shape (nodes, 3)
        At the nodes.
    gamma : float
        Ratio of specific heats.
    """
    carried = gamma / (gamma - 1.0) * pressure + 0.5 * density * (velocity * velocity).sum(axis=1)
    return flux_balance(flow, carried[:, None] * velocity, "energy", "W")


def flux_balance(flow: Flow, flux: NDArray[np.float64], what: str, unit: str) -> Balance:
    """What a flux carries through each boundary.

    Parameters
    ----------
    flow : Flow
        The flow.
    flux : ndarray, shape (nodes, 3)
        Of what is carried, at the nodes.
    what, unit : str
        What is carried, and the unit of its flow.

    Returns
    -------
    Balance
        One share for each named boundary that lies on the outside, and one for the rest of the outside.

    Notes
    -----
    The mean of the corners' flux times each face's area: second order on smooth meshes, but walls must be still at their nodes.
    Of a plane flow it is what passes a unit of depth, of an axisymmetric one what passes once round.
    """
    labels = flow.seams.labels(flow.n_points)
    faces, area = flow.outside.faces, flow.outside.areas
    weights = np.where((faces[:, 2] == faces[:, 3])[:, None], [1 / 3, 1 / 3, 1 / 6, 1 / 6], 0.25)
    through = np.zeros(len(faces))
    for c in range(4):
        node = faces[:, c]
        through += weights[:, c] * (flux[node] * area).sum(axis=1)
    owner = owners(faces, flow.boundaries, labels)
    names = [*((b.name, b.kind) for b in flow.boundaries), ("elsewhere", "open")]
    deep = np.full(len(faces), 1.0 / flow.depth if flow.depth > 0.0 else 1.0)
    if flow.turned is not None and flow.depth > 0.0:  # once round the axis
        deep = flow.turned.circumference((weights[:, :, None] * flow.points[faces]).sum(axis=1)) / flow.depth
    through = deep * through
    sizes = deep * np.linalg.norm(area, axis=1)
    shares = []
    for n, (name, kind) in enumerate(names):
        own = owner == n
        if own.any():
            shares.append(Share(name, kind, float(sizes[own].sum()), -float(np.minimum(through[own], 0.0).sum()),
                                float(np.maximum(through[own], 0.0).sum())))
    return Balance(what, unit, tuple(shares))


def balance_rows(balances: Sequence[Balance]) -> list[list[str | float]]:
    """A table of balances of the same flow: a head, a row a boundary, and the sums."""
    head: list[str | float] = ["boundary", "kind", "area"]
    for b in balances:
        head += [f"{b.what} in", f"{b.what} out", f"{b.what} net"]
    rows = [head]
    for n, share in enumerate(balances[0].shares if balances else ()):
        row: list[str | float] = [share.name, share.kind, share.area]
        for b in balances:
            own = b.shares[n]
            row += [own.inward, own.outward, own.net]
        rows.append(row)
    total: list[str | float] = ["all", "", sum(s.area for s in balances[0].shares) if balances else 0.0]
    for b in balances:
        total += [sum(s.inward for s in b.shares), sum(s.outward for s in b.shares), b.net]
    return [*rows, total]
