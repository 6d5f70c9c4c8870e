"""The kit: what every kind of layer must do, whatever it is."""

import json
import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

from making import cube_points
from passages import passage
from tidal_lens.cutting.points import Points
from tidal_lens.cutting.surface import Surface
from tidal_lens.errors import CancelledError
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.formats.bodies import write_stl
from tidal_lens.formats.clouds import read_cloud
from tidal_lens.formats.export import save_geometry
from tidal_lens.formats.registry import open_flow
from tidal_lens.formats.written import ENDINGS, Geometry
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.basis import shape_basis
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.files import load_study, save_study
from tidal_lens.study.formulas import renamed, used_by, with_formula
from tidal_lens.study.kinds import KINDS, streamlines
from tidal_lens.study.kinds.body import new_body
from tidal_lens.study.kinds.cloud import new_cloud
from tidal_lens.study.kinds.frozen import freeze
from tidal_lens.study.kinds.points import new_points
from tidal_lens.study.kinds.streamlines import new_seed_list
from tidal_lens.study.model import Study
from tidal_lens.study.value import retold, walk
from tidal_lens.study.words import Words
from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token
from vtk_data import add, structured, write

DATA = Path(__file__).parent.parent / "data"
SRC = Path(__file__).parent.parent.parent / "src" / "tidal_lens"


def swirl(p):
    return np.column_stack([1 + 0 * p[:, 0], -(p[:, 2] - 0.5), p[:, 1] - 0.5])


def around(p):
    """A vortex along x, a separation on the floor, and fluid that runs back in the middle: something for each finder."""
    x, y, z = 2 * p.T - 1
    w = (z + 1) * np.exp(-(y**2 + z**2) / 0.1)
    drawn = np.column_stack([1 + 0 * x, -3 * y, 0 * x])
    return 0.2 * (z + 1)[:, None] * drawn + w[:, None] * np.column_stack([-3 * np.exp(-(x**2) / 0.2), -8 * z, 8 * y])


def pressed(p):
    """A pressure that a shock leaves behind."""
    return np.where(p[:, 0] > 0.52, 4.5, 1.0)


def opened(path, turn=1.0, n=11, velocity=swirl, pressure=lambda p: 1 + p[:, 0], density=lambda p: 1 + 0 * p[:, 0]):
    """The cube from a file, so that it has boundaries."""
    points = cube_points(n)
    data = structured(points, (n, n, n))
    for name, values in (("Velocity", turn * velocity(points)), ("p", pressure(points)), ("rho", density(points))):
        add(data.GetPointData(), name, values)
    write(vtkXMLStructuredGridWriter(), data, path)
    return open_flow(path)


@pytest.fixture(scope="module")
def evaluators(tmp_path_factory):
    folder = tmp_path_factory.mktemp("cube")
    reference = ReferenceState(1.0, 1.0, (1.0, 0, 0))
    met = opened(folder / "met.vts", n=15, velocity=lambda p: np.where(p[:, :1] > 0.52, 0.89, 2.37) * np.array([1.0, 0, 0]),
                 pressure=pressed, density=lambda p: np.where(p[:, 0] > 0.52, 2.67, 1.0))
    found = opened(folder / "found.vts", velocity=around, n=31)
    steps = [replace(found, times=(0.0, 1.0, 3.0), step=n) for n in range(3)]
    series = Evaluator(steps[0], reference)
    series.store.moments = lambda n, ref, methods: QuantityStore(steps[n], ref, methods)
    machine = passage((17, 9, 9), Pressure=lambda p: 3 + p[:, 0], Density=lambda p: 1 + 0 * p[:, 0])
    return {"series": series, "machine": Evaluator(machine, reference),
            "": Evaluator(opened(folder / "a.vts"), reference), "shocks": Evaluator(met, reference),
            "find": Evaluator(found, reference)}


@pytest.fixture
def evaluator(request, evaluators):
    kind = request.node.callspec.params.get("kind") if hasattr(request.node, "callspec") else None
    if kind is not None and kind.shape.of_series:
        return evaluators["series"]
    if kind is not None and kind.group == "Turning":
        return evaluators["machine"]
    named = "" if kind is None or kind.station not in ("find", "measure") else "shocks" if kind.name == "shocks" else "find"
    return evaluators[named]


def begun(kind, store, folder):
    if kind.begin is not None:
        return kind.begin(store, kind.tiles[0].argument)
    if kind.name == "body":
        faces = np.array([[0, 2, 1, 1], [0, 1, 3, 3], [0, 3, 2, 2], [1, 2, 3, 3]])
        write_stl(folder / "a.stl", Geometry(0.3 + 0.3 * np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]]), faces, None, {}))
        return new_body(folder / "a.stl")
    if kind.name == "cloud":
        places = np.array([[0.2, 0.3, 0.4], [0.7, 0.6, 0.5]])
        save_geometry(folder / "a.vtp", Geometry(places, None, None, {"d": np.array([1.0, 2.0])}))
        return new_cloud(store, folder / "a.vtp", read_cloud(folder / "a.vtp"))
    if kind.name == "frozen":
        lines = Evaluator(store.flow, store.reference).evaluate(Study().layer_of(streamlines.new_streamlines(store)), Token())
        return freeze(lines.geometry, lines.colours, lines.layer.look, "Streamlines", "Velocity")
    return new_points(((0.2, 0.3, 0.4), (0.7, 0.6, 0.5)), "a.csv")


kinds = pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.name)


@pytest.fixture
def study(evaluator):
    """One with lines that others may be of."""
    return Study().adding(Study().layer_of(streamlines.new_streamlines(evaluator.store)))


@pytest.fixture
def layer(kind, evaluator, tmp_path, study):
    new = begun(kind, evaluator.store, tmp_path)
    if kind.shape.takes(study.layers[0].shape):
        new = replace(new, shape=new.shape.with_(card=study.layers[0].id))
    return study.layer_of(new)


@kinds
def test_it_is_begun_told_and_made(kind, layer, evaluator, study):
    assert layer.kind == kind.name
    assert kind.help.endswith(".")
    told = layer.shape.tell(Words(evaluator.store))
    assert told
    assert "formula:" not in told
    if layer.shape.geometry == "none":
        assert layer.shape.levels(), "what shows in others alone is moved by its key"
        return
    result = evaluator.evaluate(layer, Token(), study)
    geometry = result.geometry
    assert isinstance(geometry, {"lines": Lines, "surface": Surface, "points": Points}[layer.shape.geometry])
    if kind.shape.of_series:
        assert [len(c.values) for c in result.made.charts[0].curves] == [3], "nothing to see, but a value for each step"
        return
    assert len(geometry.points) > 0
    taken = geometry.stencil.apply(evaluator.flow.points[:, 0])
    there = np.isfinite(taken) | np.isnan(geometry.points[:, 0])
    assert there.any() or kind.name in ("optics", "round-axis"), "a screen behind the flow is not in it, nor is a plane of means"
    assert taken[there] == pytest.approx(geometry.points[there, 0], abs=0.02, nan_ok=True)
    assert result.made.nbytes > geometry.points.nbytes
    assert evaluator.evaluate(layer, Token(), study).made is result.made, "nothing is worked out twice"
    draft = evaluator.evaluate(layer, Token(), study, draft=True)
    assert draft.made is result.made, "no draft is made where the whole is at hand"


@kinds
def test_its_work_is_given_up(kind, layer, evaluator, study):
    if layer.shape.geometry == "none":
        pytest.skip("it has none")
    token = Token()
    token.cancel()
    fresh = Evaluator(evaluator.flow, evaluator.store.reference)
    with pytest.raises(CancelledError):
        fresh.evaluate(layer, token, study)
    made = fresh.evaluate(layer, Token(), study).made
    assert len(made.geometry.points) > 0 or made.charts, "a cancel leaves nothing behind"


@kinds
def test_it_comes_back_from_a_file_with_its_paths(kind, layer, tmp_path):
    study = Study(case=str(tmp_path / "a.vtu")).adding(layer)
    save_study(study, tmp_path / "deep" / "a.tidal")
    raw = json.loads((tmp_path / "deep" / "a.tidal").read_text())
    for held in walk(layer.shape, "path"):
        assert Path(held).is_absolute()
        assert held not in json.dumps(raw), "paths are relative to the study"
    assert load_study(tmp_path / "deep" / "a.tidal") == study


@kinds
def test_its_geometry_is_saved(kind, layer, evaluator, tmp_path, study):
    if layer.shape.geometry == "none":
        pytest.skip("it has none")
    geometry = evaluator.evaluate(layer, Token(), study).geometry
    lines, surface = isinstance(geometry, Lines), isinstance(geometry, Surface)
    for ending in ENDINGS[layer.shape.geometry]:
        save_geometry(tmp_path / f"out.{ending}", Geometry(geometry.points, geometry.faces if surface else None,
                                                           geometry.offsets if lines else None, {}))
        assert (tmp_path / f"out.{ending}").stat().st_size > 10 * len(geometry.points)


@kinds
def test_a_renamed_formula_is_renamed_in_it(kind, layer, evaluator):
    study = with_formula(Study().adding(layer), "mine", "1 + 0 * speed")
    named = retold(study.layers[0], "quantity", lambda _name: "formula:mine")
    study = study.replacing(named)
    new = renamed(study, "mine", "yours").layers[0]
    assert set(walk(new, "quantity")) <= {"formula:yours"}
    assert len(list(walk(new, "quantity"))) == len(list(walk(named, "quantity")))
    assert used_by(study, "mine", []) == ([layer.name] if list(walk(named, "quantity")) else [])


@kinds
def test_its_handles_move_it(kind, layer, evaluator, study):
    flow, shape = evaluator.flow, layer.shape
    handles = shape.handles(flow, evaluator.evaluate(layer, Token(), study).made) if shape.geometry != "none" else shape.handles(flow, None)
    for handle in handles.beads if handles is not None else ():
        assert np.isfinite(handle.place).all()
        assert shape.moved(handle.id, handle.place, flow, snap=False) == shape, "a drag to where it stands changes nothing"
        way = handle.rail if handle.rail is not None else np.array([0.0, 0.0, 1.0])
        there = handle.place + 0.1 * way
        moved = shape.moved(handle.id, there, flow, snap=False)
        if handle.turns:  # it goes towards the place, as far as its arm reaches
            assert moved != shape
            continue
        new = next(h for h in moved.handles(flow, None).beads if h.id == handle.id)
        assert new.place @ way == pytest.approx(there @ way, abs=1e-3)
        snapped = next(h for h in shape.moved(handle.id, there, flow, snap=True).handles(flow, None).beads if h.id == handle.id)
        reach = np.abs((flow.points - snapped.place) @ way).min()
        assert reach == pytest.approx(0.0, abs=1e-9)
        if handle.value is not None:
            typed = shape.typed(handle.id, handle.value)
            if typed != shape:  # what was the case's own is said now
                assert np.array_equal(next(h for h in typed.handles(flow, None).beads if h.id == handle.id).place, handle.place)


@kinds
def test_its_levels_move_it(kind, layer):
    for number, (name, value) in enumerate(layer.shape.levels()):
        moved = layer.shape.at_level(number, value + 1.0)
        assert moved.levels()[number] == (name, value + 1.0)


@kinds
def test_what_it_rests_on_is_in_its_basis(kind, layer, evaluator, tmp_path):
    """Another flow, another value of what it needs: another answer. What it does not rest on leaves it be."""
    flow = evaluator.flow
    other = opened(tmp_path / "other.vts", 2.0)
    here = shape_basis(layer.shape, evaluator.store)
    assert here == shape_basis(layer.shape, QuantityStore(flow, evaluator.store.reference))
    assert here != shape_basis(layer.shape, QuantityStore(other, evaluator.store.reference))
    step = QuantityStore(other, evaluator.store.reference)
    other.__dict__.update(mesh_number=flow.mesh_number, times=flow.times)
    rests_on_values = (bool(layer.shape.needs()) or not layer.shape.of_mesh) and not layer.shape.of_series
    assert (here == shape_basis(layer.shape, step)) != rests_on_values, "steps on one mesh share what rests on the mesh alone"


def test_a_list_of_seeds_has_no_line_to_drag(evaluator):
    listed = new_seed_list(evaluator.store, ((0.2, 0.3, 0.4),), "a.csv").shape
    drawn = listed.handles(evaluator.flow, None)
    assert (drawn.beads, drawn.lines) == ((), ())
    np.testing.assert_array_equal(drawn.dots, [[0.2, 0.3, 0.4]])
    assert listed.tell(Words(None)) == "whole flow, 1 seeds from a.csv"


def test_a_study_of_schema_1_is_what_it_was():
    study = load_study(DATA / "study of schema 1.tidal")
    assert study.schema_version == 2
    assert [(x.id, x.kind, x.look.on) for x in study.layers] == [
        ("wall-1", "wall", "surface"), ("slice-1", "slice", "surface"), ("iso-1", "isosurface", "surface"),
        ("lines-1", "streamlines", "lines"), ("step", "streamlines", "lines"), ("body-1", "body", "surface"),
        ("points-1", "points", "points")]
    cut = study.layers[1].shape
    assert (cut.axis, cut.position, cut.limit, cut.across) == (1, 0.25, "whole", "")
    assert study.layers[2].look.opacity == 0.85
    assert study.layers[3].look.width == 3.0
    assert study.layers[4].shape.seeds[0].points == ((0.1, 0.2, 0.3), (0.4, 0.5, 0.6))
    assert study.layers[5].shape.path == str((DATA / "wing.stl").resolve())
    assert study.case == str((DATA / "case.vtm").resolve())
    assert (study.alone, study.step, study.numbered, study.choices.averaging) == ("iso-1", 3, True, "volume")
    assert study.new_id("slice") == "slice-2"


def test_no_kind_is_asked_for_outside_its_room():
    """Who needs to know a kind asks the shape; a question by class would be one more place to change for each kind."""
    shapes, names = "|".join(k.shape.__name__ for k in KINDS), "|".join(k.name for k in KINDS)
    asked = re.compile(rf"isinstance\([^)\n]*\b({shapes})\b|layer\.kind\s*(==|!=|in)\s*[(\[{{\"']*({names})\b")
    assert asked.search('if layer.kind == "slice":')
    assert asked.search("if isinstance(layer.shape, SliceShape):")
    rooms = [path for path in SRC.rglob("*.py") if "kinds" not in path.parts]
    found = [f"{path.name}:{n}" for path in rooms for n, line in enumerate(path.read_text().splitlines(), 1) if asked.search(line)]
    assert not found


def test_the_page_of_kinds_is_up_to_date(capsys):
    from tidal_lens.cli import main
    from tidal_lens.study.kinds.page import page

    assert (DATA.parent.parent / "docs" / "layers.md").read_text(encoding="utf-8") == page()
    assert main(["layers"]) == 0
    assert capsys.readouterr().out == page()
    for kind in KINDS:
        assert f"## {kind.name.replace(chr(45), chr(32)).capitalize()}\n" in page()
