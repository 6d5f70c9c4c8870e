"""A small time series in two blocks, as CGNS."""

import numpy as np

from tidal_lens.formats.cgns_write import Patch, Zone, write_series

DIMS = (4, 5, 6)
REFERENCE = {"Density": 1.2, "Pressure": 1e5, "VelocityX": 3.0, "VelocityY": 0.0, "VelocityZ": 4.0, "SpecificHeatRatio": 1.3}


def box(shift=0.0):
    z, y, x = np.meshgrid(*(np.linspace(0, 1, n) for n in DIMS[::-1]), indexing="ij")
    return np.column_stack([x.ravel() + shift, y.ravel(), z.ravel()])


def state(points, time):
    return {"Density": 1.0 + points[:, 0] + time, "Pressure": 2.0 + points[:, 1] * time, "VelocityX": points[:, 2] + 1.0,
            "VelocityY": 0.0 * points[:, 0], "VelocityZ": 0.5 + 0.0 * points[:, 0]}


def series(folder, times=(0.0, 0.5, 1.5)):
    patches = (Patch("floor", "BCWallViscous", (1, 1, 1), (4, 5, 1)), Patch("lid", "BCFarfield", (1, 1, 6), (4, 5, 6)))
    zones = [Zone("left", DIMS, box(), patches), Zone("right", DIMS, box(1.0), patches)]
    path = folder / "run.cgns"
    write_series(path, zones, times, [[state(z.points, t) for z in zones] for t in times], REFERENCE)
    return path, zones
