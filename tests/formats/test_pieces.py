"""The pieces of a partition are one block again, where that is sure; else they stay apart."""

from dataclasses import replace

import numpy as np
import pytest

from making import cells_of, cube_points
from tidal_lens.flow.case import Field
from tidal_lens.flow.grid import HEXAHEDRON, UnstructuredGrid
from tidal_lens.flow.volumes import cell_volumes
from tidal_lens.formats.content import Solid, conforming
from tidal_lens.formats.pieces import joined

N = 5


def piece(points, corners, types, whole="run", **more):
    nodes, compact = np.unique(corners, return_inverse=True)
    own = points[nodes]
    fields = [Field("p", "node", own @ [1.0, 2.0, 4.0]), Field("U", "node", own.astype(np.float32)),
              Field("number", "cell", corners[:, 0].astype(float))]
    grid = UnstructuredGrid(len(nodes), compact.reshape(-1, 8).astype(np.int32), types)
    return Solid(f"piece {len(nodes)}", grid, own, fields, {}, whole=whole, **more)


def parts(kind="hexahedra", warp=0.05):
    """A cube cut into four by the places of its cells."""
    points = cube_points(N, warp)
    corners, types = cells_of(kind, N)
    middle = points[corners].mean(axis=1)
    place = (middle[:, 0] > 0.4) * 2 + (middle[:, 1] + 0.3 * middle[:, 2] > 0.7)
    return [piece(points, corners[place == n], types[place == n]) for n in range(4)]


@pytest.mark.parametrize("kind", ["hexahedra", "tetrahedra", "wedges"])
def test_pieces_are_one_block(kind):
    pieces = parts(kind)
    (block,) = joined(pieces)
    assert (block.name, block.grid.n_points, block.grid.origin) == ("run", N**3, "joined from 4 pieces")
    assert block.grid.n_cells == len(cells_of(kind, N)[0])
    assert block.notices == []
    assert np.array_equal(block.fields[0].values, block.points @ [1.0, 2.0, 4.0])
    assert np.array_equal(block.fields[1].values, block.points.astype(np.float32))
    assert np.array_equal(block.fields[2].values, np.concatenate([p.fields[2].values for p in pieces]))
    own = np.concatenate([cell_volumes(p.points, p.grid.corners) for p in pieces])
    assert np.allclose(cell_volumes(block.points, block.grid.corners), own, rtol=1e-12)


def test_values_that_differ_at_a_seam_are_averaged():
    pieces = [replace(p, fields=[Field("p", "node", np.full(p.grid.n_points, float(n)))]) for n, p in enumerate(parts())]
    (block,) = joined(pieces)
    (told,) = block.notices
    assert told.startswith("Where pieces of run meet, values jump: p (at ")
    for at, value in zip(block.points, block.fields[0].values, strict=True):
        there = [n for n, p in enumerate(pieces) if (p.points == at).all(axis=1).any()]
        assert value == pytest.approx(np.mean(there))


def test_blocks_of_their_own_stay_apart():
    pieces = parts()
    assert joined([replace(p, whole="") for p in pieces]) != []
    assert len(joined([replace(p, whole="") for p in pieces])) == 4
    two = joined([replace(p, whole="ab"[n // 2]) for n, p in enumerate(pieces)])
    assert [b.name for b in two] == ["a", "b"]


def test_what_is_not_alike_stays_apart_and_what_is_at_one_place_does_not():
    pieces = parts()
    other = [*pieces[:3], replace(pieces[3], fields=pieces[3].fields[:1])]
    assert joined(other) == other  # another set of quantities
    near = [*pieces[:3], replace(pieces[3], points=pieces[3].points + 1e-8)]
    assert joined(near)[0].grid.n_points == N**3  # nodes that meet but for rounding
    apart = [*pieces[:3], replace(pieces[3], points=pieces[3].points + 1e-2)]
    assert joined(apart)[0].grid.n_points > N**3
    last = pieces[3].grid
    corners = last.corners.copy()
    corners[0, 0] = last.n_points  # a cell with a node of its own where others have theirs
    points = np.vstack([pieces[3].points, pieces[3].points[last.corners[0, 0]]])
    slit = replace(pieces[3], points=points, grid=UnstructuredGrid(len(points), corners, last.types),
                   fields=[Field("p", "node", points @ [1.0, 2.0, 4.0]), *pieces[3].fields[1:]])
    assert joined([*pieces[:3], slit])[0].grid.n_points == N**3


def test_nodes_that_hang_on_another_piece_are_taken_up():
    """A coarse cube beside one refined twice: each in a piece of its own."""
    coarse, fine = cube_points(3), cube_points(5)
    one = piece(coarse, cells_of("hexahedra", 3)[0], np.full(8, HEXAHEDRON, np.uint8))
    other = piece(fine + np.array([1.0, 0.0, 0.0]), cells_of("hexahedra", 5)[0], np.full(64, HEXAHEDRON, np.uint8))
    (block,) = joined([one, other])
    made = conforming(block)
    assert "4 cells beside finer ones" in made.grid.origin
    assert cell_volumes(made.points, made.grid.corners).sum() == pytest.approx(2.0)
    assert (cell_volumes(made.points, made.grid.corners) > 0).all()
    assert np.allclose(made.fields[0].values, made.points @ [1.0, 2.0, 4.0])
    assert len(made.fields[2].values) == made.grid.n_cells > block.grid.n_cells
