import gc
import json

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.errors import CancelledError, FileError, StudyError
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.memory import KEEPER
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.store import QuantityStore, distribution_of
from tidal_lens.study.beginnings import first_study
from tidal_lens.study.evaluate import Evaluator, key_range, reference_of
from tidal_lens.study.files import load_study, save_study
from tidal_lens.study.history import History
from tidal_lens.study.kinds.first_values import round_to
from tidal_lens.study.kinds.isosurface import IsoShape, new_isosurface
from tidal_lens.study.kinds.slice import SliceShape, new_slice
from tidal_lens.study.kinds.streamlines import StreamShape, new_streamlines
from tidal_lens.study.kinds.wall import WallShape
from tidal_lens.study.looks import LineLook, SurfaceLook
from tidal_lens.study.model import CameraSetting, KeySetting, Layer, Reference, Study
from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token


def a_study():
    return Study(layers=(
        Layer(id="wall-1", name="Walls", shape=WallShape(boundaries=("floor", "ΔΩ")), look=SurfaceLook()),
        Layer(id="slice-1", name="Slice", shape=SliceShape(axis=2, position=0.1), look=SurfaceLook()),
        Layer(id="iso-1", name="Q", shape=IsoShape(quantity="q", value=1e5), look=SurfaceLook()),
        Layer(id="lines-1", name="Lines", shape=StreamShape(start=(0, 0, 0), end=(1, 2, 3)), look=LineLook()),
    ), keys={"q": KeySetting(low=-1.0)}, reference=Reference(pressure=1.0, density=2.0, velocity=(1, 0, 0)),
        camera=CameraSetting(eye=(1, 2, 3), focus=(0, 0, 0), up=(0, 0, 1)))


def test_a_study_comes_back_from_its_file(tmp_path):
    case = tmp_path / "data" / "flow.vtu"
    study = a_study().with_(case=str(case))
    save_study(study, tmp_path / "views" / "a.tidal")
    raw = json.loads((tmp_path / "views" / "a.tidal").read_text())
    assert raw["schema_version"] == 2
    assert raw["case"] == "../data/flow.vtu"
    assert load_study(tmp_path / "views" / "a.tidal") == study
    assert [p.name for p in (tmp_path / "views").iterdir()] == ["a.tidal"], "no scratch file is left"


def test_a_failed_save_leaves_the_old_file(tmp_path, monkeypatch):
    path = tmp_path / "a.tidal"
    save_study(a_study(), path)
    old = path.read_bytes()

    def broken(*_args):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.replace", broken)
    with pytest.raises(FileError, match="No space left"):
        save_study(a_study().with_(outline=False), path)
    assert path.read_bytes() == old
    assert len(list(tmp_path.iterdir())) == 1


@pytest.mark.parametrize(("change", "words"), [
    (lambda r: r["layers"][1]["shape"].update(position=1e999), "position"),
    (lambda r: r["layers"][1].update(kind="magic"), "kind"),
    (lambda r: r["layers"][1].update(id="wall-1"), "same id"),
    (lambda r: r["layers"][3]["shape"].update(count=10**9), "count"),
    (lambda r: r["layers"][0]["look"].update(colour="red; drop"), "colour"),
    (lambda r: r["camera"].update(up=[0, 0, 0]), "no length"),
    (lambda r: r.update(surprise=1), "surprise"),
    (lambda r: r.update(schema_version=7), "newer version"),
    (lambda r: r.pop("schema_version"), "no schema version"),
])
def test_settings_that_make_no_sense_are_named(tmp_path, change, words):
    path = tmp_path / "a.tidal"
    save_study(a_study(), path)
    raw = json.loads(path.read_text())
    change(raw)
    path.write_text(json.dumps(raw))
    with pytest.raises(StudyError, match=words):
        load_study(path)


def test_deep_nesting_and_garbage_are_refused(tmp_path):
    for content in ("[" * 200_000, "\x00\x01", "[1, 2]", '"text"'):
        (tmp_path / "a.tidal").write_text(content)
        with pytest.raises(StudyError):
            load_study(tmp_path / "a.tidal")


def test_undo_redo_and_drags():
    now = [0.0]
    history = History(Study(), lambda: now[0])
    a = Study(outline=False)
    assert history.push(a, "Outline")
    assert not history.push(a, "Outline"), "no change, no step"
    for n in range(5):
        now[0] += 0.1
        history.push(a.with_(case=str(n)), "Drag", "grip")
    assert history.study.case == "4"
    history.undo()
    assert history.study == a, "a drag is one step"
    assert history.redo_what == "Drag"
    history.redo()
    history.push(a.with_(case="x"), "Drag", "grip")
    assert history.undo_what == "Drag"
    history.undo()
    assert history.study.case == "4", "after undo and redo the grip is let go"
    history.push(a.with_(case="y"), "New")
    assert history.redo_what == ""
    for _ in range(9):
        history.undo()
    assert history.study == Study()
    assert not history.undo()


def test_the_camera_is_kept_but_not_undone():
    history = History(Study())
    history.push(Study(outline=False), "Outline")
    camera = CameraSetting(eye=(1, 0, 0), focus=(0, 0, 0), up=(0, 0, 1))
    history.amend(history.study.with_(camera=camera))
    history.undo()
    assert history.study.outline
    assert history.study.camera == camera


def test_values_cannot_be_changed_in_place():
    with pytest.raises(ValueError, match="frozen"):
        a_study().outline = False
    with pytest.raises(ValueError, match="finite"):
        SliceShape(axis=0, position=float("nan"))


def test_moving_removing_and_naming():
    study = a_study()
    assert [x.id for x in study.moved("lines-1", 0).layers] == ["lines-1", "wall-1", "slice-1", "iso-1"]
    assert [x.id for x in study.moved("wall-1", 99).layers][-1] == "wall-1"
    alone = study.with_(alone="iso-1")
    assert [alone.is_drawn(x) for x in alone.layers] == [False, False, True, False]
    assert alone.without("iso-1").alone is None
    assert study.new_id("slice") == "slice-2"
    assert study.new_name("Slice") == "Slice 2"


def swirl(p):
    return np.column_stack([1 + 0 * p[:, 0], -(p[:, 2] - 0.5), p[:, 1] - 0.5])


def evaluator():
    flow = cube_flow(11, velocity=swirl, p=lambda p: 1 + p[:, 0], rho=lambda p: 1 + 0 * p[:, 0])
    return Evaluator(flow, ReferenceState(1.0, 1.0, (1.0, 0, 0)))


def test_shapes_are_cached_by_what_they_depend_on():
    ev = evaluator()
    study = first_study(ev.flow, ev.store)
    layer = study.layer_of(new_slice(ev.store, 1))
    first = ev.evaluate(layer, Token())
    again = ev.evaluate(layer.with_(look=layer.look.with_(colour_by="cp", opacity=0.5)), Token())
    assert again.geometry is first.geometry
    assert np.allclose(again.colours, 2 * again.geometry.points[:, 0])
    assert ev.evaluate(layer.with_(shape=layer.shape.with_(position=0.2)), Token()).geometry is not first.geometry


def test_another_reference_keeps_what_does_not_depend_on_it():
    ev = evaluator()
    layer = Study().layer_of(new_slice(ev.store, 1))
    cp = layer.with_(look=layer.look.with_(colour_by="cp"))
    first = ev.evaluate(cp, Token())
    iso = Layer(id="iso-1", name="a", shape=IsoShape(quantity="cp", value=1.0), look=SurfaceLook())
    before = ev.evaluate(iso, Token())
    other = ev.with_context(reference_of(ev.flow, Study(reference=Reference(pressure=2.0, density=1.0, velocity=(2, 0, 0)))), Methods())
    second = other.evaluate(cp, Token())
    assert second.geometry is first.geometry
    assert np.allclose(second.colours, (first.colours / 2 - 1) / 2)
    after = other.evaluate(iso, Token())
    assert len(before.geometry.faces) > 0
    assert len(after.geometry.faces) == 0


def test_streamlines_and_a_cancelled_evaluation():
    ev = evaluator()
    layer = Study().layer_of(new_streamlines(ev.store))
    token = Token()
    token.cancel()
    with pytest.raises(CancelledError):
        ev.evaluate(layer, token)
    done = ev.evaluate(layer, Token())
    assert isinstance(done.geometry, Lines)
    assert done.geometry.n_lines == 30
    draft = ev.evaluate(layer.with_(shape=layer.shape.with_(seeds=(layer.shape.seeds[0].with_(count=5),))), Token(), draft=True)
    assert draft.geometry.n_lines == 5


def test_beginnings_are_telling():
    ev = evaluator()
    study = first_study(ev.flow, ev.store)
    assert study.layers[-1].look.colour_by == "mach"
    iso = new_isosurface(ev.store, "q")
    assert iso.shape.value == pytest.approx(1.0), "Q of a solid turning at one radian a second"
    lines = new_streamlines(ev.store)
    assert lines.shape.seeds[0].start[0] == lines.shape.seeds[0].end[0] == 0.5, "at right angles to the stream"
    assert round_to(0.123456, 0.01) == 0.12
    assert round_to(-1234.5, 100) == -1200


def test_key_ranges():
    spread = distribution_of(np.concatenate([np.linspace(-1, 3, 1000), [500.0, np.nan]]))
    assert spread.high == 500
    assert spread.not_finite == 1
    assert spread.usual[1] < 4
    low, high = key_range("even", spread, KeySetting())
    assert (low, high) == pytest.approx(spread.usual, abs=0.011)
    assert low <= spread.usual[0] < spread.usual[1] <= high, "rounded outwards"
    assert (low, high) == (round(low, 2), round(high, 2))
    low, high = key_range("signed", spread, KeySetting())
    assert low == -high == pytest.approx(-spread.usual[1], abs=0.011)
    assert key_range("signed", spread, KeySetting(low=-2.0, high=1.0)) == (-2.0, 1.0)
    assert key_range("even", spread, KeySetting(low=-2.0, high=1.0, symmetric=True)) == (-2.0, 2.0)
    assert key_range("mach", spread, KeySetting()) == (-1.0, 500.0)
    assert key_range("even", spread, KeySetting(log=True, low=2.0, high=50.0)) == (2.0, 50.0)
    assert key_range("even", spread, KeySetting(log=True, low=-5.0, high=50.0)) == pytest.approx((5e-3, 50.0)), "it begins above zero"
    assert key_range("signed", spread, KeySetting(log=True, low=-2.0, high=1.0)) == (-2.0, 1.0)
    flat = distribution_of(np.ones(10))
    low, high = key_range("even", flat, KeySetting())
    assert low < 1 < high


def test_the_store_forgets_the_longest_unused(memory_limit):
    ev = evaluator()
    names = ("speed", "vorticity-x", "divergence", "q", "vorticity-magnitude")
    plenty = QuantityStore(ev.flow, ev.flow.reference)
    gc.collect()
    memory_limit(0)  # whatever others keep goes first
    others = KEEPER.total
    memory_limit(10**9)
    for name in names:
        plenty.values(name)
    counted = KEEPER.total - others
    memory_limit(0)
    store = QuantityStore(ev.flow, ev.flow.reference)
    memory_limit(others + counted - 1)
    for name in names:
        store.values(name)
        assert KEEPER.total <= others + counted - 1, "never a byte more than may be kept"
    assert [store.kept(name) is not None for name in names] == [False, True, True, True, True]
    assert np.allclose(store.values("vorticity-x"), 2.0)


def test_what_is_held_is_one_step_however_long_it_takes():
    now = [0.0]
    history = History(Study(), lambda: now[0])
    for n, (held, expected) in enumerate(((True, 1), (True, 1), (False, 2), (False, 3))):
        now[0] += 10.0
        history.push(Study(step=n + 1), "Drag", "bead", held=held)
        assert len(history._steps) - 1 == expected
    history.close_grip()
    history.push(Study(step=9), "Drag", "bead", held=True)
    assert len(history._steps) - 1 == 4, "another grasp is another step"
