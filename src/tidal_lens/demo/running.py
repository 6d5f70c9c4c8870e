"""A simulated solver: it writes a history and steps into a folder as a real one would, for trying out how a run is followed.

The flow is the decaying Taylor–Green vortex of two dimensions, an exact solution (Taylor & Green 1937), with a stream added to it;
the residuals are made up: no equations are solved.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tidal_lens.formats.structured import lattice_points
from tidal_lens.formats.vtk_write import StructuredPiece, write_structured

DIMS = (33, 33, 9)
VISCOSITY = 0.02
STREAM = 0.5


def state(points: NDArray[np.float64], at: float) -> dict[str, NDArray[np.float32]]:
    """Velocity and pressure of the vortices at a time, carried along by the stream."""
    x, y = points[:, 0] - STREAM * at, points[:, 1]
    decay = np.exp(-2.0 * VISCOSITY * at)
    u, v = STREAM + np.cos(x) * np.sin(y) * decay, -np.sin(x) * np.cos(y) * decay
    pressure = 1.0 - 0.25 * (np.cos(2 * x) + np.cos(2 * y)) * decay**2
    return {"Velocity": np.column_stack([u, v, 0.0 * u]).astype(np.float32), "Pressure": pressure.astype(np.float32),
            "Density": np.ones(len(x), np.float32)}


def simulate_run(folder: Path, *, steps: int = 12, iterations: int = 50, pause: float = 1.0,
                 tell: Callable[[str], None] = lambda _line: None) -> None:
    """Write a run, a step after another.

    Parameters
    ----------
    folder : Path
        Where ``history.csv`` and ``flow_0001.vts``, ``flow_0002.vts`` … go; it is made.
    steps : int
        Steps in time.
    iterations : int
        Lines of the history a step.
    pause : float
        Seconds between steps.
    tell : callable
        Hears a line a step.
    """
    folder.mkdir(parents=True, exist_ok=True)
    points = lattice_points([np.linspace(0.0, end, n) for end, n in zip((2.0 * np.pi, 2.0 * np.pi, 1.0), DIMS, strict=True)])
    random = np.random.default_rng(1)
    history = folder / "history.csv"
    history.write_text("iteration,continuity,momentum,energy,lift,drag\n", encoding="utf-8")
    for step in range(steps):
        with history.open("a", encoding="utf-8") as stream:
            for n in range(iterations):
                at = step * iterations + n + 1
                falls = 10.0 ** (-4.5 * (1 - np.exp(-2.5 * at / (steps * iterations))) + 0.03 * random.standard_normal(3))
                settles = np.exp(-8.0 * at / (steps * iterations))
                stream.write(f"{at},{falls[0]:.4e},{0.6 * falls[1]:.4e},{0.3 * falls[2]:.4e},{0.5 * (1 - settles):.6f},"
                             f"{0.03 + 0.02 * settles:.6f}\n")
                stream.flush()
                time.sleep(0.5 * pause / iterations)
        target = folder / f"flow_{step + 1:04d}.vts"
        scratch = folder / f".flow_{step + 1:04d}.part"
        write_structured(scratch, StructuredPiece("run", DIMS, points, state(points, 0.25 * step)), {})
        os.replace(scratch, target)
        tell(f"step {step + 1} of {steps}: {target.name}")
        time.sleep(0.5 * pause)
