"""Contour lines against potential flow past a cylinder: its streamlines are lines of constant ψ = U (r − a²/r) sin θ.

J. D. Anderson, Fundamentals of Aerodynamics, section 3.13 (nonlifting flow over a circular cylinder).
"""

import numpy as np
import pytest

from tidal_lens.cutting.level_lines import level_lines
from tidal_lens.cutting.surface import Surface
from tidal_lens.sampling.mesh import Stencil

LEVELS = (0.2, 0.5, 1.0, 1.7)


def psi(points, u=1.0, a=1.0):
    r2 = points[:, 0] ** 2 + points[:, 1] ** 2
    return u * points[:, 1] * (1.0 - a**2 / r2)


def ring(n):
    """Quadrilaterals between the cylinder and a circle of four radii."""
    r, t = np.meshgrid(np.linspace(1.0, 4.0, n + 1), np.linspace(0.0, 2.0 * np.pi, 4 * n + 1), indexing="ij")
    points = np.column_stack([(r * np.cos(t)).ravel(), (r * np.sin(t)).ravel(), np.zeros(r.size)])
    at = np.arange(r.size).reshape(r.shape)
    faces = np.stack([at[:-1, :-1], at[1:, :-1], at[1:, 1:], at[:-1, 1:]], axis=-1).reshape(-1, 4)
    return Surface(points, faces, Stencil(np.arange(r.size)[:, None], np.ones((r.size, 1))))


def worst(n):
    surface = ring(n)
    points, _edges, level = level_lines(surface, psi(surface.points), LEVELS)
    assert set(level) == set(range(len(LEVELS)))
    return float(np.abs(psi(points.mean(axis=1)) - np.array(LEVELS)[level]).max())


def test_lines_lie_on_the_stream_function_at_second_order():
    errors = [worst(n) for n in (16, 32, 64)]
    assert errors[2] < 2e-3
    assert np.log2(errors[0] / errors[1]) == pytest.approx(2.0, abs=0.35)
    assert np.log2(errors[1] / errors[2]) == pytest.approx(2.0, abs=0.35)
