"""Light through a flow: bent by the gradient of its refractive index, and late by the index itself.

References
----------
.. [1] Settles 2001, Schlieren and Shadowgraph Techniques: deflection, knife edge, shadowgraph by the Laplacian, true shadow by deflection.
.. [2] Gladstone & Dale 1863, Phil. Trans. R. Soc. 153: n − 1 = K ρ. K of air in visible light is 2.26e-4 m³/kg (common practice, no
   source).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.optics.projection import Aim, along_sight, kept
from tidal_lens.optics.quick import Held, quick_sum
from tidal_lens.quantities.gradients import flow_gradient
from tidal_lens.work import Token

Vec = NDArray[np.float64]
AIR = 2.26e-4  # [m³/kg]


@dataclass(frozen=True)
class Bench:
    """How the light is looked at.

    Attributes
    ----------
    gladstone : float
        K of Gladstone and Dale [m³/kg].
    knife : float
        Angle of the direction across the knife edge, from the right anticlockwise [degrees].
    strength : float
        Deflection that the knife edge shows as full light or dark [rad]; by the data where it is 0.
    distance : float
        From the flow to the screen, for true shadows [length].
    wavelength : float
        Of the light [length].
    around : float
        Density of the still air that the other beam of an interferometer goes through.
    """

    gladstone: float = AIR
    knife: float = 0.0
    strength: float = 0.0
    distance: float = 1.0
    wavelength: float = 633e-9
    around: float = 0.0


def deflections(flow: Flow, density: NDArray[Any], aim: Aim, walls: Vec, bench: Bench, token: Token | None = None, *,
                quick: bool = False) -> Vec:
    """Angle by which each ray is bent to the right and upwards [rad], shape (rows, columns, 2)."""
    if quick:
        slope = _slope(flow, density, token)
        return bench.gladstone * quick_sum(flow, Held.of(flow, slope), np.stack([aim.right, aim.up], axis=1), aim, walls)
    return bench.gladstone * np.dstack([_bent(flow, density, axis, aim, walls, token) for axis in (0, 1)])


def across_knife(flow: Flow, density: NDArray[Any], aim: Aim, walls: Vec, bench: Bench, token: Token | None = None, *,
                 quick: bool = False) -> Vec:
    """The part of the deflections across the knife edge [rad], shape (rows, columns)."""
    angle = np.radians(bench.knife)
    share = np.round([np.cos(angle), np.sin(angle)], 12)
    if quick:
        across = np.stack([aim.right, aim.up], axis=1) @ share[:, None]
        return bench.gladstone * quick_sum(flow, Held.of(flow, _slope(flow, density, token)), across, aim, walls)[:, :, 0]
    # What an upright edge does not show is not asked for.
    parts = [share[axis] * _bent(flow, density, axis, aim, walls, token) for axis in (0, 1) if share[axis]]
    return np.asarray(bench.gladstone * sum(parts))


def _bent(flow: Flow, density: NDArray[Any], axis: int, aim: Aim, walls: Vec, token: Token | None) -> Vec:
    """Sum of the density's slope to the right, or upwards, along each ray."""
    return kept(flow, density, ("bent", axis), aim, walls, lambda: along_sight(
        flow, (_slope(flow, density, token) @ (aim.up if axis else aim.right))[:, None], aim, walls, token)[:, :, 0])


def _slope(flow: Flow, density: NDArray[Any], token: Token | None) -> NDArray[Any]:
    """Gradient (n, 3) of a density, kept with the flow until that of another is asked for."""
    ready: tuple[NDArray[Any], NDArray[Any]] | None = flow.__dict__.get("_slope")
    if ready is None or ready[0] is not density:
        ready = density, flow_gradient(flow, density, token)[:, 0]
        flow.__dict__["_slope"] = ready
    return ready[1]


def shadow(flow: Flow, laplacian: NDArray[Any], aim: Aim, walls: Vec, bench: Bench, token: Token | None = None, *,
           quick: bool = False) -> Vec:
    """−∫ ∇²n along each ray, by which a screen gets brighter with its distance [1/length]; shape (rows, columns)."""
    if quick:
        held = Held.of(flow, laplacian, "sum", lambda: laplacian[:, None])
        return -bench.gladstone * quick_sum(flow, held, np.eye(1), aim, walls)[:, :, 0]
    return -bench.gladstone * kept(flow, laplacian, "sum", aim, walls, lambda: along_sight(
        flow, laplacian[:, None], aim, walls, token))[:, :, 0]


def true_shadow(bent: Vec, aim: Aim, walls: Vec, bench: Bench) -> Vec:
    """Light on a screen at a distance by that without a flow: rays go where they are bent to. Shape (rows, columns).

    Parameters
    ----------
    bent : ndarray, shape (rows, columns, 2)
        Of :func:`deflections`.
    """
    rows, columns = bent.shape[:2]
    j, i = np.meshgrid(np.arange(rows), np.arange(columns), indexing="ij")
    shift = bench.distance / aim.pixel
    x, y = i + shift * bent[:, :, 0], j + shift * bent[:, :, 1]
    light = np.zeros(rows * columns)
    c, r = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    passes = ~np.isfinite(walls)
    for down in (0, 1):
        for aside in (0, 1):
            weight = np.where(aside, x - c, 1.0 - (x - c)) * np.where(down, y - r, 1.0 - (y - r))
            good = passes & (c + aside >= 0) & (c + aside < columns) & (r + down >= 0) & (r + down < rows)
            light += np.bincount(((r + down) * columns + c + aside)[good], weight[good], rows * columns)
    return light.reshape(rows, columns)


def path(flow: Flow, density: NDArray[Any], aim: Aim, walls: Vec, bench: Bench, token: Token | None = None, *,
         quick: bool = False) -> Vec:
    """∫ (n − n∞) along each ray [length], shape (rows, columns)."""
    def late() -> NDArray[Any]:
        return np.asarray(density, np.float64)[:, None] - bench.around

    if quick:
        return bench.gladstone * quick_sum(flow, Held.of(flow, density, bench.around, late), np.eye(1), aim, walls)[:, :, 0]
    return bench.gladstone * kept(flow, density, ("late", bench.around), aim, walls, lambda: along_sight(
        flow, late(), aim, walls, token))[:, :, 0]


def knife_edge(along: Vec, bench: Bench, *, dark: bool = False) -> Vec:
    """Light that a knife edge leaves, 0.5 where nothing is bent; with a dark field what is bent at all, either way.

    Parameters
    ----------
    along : ndarray, shape (rows, columns)
        Of :func:`across_knife`.
    """
    full = bench.strength if bench.strength > 0.0 else float(np.quantile(np.abs(along), 0.995)) or 1.0
    return np.asarray(np.clip(np.abs(along) / full if dark else 0.5 + 0.5 * along / full, 0.0, 1.0))


def fringes(late: Vec, bench: Bench) -> Vec:
    """Light of two beams laid over one another, of which one went through the flow: 1 where they are alike, 0 half a wavelength apart."""
    return np.asarray(0.5 + 0.5 * np.cos(2.0 * np.pi * late / bench.wavelength))
