"""Means round the axis of a turning machine, on the meridional plane."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.annulus import Annulus, unwrapped
from tidal_lens.flow.case import Flow
from tidal_lens.sampling.mesh import Stencil, mesh_of
from tidal_lens.work import Token

Vec = NDArray[np.float64]
_SOME = 100_000  # nodes by which it is seen what angles the flow takes up
_WHOLE = 0.05  # of the resultant of all directions: less, and it goes all round
_ROOM = 0.03  # of the angles taken up: added at both ends
_STATIONS = 120  # along, at which that is seen
_HAIR = 1e-3  # cell widths off the flow: blades are not filled
_AT_A_TIME = 150_000  # places
_EDGE = 1e-3  # of the span: hub and casing themselves may lie a hair outside of cells
_NO_FLOW = 0.02  # of what is carried either way: where less is left, a mean by it says nothing


@dataclass(frozen=True, eq=False)
class RoundAxis:
    """Means over the angle on a lattice of shares along and across the annulus.

    Attributes
    ----------
    along, across : ndarray, shape (n,) and (m,)
        Shares.
    places : ndarray, shape (n, m, 2)
        Along the axis and away from it.
    mean : ndarray, shape (n, m)
        Not a number where nothing of the flow is met.
    open_angle : ndarray, shape (n, m)
        Angle that the flow takes up [rad].
    flux : ndarray, shape (n, m)
        Mass through the surface that the line from hub to casing makes round the axis, by area, times the angle; nothing if that is not
        asked for.
    """

    along: Vec
    across: Vec
    places: Vec
    mean: Vec
    open_angle: Vec
    flux: Vec

    @property
    def mass(self) -> Vec:
        """Mass through the part of each place across, each second, shape (n, m)."""
        wide = np.linalg.norm(self.places[:, -1] - self.places[:, 0], axis=1)[:, None]
        half = 0.5 * np.diff(self.across)
        return np.asarray(self.flux * self.places[:, :, 1] * wide * (np.append(half, 0.0) + np.insert(half, 0, 0.0)))

    def by_mass(self, row: int) -> float:
        """Mean over a line from hub to casing by the mass through it."""
        known = np.isfinite(self.mean[row])
        mass = self.mass[row][known]
        return float((mass * self.mean[row][known]).sum() / mass.sum()) if mass.sum() else float("nan")

    @property
    def open_share(self) -> Vec:
        """Of the widest open angle."""
        return np.asarray(self.open_angle / max(float(self.open_angle.max()), 1e-300))


class Lattice(NamedTuple):
    """Places along and across, from the inlet's end and from the hub on, and angles, evenly over all that the flow takes up there."""

    along: int = 120
    across: int = 40
    rays: int = 180


def round_axis(flow: Flow, annulus: Annulus, values: NDArray[Any], lattice: Lattice | None = None,
               carried: tuple[NDArray[Any], NDArray[Any]] | None = None, *, shares: Vec | None = None,
               token: Token | None = None) -> RoundAxis:
    """Means of node values over the angle, each place by as much of it as it takes up, whatever the nodes.

    Parameters
    ----------
    flow, annulus : Flow, Annulus
        The flow, and between what it turns.
    values : ndarray, shape (nodes,)
        Node values.
    lattice : Lattice, optional
        How fine.
    carried : (ndarray, shape (nodes,), ndarray, shape (nodes, 3)), optional
        Density and velocity: means are by the mass that goes through the surfaces of constant share along then.
    shares : ndarray, shape (n,), optional
        Shares along, in the place of even ones.
    token : Token, optional
        Progress and cancel.
    """
    _, across, rays = lattice or Lattice()
    s = np.linspace(0.0, 1.0, (lattice or Lattice()).along) if shares is None else shares
    along, eta = len(s), np.linspace(0.0, 1.0, across)
    inner = np.clip(eta, _EDGE, 1.0 - _EDGE)
    low, high = _angles(flow, annulus, s)
    edge = np.clip(s, _EDGE, 1.0 - _EDGE)
    sums, weights, met = np.zeros((along, across)), np.zeros((along, across)), np.zeros((along, across))
    either = np.zeros((along, across))
    mesh, step = mesh_of(flow, token), max(1, _AT_A_TIME // (across * rays))
    for begin in range(0, along, step):
        if token is not None:
            token.check()
            token.report(begin / along)
        rows = slice(begin, min(begin + step, along))
        share = (np.arange(rays) + 0.5) / rays
        angle = low[rows, None, None] + share * (high - low)[rows, None, None] * np.ones((1, across, 1))
        flat = annulus.places(*np.broadcast_arrays(edge[rows, None, None], inner[None, :, None]))
        places = annulus.in_space(np.broadcast_to(flat, (*angle.shape, 2)), angle)
        stencil, inside = mesh.locate(places.reshape(-1, 3), slack=_HAIR, token=token)
        there = inside.reshape(angle.shape)
        own = _at(stencil, values, inside).reshape(angle.shape)
        there &= np.isfinite(own)
        weight = there.astype(np.float64)
        if carried is not None:
            way = annulus.turned(np.broadcast_to(_through(annulus, edge[rows])[:, None, None], (*angle.shape, 2)), angle)
            speed = np.einsum("sati,sati->sat", _vectors(stencil, carried[1], inside).reshape(*angle.shape, 3), way)
            weight = np.where(there, _at(stencil, carried[0], inside).reshape(angle.shape) * speed, 0.0)
        sums[rows], weights[rows] = np.where(there, own * weight, 0.0).sum(axis=2), weight.sum(axis=2)
        either[rows], met[rows] = np.abs(weight).sum(axis=2), there.mean(axis=2)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.where(np.abs(weights) > _NO_FLOW * either, sums / weights, np.nan)
    wide = (high - low)[:, None]
    return RoundAxis(s, eta, annulus.places(*np.broadcast_arrays(s[:, None], eta[None, :])), mean, met * wide,
                     weights / rays * wide if carried is not None else np.zeros_like(mean))


def _through(annulus: Annulus, s: Vec) -> Vec:
    """Unit normals (n, 2) of the lines from hub to casing at shares along, the way that the annulus goes."""
    half = np.full(len(s), 0.5)
    line = annulus.places(s, half + 0.5) - annulus.places(s, half - 0.5)
    normal = np.column_stack([line[:, 1], -line[:, 0]]) / np.maximum(np.linalg.norm(line, axis=1), 1e-300)[:, None]
    ahead = np.einsum("ni,ni->n", normal, annulus.ways(s, half))
    return np.asarray(np.where(ahead < 0.0, -1.0, 1.0)[:, None] * normal)


def _at(stencil: Stencil, values: Any, inside: NDArray[np.bool_]) -> Vec:
    return np.where(inside, stencil.apply(np.asarray(values)), np.nan)


def _vectors(stencil: Stencil, values: Any, inside: NDArray[np.bool_]) -> Vec:
    return np.where(inside[:, None], stencil.apply_vectors(np.asarray(values)), 0.0)


def _angles(flow: Flow, annulus: Annulus, s: Vec) -> tuple[Vec, Vec]:
    """From which angle to which the flow goes at each share along, shape (n,) each."""
    some = flow.points[::max(1, flow.n_points // _SOME)]
    along, angle = annulus.shares(some)[:, 0], annulus.angles(some)
    good = np.isfinite(along)
    along, angle = along[good], angle[good]
    if len(angle) == 0 or abs(np.exp(1j * angle).mean()) < _WHOLE:
        return np.zeros(len(s)), np.full(len(s), 2.0 * np.pi)
    angle = unwrapped(along, angle, _STATIONS)
    low, high = np.full(_STATIONS, np.inf), np.full(_STATIONS, -np.inf)
    for shift in (-1, 0, 1):  # nodes stand between the stations too
        to = np.clip(np.round(along * (_STATIONS - 1)).astype(np.int64) + shift, 0, _STATIONS - 1)
        np.minimum.at(low, to, angle)
        np.maximum.at(high, to, angle)
    known, at = np.isfinite(low), np.linspace(0.0, 1.0, _STATIONS)
    low, high = (np.interp(s, at[known], e[known]) for e in (low, high))
    wide = np.minimum((1.0 + 2.0 * _ROOM) * (high - low), 2.0 * np.pi)
    return np.asarray(0.5 * (low + high - wide)), np.asarray(0.5 * (low + high + wide))
