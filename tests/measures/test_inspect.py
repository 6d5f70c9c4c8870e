"""Sizes and quality of cells against shapes whose measures are known."""

import numpy as np
import pytest

from making import KINDS, cube_flow, flow_of
from tidal_lens.flow.grid import COLLAPSE, HEXAHEDRON, TETRA, StructuredGrid, UnstructuredGrid
from tidal_lens.measures.inspect import inspect_block, inspect_values


@pytest.mark.parametrize("kind", KINDS)
def test_a_cube_of_any_cells(kind):
    flow = cube_flow(5, kind)
    report = inspect_block(flow, flow.blocks[0])
    assert report.volume == pytest.approx(1.0, rel=1e-12)
    assert report.negative == 0
    assert sum(n for _, n in report.cells) == flow.n_cells
    assert report.low == (0.0, 0.0, 0.0)
    assert report.high == (1.0, 1.0, 1.0)
    if kind in ("structured", "hexahedra"):
        assert report.skewness.value == pytest.approx(0.0, abs=1e-9)
        assert report.aspect.value == pytest.approx(1.0)


def test_a_sheared_and_stretched_block():
    """A parallelepiped sheared by 30°: corner angles 60° and 120°, so skewness 1/3; edges 1 : 4 : 1/cos 30°."""
    x, y, z = (a.ravel() for a in np.meshgrid(np.arange(3.0), np.arange(3.0), np.arange(3.0), indexing="ij"))
    order = np.lexsort((x, y, z))
    points = np.column_stack([4 * x + np.tan(np.pi / 6) * z, y, z])[order]
    flow = flow_of([(points, StructuredGrid((3, 3, 3)))])
    report = inspect_block(flow, flow.blocks[0])
    assert report.skewness.value == pytest.approx(1 / 3)
    assert report.aspect.value == pytest.approx(4.0)
    assert report.volume == pytest.approx(32.0)


def test_a_regular_tetrahedron_and_one_that_is_inside_out():
    points = np.array([(1, 1, 1), (1, -1, -1), (-1, 1, -1), (-1, -1, 1), (3.0, 3.0, 3.0)])
    # Its base seen from the apex runs clockwise: the volume is (edge √8)³/(6√2) = 8/3.
    cells = np.array([(1, 0, 2, 3), (1, 0, 2, 4)], np.int32)[:, COLLAPSE[TETRA]]
    flow = flow_of([(points, UnstructuredGrid(5, np.ascontiguousarray(cells), np.full(2, TETRA, np.uint8)))])
    report = inspect_block(flow, flow.blocks[0])
    assert report.negative == 1
    one = flow_of([(points[:4], UnstructuredGrid(4, np.ascontiguousarray(cells[:1]), np.full(1, TETRA, np.uint8)))])
    report = inspect_block(one, one.blocks[0])
    assert abs(report.volume) == pytest.approx(8 / 3)
    assert report.skewness.value == pytest.approx(0.0, abs=1e-9)
    assert report.aspect.value == pytest.approx(1.0)


def test_the_worst_cell_is_found_where_it_is():
    flow = cube_flow(5, "hexahedra")
    points = flow.points.copy()
    points[2 + 5 * (2 + 5 * 2)] += [0.2, 0.2, 0.2]  # the middle node, almost through the next corner
    flow = flow_of([(points, flow.blocks[0].grid)])
    report = inspect_block(flow, flow.blocks[0])
    np.testing.assert_allclose(report.smallest.place, 0.65, atol=0.06)
    assert report.volume == pytest.approx(1.0)
    assert report.skewness.value > 0.5
    assert flow.blocks[0].grid.types[0] == HEXAHEDRON


def test_extremes_and_values_that_are_not_finite():
    flow = cube_flow(4)
    values = flow.points @ np.array([1.0, 2.0, 4.0])
    report = inspect_values(flow, values)
    assert (report.low, report.low_place, report.high, report.high_place) == (0.0, (0.0, 0.0, 0.0), 7.0, (1.0, 1.0, 1.0))
    assert report.mean == pytest.approx(3.5)
    values[[0, 5]] = np.nan, np.inf
    report = inspect_values(flow, values)
    assert report.not_finite == 2
    assert report.first_not_finite == (0.0, 0.0, 0.0)
    assert report.low == pytest.approx(1 / 3)
    assert inspect_values(flow, np.full(64, np.nan)).not_finite == 64
