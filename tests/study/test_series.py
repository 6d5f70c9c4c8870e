import numpy as np
import pytest

from making import abc, cube_flow
from small_series import DIMS, series
from tidal_lens.errors import CancelledError, FileError
from tidal_lens.formats.registry import open_flow
from tidal_lens.quantities.links import links_of
from tidal_lens.sampling.mesh import mesh_of, ready_mesh
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.series import Series, share_mesh
from tidal_lens.work import Token


def begin(tmp_path, **more):
    path = series(tmp_path)[0]
    flow = open_flow(path)
    return Series(path, Evaluator(flow, flow.reference), **more), flow


def test_steps_are_read_once_and_share_the_mesh(tmp_path):
    kept, flow = begin(tmp_path)
    mesh = mesh_of(flow)
    second = kept.evaluator(1, flow.reference)
    assert second.flow.step == 1
    assert kept.evaluator(1, flow.reference) is second
    assert ready_mesh(second.flow) is mesh
    assert not np.array_equal(second.flow.fields["Density"].values, flow.fields["Density"].values)
    assert second.flow.number != flow.number


def test_another_reference_state_is_another_evaluator(tmp_path):
    kept, flow = begin(tmp_path)
    other = type(flow.reference)(2e5, 2.0, (1.0, 0.0, 0.0))
    assert kept.evaluator(0, other).store.reference == other
    assert kept.evaluator(0, other).flow is flow


def test_old_steps_are_dropped_over_the_limit(tmp_path, memory_limit):
    kept, flow = begin(tmp_path)
    for step in (1, 2):
        kept.evaluator(step, flow.reference)
    assert all(kept.has(n) for n in range(3))
    memory_limit(1)
    assert [kept.has(n) for n in range(3)] == [False, False, True], "the one used last stays"
    memory_limit(None)
    assert kept.evaluator(0, flow.reference).flow.step == 0


def test_a_cancelled_or_broken_step_is_not_kept(tmp_path):
    kept, flow = begin(tmp_path)
    token = Token()
    token.cancel()
    with pytest.raises(CancelledError):
        kept.evaluator(1, flow.reference, token)
    assert not kept.has(1)
    (tmp_path / "run 03.cgns").unlink()
    with pytest.raises(FileError):
        kept.evaluator(2, flow.reference)
    assert not kept.has(2)


def test_another_mesh_is_not_shared(tmp_path):
    _, flow = begin(tmp_path)
    mesh_of(flow)
    moved = open_flow(tmp_path / "run.cgns", step=1)
    moved.points[DIMS[0]] += 1e-3
    assert not share_mesh(flow, moved)
    assert ready_mesh(moved) is None


def test_unstructured_steps_share_links_and_mesh():
    first, second = (cube_flow(5, "tetrahedra", 0.05, velocity=abc, rho=lambda p, t=t: 1.0 + t * p[:, 0]) for t in (1.0, 2.0))
    Evaluator(first, first.reference).store.values("q")
    mesh = mesh_of(first)
    assert share_mesh(first, second)
    assert ready_mesh(second) is mesh
    assert links_of(second.blocks[0].grid) is links_of(first.blocks[0].grid)
    other = cube_flow(5, "wedges", 0.05, velocity=abc)
    assert not share_mesh(first, other)
