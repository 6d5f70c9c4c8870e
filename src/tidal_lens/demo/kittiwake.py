"""Kittiwake: an invented supersonic glider in a computed flow, made by :mod:`tidal_lens.demo.solver`, and its files.

The flow is a half model with a plane of symmetry, mirrored to a whole model: six curvilinear blocks, one a panel of the mesh.
Mach 1.6, incidence 17 degrees, laminar, Reynolds number 40,000 on a body of 1 m, adiabatic wall. The air is that of a
static temperature of 216.65 K; its density follows from the Reynolds number.
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

from tidal_lens.demo.rounding import rounded
from tidal_lens.demo.solver.mesh import Mesh, make_mesh
from tidal_lens.demo.solver.run import Solver, Stream
from tidal_lens.formats.cgns_write import Patch, Zone, write_series
from tidal_lens.formats.vtk_write import StructuredPiece, write_multiblock

Array = NDArray[np.float64]
Tell = Callable[[str], None]
STREAM = Stream(mach=1.6, incidence=float(np.radians(17.0)), reynolds=4e4)
GAMMA, GAS = 1.4, 287.05  # [-], [J/(kg K)]
SPEED = STREAM.mach * float(np.sqrt(GAMMA * GAS * STREAM.temperature))
VISCOSITY = 1.458e-6 * STREAM.temperature**1.5 / (STREAM.temperature + 110.4)  # Sutherland's law as in U.S. Standard Atmosphere 1976
DENSITY = STREAM.reynolds * VISCOSITY / SPEED
PRESSURE = DENSITY * GAS * STREAM.temperature
ASSETS = Path(__file__).resolve().parent.parent / "assets" / "kittiwake"
WALL, FAR = "Kittiwake (wall)", "far field"


@dataclass(frozen=True)
class Size:
    """How fine a case is: quads along, across (half) and upright, layers, first layer, iterations."""

    name: str
    along: int
    across: int
    upright: int
    layers: int
    first: float
    iterations: int


FINE = Size("kittiwake", 64, 16, 32, 68, 1.2e-3, 1500)
GUST = Size("kittiwake gust", 48, 12, 24, 54, 1.5e-3, 800)
GUST_ANGLE, GUST_PERIOD, GUST_MOMENTS = float(np.radians(5.0)), 2.0, 24  # [rad], [body lengths over speed]
COARSE = Size("kittiwake coarse", 40, 10, 20, 40, 1.5e-3, 900)


def demo_file() -> Path:
    """The demo's file: Kittiwake in steady flow, as shipped."""
    return ASSETS / "kittiwake.vtm"


def solve(size: Size, tell: Tell) -> Solver:
    """Compute the steady flow.

    Parameters
    ----------
    size : Size
        Mesh and number of iterations.
    tell : callable
        Hears of the progress, a line at a time.
    """
    solver = Solver(make_mesh(size.along, size.across, size.upright, size.layers, size.first), STREAM)
    began = time.monotonic()

    def report(n: int, s: Solver) -> None:
        if n % 50 == 0 or n == size.iterations - 1:
            _, left, lift, drag = s.history.rows[-1]
            tell(f"{size.name}: iteration {n} of {size.iterations}, residual {left:.2e}, CL {lift:.4f}, CD {drag:.4f}, "
                 f"{time.monotonic() - began:.0f} s")

    solver.steady(size.iterations, report)
    return solver


def solve_gust(tell: Tell, size: Size = GUST, steps_a_moment: int = 4, periods: float = 3.5) -> tuple[Solver, list[float], list[Array]]:
    """Let a sinusoidal gust meet the body in steady flow; solver, times and node values of the last period's moments.

    The wind turns by up to 5 degrees; the wave runs with the free stream and reaches the front of the mesh at time 0. Its period is
    that in which the stream passes two body lengths.
    """
    solver = solve(size, tell)
    solver.history.rows.clear()
    outer = solver.mesh.vertices[solver.mesh.quads, -1].mean(axis=1) @ STREAM.direction
    delay = outer - outer.min()
    step = GUST_PERIOD / (GUST_MOMENTS * steps_a_moment)
    count = round(periods * GUST_MOMENTS) * steps_a_moment
    times: list[float] = []
    moments: list[Array] = []
    began = time.monotonic()

    def wind(now: float) -> Array:
        return np.asarray(STREAM.incidence + GUST_ANGLE * np.sin(2 * np.pi * np.maximum(now - delay, 0.0) / GUST_PERIOD))

    def report(n: int, s: Solver) -> None:
        if n > count - GUST_MOMENTS * steps_a_moment and n % steps_a_moment == 0:
            times.append(n * step)
            moments.append(node_values(s))
        if n % 20 == 0:
            now, left, lift, drag = s.history.rows[-1]
            tell(f"{size.name}: time {now:.2f} of {count * step:.2f}, residual {left:.2e}, CL {lift:.4f}, CD {drag:.4f}, "
                 f"{time.monotonic() - began:.0f} s")

    solver.unsteady(count, step, 0.0, wind, report)
    return solver, times, moments


def node_values(solver: Solver) -> Array:
    """Density, velocity and pressure at the mesh's vertices, shape (nv, layers + 1, 5).

    Means over the cells round a vertex, those beyond the plane of symmetry too, linear between layers. On the wall the velocity
    is zero, pressure and temperature are those of the first cells.
    """
    mesh, nq = solver.mesh, solver.nq
    cells = solver.state[:nq, 2:-2]
    sheets = mesh.vertices[mesh.quads].mean(axis=1)
    line = np.concatenate([sheets[:, :1], mesh.centre[:nq], sheets[:, -1:]], axis=1)
    station = np.concatenate([np.zeros((nq, 1)), np.cumsum(np.linalg.norm(np.diff(line, axis=1), axis=-1), axis=1)], axis=1)
    faces = np.linalg.norm(np.diff(sheets, axis=1), axis=-1).cumsum(axis=1)
    share = np.clip((faces[:, :-1] - station[:, 1:-2]) / (station[:, 2:-1] - station[:, 1:-2]), 0.0, 1.0)[..., None]
    faced = np.empty((nq, cells.shape[1] + 1, 5))
    faced[:, 1:-1] = (1.0 - share) * cells[:, :-1] + share * cells[:, 1:]
    faced[:, 0], faced[:, -1] = cells[:, 0], cells[:, -1]
    faced[:, 0, 1:4] = 0.0
    total = np.zeros((*mesh.vertices.shape[:2], 5))
    count = np.zeros(len(mesh.vertices))
    middle = np.zeros(len(mesh.vertices), dtype=bool)
    ghosts = np.flatnonzero(mesh.edges[:, 2] >= nq)
    owners = mesh.edges[ghosts, 1]
    for q, edge in zip(owners, ghosts, strict=True):
        slot = int(np.flatnonzero(mesh.sides[q] == edge)[0])
        middle[mesh.quads[q, [slot, (slot + 1) % 4]]] = True
    for c in range(4):
        np.add.at(total, mesh.quads[:, c], faced)
        np.add.at(count, mesh.quads[:, c], 1.0)
    # Beyond the plane of symmetry stands the mirror image: twice the sum, and no velocity across.
    total[middle, :, 2] = 0.0
    return np.asarray(total / count[:, None, None])


def whole(mesh: Mesh, values: Array) -> dict[str, tuple[Array, Array]]:
    """Points and values of the blocks of the whole model, shapes (a, b, layers + 1, 3 or 5)."""
    flip_point, flip_value = np.array([1.0, -1.0, 1.0]), np.array([1.0, 1.0, -1.0, 1.0, 1.0])
    blocks = {}
    for name, numbers in mesh.panels.items():
        points, state = mesh.vertices[numbers], values[numbers]
        if name == "side":
            blocks["right side"] = points, state
            blocks["left side"] = points[:, ::-1] * flip_point, state[:, ::-1] * flip_value
            continue
        axis = 0 if name in ("nose", "base") else 1
        if axis == 1:
            points, state = points.swapaxes(0, 1), state.swapaxes(0, 1)
        points = np.concatenate([points[:0:-1] * flip_point, points])
        state = np.concatenate([state[:0:-1] * flip_value, state])
        blocks[name] = points, state
    return blocks


def write_case(folder: Path, size: Size, solver: Solver) -> Path:
    """Write the whole model and its history; the ``.vtm`` file."""
    folder.mkdir(parents=True, exist_ok=True)
    blocks, patches = [], []
    for name, (points, state) in whole(solver.mesh, node_values(solver)).items():
        a, b, c = points.shape[:3]
        flat = points.transpose(2, 1, 0, 3).reshape(-1, 3)
        s = state.transpose(2, 1, 0, 3).reshape(-1, 5)
        fields = {"Density": rounded(s[:, 0] * DENSITY, 16), "Velocity": rounded(s[:, 1:4] * SPEED, 16),
                  "Pressure": rounded(s[:, 4] * DENSITY * SPEED**2, 16)}
        blocks.append(StructuredPiece(name, (a, b, c), flat.astype(np.float32), fields))
        patches.append(StructuredPiece(WALL, (a, b, 1), flat[: a * b].astype(np.float32)))
        patches.append(StructuredPiece(FAR, (a, b, 1), flat[-a * b:].astype(np.float32)))
    wind = STREAM.direction * SPEED
    facts: dict[str, str | tuple[float, ...]] = {
        "ReferencePressure": (PRESSURE,), "ReferenceDensity": (DENSITY,), "ReferenceVelocity": tuple(float(c) for c in wind),
        "ReferenceLength": (1.0,), "ReferenceArea": (solver.planform,), "ReferenceViscosity": (VISCOSITY,), "Gamma": (GAMMA,),
        "Units": "SI", "Title": "Kittiwake, an invented glider: computed by the solver that comes with Tidal Lens",
        "Licence": "CC0-1.0"}
    path = folder / f"{size.name}.vtm"
    write_multiblock(path, blocks, sorted(patches, key=lambda p: p.name), facts)
    _write_history(folder / f"{size.name} history.csv", "iteration", [f"{int(row[0])}" for row in solver.history.rows], solver)
    return path


def _write_history(path: Path, head: str, when: list[str], solver: Solver) -> None:
    with path.open("w", newline="", encoding="utf-8") as file:
        table = csv.writer(file)
        table.writerow((head, "density residual", "CL", "CD"))
        table.writerows((t, f"{left:.6e}", f"{lift:.6f}", f"{drag:.6f}")
                        for t, (_, left, lift, drag) in zip(when, solver.history.rows, strict=True))


def write_gust(folder: Path, solver: Solver, times: list[float], moments: list[Array]) -> Path:
    """Write the moments of the gust as one time series, and its history; the ``.cgns`` file.

    Times are in seconds, and 0 is the first of them.
    """
    zones: list[Zone] = []
    states: list[list[dict[str, NDArray[Any]]]] = []
    for moment in moments:
        values = []
        for name, (points, state) in whole(solver.mesh, moment).items():
            a, b, c = points.shape[:3]
            s = state.transpose(2, 1, 0, 3).reshape(-1, 5)
            scales = (("Density", DENSITY), ("VelocityX", SPEED), ("VelocityY", SPEED), ("VelocityZ", SPEED),
                      ("Pressure", DENSITY * SPEED**2))
            values.append({q: rounded(s[:, n] * scale, 12) for n, (q, scale) in enumerate(scales)})
            if not states:
                flat = points.transpose(2, 1, 0, 3).reshape(-1, 3).astype(np.float32)
                zones.append(Zone(name, (a, b, c), flat, (Patch(WALL, "BCWallViscous", (1, 1, 1), (a, b, 1)),
                                                          Patch(FAR, "BCFarfield", (1, 1, c), (a, b, c)))))
        states.append(values)
    wind = STREAM.direction * SPEED
    path = folder / f"{GUST.name}.cgns"
    write_series(path, zones, [(t - times[0]) / SPEED for t in times], states,
                 {"Density": DENSITY, "Pressure": PRESSURE, "VelocityX": float(wind[0]), "VelocityY": 0.0, "VelocityZ": float(wind[2]),
                  "Mach": STREAM.mach, "SpecificHeatRatio": GAMMA})
    _write_history(folder / f"{GUST.name} history.csv", "time [s]",
                   [f"{(row[0] - times[0]) / SPEED:.8f}" for row in solver.history.rows], solver)
    return path


def write_taps(path: Path, solver: Solver) -> None:
    """Write what pressure taps on two sections might have read: the computed Cp with invented scatter, said to be so."""
    mesh = solver.mesh
    wall, cp = mesh.vertices[:, 0], 2.0 * (node_values(solver)[:, 0, 4] - 1.0 / STREAM.scale)
    chance = np.random.default_rng(16)
    with path.open("w", newline="", encoding="utf-8") as file:
        file.write("# Simulated: no experiment was made. Computed pressures with random scatter (standard deviation 0.012 in Cp).\n")
        table = csv.writer(file)
        table.writerow(("section", "x [m]", "y [m]", "z [m]", "Cp"))
        for name, x in (("A", 0.5), ("B", 0.8)):
            ends = np.unique(np.sort(np.stack([mesh.quads, np.roll(mesh.quads, -1, axis=1)], axis=-1).reshape(-1, 2), axis=1), axis=0)
            a, b = ends[((wall[ends[:, 0], 0] - x) * (wall[ends[:, 1], 0] - x) < 0)].T
            share = ((x - wall[a, 0]) / (wall[b, 0] - wall[a, 0]))[:, None]
            places, values = (1 - share) * wall[a] + share * wall[b], (1 - share[:, 0]) * cp[a] + share[:, 0] * cp[b]
            for n in np.argsort(np.arctan2(places[:, 2], places[:, 1]))[::2]:
                reading = values[n] + chance.normal(0.0, 0.012)
                table.writerow((name, *(f"{c:.4f}" for c in places[n]), f"{reading:.4f}"))


def make(folder: Path, tell: Tell) -> None:
    """Make the shipped data again from nothing."""
    for size in (COARSE, FINE):
        began = time.monotonic()
        solver = solve(size, tell)
        path = write_case(folder, size, solver)
        if size is FINE:
            write_taps(folder / "pressure taps (simulated).csv", solver)
        tell(f"{path.name}: {solver.mesh.n_cells:,} cells in the half model, {time.monotonic() - began:.0f} s")
    began = time.monotonic()
    solver, times, moments = solve_gust(tell)
    path = write_gust(folder, solver, times, moments)
    tell(f"{path.name}: {solver.mesh.n_cells:,} cells in the half model, {len(times)} moments, {time.monotonic() - began:.0f} s")
