"""CGNS: what we write comes back, files made by hand open, and nothing in a file is trusted."""

import h5py
import numpy as np
import pytest

from cgns_nodes import node
from making import cube_points
from small_series import series, state
from tidal_lens.errors import DoubtfulFlowError, FileError
from tidal_lens.formats.registry import open_flow


@pytest.mark.parametrize("step", [0, 1, 2])
def test_each_step_comes_back_as_it_was(tmp_path, step):
    path, zones = series(tmp_path)
    flow = open_flow(path, step=step)
    assert flow.times == (0.0, 0.5, 1.5)
    assert flow.step == step
    assert [b.name for b in flow.blocks] == ["left", "right"]
    assert np.array_equal(flow.points, np.concatenate([z.points for z in zones]))
    for name in ("Density", "Pressure", "VelocityX"):
        expected = np.concatenate([state(z.points, flow.times[step])[name] for z in zones])
        assert np.array_equal(flow.fields[name].values, expected)
    assert {b.name: (b.kind, len(b.faces)) for b in flow.boundaries if not b.found} == {
        "floor": ("wall", 24), "lid": ("far field", 24)}
    assert flow.seams.n_groups == 30
    assert flow.reference.velocity == (3.0, 0.0, 4.0)
    assert (flow.reference.gamma, flow.reference.origin) == (1.3, "stated in the file")
    assert flow.si_units
    assert flow.roles.has_velocity


def by_hand(path, kind="Structured", rind=0, dimensions=(3, 3)):
    """A zone as other programs write it: big-endian, values in cells, layers of ghost cells round it."""
    with h5py.File(path, "w") as file:
        base = node(file, "Base#1", "CGNSBase_t", np.array(dimensions, ">i4"))
        zone = node(base, "blk-1", "Zone_t", np.array([[4, 4, 4], [3, 3, 3], [0, 0, 0]], ">i8"))
        node(zone, "ZoneType", "ZoneType_t", kind)
        grid = node(zone, "GridCoordinates", "GridCoordinates_t")
        points = cube_points(4).reshape(4, 4, 4, 3)
        for n, axis in enumerate("XYZ"):
            node(grid, f"Coordinate{axis}", "DataArray_t", points[..., n].astype(">f8"))
        flow = node(zone, "Sol", "FlowSolution_t")
        node(flow, "GridLocation", "GridLocation_t", "CellCenter")
        if rind:
            node(flow, "Rind", "Rind_t", np.full(6, rind, ">i4"))
        core = np.arange(27.0).reshape(3, 3, 3)
        for name in ("Density", "VelocityX", "VelocityY", "VelocityZ"):
            node(flow, name, "DataArray_t", np.pad(core, rind, constant_values=-1.0).astype(">f4"))
        conditions = node(zone, "ZoneBC", "ZoneBC_t")
        wall = node(conditions, "hull", "BC_t", "BCWall")
        node(wall, "PointRange", "IndexRange_t", np.array([[1, 1, 1], [1, 4, 4]], ">i4"))
        middle = node(conditions, "plane", "BC_t", "BCSymmetryPlane")
        node(middle, "PointRange", "IndexRange_t", np.array([[1, 1, 1], [4, 1, 4]], ">i4"))
    return path


@pytest.mark.parametrize("rind", [0, 1, 2])
def test_a_file_of_other_programs(tmp_path, rind):
    flow = open_flow(by_hand(tmp_path / "solver.out", rind=rind))
    assert flow.n_cells == 27
    assert flow.times == ()
    density = flow.fields["Density"]
    assert density.place == "cell"
    assert density.values.dtype == np.float32
    assert np.array_equal(density.values, np.arange(27.0))
    assert {b.name: b.kind for b in flow.boundaries if not b.found} == {"hull": "wall", "plane": "symmetry"}
    assert np.allclose(next(b for b in flow.boundaries if b.name == "hull").points[:, 0], 0.0)
    assert np.allclose(next(b for b in flow.boundaries if b.name == "plane").points[:, 1], 0.0)


def refused(path, match, step=0):
    with pytest.raises(FileError, match=match) as caught:
        open_flow(path, step=step)
    assert path.name.split(".")[0] in str(caught.value)
    return str(caught.value)


def test_what_is_not_opened_is_told(tmp_path):
    refused(by_hand(tmp_path / "a.cgns", kind="Other"), "type 'Other'")
    refused(by_hand(tmp_path / "b.cgns", dimensions=(1, 2)), "not three-dimensional")
    whole = by_hand(tmp_path / "c.cgns").read_bytes()
    for share in (0.1, 0.5, 0.9):
        (tmp_path / "d.cgns").write_bytes(whole[:int(share * len(whole))])
        refused(tmp_path / "d.cgns", "damaged|cannot be read")
    with h5py.File(tmp_path / "e.cgns", "w") as file:
        file["x"] = np.arange(3)
    refused(tmp_path / "e.cgns", "no base")


@pytest.mark.parametrize(("where", "values", "match"), [
    ("GridCoordinates/CoordinateX", np.zeros((3, 4, 4)), "belong"),
    ("GridCoordinates/CoordinateX", np.full((4, 4, 4), np.nan), "not finite"),
    ("Sol/Density", np.zeros((2, 3, 3)), "belong"),
    ("Sol/Density", np.array([b"abc"] * 27).reshape(3, 3, 3), "belong"),
    ("ZoneBC/hull/PointRange", np.array([[1, 1, 1], [1, 4, 9]]), "range of a boundary"),
])
def test_what_contradicts_itself_is_refused(tmp_path, where, values, match):
    path = by_hand(tmp_path / "wrong.cgns")
    with h5py.File(path, "a") as file:
        group = file[f"Base#1/blk-1/{where}"]
        del group[" data"]
        group.create_dataset(" data", data=values)
    refused(path, match)


@pytest.mark.parametrize("size", [[[0, 4, 4], [3, 3, 3], [0, 0, 0]], [[4, 4, 4], [4, 4, 4], [0, 0, 0]], [[4, 4], [3, 3], [0, 0]]])
def test_a_zone_of_an_impossible_size(tmp_path, size):
    path = by_hand(tmp_path / "wrong.cgns")
    with h5py.File(path, "a") as file:
        group = file["Base#1/blk-1"]
        del group[" data"]
        group.create_dataset(" data", data=np.array(size))
    refused(path, "makes no sense")


def test_values_that_are_not_finite_raise_a_doubt(tmp_path):
    path = by_hand(tmp_path / "nan.cgns")
    with h5py.File(path, "a") as file:
        file["Base#1/blk-1/Sol/Density/ data"][1, 1, 1] = np.nan
    with pytest.raises(DoubtfulFlowError, match="not finite"):
        open_flow(path)
    assert open_flow(path, anyway=True).n_cells == 27


def relink(path, file, inner):
    with h5py.File(path, "a") as holder:
        link = holder["Base/left/FlowSolution002"]
        for what, text in ((" file", file), (" path", inner)):
            del link[what]
            link.create_dataset(what, data=np.frombuffer(text.encode() + b"\0", np.int8))
        del link[" link"]
        link[" link"] = h5py.ExternalLink(file, inner) if file else h5py.SoftLink(inner)


def test_links_stay_in_the_folder(tmp_path):
    home = tmp_path / "case"
    home.mkdir()
    path, _ = series(home)
    (tmp_path / "secret.cgns").write_bytes((home / "run 02.cgns").read_bytes())
    relink(path, "../secret.cgns", "/Base/left/FlowSolution")
    refused(path, "outside its own folder", step=1)
    relink(path, "gone.cgns", "/Base/left/FlowSolution")
    refused(path, "does not exist", step=1)
    relink(path, "run 02.cgns", "/Base/nowhere")
    refused(path, "leads nowhere", step=1)
    relink(path, "", "/Base/left/FlowSolution002")
    refused(path, "circle", step=1)
    assert open_flow(path, step=0).step == 0  # the rest is as good as it was


def test_a_step_whose_file_is_cut_off(tmp_path):
    path, _ = series(tmp_path)
    moment = tmp_path / "run 03.cgns"
    moment.write_bytes(moment.read_bytes()[:3000])
    with pytest.raises(FileError, match="damaged or cut off") as caught:
        open_flow(path, step=2)
    assert "run 03" in str(caught.value)


def test_a_node_whose_head_is_damaged_is_told(tmp_path):
    """The library has no number of such a node, and so nothing can be kept by it."""
    from tidal_lens.formats.cgns_tree import Tree

    class Odd:
        name = "/odd"

        def __hash__(self):
            raise TypeError("Objects of class FileID cannot be hashed")

        def __eq__(self, other):
            return self is other

    path, _ = series(tmp_path)
    with Tree(path) as tree, pytest.raises(FileError, match="damaged"):
        tree.own(Odd(), "Zone_t")
