"""What passes the part of a plane that belongs to a bubble: against the same by graphs of another library."""

import numpy as np
import pytest
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tidal_lens.features import bubble_kernels

LEAST = 1e-12


def own_part(u, faces, seeds, c):
    """Vertices with u < c that hang together with a seed."""
    low = u < c
    pairs = np.concatenate([faces[:, [k, (k + 1) % 4]] for k in range(4)])
    good = low[pairs].all(axis=1)
    graph = coo_matrix((np.ones(good.sum(), np.int8), tuple(pairs[good].T)), (len(u), len(u)))
    part = connected_components(graph, directed=False)[1]
    return low & np.isin(part, part[seeds & low])


def by_many_pieces(points, faces, value, f, n=40):
    """Integral of f over where value is positive, both linear over triangles: by small triangles."""
    a, b = (np.arange(n) + 1 / 3) / n, (np.arange(n) + 2 / 3) / n
    first = [(x, y) for x in a for y in a if x + y < 1 - 0.5 / n]
    second = [(x, y) for x in b for y in b if x + y < 1]
    st = np.array(first + second)
    shares = np.column_stack([1 - st.sum(axis=1), st])
    total = 0.0
    for tri in [q[[0, 1, 2]] for q in faces] + [q[[0, 2, 3]] for q in faces if q[2] != q[3]]:
        area = 0.5 * np.linalg.norm(np.cross(points[tri[1]] - points[tri[0]], points[tri[2]] - points[tri[0]]))
        total += area / len(shares) * ((shares @ f[tri]) * (shares @ value[tri] > 0)).sum()
    return total


@pytest.mark.parametrize("seed", range(4))
def test_what_passes_is_that_of_the_part_with_the_seeds(seed):
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:1:13j, 0:1:13j]
    points = np.column_stack([x.ravel(), y.ravel(), 0.2 * x.ravel()])
    quads = np.array([[13 * j + i, 13 * j + i + 1, 13 * j + i + 14, 13 * j + i + 13] for j in range(12) for i in range(12)])
    faces = np.where((rng.random(144) < 0.3)[:, None], quads[:, [0, 1, 2, 2]], quads)
    u = np.cos(9 * x + seed).ravel() * np.cos(8 * y).ravel() + 0.2 * rng.random(169)
    f, seeds, c = rng.random(169) - 0.4, np.zeros(169, bool), 0.1
    seeds[np.flatnonzero(u < 0)[:2]] = True
    mine = own_part(u, faces, seeds, c)
    assert 0 < mine.sum() < (u < c).sum(), "there are parts without a seed"
    value = np.where(mine, c - u, np.minimum(c - u, -LEAST))
    found = bubble_kernels.passing(points, faces, u, f, seeds, c, LEAST, np.empty(169, np.int64), np.empty(169, bool))
    assert found == pytest.approx(by_many_pieces(points, faces, value, f), abs=2e-4)
    assert bubble_kernels.passing(points, faces, u, 0 * f + 1, seeds, 9.0, LEAST, np.empty(169, np.int64), np.empty(169, bool)) \
        == pytest.approx(by_many_pieces(points, faces, 9.0 - u, 0 * f + 1), rel=1e-9)
