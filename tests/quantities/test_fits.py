"""Least-squares gradients on unstructured grids against the same fits by numpy.linalg.lstsq, node by node."""

import numpy as np
import pytest

from making import abc, cells_of, cube_points
from tidal_lens.flow.grid import COLLAPSE, WEDGE, UnstructuredGrid
from tidal_lens.quantities.gradients import block_gradient
from tidal_lens.quantities.links import links_of


def fan(spokes):
    """Wedges about an axis of three nodes, each of which has as many neighbours as there are spokes, and more."""
    angle = np.linspace(0, 2 * np.pi, spokes, endpoint=False)
    rim = np.column_stack([np.cos(angle), np.sin(angle) * (1 + 0.2 * np.sin(3 * angle))])
    points = np.array([[x, y, z] for z in (0.0, 0.6, 1.3) for x, y in [(0.02, 0.01), *rim]])
    layer = spokes + 1
    cells = []
    for low in (0, layer):
        for n in range(spokes):
            a, b = low + 1 + n, low + 1 + (n + 1) % spokes
            cells.append([low, a, b, low + layer, a + layer, b + layer])
    corners = np.array(cells)[:, COLLAPSE[WEDGE]].astype(np.int32)
    return points, UnstructuredGrid(len(points), np.ascontiguousarray(corners), np.full(len(cells), WEDGE, np.uint8))


def by_numpy(points, grid, values):
    """Weighted least squares over the neighbours; at outer and lopsided nodes a quadratic over two rings, a third where they are few."""
    near = links_of(grid)
    neighbours = [near.links[a:b] for a, b in zip(near.starts[:-1], near.starts[1:], strict=True)]
    out, quadratic = np.empty((len(points), values.shape[1], 3)), 0
    for n, ring in enumerate(neighbours):
        d = points[ring] - points[n]
        lengths = np.linalg.norm(d, axis=1)
        if near.outer[n] or np.linalg.norm(d.sum(axis=0)) > 0.16 * lengths.sum():
            around = set(ring)
            for level in (2, 3):
                if level == 2 or len(around) < 14:
                    around |= {int(o) for m in list(around) for o in neighbours[m]} - {n}
            ring = np.array(sorted(around))  # noqa: PLW2901  (the wider one)
            x, y, z = (points[ring] - points[n]).T
            terms = np.column_stack([x, y, z, x * x, y * y, z * z, x * y, y * z, x * z])
            quadratic += 1
        else:
            terms = d
        weights = 1 / np.linalg.norm(points[ring] - points[n], axis=1)
        found = np.linalg.lstsq(weights[:, None] * terms, weights[:, None] * (values[ring] - values[n]), rcond=None)[0]
        out[n] = found[:3].T
    return out, quadratic


@pytest.mark.parametrize("components", [1, 3])
@pytest.mark.parametrize("kind", ["hexahedra", "tetrahedra", "wedges"])
def test_fits_are_those_of_numpy(kind, components):
    """Some hundred nodes: no whole number of those that are worked on side by side, plain and quadratic fits among them."""
    points = cube_points(7, 0.08)
    inner = ((points > 0.01) & (points < 0.99)).all(axis=1)
    points += inner[:, None] * np.random.default_rng(8).uniform(-0.03, 0.03, points.shape)
    grid, values = UnstructuredGrid(len(points), *cells_of(kind, 7)), abc(3 * points)[:, :components]
    expected, quadratic = by_numpy(points, grid, values)
    assert 0.3 * len(points) < quadratic < len(points) - 10
    assert np.abs(block_gradient(grid, points, values) - expected).max() < 1e-8
    coarse = block_gradient(grid, points, values.astype(np.float32))
    assert coarse.dtype == np.float32
    assert np.abs(coarse - expected).max() < 2e-5


@pytest.mark.parametrize("spokes", [31, 70])
def test_nodes_of_very_many_neighbours(spokes):
    """More of them than are summed up at a time; at the axis' middle the plain fit, elsewhere quadratic ones over up to 160 nodes."""
    points, grid = fan(spokes)
    counts = np.diff(links_of(grid).starts)
    assert counts[spokes + 1] == spokes + 2
    linear = points @ np.array([[2.0, 0.5, -1.0], [1.0, 0.0, 3.0], [-2.0, 1.0, 0.3]]).T
    assert np.abs(block_gradient(grid, points, linear) - [[2.0, 0.5, -1.0], [1.0, 0.0, 3.0], [-2.0, 1.0, 0.3]]).max() < 1e-8
    values = np.cos(points) @ np.array([[1.0, 2.0], [0.5, -1.0], [0.3, 0.2]])[:, [0, 1, 0]]
    middle = spokes + 1
    assert np.abs(block_gradient(grid, points, values)[middle] - by_numpy(points, grid, values)[0][middle]).max() < 1e-10
