"""Bodies, lists of points and seeds laid into the flow; the flow and cards saved as data."""

import meshio
import numpy as np
import pytest

from driving import click, settle, wait
from tidal_lens.formats.clouds import columns_of_points
from tidal_lens.formats.csv_tables import Table
from tidal_lens.formats.registry import open_flow
from tidal_lens.study.files import load_study


def texts(window):
    return [strip.text.text() for strip in window.strips.live()]


def press(window, title):
    """Press a button of a strip."""
    click(next(b for strip in window.strips.live() for b in strip.buttons if b.text() == title))


def inside(flow, n):
    low, high = flow.bounds
    return low + (high - low) * (0.2 + 0.6 * np.random.default_rng(4).random((n, 3)))


@pytest.mark.gui
def test_a_body_is_laid_into_the_flow_and_takes_its_values(window, tmp_path):
    flow = window.document.flow
    middle, size = 0.5 * sum(flow.bounds), 0.1 * flow.size
    corners = middle + size * np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)])
    meshio.Mesh(corners, [("triangle", np.array([(0, 2, 1), (0, 1, 3), (1, 2, 3), (0, 3, 2)]))]).write(tmp_path / "probe.stl")
    window.document.open_path(tmp_path / "probe.stl")
    settle(window)
    layer = window.document.chosen_layer
    assert layer.kind == "body"
    assert layer.name == "probe"
    assert window.bench.card.controls["body"].source.text().startswith("From probe.stl")
    window.cards.colour_by("speed")
    settle(window)
    result = window.document.asking.results[layer.id]
    store = window.document.evaluator.store
    np.testing.assert_allclose(result.colours, result.geometry.stencil.apply(store.values("speed")))
    assert np.isfinite(result.colours).all()
    assert window.document.save(tmp_path / "deep" / "a.tidal")
    assert '"../probe.stl"' in (tmp_path / "deep" / "a.tidal").read_text()
    kept = next(x for x in load_study(tmp_path / "deep" / "a.tidal").layers if x.kind == "body")
    assert kept.shape.path == str(tmp_path / "probe.stl")
    (tmp_path / "probe.stl").write_bytes(b"nothing")
    window.document.open_path(tmp_path / "deep" / "a.tidal")
    wait(lambda: any("STL" in text for text in window.document.asking.failures.values()), "the trouble on the card")


@pytest.mark.gui
def test_a_body_without_a_flow_is_told(empty, tmp_path):
    (tmp_path / "a.stl").write_bytes(b"nothing")
    empty.document.open_path(tmp_path / "a.stl")
    wait(lambda: any("Open a result first" in t for t in texts(empty)), "the message")


@pytest.mark.gui
def test_a_list_of_points_becomes_seeds_or_points(window, tmp_path):
    flow = window.document.flow
    points = np.vstack([inside(flow, 12), flow.bounds[1] + flow.size])
    path = tmp_path / "taps.csv"
    path.write_text("tap,X [m],Y [m],Z [m],Cp\n" + "\n".join(f"{n},{x},{y},{z},{0.5 * n * n}" for n, (x, y, z) in enumerate(points)))
    window.document.open_path(path)
    wait(lambda: any("13 points" in t for t in texts(window)), "the question")
    press(window, "Seeds of streamlines")
    settle(window)
    layer = window.document.chosen_layer
    assert layer.kind == "streamlines"
    np.testing.assert_allclose(layer.shape.seeds[0].points, points)
    lines = window.document.asking.results[layer.id].geometry
    assert lines.n_seeds == 13
    assert lines.n_lines == 12
    controls = window.bench.card.controls["streamlines"]
    assert "13 seeds listed in taps.csv" in controls.seeds.listed.text()
    assert not controls.seeds.fields["count"][0].isVisible()
    assert not window.view.handles.beads(), "a list has no line to drag"
    window.document.open_path(path)
    wait(lambda: any("13 points" in t for t in texts(window)), "the question")
    press(window, "Points to show")
    settle(window)
    layer = window.document.chosen_layer
    assert layer.kind == "cloud"
    assert layer.look.colour_by == "own:Cp"
    window.cards.colour_by("file:Pressure")
    settle(window)
    colours = window.document.asking.results[layer.id].colours
    assert np.isnan(colours[-1]), "outside the flow there is no value"
    assert np.isfinite(colours[:12]).all()
    assert "taps.csv" in window.deck.cards[layer.id].toolTip()
    press_count = len(window.document.study.layers)
    window.act("undo")
    window.act("undo")
    assert len(window.document.study.layers) == press_count - 1


def test_columns_of_places_are_told_by_their_names():
    values = np.arange(12.0).reshape(3, 4)
    for names in (("x", "y", "z", "p"), ("X", "Y", "Z", "p"), ("CoordinateX", "CoordinateY", "CoordinateZ", "p"),
                  ("Points:0", "Points:1", "Points:2", "p"), ("x [mm]", "y [mm]", "z [mm]", "p")):
        assert columns_of_points(Table(names, values)) == list(names[:3])
    assert columns_of_points(Table(("iteration", "x", "y", "p"), values)) is None


@pytest.mark.gui
def test_the_flow_is_saved_with_the_quantities_in_use(window, tmp_path):
    window.cards.colour_by("q")
    settle(window)
    flow, store = window.document.flow, window.document.evaluator.store
    for name in ("a.vtm", "a.cgns", "a.vtkhdf"):
        window.act("save-flow", str(tmp_path / name))
        wait(lambda n=name: any(f"Saved {n}" in t for t in texts(window)), name)
        back = open_flow(tmp_path / name)
        assert back.n_points == flow.n_points
        np.testing.assert_array_equal(back.fields["Q"].values, store.values("q"))
        np.testing.assert_array_equal(back.fields["Pressure"].values, flow.fields["Pressure"].values)
    window.act("save-flow", str(tmp_path / "none" / "a.vtm"))
    wait(lambda: any("could not be" in t for t in texts(window)), "the message")


@pytest.mark.gui
def test_cards_are_saved_as_geometry(window, tmp_path):
    window.act("add-streamlines")
    settle(window)
    lines = window.document.asking.results[window.document.chosen].geometry
    window.act("save-card", str(tmp_path / "lines.csv"))
    wait(lambda: any("Saved lines.csv" in t for t in texts(window)), "the lines")
    rows = (tmp_path / "lines.csv").read_text().splitlines()
    assert len(rows) == len(lines.points) + 1
    assert rows[0].startswith("line,x,y,z,time,")
    slice_id = next(x.id for x in window.document.study.layers if x.kind == "slice")
    window.document.choose(slice_id)
    for name in ("slice.ply", "slice.vtp", "slice.stl"):
        window.act("save-card", str(tmp_path / name))
        wait(lambda n=name: any(f"Saved {n}" in t for t in texts(window)), name)
    mesh = meshio.read(tmp_path / "slice.ply")
    cut = window.document.asking.results[slice_id]
    np.testing.assert_allclose(mesh.points, cut.geometry.points)
    np.testing.assert_allclose(mesh.point_data["Mach_number"], cut.colours, rtol=1e-6)
