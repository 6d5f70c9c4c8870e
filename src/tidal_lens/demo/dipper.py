"""Dipper: an invented ducted rotor of nine blades in a computed flow, made by :mod:`tidal_lens.demo.rotor`, and its files.

One passage in the frame that turns with the rotor, steady, viscous, with a gap above the blade's tip, on meshes of three sizes. The
tip has a radius of 80 mm and 187 m/s; air comes from rest at 288.15 K and 101,325 Pa.
"""

from __future__ import annotations

import csv
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.demo.rotor.mesh import PITCH, SPEED, Counts, make_mesh
from tidal_lens.demo.rotor.run import Rotor
from tidal_lens.demo.rounding import rounded
from tidal_lens.formats.cgns_write import Patch, Zone, write_steady

Array = NDArray[np.float64]
Tell = Callable[[str], None]
ASSETS = Path(__file__).resolve().parent.parent / "assets" / "dipper"
GAMMA, GAS = 1.4, 287.05  # [-], [J/(kg K)]
RADIUS, TEMPERATURE, PRESSURE = 0.08, 288.15, 101325.0  # of the tip [m]; total, at the inlet [K], [Pa]
SOUND = float(np.sqrt(GAMMA * GAS * TEMPERATURE))
DENSITY = PRESSURE / (GAS * TEMPERATURE)
RATE = SPEED * SOUND / RADIUS  # [rad/s]
BACK = 0.705  # pressure behind, at half the radius, over ρ01 a01²


@dataclass(frozen=True)
class Size:
    """A mesh, and how long the flow on it is iterated."""

    name: str
    counts: Counts
    iterations: int


FINE = Size("dipper", Counts(), 2700)
MEDIUM = Size("dipper medium", Counts(17, 45, 26, 28, 26, 6), 2000)
COARSE = Size("dipper coarse", Counts(12, 32, 18, 20, 18, 4), 1500)


def solve(size: Size, tell: Tell) -> Rotor:
    """Compute the steady flow; ``tell`` hears of the progress, a line at a time."""
    rotor = Rotor(make_mesh(size.counts), BACK)
    began = time.monotonic()

    def report(n: int, r: Rotor) -> None:
        if n % 100 == 0 or n == size.iterations - 1:
            row = r.rows[-1]
            tell(f"{size.name}: iteration {n} of {size.iterations}, residual {row.residual:.2e}, mass in {row.mass_in:.6f}, out "
                 f"{row.mass_out:.6f}, p02/p01 {row.ratio:.4f}, efficiency {row.efficiency:.4f}, {time.monotonic() - began:.0f} s")

    rotor.steady(size.iterations, report)
    rotor.fill()
    return rotor


def node_values(rotor: Rotor) -> Array:
    """Density, absolute velocity and pressure at the nodes, shape (ni + 1, nj + 1, nk + 1, 5).

    Means of the cells round a node, those of the passages beside it too; on walls of the cells at the wall, and the wall's speed.
    """
    c, mesh = rotor.cells(1), rotor.mesh
    c = c.copy()
    c[:, :, 0], c[:, :, -1] = c[:, :, 1], c[:, :, -2]
    out = c[:-1] + c[1:]
    out = out[:, :-1] + out[:, 1:]
    out = (out[:, :, :-1] + out[:, :, 1:]) / 8.0
    place = mesh.points
    whirl = rotor.speed * np.stack([np.zeros_like(place[..., 0]), -place[..., 2], place[..., 1]], axis=-1)
    out[:, :, 0, 1:4] = whirl[:, :, 0]
    on = slice(mesh.counts.ahead, mesh.counts.ahead + mesh.counts.on + 1), slice(0, mesh.counts.below + 1)
    for side, cells in ((0, c[:, 1]), (-1, c[:, -2])):
        # Ghosts beside the blade hold its own cells' state, those ahead of it and above its tip the other passage's: the edges of
        # the blade take their own side's.
        own = cells[:-1] + cells[1:]
        own = (own[:, :-1] + own[:, 1:]) / 4.0
        out[on[0], side, on[1], 0], out[on[0], side, on[1], 4] = own[on][..., 0], own[on][..., 4]
        out[on[0], side, on[1], 1:4] = whirl[on[0], side, on[1]]
    # Where both sides meet (edges of the blade, everything periodic) they are one place.
    first, last = _turned(out[:, 0], PITCH), out[:, -1]
    one = np.linalg.norm(_turn(place[:, 0], PITCH) - place[:, -1], axis=-1) < 1e-9
    both = 0.5 * (first + last)
    out[:, -1][one] = both[one]
    out[:, 0][one] = _turned(both, -PITCH)[one]
    out[:, :, -1, 1:4] = 0.0
    return np.asarray(out)


def _turn(v: Array, angle: float) -> Array:
    c, s = np.cos(angle), np.sin(angle)
    return np.stack([v[..., 0], c * v[..., 1] - s * v[..., 2], s * v[..., 1] + c * v[..., 2]], axis=-1)


def _turned(state: Array, angle: float) -> Array:
    out = state.copy()
    out[..., 1:4] = _turn(state[..., 1:4], angle)
    return out


def _patches(counts: Counts) -> tuple[Patch, ...]:
    """Boundaries: j runs from the suction side of one blade against the turning to the pressure side of the next: right-handed so."""
    ni, nj, nk = (n + 1 for n in counts.cells)
    first, last, tip = counts.ahead + 1, counts.ahead + counts.on + 1, counts.below + 1
    out = [Patch("Dipper hub", "BCWallViscous", (1, 1, 1), (ni, nj, 1)), Patch("Dipper casing", "BCWallViscous", (1, 1, nk), (ni, nj, nk)),
           Patch("inlet", "BCInflowSubsonic", (1, 1, 1), (1, nj, nk)), Patch("outlet", "BCOutflowSubsonic", (ni, 1, 1), (ni, nj, nk))]
    for name, j in (("periodic, ahead in turning", 1), ("periodic, behind in turning", nj)):
        out.append(Patch("Dipper blade", "BCWallViscous", (first, j, 1), (last, j, tip)))
        out += [Patch(name, "BCGeneral", (a, j, k), (b, j, nk)) for a, b, k in ((1, first, 1), (first, last, tip), (last, ni, 1))]
    return tuple(out)


def write_case(folder: Path, size: Size, rotor: Rotor) -> Path:
    """Write the passage and its history; the ``.cgns`` file."""
    folder.mkdir(parents=True, exist_ok=True)
    state, place = node_values(rotor)[:, ::-1], rotor.mesh.points[:, ::-1]
    flat = state.transpose(2, 1, 0, 3).reshape(-1, 5)
    scales = (("Density", DENSITY), ("VelocityX", SOUND), ("VelocityY", SOUND), ("VelocityZ", SOUND), ("Pressure", DENSITY * SOUND**2))
    values: dict[str, NDArray[Any]] = {name: rounded(flat[:, n] * scale, 16) for n, (name, scale) in enumerate(scales)}
    values["ViscosityMolecular"] = np.full(len(flat), rotor.viscosity * DENSITY * SOUND * RADIUS, np.float32)
    points = (RADIUS * place).transpose(2, 1, 0, 3).reshape(-1, 3).astype(np.float32)
    zone = Zone("passage", (state.shape[0], state.shape[1], state.shape[2]), points, _patches(size.counts))
    ahead = rotor.cells()[0]
    weight = np.linalg.norm(rotor.mesh.area[0][0], axis=-1)
    density, speed, _, _, pressure = ((weight[..., None] * ahead).sum(axis=(0, 1)) / weight.sum()).tolist()
    path = folder / f"{size.name}.cgns"
    write_steady(path, [zone], [values],
                 {"Density": density * DENSITY, "Pressure": pressure * DENSITY * SOUND**2, "VelocityX": speed * SOUND, "VelocityY": 0.0,
                  "VelocityZ": 0.0, "LengthReference": RADIUS, "SpecificHeatRatio": GAMMA}, (RATE, 0.0, 0.0))
    flow = DENSITY * SOUND * RADIUS**2
    with (folder / f"{size.name} history.csv").open("w", newline="", encoding="utf-8") as file:
        table = csv.writer(file)
        table.writerow(("iteration", "density residual", "mass flow in [kg/s]", "mass flow out [kg/s]", "total pressure ratio",
                        "efficiency"))
        table.writerows((n, f"{r.residual:.6e}", f"{r.mass_in * flow:.7f}", f"{r.mass_out * flow:.7f}", f"{r.ratio:.6f}",
                         f"{r.efficiency:.6f}") for n, r in enumerate(rotor.rows))
    return path


def make(folder: Path, tell: Tell) -> None:
    """Make the shipped data again from nothing."""
    for size in (COARSE, MEDIUM, FINE):
        began = time.monotonic()
        rotor = solve(size, tell)
        path = write_case(folder, size, rotor)
        tell(f"{path.name}: {rotor.mesh.volume.size:,} cells, {time.monotonic() - began:.0f} s")
