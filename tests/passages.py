"""A made-up passage of a turning machine: between two cones, sheared round the axis, with closed forms of its flow."""

from dataclasses import replace

import numpy as np

from making import flow_of
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.grid import HEXAHEDRON, StructuredGrid, UnstructuredGrid

HUB, CASING, LONG = (0.5, 0.1), (1.0, -0.05), 2.0  # radius at the inlet, and its rise along the axis
PITCH, LEAN = np.radians(40.0), 0.9  # radians a unit of length
CIRCULATION, AXIAL = 0.3, 1.0


def hub(x):
    return HUB[0] + HUB[1] * x


def casing(x):
    return CASING[0] + CASING[1] * x


def span_of(p):
    r = np.hypot(p[:, 1], p[:, 2])
    return (r - hub(p[:, 0])) / (casing(p[:, 0]) - hub(p[:, 0]))


def _points(shape, pitch, lean):
    nx, nt, nr = shape
    x = LONG * np.linspace(0, 1, nx)
    share = np.linspace(0, 1, nt) + 0.15 * np.sin(np.pi * np.linspace(0, 1, nt)) ** 2  # crowded to one side: indices are no angles
    eta = np.linspace(0, 1, nr)
    tt, rr, xx = np.meshgrid(share / share[-1], eta, x, indexing="ij")  # right-handed so
    angle = 0.3 + lean * xx + pitch * tt
    r = hub(xx) + rr * (casing(xx) - hub(xx))
    # The angle is counted from z towards −y, right-handed about x.
    return np.stack([xx, -r * np.sin(angle), r * np.cos(angle)], axis=-1).reshape(-1, 3)


def angle_of(p):
    return np.arctan2(-p[:, 1], p[:, 2])


def of_pitch(p):
    """How far round the passage a place is, from 0 to 1."""
    return (np.angle(np.exp(1j * (angle_of(p) - 0.3 - LEAN * p[:, 0] - 0.5 * PITCH))) + 0.5 * PITCH) / PITCH


def free_vortex(p):
    """Axial speed 1 and r uθ constant, right-handed about x."""
    r = np.hypot(p[:, 1], p[:, 2])
    around = np.column_stack([0 * r, -p[:, 2], p[:, 1]]) / r[:, None]
    return AXIAL * np.array([1.0, 0, 0]) + (CIRCULATION / r)[:, None] * around


def passage(shape=(33, 25, 17), pitch=PITCH, lean=LEAN, blade=(0.6, 1.4), loose=False, **fields):
    """One passage with hub, casing, blades, periodic sides, inlet and outlet; other fields are functions of points."""
    nx, nt, nr = shape
    points = _points(shape, pitch, lean)
    grid = StructuredGrid((nx, nr, nt))
    index = np.arange(nx * nt * nr).reshape(nt, nr, nx)
    if loose:
        low = index[:-1, :-1, :-1]
        corners = np.stack([low, low + 1, low + 1 + nx, low + nx], axis=-1).reshape(-1, 4)
        cells = np.hstack([corners, corners + nx * nr]).astype(np.int32)
        grid = UnstructuredGrid(len(points), cells, np.full(len(cells), HEXAHEDRON, np.uint8))
    flow = flow_of([(points, grid)], {"Velocity": free_vortex(points), **{n: f(points) for n, f in fields.items()}})
    flow = replace(flow, roles=replace(flow.roles, density="Density" if "Density" in fields else None,
                                       pressure="Pressure" if "Pressure" in fields else None))

    def quads(sheet):
        return np.stack([sheet[:-1, :-1], sheet[1:, :-1], sheet[1:, 1:], sheet[:-1, 1:]], axis=-1).reshape(-1, 4)

    x = LONG * np.linspace(0, 1, nx)
    ahead = np.flatnonzero((x > blade[0] - 1e-9) & (x < blade[1] + 1e-9)) if blade is not None else [nx // 2]
    first, last = int(ahead[0]), int(ahead[-1])
    sides = [index[n, :, a:b + 1] for n in (0, nt - 1) for a, b in ((0, first), (last, nx - 1))]
    beside = np.concatenate([quads(s) for s in sides])
    blades = np.concatenate([quads(index[n, :, first:last + 1]) for n in (0, nt - 1)])
    named = (("hub", "hub", quads(index[:, 0])), ("casing", "casing", quads(index[:, -1])),
             ("blade", "blade", blades),
             ("periodic sides", "periodic", beside), ("inlet", "inlet", quads(index[:, :, 0])),
             ("outlet", "outlet", quads(index[:, :, -1])))
    return replace(flow, boundaries=tuple(boundary_of_faces(n, kind, points, faces) for n, kind, faces in named if len(faces)))
