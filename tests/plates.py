"""A flat plate in a stream, by Blasius; walls of made flows."""

from dataclasses import replace

import numpy as np
from scipy.integrate import solve_ivp

from making import flow_of
from tidal_lens.flow.case import Boundary
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid


def with_wall(flow, on, kind="wall"):
    """The flow with a boundary of those outer faces whose corners all pass a test."""
    faces = flow.outside.faces[on(flow.points[flow.outside.faces]).all(axis=1)]
    nodes, compact = np.unique(faces, return_inverse=True)
    wall = Boundary("wall", kind, flow.points[nodes], compact.reshape(-1, 4), nodes)
    return replace(flow, boundaries=(*flow.boundaries, wall))


def bed(p):
    return np.abs(p[..., 2]) < 1e-12


def blasius():
    """f, f' and f'' of Blasius' equation on [0, 12], begun with f''(0) = 0.33206 (Schlichting, table 7.1)."""
    return solve_ivp(lambda _x, f: [f[1], f[2], -0.5 * f[0] * f[2]], (0, 12), [0, 0, 0.33206], rtol=1e-10, atol=1e-12,
                     dense_output=True).sol


def plate(kind="structured", layers=41, columns=21, nu=1e-4, stream=2.0, rho=1.2, high=0.12):
    """The boundary layer over z = 0 from x = 0.5 to 1.5, on a grid that is stretched away from it; with density and pressure."""
    f = blasius()
    x, z = np.linspace(0.5, 1.5, columns), high * (np.expm1(3 * np.linspace(0, 1, layers)) / np.expm1(3))
    zz, yy, xx = (a.ravel() for a in np.meshgrid(z, [0.0, 0.05, 0.1, 0.15], x, indexing="ij"))
    points = np.column_stack([xx, yy, zz])
    eta = zz * np.sqrt(stream / (nu * xx))
    part = f(np.minimum(eta, 12.0))
    u = np.column_stack([stream * part[1], 0 * xx, 0.5 * np.sqrt(nu * stream / xx) * (eta * part[1] - part[0])])
    grid = StructuredGrid((columns, 4, layers))
    if kind == "hexahedra":
        index = np.arange(len(points), dtype=np.int32).reshape(layers, 4, columns)
        a, b = slice(None, -1), slice(1, None)
        corners = np.stack([index[a, a, a], index[a, a, b], index[a, b, b], index[a, b, a], index[b, a, a], index[b, a, b],
                            index[b, b, b], index[b, b, a]], axis=-1).reshape(-1, 8)
        grid = UnstructuredGrid(len(points), np.ascontiguousarray(corners), np.full(len(corners), 12, np.uint8))
    fields = {"Velocity": u, "Density": np.full(len(u), rho), "Pressure": np.full(len(u), 1.0)}
    return with_wall(flow_of([(points, grid)], fields), bed)
