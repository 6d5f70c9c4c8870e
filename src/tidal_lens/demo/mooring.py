"""Mooring: steady laminar flow past a circular cylinder at Reynolds number 40, computed here, and its file.

Stream function and vorticity on a polar grid whose radii grow exponentially, by central differences of second order, solved by Newton's
method; the upper half, mirrored. Everything is in diameters, the stream's speed and its density.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.sparse.linalg import splu

from tidal_lens.formats.vtk_write import StructuredPiece, write_multiblock

Array = NDArray[np.float64]
REYNOLDS = 40.0  # on the diameter
ASSETS = Path(__file__).resolve().parent.parent / "assets" / "mooring"
WALL, FAR = "Mooring (wall)", "far field"
_DEPTH = 0.02
_RAMP = (4.0, 10.0, 20.0)  # Reynolds numbers on the way


@dataclass(frozen=True, eq=False)
class Solution:
    """The flow over the upper half.

    Attributes
    ----------
    radius, angle : ndarray, shape (m,), (n,)
        Of the nodes, in radii of the cylinder; from downstream, 0 to π.
    psi, omega, pressure : ndarray, shape (m, n)
        Stream function, vorticity, and pressure against the stream's by ρ U².
    reynolds : float
        On the diameter.
    """

    radius: Array
    angle: Array
    psi: Array
    omega: Array
    pressure: Array
    reynolds: float

    @property
    def drag(self) -> float:
        """Coefficient on the diameter: of the pressure and the friction on the wall."""
        a = self.angle
        friction, push = -self.omega[0] / (0.5 * self.reynolds), self.pressure[0]
        # Both halves; pressure pushes against the normal, shear pulls along the wall.
        return float(2.0 * np.trapezoid(friction * np.sin(a) - push * np.cos(a), a))

    @property
    def separation(self) -> float:
        """Angle from the rear at which the wall shear changes its sign [degrees]."""
        w, a = self.omega[0], self.angle
        at = int(np.flatnonzero(w[1:-2] * w[2:-1] < 0.0)[0]) + 1
        return float(np.degrees(a[at] - w[at] * (a[at + 1] - a[at]) / (w[at + 1] - w[at])))

    @property
    def bubble(self) -> float:
        """Length of the bubble behind the cylinder, in diameters."""
        u = (8.0 * self.psi[1:, 1] - self.psi[1:, 2]) / (6.0 * self.radius[1:] * self.angle[1])  # ψ is odd about the axis
        at = int(np.flatnonzero((u[:-1] < 0.0) & (u[1:] >= 0.0))[0])
        r = self.radius[1:]
        return float((r[at] - u[at] * (r[at + 1] - r[at]) / (u[at + 1] - u[at]) - 1.0) / 2.0)


def _matrices(m: int, n: int, h: float) -> tuple[sp.csr_array, sp.csr_array, sp.csr_array]:
    """Differences along the radius and the angle, and their Laplacian, at inner nodes; zero rows elsewhere."""
    def along(count: int, weights: tuple[float, float, float]) -> sp.csr_array:
        d = sp.diags_array(weights, offsets=(-1, 0, 1), shape=(count, count)).tolil()
        d[0] = 0.0
        d[-1] = 0.0
        return d.tocsr()

    inner = [np.r_[0.0, np.ones(k - 2), 0.0] for k in (m, n)]
    one = [sp.diags_array(v) for v in inner]
    first, second = (-0.5 / h, 0.0, 0.5 / h), (1.0 / h**2, -2.0 / h**2, 1.0 / h**2)
    dx = sp.kron(along(m, first), one[1]).tocsr()
    dt = sp.kron(one[0], along(n, first)).tocsr()
    laplace = (sp.kron(along(m, second), one[1]) + sp.kron(one[0], along(n, second))).tocsr()
    return dx, dt, laplace


def solve(around: int = 120, far: float = 150.0, tell: Callable[[str], None] = lambda _text: None) -> Solution:
    """Solve for the steady flow.

    Parameters
    ----------
    around : int
        Cells round the upper half.
    far : float
        Radius of the outer border, in radii.
    tell : callable
        Told of the progress.
    """
    n = around + 1
    h = np.pi / around
    m = int(np.ceil(np.log(far) / h)) + 1
    radius: Array = np.asarray(np.exp(h * np.arange(m)), np.float64)
    angle: Array = np.asarray(h * np.arange(n), np.float64)
    r2 = np.repeat(radius**2, n)
    dx, dt, laplace = _matrices(m, n, h)
    number = np.arange(m * n).reshape(m, n)
    axis, wall, rim = number[:, [0, -1]].ravel(), number[0, 1:-1], number[-1, 1:-1]
    inner = number[1:-1, 1:-1].ravel()
    ahead = angle[1:-1] > 0.5 * np.pi  # the half of the border where the stream comes in
    psi = (np.repeat(radius, n) - 1.0 / np.repeat(radius, n)) * np.tile(np.sin(angle), m)
    omega = np.zeros(m * n)
    size = m * n
    for reynolds in (*_RAMP, REYNOLDS):
        nu = 2.0 / reynolds  # on the radius and the stream's speed
        for turn in range(12):
            residual = np.zeros(2 * size)
            residual[inner] = (laplace @ psi + r2 * omega)[inner]
            px, pt, wx, wt = dx @ psi, dt @ psi, dx @ omega, dt @ omega
            residual[size + inner] = (nu * (laplace @ omega) - pt * wx + px * wt)[inner]
            rows = [residual]
            a = sp.block_array([[laplace, sp.diags_array(np.where(np.isin(np.arange(size), inner), r2, 0.0))],
                                [sp.diags_array(wt) @ dx - sp.diags_array(wx) @ dt,
                                 nu * laplace - sp.diags_array(pt) @ dx + sp.diags_array(px) @ dt]]).tolil()
            # ψ is given on the axis, the wall and the border; ω is zero on the axis and where the stream comes in, goes out as it is,
            # and on the wall follows from ψ beside it (Woods 1954).
            residual[axis], residual[wall] = psi[axis], psi[wall]
            residual[rim] = psi[rim] - (radius[-1] - 1.0 / radius[-1]) * np.sin(angle[1:-1])
            for where in (axis, wall, rim):
                a[where, where] = 1.0
            residual[size + axis] = omega[axis]
            a[size + axis, size + axis] = 1.0
            first = number[1, 1:-1]
            weight = radius[1] ** 2 / 2.0
            residual[size + wall] = omega[wall] + 3.0 * psi[first] / h**2 + weight * omega[first]
            a[size + wall, size + wall] = 1.0
            a[size + wall, first] = 3.0 / h**2
            a[size + wall, size + first] = weight
            before = number[-2, 1:-1]
            residual[size + rim] = omega[rim] - np.where(ahead, 0.0, omega[before])
            a[size + rim, size + rim] = 1.0
            a[size + rim[~ahead], size + before[~ahead]] = -1.0
            change = splu(a.tocsc()).solve(-rows[0])
            psi, omega = psi + change[:size], omega + change[size:]
            most = float(np.abs(change).max())
            tell(f"Reynolds number {reynolds:g}, turn {turn + 1}: {most:.1e}")
            if most < 1e-9:
                break
    shape = (m, n)
    pressure = _pressure(psi, omega, radius, angle, h, 2.0 / REYNOLDS)
    return Solution(radius, angle, psi.reshape(shape), omega.reshape(shape), pressure, REYNOLDS)


def _pressure(psi: Array, omega: Array, radius: Array, angle: Array, h: float, nu: float) -> Array:
    """Pressure by ρ U²: from far ahead along the axis to the nose, round the wall, then outward along each ray.

    By the momentum equation in the form ∇(p + ½u²) = u × ω − ν ∇×ω, which needs no second derivatives of the velocity.
    """
    m, n = len(radius), len(angle)
    p, w = psi.reshape(m, n), omega.reshape(m, n)
    u, v = _velocity(p, radius, h)
    dr, da = (np.asarray(np.gradient(w, h, axis=k, edge_order=2)) for k in (0, 1))
    # By ξ = ln r: ∂H/∂ξ = r u_θ ω − ν ∂ω/∂θ, and ∂H/∂θ = −r u_r ω + ν ∂ω/∂ξ.
    by_ray = radius[:, None] * v * w - nu * da
    by_angle = -radius[:, None] * u * w + nu * dr
    ahead = np.concatenate([[0.0], np.cumsum(0.5 * h * (by_ray[1:, -1] + by_ray[:-1, -1]))])
    nose = 0.5 - (ahead[-1] - ahead[0])  # H of the stream is ½, and p is zero there
    round_it = np.concatenate([[0.0], np.cumsum(0.5 * h * (by_angle[0, 1:] + by_angle[0, :-1]))])
    wall = nose + round_it - round_it[-1]
    out = np.concatenate([np.zeros((1, n)), np.cumsum(0.5 * h * (by_ray[1:] + by_ray[:-1]), axis=0)])
    return np.asarray(wall[None] + out - 0.5 * (u * u + v * v))


def _velocity(psi: Array, radius: Array, h: float) -> tuple[Array, Array]:
    """Radial and tangential velocity."""
    by_ray, by_angle = (np.asarray(np.gradient(psi, h, axis=k, edge_order=2)) for k in (0, 1))
    # ψ is odd about the axis.
    by_angle[:, 0], by_angle[:, -1] = (8.0 * psi[:, 1] - psi[:, 2]) / (6.0 * h), -(8.0 * psi[:, -2] - psi[:, -3]) / (6.0 * h)
    u, v = by_angle / radius[:, None], -by_ray / radius[:, None]
    u[0], v[0] = 0.0, 0.0
    v[:, [0, -1]] = 0.0
    return u, v


def write_case(folder: Path, found: Solution) -> Path:
    """Write the whole flow, one layer of cells deep; the ``.vtm`` file."""
    folder.mkdir(parents=True, exist_ok=True)
    u, v = _velocity(found.psi, found.radius, float(found.angle[1]))
    blocks, patches = [], []
    near = found.radius <= 60.0
    r = 0.5 * found.radius[near]
    for name, sign in (("upper", 1.0), ("lower", -1.0)):
        a = sign * found.angle
        x, y = r[:, None] * np.cos(a), r[:, None] * np.sin(a)
        out, aside = u[near], sign * v[near]
        flow = np.stack([out * np.cos(a) - aside * np.sin(a), out * np.sin(a) + aside * np.cos(a), 0 * x], axis=-1)
        points = np.concatenate([np.stack([x, y, np.full_like(x, z)], axis=-1).reshape(-1, 3) for z in (-0.5 * _DEPTH, 0.5 * _DEPTH)])
        fields = {"Velocity": np.tile(flow.reshape(-1, 3), (2, 1)), "Pressure": np.tile(found.pressure[near].ravel(), 2),
                  "Density": np.ones(len(points)), "ViscosityMolecular": np.full(len(points), 1.0 / found.reynolds)}
        dims = (len(found.angle), len(r), 2)
        blocks.append(StructuredPiece(name, dims, points.astype(np.float32), {k: f.astype(np.float32) for k, f in fields.items()}))
        grid = points.reshape(2, len(r), len(found.angle), 3).astype(np.float32)
        patches.append(StructuredPiece(WALL, (len(found.angle), 1, 2), grid[:, 0].reshape(-1, 3)))
        patches.append(StructuredPiece(FAR, (len(found.angle), 1, 2), grid[:, -1].reshape(-1, 3)))
    facts: dict[str, str | tuple[float, ...]] = {
        "ReferencePressure": (0.0,), "ReferenceDensity": (1.0,), "ReferenceVelocity": (1.0, 0.0, 0.0), "ReferenceLength": (1.0,),
        "ReferenceViscosity": (1.0 / found.reynolds,), "Title": "Mooring: a circular cylinder at Reynolds number 40, computed here",
        "Licence": "CC0-1.0"}
    path = folder / "mooring.vtm"
    write_multiblock(path, blocks, sorted(patches, key=lambda p: p.name), facts)
    return path


def make(folder: Path, tell: Callable[[str], None]) -> None:
    """Make the shipped data again from nothing."""
    found = solve(tell=tell)
    write_case(folder, found)
    tell(f"Mooring: bubble {found.bubble:.3f} diameters, separation {found.separation:.1f}° from the rear, drag {found.drag:.3f}")
