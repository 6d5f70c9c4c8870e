"""Parts of a result: blocks, quantities, a region, every n-th point; and what does not fit into memory."""

import meshio
import numpy as np
import pytest

from cell_checks import linear, stream
from making import cells_of, cube_points, flow_of
from small_series import series
from tidal_lens.errors import FileError
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.formats import reading as module
from tidal_lens.formats.export import save_flow
from tidal_lens.formats.reading import Reading, TooLargeError
from tidal_lens.formats.registry import open_flow
from tidal_lens.formats.written import flow_data

N = 9


def saved(path, *kinds):
    blocks, at = [], 0.0
    for kind in kinds:
        grid = StructuredGrid((N, N, N)) if kind == "structured" else UnstructuredGrid(N**3, *cells_of(kind, N))
        blocks.append((cube_points(N) + np.array([at, 0, 0]), grid))
        at += 1.0
    points = np.concatenate([p for p, _ in blocks])
    flow = flow_of(blocks, {"U": stream(points), "p": linear(points), "T": 300 + linear(points),
                            "number@cell": np.arange(float(sum(g.n_cells for _, g in blocks)))})
    save_flow(path, flow_data(flow, {}))
    return path


@pytest.mark.parametrize("suffix", [".vtm", ".cgns", ".vtkhdf"])
def test_blocks_and_quantities_are_left_out_but_known(tmp_path, suffix):
    path = saved(tmp_path / f"a{suffix}", "structured", "hexahedra")
    whole = open_flow(path)
    temperature = "Temperature" if suffix == ".cgns" else "T"
    assert set(whole.offered[0]) == {"block 0", "block 1"}
    assert temperature in whole.offered[1]
    part = open_flow(path, reading=Reading(frozenset({"block 1"}), frozenset({temperature})))
    assert [b.name for b in part.blocks] == ["block 0"]
    assert temperature not in part.fields
    assert part.roles.temperature is None
    assert part.offered == whole.offered
    assert part.nbytes < 0.6 * whole.nbytes


def test_every_second_point_of_a_structured_block(tmp_path):
    path = saved(tmp_path / "a.vtm", "structured", "hexahedra")
    part = open_flow(path, reading=Reading(every=3))
    assert part.blocks[0].grid.dims == (4, 4, 4), "0, 3, 6 and the last"
    assert part.blocks[1].grid.n_cells == (N - 1) ** 3, "a preview is of structured blocks"
    np.testing.assert_allclose(part.fields["p"].values, linear(part.points), atol=1e-12)
    np.testing.assert_allclose(part.bounds[1], [2.0, 1.0, 1.0])
    cells = part.fields["number"].values[:27].reshape(3, 3, 3)
    assert cells[1, 2, 1] == 3 + 8 * (6 + 8 * 3), "a cell takes the value of the old one at its first corner"


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra"])
def test_a_region(tmp_path, kind):
    path = saved(tmp_path / "a.vtm", kind)
    part = open_flow(path, reading=Reading(low=(0.4, 0.0, 0.0), high=(0.6, 1.0, 0.3)))
    low, high = part.bounds
    assert low[0] <= 0.4
    assert high[0] >= 0.6
    assert low[0] >= 0.25
    assert high[0] <= 0.75
    assert high[2] <= 0.5
    np.testing.assert_allclose(part.fields["p"].values, linear(part.points), atol=1e-12)
    assert part.n_points < 0.5 * N**3
    with pytest.raises(FileError, match="nothing of the flow"):
        open_flow(path, reading=Reading(low=(5.0, 5.0, 5.0), high=(6.0, 6.0, 6.0)))


def test_a_part_of_a_series_and_of_text_files(tmp_path):
    path, _ = series(tmp_path)
    part = open_flow(path, step=1, reading=Reading(frozenset({"right"}), frozenset({"Pressure"}), 2))
    assert [b.name for b in part.blocks] == ["left"]
    assert part.roles.pressure is None
    assert part.blocks[0].grid.dims == (3, 3, 4)
    mesh = meshio.Mesh(cube_points(3), [("hexahedron", cells_of("hexahedra", 3)[0].astype(np.int64))],
                       point_data={"U": stream(cube_points(3)), "p": linear(cube_points(3))})
    for name in ("a.xdmf", "a.vtk"):
        mesh.write(tmp_path / name)
        part = open_flow(tmp_path / name, reading=Reading(without_quantities=frozenset({"p"})))
        assert set(part.fields) == {"U"}
        assert set(part.offered[1]) == {"U", "p"}


class _Memory:
    available = 400_000


@pytest.mark.parametrize("suffix", [".vtm", ".cgns", ".vtkhdf"])
def test_what_would_not_fit_is_refused_with_what_would(tmp_path, monkeypatch, suffix):
    """Each block takes some 50 kB of points and values: in 40 kB neither fits, of one every second point does."""
    path = saved(tmp_path / f"a{suffix}", "structured" if suffix != ".vtkhdf" else "hexahedra")
    assert open_flow(path).n_points == N**3
    monkeypatch.setattr(_Memory, "available", 40_000)
    monkeypatch.setattr(module.psutil, "virtual_memory", _Memory)
    with pytest.raises(TooLargeError, match="GB of memory") as caught:
        open_flow(path)
    if suffix != ".vtkhdf":
        assert "every second point" in caught.value.hint
        assert open_flow(path, reading=Reading(every=2)).n_points == 5**3
    else:
        assert "region" in caught.value.hint


@pytest.mark.parametrize(("steps", "times"), [(slice(0, None, 2), (0.0, 1.0, 2.0)), (slice(1, 4, 1), (0.5, 1.0, 1.5)),
                                              (slice(1, 4, 2), (0.5, 1.5)), (slice(4, None, 1), (2.0,))])
def test_some_steps_of_a_series(tmp_path, steps, times):
    path, _ = series(tmp_path, (0.0, 0.5, 1.0, 1.5, 2.0))
    for n, time in enumerate(times):
        flow = open_flow(path, step=n, reading=Reading(steps=steps))
        assert (flow.times, flow.step, flow.all_times) == (times, n, (0.0, 0.5, 1.0, 1.5, 2.0))
        assert flow.fields["Density"].values[0] == pytest.approx(1.0 + time)
    assert open_flow(path, step=99, reading=Reading(steps=steps)).step == len(times) - 1


def test_steps_that_a_series_does_not_have(tmp_path):
    path, _ = series(tmp_path)
    with pytest.raises(FileError, match="There are 3 steps, and none of them"):
        open_flow(path, reading=Reading(steps=slice(7, None, 1)))
