"""A made-up flow of exact parts: three curvilinear blocks over a hill, with a closed vortex ring and two vortices.

A stream carries Hill's spherical vortex (a closed recirculation: Hill 1894, Phil. Trans. R. Soc. A 185, in the form of
Batchelor, An Introduction to Fluid Dynamics, 7.2) and a pair of shielded (Taylor) vortices along the stream. Near the
floor the velocity falls to zero. Pressure and density follow from constant entropy and constant total enthalpy, so that
the flow is slightly supersonic round the sphere. It is no solution of any flow equation as a whole.
"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import numpy as np
import platformdirs
from numpy.typing import NDArray

from tidal_lens.formats.vtk_write import StructuredPiece, write_multiblock

GAMMA = 1.4
PRESSURE, DENSITY, MACH = 101325.0, 1.225, 0.75  # U.S. Standard Atmosphere 1976 at sea level; Mach number made up
SOUND = float(np.sqrt(GAMMA * PRESSURE / DENSITY))
STREAM = MACH * SOUND
CENTRE, RADIUS = np.array([1.0, 0.0, 1.25]), 0.42
VORTICES = ((-0.8, 0.6, 1.0), (0.8, 0.6, -1.0))  # y, z and sense of turning
CORE, SWIRL = 0.12, 0.55 * STREAM
WALL_LAYER = 0.08
_VERSION = "1"


def hill_height(x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
    """Height of the floor [m]."""
    return np.asarray(0.24 * np.exp(-(((x - 1.0) / 0.55) ** 2) - (y / 0.7) ** 2))


def velocity(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Exact velocity, shape (n, 3) at points of shape (n, 3) [m/s]."""
    out = _spherical_vortex(points - CENTRE)
    for y0, z0, sense in VORTICES:
        y, z = points[:, 1] - y0, points[:, 2] - z0
        turn = sense * SWIRL / CORE * np.exp(0.5 - (y * y + z * z) / (2 * CORE * CORE))
        out[:, 1] -= turn * z
        out[:, 2] += turn * y
    above = np.maximum(points[:, 2] - hill_height(points[:, 0], points[:, 1]), 0.0)
    damping: NDArray[np.float64] = -np.expm1(-((above / WALL_LAYER) ** 2))
    out *= damping[:, None]
    return out


def _spherical_vortex(p: NDArray[np.float64]) -> NDArray[np.float64]:
    x, r2 = p[:, 0], (p * p).sum(axis=1)
    s2 = p[:, 1] ** 2 + p[:, 2] ** 2
    inside = r2 < RADIUS**2
    safe = np.where(inside, RADIUS**2, r2)
    ratio = RADIUS**3 / safe**1.5
    axial = np.where(inside, 1.5 * STREAM * (2 * s2 + x * x - RADIUS**2) / RADIUS**2,
                     STREAM * (1 + ratio / 2 * (1 - 3 * x * x / safe)))
    radial = np.where(inside, -1.5 * STREAM * x / RADIUS**2, -1.5 * STREAM * ratio * x / safe)
    return np.column_stack([axial, radial * p[:, 1], radial * p[:, 2]])


def state(speed: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Pressure and density at constant entropy and total enthalpy for a speed, each of its shape."""
    ratio = 1 + (GAMMA - 1) / 2 * (MACH**2 - (speed / SOUND) ** 2)
    return PRESSURE * ratio ** (GAMMA / (GAMMA - 1)), DENSITY * ratio ** (1 / (GAMMA - 1))


def _block_points(begin: float, end: float, n: tuple[int, int, int]) -> NDArray[np.float64]:
    i, j, k = (np.linspace(0.0, 1.0, m) for m in n)
    t, y1, s = np.meshgrid(k, -1.5 + 3.0 * j, i, indexing="ij")
    up = np.sinh(1.9 * t) / np.sinh(1.9)
    # Seams between blocks bulge; the pattern is mirrored in x about the sphere's centre.
    bulge = 0.12 * np.cos(np.pi * y1 / 3.0) * np.sin(np.pi * up)

    def place(x: float) -> NDArray[np.float64]:
        return np.asarray(x + bulge * {0.0: -1.0, 2.0: 1.0}.get(x, 0.0))

    x = place(begin) * (1 - s) + place(end) * s
    floor = hill_height(x, y1)
    return np.column_stack([x.ravel(), y1.ravel(), (floor + (2.6 - floor) * up).ravel()])


def pieces() -> tuple[list[StructuredPiece], list[StructuredPiece]]:
    """Blocks, and the floor's patches."""
    blocks, floor = [], []
    for name, begin, end, ni in (("upstream", -2.0, 0.0, 23), ("middle", 0.0, 2.0, 37), ("downstream", 2.0, 4.0, 23)):
        dims = (ni, 41, 33)
        points = _block_points(begin, end, dims)
        u = velocity(points)
        p, rho = state(np.linalg.norm(u, axis=1))
        fields = {"Density": rho.astype(np.float32), "Pressure": p.astype(np.float32), "Velocity": u.astype(np.float32)}
        blocks.append(StructuredPiece(name, dims, points.astype(np.float32), fields))
        floor.append(StructuredPiece("floor (wall)", (ni, 41, 1), points[: ni * 41].astype(np.float32)))
    return blocks, floor


def demo_file(folder: Path | None = None) -> Path:
    """The demo's file, written first if it is not there.

    Parameters
    ----------
    folder : Path, optional
        Where to keep it; the user's cache folder if not given.
    """
    home = (folder or Path(platformdirs.user_cache_dir("tidal-lens"))) / "demo"
    final = home / f"vortex-tank-{_VERSION}"
    if not (final / "vortex tank.vtm").exists():
        home.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=home) as scratch:
            made = Path(scratch) / "made"
            made.mkdir()
            blocks, floor = pieces()
            facts: dict[str, str | tuple[float, ...]] = {
                "ReferencePressure": (PRESSURE,), "ReferenceDensity": (DENSITY,),
                "ReferenceVelocity": (STREAM, 0.0, 0.0), "Gamma": (GAMMA,), "Units": "SI"}
            write_multiblock(made / "vortex tank.vtm", blocks, floor, facts)
            try:
                os.replace(made, final)
            except OSError:
                if not (final / "vortex tank.vtm").exists():  # another start may have been faster
                    raise
    return final / "vortex tank.vtm"
