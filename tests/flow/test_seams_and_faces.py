import numpy as np
import pytest

from making import cells_of, cube_points, flow_of, unstructured
from tidal_lens.flow.faces import outer_faces
from tidal_lens.flow.grid import StructuredGrid


@pytest.mark.parametrize(("kind", "per_side"), [("hexahedra", 1), ("tetrahedra", 2)])
def test_outer_faces_of_a_cube(kind, per_side):
    n = 5
    faces = outer_faces(unstructured(kind, n))
    assert len(faces) == 6 * (n - 1) ** 2 * per_side
    points = cube_points(n)
    inside = np.all((points > 0) & (points < 1), axis=1)
    assert not inside[faces].any()


def test_wedges_have_triangles_and_quadrilaterals_outside():
    n = 4
    faces = outer_faces(unstructured("wedges", n))
    triangles = faces[:, 2] == faces[:, 3]
    assert triangles.sum() == 2 * 2 * (n - 1) ** 2
    assert (~triangles).sum() == 4 * (n - 1) ** 2


def two_cubes(shift=1.0):
    n = 5
    a = cube_points(n)
    return flow_of([(a, StructuredGrid((n, n, n))), (a + np.array([shift, 0, 0]), unstructured("hexahedra", n))])


def test_nodes_on_a_seam_are_grouped_and_its_faces_are_inside():
    flow = two_cubes()
    assert flow.seams.n_groups == 25
    outside = flow.outside.faces
    assert len(outside) == 10 * 16
    values = np.zeros(flow.n_points)
    values[:125] = 1.0
    flow.seams.average(values)
    on_seam = np.isclose(flow.points[:, 0], 1.0)
    assert np.allclose(values[on_seam], 0.5)
    assert set(np.unique(values[~on_seam])) == {0.0, 1.0}


def test_blocks_apart_have_no_seam():
    assert two_cubes(1.5).seams.n_groups == 0


def test_cells_of_all_kinds_fill_the_cube():
    for kind in ("hexahedra", "tetrahedra", "wedges"):
        corners, types = cells_of(kind, 3)
        assert len(corners) == len(types)
        assert corners.max() == 26


@pytest.mark.parametrize("off", [0.0, 3e-8])
def test_blocks_that_meet_exactly_and_to_rounding_have_the_same_seam(off):
    """Coordinates kept in single precision meet to rounding only."""
    random = np.random.default_rng(2)
    left, right = cube_points(9), cube_points(9) + np.array([1.0, 0.0, 0.0])
    right = right + off * random.uniform(-1, 1, right.shape)
    flow = flow_of([(left, StructuredGrid((9, 9, 9))), (right, unstructured("hexahedra", 9))])
    assert flow.seams.n_groups == 81
    assert len(flow.seams.nodes) == 162
    assert len(flow.outside.faces) == 10 * 64
